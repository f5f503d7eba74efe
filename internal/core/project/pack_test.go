package project

import (
	"archive/zip"
	"bytes"
	"maps"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
)

// TestAProjectGoesOutAndComesIn: byte for byte, as a folder and packed; what is no part is left alone.
func TestAProjectGoesOutAndComesIn(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	texts["samples/odd.bin"] = "\x00\xff\r\nno end"
	packed, err := Pack(texts)
	require.NoError(t, err)
	back, err := Unpack(packed)
	require.NoError(t, err)
	require.Equal(t, texts, back)
	again, err := Pack(back)
	require.NoError(t, err)
	require.Equal(t, packed, again)

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "README.md"), []byte("mine"), 0o600))
	require.NoError(t, Write(dir, texts))
	back, err = Read(os.DirFS(dir))
	require.NoError(t, err)
	require.Equal(t, texts, back)
	delete(texts, "samples/odd.bin")
	require.NoError(t, Write(dir, texts))
	require.NoFileExists(t, filepath.Join(dir, "samples/odd.bin"))
	require.FileExists(t, filepath.Join(dir, "README.md"))

	var inside bytes.Buffer
	z := zip.NewWriter(&inside)
	for _, f := range [][2]string{{"mine/project.yaml", "project: Mine\n"}, {"mine/flows/a.yaml", "flow: A\n"}, {"mine/notes.txt", "x"}} {
		w, err := z.Create(f[0])
		require.NoError(t, err)
		_, err = w.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	back, err = Unpack(inside.Bytes())
	require.NoError(t, err)
	require.Equal(t, map[string]string{"project.yaml": "project: Mine\n", "flows/a.yaml": "flow: A\n"}, back)
	_, err = Unpack([]byte("no archive"))
	require.ErrorContains(t, err, "no ZIP archive")
	empty, err := Pack(map[string]string{"flows/a.yaml": "flow: A\n"})
	require.NoError(t, err)
	_, err = Unpack(empty)
	require.ErrorContains(t, err, "project.yaml")
}

// FuzzUnpack: bytes either are a packed project, which packs again to the same, or there is a fault.
func FuzzUnpack(f *testing.F) {
	some, err := Pack(map[string]string{"project.yaml": "project: A\n", "samples/a/b.json": "{}"})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(some)
	f.Fuzz(func(t *testing.T, content []byte) {
		texts, err := Unpack(content)
		if err != nil {
			return
		}
		again, err := Pack(texts)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := Unpack(again); err != nil || !maps.Equal(back, texts) {
			t.Fatal("it is another project then", err)
		}
	})
}
