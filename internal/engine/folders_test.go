package engine

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/standin/sftpdrop"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// TestFilesOfAnotherMachineStartRuns: a file over SFTP is fetched once, kept with its run and moved there.
func TestFilesOfAnotherMachineStartRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	folder := t.TempDir()
	for _, dir := range []string{"outbox", "done"} {
		require.NoError(t, os.Mkdir(filepath.Join(folder, dir), 0o755))
	}
	d, err := sftpdrop.New(folder)
	require.NoError(t, err)
	port, err := d.Serve(t.Context())
	require.NoError(t, err)
	w.settings["gauge-drop"] = connector.Settings{Kind: "sftp", Values: d.Settings(port)}
	w.folder = filepath.Join(folder, "outbox")
	e := w.start(Options{})
	w.drop("far.tide", tide(reading("SK04", 1, 4125, "R"), reading("LC11", 2, 4000, "R")))
	r := w.ended("far.tide")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 2, w.count("select count(*) from tide_level"))
	testkit.Until(t, "the file to be moved", func() (bool, bool) {
		_, err := os.Stat(filepath.Join(folder, "done", "far.tide"))
		return err == nil, err == nil
	})
	again, err := e.Rerun(t.Context(), r.ID, RerunOptions{By: "mo"})
	require.NoError(t, err)
	testkit.Until(t, "the run to be repeated", func() (store.State, bool) {
		r, err := store.RunByID(t.Context(), w.db, again)
		require.NoError(t, err)
		return r.State, r.State == store.Done
	})
	require.Equal(t, 2, w.count("select count(*) from tide_level_write"), "nothing is written twice")
}

// TestWhatBecomesOfAFileIsChosen: deleted when its run ends well, moved elsewhere when it fails, left and remembered.
func TestWhatBecomesOfAFileIsChosen(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	failed := t.TempDir()
	s := w.settings["gauge-drop"]
	s.Values["after"], s.Values["failed"] = "delete", failed
	w.settings["gauge-drop"] = s
	w.start(Options{})
	w.drop("well.tide", tide(reading("SK04", 1, 4125, "R")))
	require.Equal(t, store.Done, w.ended("well.tide").State)
	w.drop("bad.tide", tide(reading("ZZ99", 1, 4125, "R")))
	require.Equal(t, store.SetAside, w.ended("bad.tide").State)
	testkit.Until(t, "the files to be where they belong", func() (string, bool) {
		left, err := os.ReadDir(w.folder)
		require.NoError(t, err)
		moved, err := os.ReadDir(failed)
		require.NoError(t, err)
		return filepath.Join(w.folder), len(left) == 0 && len(moved) == 1 && moved[0].Name() == "bad.tide"
	})
	testkit.Until(t, "the run to know where its file is", func() (string, bool) { // it is noted once the file is there
		r := w.ended("bad.tide")
		return r.DonePath, r.DonePath == filepath.Join(failed, "bad.tide")
	})
	require.Equal(t, 1, w.count("select count(*) from tide_level"))
}
