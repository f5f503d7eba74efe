package journal

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestATextIsFoundAcrossSlabs: what is searched is read in slabs, and a text may begin in one and end in the next.
func TestATextIsFoundAcrossSlabs(t *testing.T) {
	for before, text := range map[int]string{searchSlab - 2: "KELP", 0: "Kelp", searchSlab: "kelp", 3*searchSlab - 1: "kelp"} {
		has, err := contains(strings.NewReader(strings.Repeat("x", before)+text), []byte("kelp"))
		require.NoError(t, err)
		require.True(t, has, "behind %d bytes", before)
	}
	has, err := contains(strings.NewReader(strings.Repeat("kel", searchSlab)), []byte("kelp"))
	require.NoError(t, err)
	require.False(t, has)
}
