package spool

import (
	"bytes"
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatIsWrittenIsRead: whatever its size, in pieces of any size, and more than once.
func TestWhatIsWrittenIsRead(t *testing.T) {
	for _, size := range []int{0, 1, Small - 1, Small, Small + 1, 3*Small + 7} {
		want := make([]byte, size)
		_, err := rand.Read(want)
		require.NoError(t, err)
		s := &Spool{}
		for rest := want; len(rest) > 0; {
			n := min(len(rest), 100_003)
			_, err := s.Write(rest[:n])
			require.NoError(t, err)
			rest = rest[n:]
		}
		require.EqualValues(t, size, s.Size())
		for _, from := range []*Spool{s, s, Of(want)} {
			var got bytes.Buffer
			require.NoError(t, from.Chunks(func(chunk []byte) error {
				require.LessOrEqual(t, len(chunk), Small)
				_, err := got.Write(chunk)
				return err
			}))
			require.True(t, bytes.Equal(want, got.Bytes()), size)
		}
		require.NoError(t, s.Close())
	}
	require.NoError(t, (*Spool)(nil).Close())
}
