package outfile

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/spool"
)

// TestLongFilesOfOneRunAreBounded: so many may be longer than what is held in memory of each, and all have a bound.
func TestLongFilesOfOneRunAreBounded(t *testing.T) {
	t.Parallel()
	set := &Set{files: map[string]*File{}}
	defer set.Close(nil)
	long := bytes.Repeat([]byte("x"), heldOf+1)
	var err error
	var f *File
	for n := 0; err == nil && n <= maxOnDisk+1; n++ {
		f = &File{Spool: &spool.Spool{Memory: heldOf}, Name: string(rune(n))}
		set.files[f.Name] = f
		_, err = bounded{set, f.Spool}.Write(long)
	}
	var limit *fault.Fault
	require.ErrorAs(t, err, &limit)
	require.Equal(t, fault.Limit, limit.Code)
	require.Len(t, set.files, maxOnDisk+1)
	set.total = maxBytes
	_, err = bounded{set, f.Spool}.Write([]byte("y"))
	require.ErrorContains(t, err, "the files of one run have more than")
	small := &spool.Spool{Memory: heldOf}
	set.total = 0
	_, err = bounded{set, small}.Write([]byte("z"))
	require.NoError(t, err, "a short one needs no file")
}
