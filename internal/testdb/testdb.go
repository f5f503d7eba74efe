// Package testdb gives the tests of one package a PostgreSQL server of their own and each test a
// database of its own. With DATABASE_URL set, that server is used instead.
package testdb

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
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
		defer dropModels()
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
	dropped(t, name)
	return url
}

var (
	models  sync.Mutex
	modeled = map[string]bool{} // by the name of the model
)

// Like makes a database that is a copy of a model, and drops it when the test ends. The first test of the package that wants the
// model makes it, with prepare.
func Like(t testing.TB, model string, prepare func(url string) error) string {
	t.Helper()
	models.Lock()
	defer models.Unlock() // a database that is copied has nobody in it
	model = fmt.Sprintf("model_%s_%d", model, os.Getpid())
	if !modeled[model] {
		url, err := localpg.CreateIn(context.Background(), admin, model)
		require.NoError(t, err)
		require.NoError(t, prepare(url))
		modeled[model] = true
	}
	name := "t_" + strings.ReplaceAll(uuid.NewString(), "-", "")
	conn, err := pgx.Connect(context.Background(), admin)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), "create database "+name+" template "+model)
	require.NoError(t, err)
	dropped(t, name)
	u, err := url.Parse(admin)
	require.NoError(t, err)
	u.Path = "/" + name
	return u.String()
}

func dropped(t testing.TB, name string) { t.Cleanup(func() { drop(name) }) }

func drop(name string) {
	conn, err := pgx.Connect(context.Background(), admin)
	if err != nil {
		return
	}
	defer conn.Close(context.Background())
	conn.Exec(context.Background(), "drop database "+name+" with (force)")
}

func dropModels() {
	for name := range modeled {
		drop(name)
	}
}
