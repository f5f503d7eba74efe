package schemas

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

// TestAFaultIsShownInTheText: where it is, however long or odd the line.
func TestAFaultIsShownInTheText(t *testing.T) {
	long := strings.Repeat("ab", 500)
	for _, c := range []struct {
		line       string
		column     int
		characters bool
		want       string
	}{
		{`{"a": 7}`, 7, false, `{"a": [7]}`},
		{"æøå,x", 5, true, "æøå,[x]"},
		{"æøå,x", 8, false, "æøå,[x]"},
		{"æ", 2, false, "[æ]"}, // inside of a character
		{"abc", 99, false, "abc[⏎]"},
		{"", 1, true, "[⏎]"},
		{"abc", 0, false, "[a]bc"},
		{long, 501, false, "…" + long[420:500] + "[a]" + long[501:581] + "…"},
		{"a\xffb", 2, false, "a[\uFFFD]b"},
	} {
		l := shown(c.line, 1, fault.New(fault.Type, "x").At(fault.Place{Line: 1, Column: c.column}), c.characters)
		require.Equal(t, c.want, l.Left+"["+l.Mark+"]"+l.Right, c.line)
	}
	require.Equal(t, long[:excerptWidth]+"…", shown(long, 1, nil, false).Left)
}
