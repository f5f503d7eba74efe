package localpg

import (
	"os"
	"path/filepath"
	"strings"
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

// TestADatabaseHasARoleOfItsOwn: who owns what is in it, makes more, and can do nothing beyond it, nor as the system's user.
func TestADatabaseHasARoleOfItsOwn(t *testing.T) {
	s, err := Start(t.Context(), folder(t), Options{})
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	on := func(address, sql string) error {
		conn, err := pgx.Connect(t.Context(), address)
		if err != nil {
			return err
		}
		defer conn.Close(t.Context())
		_, err = conn.Exec(t.Context(), sql)
		return err
	}
	admin, err := s.Create(t.Context(), "ledger")
	require.NoError(t, err)
	require.NoError(t, on(admin, `create type mood as enum ('well', 'ill'); create table before (id bigserial primary key, m mood);
		create function one() returns int language sql as 'select 1'; create view seen as select id from before`))
	other, err := s.Create(t.Context(), "other")
	require.NoError(t, err)
	_, err = CreateOwned(t.Context(), s.URL("postgres"), "other", "other")
	require.NoError(t, err)
	for range 2 { // at each start
		address, err := CreateOwned(t.Context(), s.URL("postgres"), "ledger", "ledger_role")
		require.NoError(t, err)
		require.NoError(t, on(address, `insert into before (m) values ('well'); alter table before add column if not exists n int;
			alter type mood add value if not exists 'so'; drop view if exists seen; create table if not exists after (id int)`))
		for _, sql := range []string{"copy before to program 'id'", "create role other_role", "create database another", "select pg_read_file('/etc/passwd')", "alter system set work_mem = '1MB'"} {
			require.ErrorContains(t, on(address, sql), "42501", sql)
		}
		require.ErrorContains(t, on(strings.Replace(address, "/ledger?", "/other?", 1), "select 1"), "42501")
	}
	require.NoError(t, on(other, "select 1"), "the administrator may")
}
