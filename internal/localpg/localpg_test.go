package localpg

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// folder is one that the user postgres can reach.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "hollowreed-localpg-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

func TestAClusterIsKeptAndBegunAnewWhenUnfinished(t *testing.T) {
	dir := folder(t)
	t.Chdir(dir)
	require.NoError(t, os.MkdirAll(filepath.Join("pg", "data", "half"), 0o755)) // a set-up that was cut off
	s, err := Start(t.Context(), "pg", Options{})
	require.NoError(t, err)
	url, err := s.Create(t.Context(), "kept")
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "create table t as select 7 as n")
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	s.Stop()

	s, err = Start(t.Context(), "pg", Options{Durable: true})
	require.NoError(t, err)
	defer s.Stop()
	again, err := s.Create(t.Context(), "kept")
	require.NoError(t, err)
	conn, err = pgx.Connect(t.Context(), again)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var n int
	require.NoError(t, conn.QueryRow(t.Context(), "select n from t").Scan(&n))
	require.Equal(t, 7, n)
	info, err := os.Stat(filepath.Join("pg", "password"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestWhatTheServersUserCannotReachIsSeen(t *testing.T) {
	dir := folder(t)
	require.True(t, Reachable(filepath.Join(dir, "pg")))
	require.NoError(t, os.Chmod(dir, 0o700))
	require.Equal(t, os.Geteuid() != 0, Reachable(filepath.Join(dir, "pg")))
}
