package mariadb

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
)

// server starts a real MariaDB server with a database of its own and gives its port.
func server(t *testing.T) int {
	t.Helper()
	binary := "/usr/sbin/mariadbd"
	if _, err := os.Stat(binary); err != nil {
		t.Skip("MariaDB is not installed; make test installs it")
	}
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	user := []string{}
	if os.Geteuid() == 0 {
		user = append(user, "--user=root")
	}
	out, err := exec.Command("/usr/bin/mariadb-install-db", append([]string{"--no-defaults", "--datadir=" + data, "--auth-root-authentication-method=normal", "--skip-test-db"}, user...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	cmd := exec.Command(binary, append([]string{
		"--no-defaults", "--datadir=" + data, fmt.Sprintf("--port=%d", port), "--bind-address=127.0.0.1", "--socket=" + filepath.Join(dir, "s"), "--pid-file=" + filepath.Join(dir, "pid"),
		"--skip-name-resolve", "--innodb-buffer-pool-size=32M", "--log-error=" + filepath.Join(dir, "log"),
	}, user...)...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/mysql", port))
	require.NoError(t, err)
	defer db.Close()
	require.Eventually(t, func() bool { return db.Ping() == nil }, 30*time.Second, 50*time.Millisecond)
	for _, text := range []string{
		"create database yard", "create user clerk@'127.0.0.1' identified by 'pier-word-31'", "grant all on yard.* to clerk@'127.0.0.1'",
		"create table yard.crane (id int primary key, name varchar(60) not null check (name <> 'ghost'), lift_t decimal(10, 2), built date, seen timestamp(3) null)",
		"create table yard.berth (id int primary key, name varchar(60) default 'unnamed', until date default '2030-01-01')",
		"create function yard.twice(n int) returns int deterministic return 2 * n",
	} {
		_, err := db.Exec(text)
		require.NoError(t, err, text)
	}
	return port
}

func settings(port int) map[string]string {
	return map[string]string{"engine": "mariadb", "host": "127.0.0.1", "port": fmt.Sprint(port), "database": "yard", "user": "clerk", "password": "pier-word-31", "encryption": "never", "timeout": "10"}
}

func open(t *testing.T, values map[string]string) *DB {
	t.Helper()
	s, err := Open(contract.Env("sql", values))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.(*DB)
}

func TestTheSQLKindIsNotForOneEngineOnly(t *testing.T) {
	port := server(t)
	contract.SQL(t, open(t, settings(port)))
	contract.Absent(t, open(t, settings(port)))
	for name, c := range map[string]struct{ name, to, want string }{
		"password": {"password", "wrong-word", "signed in: Access denied"}, "database": {"database", "nowhere", "signed in: Access denied"}, "port": {"port", "1", "port reached: nothing answers"},
		"encryption": {"encryption", "always", "signed in: "},
	} {
		v := settings(port)
		v[c.name] = c.to
		well, told := contract.Probe(t, open(t, v))
		require.False(t, well, name)
		require.Contains(t, told, c.want)
		require.NotContains(t, told, "wrong-word")
	}
	byAddress := open(t, map[string]string{"engine": "mariadb", "by": "address", "address": fmt.Sprintf("clerk:pier-word-31@tcp(127.0.0.1:%d)/yard", port), "encryption": "never"})
	require.NoError(t, byAddress.Check(t.Context()))
	_, err := Open(contract.Env("sql", map[string]string{"by": "address", "address": "nonsense"}))
	require.ErrorContains(t, err, "user:password@tcp(host:3306)/database")
}
