package notation

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// TestNamesThatAreIgnoredAreBounded: in number and length, and are stored and shown without harm.
func TestNamesThatAreIgnoredAreBounded(t *testing.T) {
	var g Ignored
	g.Add("/line/3/deck")
	g.Add("/line/14/deck")
	g.Add("/a\x00b\x1b[31m\nc\u009b\xff")
	g.Add("/" + strings.Repeat("ü", 1_000_000))
	fields := g.Fields()
	require.Equal(t, 2, fields["line/deck"])
	require.Equal(t, 1, fields["a\uFFFDb\uFFFD[31m\uFFFDc\uFFFD\uFFFD"])
	require.Len(t, fields, 3)
	for name := range fields {
		require.True(t, utf8.ValidString(name))
		require.Less(t, len(name), 2*maxPath)
	}
	for i := range 2 * maxIgnored {
		g.Add(fmt.Sprintf("/f%d", i))
	}
	require.Len(t, g.Paths(), maxIgnored)
	require.Equal(t, maxIgnored+4, g.Fields()[MoreIgnored])
	taken := g.Take()
	require.Len(t, taken.Paths(), maxIgnored)
	require.Empty(t, g.Fields())
}
