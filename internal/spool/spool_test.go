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

// TestAsMuchAsIsSaidIsHeldInMemory: what is more lies on disk; it is read by several, from the beginning, whatever else is
// read meanwhile.
func TestAsMuchAsIsSaidIsHeldInMemory(t *testing.T) {
	s := &Spool{Memory: 10}
	defer s.Close()
	_, err := s.Write([]byte("0123456789"))
	require.NoError(t, err)
	require.False(t, s.OnDisk())
	read := func() string {
		var b bytes.Buffer
		_, err := b.ReadFrom(s.Reader())
		require.NoError(t, err)
		return b.String()
	}
	require.Equal(t, "0123456789", read())
	_, err = s.Write([]byte("a"))
	require.NoError(t, err)
	require.True(t, s.OnDisk())
	first, piece := s.Reader(), make([]byte, 4)
	_, err = first.Read(piece)
	require.NoError(t, err)
	require.Equal(t, "0123456789a", read())
	_, err = first.Read(piece)
	require.NoError(t, err)
	require.Equal(t, "4567", string(piece))
	_, err = s.Write([]byte("b"))
	require.NoError(t, err)
	require.Equal(t, "0123456789ab", read(), "it is gone on with where it ends")
	var b bytes.Buffer
	_, err = b.ReadFrom(Of([]byte("x")).Reader())
	require.NoError(t, err)
	require.Equal(t, "x", b.String())
}
