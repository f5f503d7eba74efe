package engine

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

const crates = `flow: Crates
trigger: {kind: file, connection: crates, mask: "*.csv"}
steps:
  - {step: read, id: read, schema: crate, as: crate}
  - step: each
    id: each
    of: crate
    steps:
      - {step: write, id: write, connection: office-folder, schema: crate, from: crate, file name: 'crate.to + ".csv"', compress: gzip}
`

// crated is a world in which crates are written to a file for each port.
func crated(t *testing.T) (w *world, in, out string) {
	t.Helper()
	w, in, out = newWorld(t), t.TempDir(), t.TempDir()
	w.settings["crates"] = connector.Setup{Kind: "file", Values: map[string]string{"folder": in, "after": "leave"}}
	w.settings["office-folder"] = connector.Setup{Kind: "file", Values: map[string]string{"folder": out, "after": "leave"}}
	w.start(Options{})
	w.add("crates", map[string]string{
		"connections/crates.yaml": "connection: Crates\nkind: file\n", "flows/crates.yaml": crates,
		"schemas/crate.yaml": "schema: Crate\nnotation: csv\nfields:\n  - {name: n, type: integer}\n  - {name: to, type: text}\n  - {name: what, type: text}\n",
	})
	return w, in, out
}

// TestFilesOfAnyLengthAreWritten: records of a long file go into the file of their port, in their order, packed; what was
// set aside is missing until it is mended.
func TestFilesOfAnyLengthAreWritten(t *testing.T) {
	w, in, out := crated(t)
	var text strings.Builder
	text.WriteString("n,to,what\r\n")
	want := map[string]*strings.Builder{}
	for i := range 12_000 {
		to := []string{"LC", "OR", "HV"}[i%3]
		line := fmt.Sprintf("%d,%s,%s\r\n", i, to, strings.Repeat("kelp", i%9+1))
		if want[to] == nil {
			want[to] = &strings.Builder{}
			want[to].WriteString("n,to,what\r\n")
		}
		want[to].WriteString(line)
		text.WriteString(line)
	}
	require.NoError(t, os.WriteFile(filepath.Join(in, "a.tmp"), []byte(text.String()), 0o600))
	require.NoError(t, os.Rename(filepath.Join(in, "a.tmp"), filepath.Join(in, "a.csv")))
	r := w.ended("a.csv")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 12_000, r.Taken)
	for to, content := range want {
		f, err := os.Open(filepath.Join(out, to+".csv.gz"))
		require.NoError(t, err)
		z, err := gzip.NewReader(f)
		require.NoError(t, err)
		got, err := io.ReadAll(z)
		require.NoError(t, err)
		require.True(t, content.String() == string(got), to)
		require.NoError(t, f.Close())
	}
	entries, err := os.ReadDir(out)
	require.NoError(t, err)
	require.Len(t, entries, 3, "nothing else is left there")
}

// TestLongFilesOfOneRunAreBounded: so many may be longer than what is held in memory of each, and all have a bound.
func TestLongFilesOfOneRunAreBounded(t *testing.T) {
	onDisk, total := 0, int64(0)
	var all []*spool.Spool
	defer func() {
		for _, s := range all {
			s.Close()
		}
	}()
	long := bytes.Repeat([]byte("x"), heldOf+1)
	var err error
	for n := 0; err == nil && n <= maxOnDisk+1; n++ {
		s := &spool.Spool{Memory: heldOf}
		all = append(all, s)
		_, err = bounded{s, &onDisk, &total}.Write(long)
	}
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	require.Equal(t, fault.Limit, f.Code)
	require.Len(t, all, maxOnDisk+1)
	total = maxInput
	_, err = bounded{all[0], &onDisk, &total}.Write([]byte("y"))
	require.ErrorContains(t, err, "the files of one run have more than")
	small := &spool.Spool{Memory: heldOf}
	total = 0
	_, err = bounded{small, &onDisk, &total}.Write([]byte("z"))
	require.NoError(t, err, "a short one needs no file")
}
