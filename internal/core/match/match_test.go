package match

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRank(t *testing.T) {
	for _, c := range []struct {
		typed, name, about string
		rank               int
		ok                 bool
	}{
		{"upper", "upper", "", Exact, true},
		{"UP", "upper", "", Begins, true},
		{"", "upper", "", Begins, true},
		{"number", "houseNumber", "", Word, true},
		{"number", "house_number", "", Word, true},
		{"number", "house number", "", Word, true},
		{"use", "houseNumber", "", Holds, true},
		{"capital", "upper", "all letters as capitals", About, true},
		{"ca", "upper", "all letters as capitals", 0, false},
		{"pital", "upper", "all letters as capitals", 0, false},
		{"þ", "Þóra", "", Begins, true},
		{"x", "upper", "", 0, false},
	} {
		rank, ok := Rank(c.typed, c.name, c.about)
		require.Equal(t, c.ok, ok, c)
		require.Equal(t, c.rank, rank, c)
	}
}
