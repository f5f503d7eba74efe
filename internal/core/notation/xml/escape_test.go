package xml

import (
	"math/rand/v2"
	"strings"
	"testing"

	"hollowreed/internal/core/xmltext"

	"github.com/stretchr/testify/require"
)

// TestNamesAreEscapedAndComeBack: any name becomes one of XML and comes back, and a name of XML that is read comes back.
func TestNamesAreEscapedAndComeBack(t *testing.T) {
	for name, want := range map[string]string{"a b": "a_x0020_b", "2x": "_x0032_x", "": "_x_", "_x_": "_x005F_x_", "_x0020_": "_x005F_x0020_", "_x0041_": "_x0041_", "p:a": "p:a", "a:b:c": "a_x003A_b_x003A_c", "😀": "😀", "€": "€"} {
		require.Equal(t, want, escapedName(name))
		require.Equal(t, name, plainName(want))
	}
	random := rand.New(rand.NewPCG(1, 2))
	pieces := []string{"_", "x", "_x", "0020", "005F", "0041", "0032", "_", ":", "a", "2", " ", "-", "003A", "é"}
	valid := 0
	for range 200_000 {
		name := ""
		for range random.IntN(8) {
			name += pieces[random.IntN(len(pieces))]
		}
		written := escapedName(name)
		require.True(t, xmltext.ValidName(written), "%q is written %q", name, written)
		require.Equal(t, name, plainName(written), written)
		if xmltext.ValidName(name) && !strings.Contains(name, "_x003A_") {
			valid++
			require.Equal(t, name, escapedName(plainName(name)))
		}
	}
	require.Greater(t, valid, 10_000)
}
