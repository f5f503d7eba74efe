package standin_test

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

func fetch(t *testing.T, method, url string) string {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, nil)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return string(body)
}

func serve(t *testing.T, show func(context.Context) (standin.Page, error)) string {
	t.Helper()
	address, err := standin.Serve(t.Context(), show)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(address, "http://127.0.0.1:"))
	return address
}

func TestTheGaugeDropDropsFiles(t *testing.T) {
	in, done := t.TempDir(), t.TempDir()
	address := serve(t, gauges.Page(in, done))
	for action, lines := range map[string]int{"good": 48, "spoilt": 12, "empty": 0} {
		fetch(t, http.MethodPost, address+"do/"+action)
		files, err := filepath.Glob(filepath.Join(in, "*.tide"))
		require.NoError(t, err)
		require.Len(t, files, 1)
		text, err := os.ReadFile(files[0])
		require.NoError(t, err)
		require.Equal(t, lines, strings.Count(string(text), "\r\n"), action)
		require.Contains(t, fetch(t, http.MethodGet, address), filepath.Base(files[0]))
		require.NoError(t, os.Remove(files[0]))
	}
	require.Contains(t, fetch(t, http.MethodPost, address+"do/nothing"), "404")
}

func TestReadingsAreTheSameEachTime(t *testing.T) {
	require.Equal(t, gauges.Readings(9, 12), gauges.Readings(9, 12))
	require.NotEqual(t, gauges.Readings(9, 12), gauges.Readings(10, 12))
	for _, line := range strings.Split(strings.TrimSpace(gauges.Readings(28, 60)), "\r\n") {
		require.Len(t, line, 32)
	}
}

func TestTheLedgerGoesDownAndComesBack(t *testing.T) {
	url, admin := testdb.New(t), testdb.New(t)
	require.NoError(t, ledger.Seed(t.Context(), url))
	require.NoError(t, ledger.Seed(t.Context(), url), "seeding twice changes nothing")
	name := url[strings.LastIndexByte(url, '/')+1:]
	name, _, _ = strings.Cut(name, "?")
	address := serve(t, ledger.Page(url, admin, name))
	require.Contains(t, fetch(t, http.MethodGet, address), "Newest tide levels")
	require.Contains(t, fetch(t, http.MethodPost, address+"do/down"), "Down.")
	require.Error(t, ledger.Seed(t.Context(), url))
	require.Contains(t, fetch(t, http.MethodGet, address), "Not available now.")
	require.Contains(t, fetch(t, http.MethodPost, address+"do/up"), "Up.")
	require.NoError(t, ledger.Seed(t.Context(), url))
}
