package file

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
)

const part = `
connection: Drop
kind: file
operations:
  - {operation: list, kind: list}
  - {operation: read, kind: read}
  - {operation: write, kind: write}
  - {operation: add, kind: write, there: append}
  - {operation: keep, kind: write, there: refuse}
  - {operation: zipped, kind: write, compress: zip}
  - {operation: packed, kind: write, compress: gzip}
  - {operation: delete, kind: delete}
`

func open(t *testing.T, dir string) *Folder {
	t.Helper()
	s, err := Open(contract.Env("file", map[string]string{"folder": dir, "after": "leave", "largest": "1"}))
	require.NoError(t, err)
	return s.(*Folder)
}

func TestFilesAreWrittenReadListedAndRemoved(t *testing.T) {
	dir := t.TempDir()
	f := open(t, dir)
	c := contract.Part(t, part)
	call := func(op, asked string) (string, error) {
		v, err := f.Call(t.Context(), contract.Request(t, c, op, asked))
		return json.Text(v), err
	}
	well, told := contract.Probe(t, f)
	require.True(t, well, told)
	got, err := call("write", `{"name": "sub/a.txt", "text": "one\n"}`)
	require.NoError(t, err)
	require.JSONEq(t, `{"name": "sub/a.txt", "size": 4}`, got)
	_, err = call("add", `{"name": "sub/a.txt", "content": "dHdvCg=="}`)
	require.NoError(t, err)
	got, err = call("read", `{"name": "sub/a.txt"}`)
	require.NoError(t, err)
	require.Contains(t, got, `"text":"one\ntwo\n"`)
	_, err = call("keep", `{"name": "sub/a.txt", "text": ""}`)
	require.ErrorContains(t, err, "there is a file sub/a.txt already")
	_, err = call("packed", `{"name": "b.txt", "text": "packed"}`)
	require.NoError(t, err)
	got, err = call("read", `{"name": "b.txt.gz"}`)
	require.NoError(t, err)
	require.Contains(t, got, `"text":"packed"`)
	_, err = call("zipped", `{"name": "c.txt", "text": "zipped"}`)
	require.NoError(t, err)
	z, err := zip.OpenReader(filepath.Join(dir, "c.txt.zip"))
	require.NoError(t, err)
	require.Equal(t, "c.txt", z.File[0].Name)
	require.NoError(t, z.Close())
	require.Len(t, contract.All(t, f, contract.Request(t, c, "list", `{"mask": "*.gz, *.zip"}`)), 2)
	_, err = call("delete", `{"name": "b.txt.gz"}`)
	require.NoError(t, err)
	_, err = call("delete", `{"name": "b.txt.gz"}`)
	var gone *fault.Fault
	require.ErrorAs(t, err, &gone)
	require.Equal(t, fault.NotFound, gone.Code)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		require.NotContains(t, e.Name(), ".part", "no temporary file is left")
	}
}

// TestFilesAreNotTorn: what several write at once under one name is whole, and nothing half written stays.
func TestFilesAreNotTorn(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(contract.Env("file", map[string]string{"folder": dir, "after": "leave", "largest": "4"}))
	require.NoError(t, err)
	c := contract.Part(t, part)
	contract.AtOnce(t, func(op, asked string) (string, error) {
		v, err := s.(*Folder).Call(t.Context(), contract.Request(t, c, op, asked))
		return json.Text(v), err
	})
	hidden, err := filepath.Glob(filepath.Join(dir, ".*"))
	require.NoError(t, err)
	require.Empty(t, hidden)
}

// TestOneHasTheNameWithoutLinks: on a file system without links one of several that write at once gets the name, too.
func TestOneHasTheNameWithoutLinks(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	var wg sync.WaitGroup
	errs := make([]error, 8)
	for i := range errs {
		temp := TempName("a.txt")
		require.NoError(t, root.WriteFile(temp, []byte("whole"), 0o644))
		wg.Go(func() { errs[i] = reserved(root, temp, "a.txt") })
	}
	wg.Wait()
	done := 0
	for _, err := range errs {
		if err == nil {
			done++
		} else {
			require.ErrorIs(t, err, os.ErrExist)
		}
	}
	require.Equal(t, 1, done)
	text, err := root.ReadFile("a.txt")
	require.NoError(t, err)
	require.Equal(t, "whole", string(text))
}

func TestNothingLeavesTheFolder(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "word.txt"), []byte("kept apart"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "word.txt"), filepath.Join(dir, "one.txt")))
	f := open(t, dir)
	c := contract.Part(t, part)
	for _, name := range []string{"../word.txt", "link/word.txt", "one.txt", "/etc/passwd", "a/../../b", `..\\b`, "", ".", "a//b", "a\u0000b"} {
		for _, op := range []string{"read", "write", "delete"} {
			if op != "read" && name == "one.txt" {
				continue // removing or replacing a link touches nothing outside
			}
			r := contract.Request(t, c, op, `{"name": "x"}`)
			r.Value.Record().Fields[0] = textOf(name)
			_, err := f.Call(t.Context(), r)
			require.Error(t, err, "%s %s", op, name)
		}
	}
	text, err := os.ReadFile(filepath.Join(outside, "word.txt"))
	require.NoError(t, err)
	require.Equal(t, "kept apart", string(text))
	list, err := f.List(t.Context(), "*")
	require.NoError(t, err)
	require.Empty(t, list, "links are not picked up")
	env := contract.Env("file", map[string]string{"folder": filepath.Join(dir, "link", "deeper")})
	env.Roots = []string{dir}
	_, err = Open(env)
	require.ErrorContains(t, err, "is not below a folder that may be used", "a link leads out of a root")
	env.Values["folder"] = "relative"
	_, err = Open(env)
	require.ErrorContains(t, err, "an absolute path")
}

func TestBombsAreCutOffAndOrderIsKept(t *testing.T) {
	dir := t.TempDir()
	f := open(t, dir)
	c := contract.Part(t, part)
	big := bytes.Repeat([]byte{0}, 3<<20)
	w := &Write{Name: "bomb", Content: spool.Of(big)}
	require.NoError(t, w.compress("gzip"))
	packed, err := io.ReadAll(w.Content.Reader())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bomb.gz"), packed, 0o600))
	_, err = f.Call(t.Context(), contract.Request(t, c, "read", `{"name": "bomb.gz"}`))
	require.ErrorContains(t, err, "longer than 1 MB and was cut off")
	require.NoError(t, os.Remove(filepath.Join(dir, "bomb.gz")))
	for i, name := range []string{"b", "a"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
		at := time.Now().Add(time.Duration(i) * time.Hour)
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), at, at))
	}
	list, err := f.List(t.Context(), "")
	require.NoError(t, err)
	require.Equal(t, "a", list[0].Name)
	f.env.Values["order"] = "oldest first"
	list, err = f.List(t.Context(), "")
	require.NoError(t, err)
	require.Equal(t, "b", list[0].Name)
}

func textOf(s string) value.Value { return value.NewText(s) }

// TestLongContentsAreWrittenFromTheirSpool: as they are and packed, again after a try that failed, and the answer says how
// many bytes stand there.
func TestLongContentsAreWrittenFromTheirSpool(t *testing.T) {
	dir := t.TempDir()
	f := open(t, dir)
	c := contract.Part(t, part)
	long := &spool.Spool{}
	defer long.Close()
	line := []byte(strings.Repeat("kelp ", 20) + "\n")
	for range 30_000 {
		_, err := long.Write(line)
		require.NoError(t, err)
	}
	require.True(t, long.OnDisk())
	for _, c2 := range []struct {
		op, name string
		unpack   func(in io.Reader) io.Reader
	}{
		{"write", "long.txt", func(in io.Reader) io.Reader { return in }},
		{"packed", "long.txt.gz", func(in io.Reader) io.Reader {
			z, err := gzip.NewReader(in)
			require.NoError(t, err)
			return z
		}},
	} {
		for range 2 {
			r := contract.Request(t, c, c2.op, `{"name": "long.txt"}`)
			r.Content = long
			v, err := f.Call(t.Context(), r)
			require.NoError(t, err)
			require.Equal(t, c2.name, v.Field("name").Text())
			info, err := os.Stat(filepath.Join(dir, c2.name))
			require.NoError(t, err)
			size, _ := v.Field("size").Int64()
			require.Equal(t, info.Size(), size)
			in, err := os.Open(filepath.Join(dir, c2.name))
			require.NoError(t, err)
			n, err := io.Copy(io.Discard, c2.unpack(in))
			require.NoError(t, err)
			require.NoError(t, in.Close())
			require.Equal(t, long.Size(), n)
		}
	}
}

// TestSomeFoldersAreNeverUsed: those in which the system shows itself, what the program keeps for itself, and all around them,
// also by way of links.
func TestSomeFoldersAreNeverUsed(t *testing.T) {
	data := t.TempDir()
	for _, dir := range []string{"files", "keys", "postgres/data"} {
		require.NoError(t, os.MkdirAll(filepath.Join(data, dir), 0o700))
	}
	key := filepath.Join(data, "keys", "key")
	require.NoError(t, os.WriteFile(key, []byte("k"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(data, "keys"), filepath.Join(data, "files", "link")))
	env := system.Env{ID: "drop", Never: []string{key, filepath.Join(data, "postgres")}}
	open := func(dir string) error {
		env.Values = system.Values{"folder": dir}
		_, err := Open(env)
		return err
	}
	for _, dir := range []string{"/proc/self", "/sys", "/dev/shm", "/", data, filepath.Join(data, "keys"), filepath.Join(data, "postgres"), filepath.Join(data, "postgres/data"), filepath.Join(data, "files", "link"), filepath.Join(data, "files", "..", "keys")} {
		require.ErrorContains(t, open(dir), "may not be used", dir)
	}
	require.NoError(t, open(filepath.Join(data, "files")))
	env.Roots = []string{filepath.Join(data, "files")}
	require.NoError(t, open(filepath.Join(data, "files", "new")))
	require.ErrorContains(t, open(t.TempDir()), "--roots")
}

// TestAFileIsTheOneThatWasSeen: neither a link, nor a pipe, nor another file in its place is opened.
func TestAFileIsTheOneThatWasSeen(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("seen"), []byte("good"), 0o600))
	require.NoError(t, os.WriteFile(at("secret"), []byte("hush"), 0o600))
	info, err := os.Lstat(at("seen"))
	require.NoError(t, err)
	identity := Identity(info)
	f, err := OpenIn(at("seen"), identity)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Rename(at("seen"), at("moved")))
	_, err = OpenIn(at("seen"), identity)
	require.ErrorIs(t, err, os.ErrNotExist)
	for _, put := range []func() error{
		func() error { return os.Symlink(at("secret"), at("seen")) },
		func() error { return os.Symlink("secret", at("seen")) },
		func() error { return syscall.Mkfifo(at("seen"), 0o600) },
		func() error { return os.Mkdir(at("seen"), 0o700) },
		func() error { return os.Link(at("secret"), at("seen")) },
	} {
		require.NoError(t, put())
		_, err = OpenIn(at("seen"), identity)
		require.Error(t, err)
		require.NotErrorIs(t, err, os.ErrNotExist)
		require.NoError(t, os.Remove(at("seen")))
	}
	require.NoError(t, os.Symlink(at("secret"), at("seen")))
	_, err = OpenIn(at("seen"), "")
	require.ErrorIs(t, err, ErrReplaced)
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	folder, err := Open(system.Env{Values: system.Values{"folder": dir}})
	require.NoError(t, err)
	_, err = folder.(*Folder).Open(t.Context(), "pipe")
	require.ErrorContains(t, err, "it is no file")
}
