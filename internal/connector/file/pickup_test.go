package file

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/system"
)

func TestMoveDoesNotReplaceAndEndsWhatWasCutOff(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(path(name), []byte(text), 0o644))
	}
	write("a", "1")
	write("b", "2")
	require.Error(t, Move(path("a"), path("b"), ""), "another file stands there")
	require.FileExists(t, path("a"))
	require.NoError(t, os.Link(path("a"), path("c")))
	require.NoError(t, Move(path("a"), path("c"), ""), "cut off between its two halves")
	require.NoFileExists(t, path("a"))
	require.NoError(t, Move(path("a"), path("c"), ""), "moved before")
	require.NoError(t, copyAcross(path("b"), path("d"), ""))
	require.NoFileExists(t, path("b"))
	text, err := os.ReadFile(path("d"))
	require.NoError(t, err)
	require.Equal(t, "2", string(text))
	write("e", "3")
	require.Error(t, copyAcross(path("e"), filepath.Join(dir, "none", "e"), ""))
	require.FileExists(t, path("e"), "what cannot be moved stays")
}

// TestAFileGoesWhereTheSettingsSay: once its run is recorded, and when the run has ended, well or not. What is there already is
// not replaced.
func TestAFileGoesWhereTheSettingsSay(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, sub := range []string{"in", "done", "failed"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o755))
	}
	at := func(path string) string { return filepath.Join(dir, path) }
	put := func(path string) { require.NoError(t, os.WriteFile(at(path), []byte(path), 0o644)) }
	folder := func(values system.Values) *Folder {
		values["folder"] = at("in")
		s, err := Open(system.Env{ID: "drop", Values: values})
		require.NoError(t, err)
		return s.(*Folder)
	}
	moves := folder(system.Values{"after": "move", "done": at("done"), "failed": at("failed")})
	require.Equal(t, at("done/a"), moves.DonePath("a", "run"))
	put("done/a")
	require.Equal(t, at("done/a.run"), moves.DonePath("a", "run"), "one of its name is there")
	for _, after := range []string{"leave", "delete"} {
		require.Equal(t, at("in/a"), folder(system.Values{"after": after, "done": at("done")}).DonePath("a", "run"))
	}

	to, err := moves.Settle(at("done/a"), "a", "run", true)
	require.NoError(t, err)
	require.Equal(t, at("done/a"), to, "it ended well, and stays there")
	to, err = moves.Settle(at("done/a"), "a", "run", false)
	require.NoError(t, err)
	require.Equal(t, at("failed/a"), to)
	require.NoFileExists(t, at("done/a"))
	put("done/a")
	to, err = moves.Settle(at("done/a"), "a", "run", false)
	require.NoError(t, err)
	require.Equal(t, at("failed/a.run"), to)
	text, err := os.ReadFile(at("failed/a"))
	require.NoError(t, err)
	require.Equal(t, "done/a", string(text))

	deletes := folder(system.Values{"after": "delete"})
	put("in/b")
	to, err = deletes.Settle(at("in/b"), "b", "run", false)
	require.NoError(t, err)
	require.FileExists(t, to, "a run that failed deletes nothing")
	_, err = deletes.Settle(at("in/b"), "b", "run", true)
	require.NoError(t, err)
	require.NoFileExists(t, at("in/b"))
	_, err = deletes.Settle(at("in/b"), "b", "run", true)
	require.NoError(t, err, "it is deleted already")
}
