// Package testdb gives the tests of one package a PostgreSQL server of their own and each test a
// database of its own. With DATABASE_URL set, that server is used instead.
package testdb

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/localpg"
)

var admin string

// Main runs a package's tests with a server and returns the exit code; TestMain calls it.
func Main(m *testing.M) int {
	if admin = os.Getenv("DATABASE_URL"); admin != "" {
		return m.Run()
	}
	dir, err := os.MkdirTemp("/tmp", "hollowreed-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	server, err := localpg.Start(context.Background(), filepath.Join(dir, "pg"), localpg.Options{})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer server.Stop()
	admin = server.URL("postgres")
	return m.Run()
}

// New makes an empty database and drops it when the test ends.
func New(t testing.TB) string {
	t.Helper()
	name := "t_" + strings.ReplaceAll(uuid.NewString(), "-", "")
	url, err := localpg.CreateIn(context.Background(), admin, name)
	require.NoError(t, err)
	t.Cleanup(func() {
		conn, err := pgx.Connect(context.Background(), admin)
		if err != nil {
			return
		}
		defer conn.Close(context.Background())
		conn.Exec(context.Background(), "drop database "+name+" with (force)")
	})
	return url
}
