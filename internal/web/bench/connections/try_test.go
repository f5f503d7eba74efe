package connections

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTriesAreKeptInBounds: the newest, by number and by bytes; the newest one is kept, however large.
func TestTriesAreKeptInBounds(t *testing.T) {
	var kept trials
	for i := range 2 * keptTrials {
		kept.keep(&trial{ID: strconv.Itoa(i), bytes: 1})
	}
	require.Len(t, kept.kept, keptTrials)
	_, there := kept.get(strconv.Itoa(keptTrials))
	require.True(t, there)
	kept.keep(&trial{ID: "half", bytes: keptBytes / 2})
	kept.keep(&trial{ID: "large", bytes: keptBytes})
	require.Equal(t, []string{"large"}, kept.order)
	require.Len(t, kept.kept, 1)
	kept.keep(&trial{ID: "small", bytes: 1})
	require.Equal(t, []string{"small"}, kept.order)
	require.Equal(t, 1, kept.bytes)
}
