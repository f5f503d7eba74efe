// Package webtest serves the demo project to tests of the pages: with a database, an engine and listeners of its own.
package webtest

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/engine"
	"hollowreed/internal/secret"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
	"hollowreed/internal/vault"
	"hollowreed/internal/web"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

// Person is who is signed in.
var Person = store.Person{ID: "mira", Name: "Mira Orrin", Initials: "MO"}

// World is a running site with the demo project, one of whose flows is released.
type World struct {
	T      testing.TB
	DB     *pgxpool.Pool
	Ledger *pgxpool.Pool
	Engine *engine.Engine
	Vault  *vault.Vault
	Site   *page.Site
	Server *httptest.Server
	Calls  *httptest.Server // requests that start flows
	Pool   *connector.Pool
	Folder string
	Logs   *bytes.Buffer
}

// New starts one.
func New(t testing.TB) *World {
	t.Helper()
	if t, ok := t.(*testing.T); ok {
		t.Parallel() // each has a database, a server and windows of its own
	}
	ctx, cancel := context.WithCancel(context.Background())
	w := &World{T: t, Folder: t.TempDir(), Logs: &bytes.Buffer{}}
	var err error
	w.DB, err = store.Open(ctx, testdb.Like(t, "product", testkit.Demo(Person)))
	require.NoError(t, err)
	t.Cleanup(w.DB.Close)
	t.Cleanup(cancel)
	ledgerURL := testdb.Like(t, "ledger", func(url string) error { return ledger.Seed(ctx, url) })
	w.Ledger, err = pgxpool.New(ctx, ledgerURL)
	require.NoError(t, err)
	t.Cleanup(w.Ledger.Close)
	ring, err := secret.Parse(secret.NewKey())
	require.NoError(t, err)
	w.Vault = &vault.Vault{DB: w.DB, Ring: ring, Scope: testkit.Skerry}
	w.Reach("gauge-drop", "file", map[string]string{"folder": w.Folder, "done": t.TempDir()})
	w.Reach("harbour-ledger", "sql", map[string]string{"by": "address", "address": ledgerURL})
	pools := connector.NewPools(func(s store.Scope) connector.Source { return w.Vault.Of(s) }, connector.Rules{})
	t.Cleanup(pools.Close)
	w.Pool = pools.Of(testkit.Skerry)
	w.Engine, err = engine.New(w.DB, pools, engine.Options{PollInterval: 50 * time.Millisecond, StableFor: 100 * time.Millisecond, Health: 300 * time.Millisecond})
	require.NoError(t, err)
	_, err = w.Engine.CreateRelease(ctx, testkit.Skerry, "gauge-readings", "First light", Person.ID)
	require.NoError(t, err)
	require.NoError(t, w.Engine.Start(ctx))
	t.Cleanup(w.Engine.Stop)
	sites := &page.Sites{Shared: page.Shared{
		DB: w.DB, Engine: w.Engine, Pools: pools, Vault: w.Vault, Hub: page.NewHub(ctx, w.DB),
		Log: slog.New(slog.NewTextHandler(w.Logs, nil)), Person: Person, Environment: testkit.Skerry.Environment,
	}}
	w.Calls = httptest.NewServer(inbound.Handler(sites))
	t.Cleanup(w.Calls.Close)
	w.Server = httptest.NewServer(web.Handler(sites))
	sites.Address, sites.Calls = w.Server.URL, w.Calls.URL
	w.Site, err = sites.Of(ctx, testkit.Skerry.Project)
	require.NoError(t, err)
	t.Cleanup(w.Server.Close)
	t.Cleanup(w.Server.CloseClientConnections) // first: open event streams would keep Close waiting
	return w
}

// mount is the address of the project's pages on the server; the tests write addresses as the pages do, without it.
var mount = page.Base(testkit.Skerry.Project)

// Base is where the project's pages are.
func (w *World) Base() string { return w.Server.URL + mount }

// As makes a context of what somebody asks for.
func As(ctx context.Context, by store.Person) context.Context { return page.As(ctx, by) }

// Reach keeps the settings of a connection, with its secrets sealed.
func (w *World) Reach(id, kind string, values map[string]string) {
	w.T.Helper()
	chosen := map[string]string{}
	for _, set := range connection.KindOf(kind).Settings {
		v := values[set.Name]
		if set.Type == setting.Secret && v != "" {
			as := store.Secret{Name: id + " " + set.Name, Type: set.Of, ChangedBy: "mira"}
			require.NoError(w.T, w.Vault.Save(w.T.Context(), as, v))
			v = as.Name
		}
		if v != "" {
			chosen[set.Name] = v
		}
	}
	require.NoError(w.T, store.SaveSetting(w.T.Context(), w.DB, testkit.Skerry, store.Setting{Connection: id, Kind: kind, Chosen: chosen}, -1, "mira"))
	if w.Pool != nil {
		w.Pool.Reload(id)
	}
}

func (w *World) Drop(name, content string) {
	w.T.Helper()
	require.NoError(w.T, gauges.Drop(w.Folder, name, content))
}

// Ended waits until the newest run of a file is over.
func (w *World) Ended(file string) store.Run {
	w.T.Helper()
	return testkit.Ended(w.T, w.DB, testkit.Skerry, file)
}

func (w *World) Get(path string, header ...string) *http.Response {
	w.T.Helper()
	req, err := http.NewRequestWithContext(w.T.Context(), http.MethodGet, w.Base()+path, nil)
	require.NoError(w.T, err)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(w.T, err)
	w.T.Cleanup(func() { res.Body.Close() })
	return res
}

// Shows reads a page, which must answer well.
func (w *World) Shows(path string) string {
	w.T.Helper()
	resp, err := http.Get(w.Server.URL + path)
	require.NoError(w.T, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(w.T, err)
	require.Equal(w.T, 200, resp.StatusCode, "%s: %s", path, text)
	return Flowing(string(text))
}

// Sends sends a form and gives the page that it leads to.
func (w *World) Sends(path string, pairs ...string) (int, string) {
	w.T.Helper()
	form := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		form.Add(pairs[i], pairs[i+1])
	}
	resp, err := http.PostForm(w.Base()+path, form)
	require.NoError(w.T, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(w.T, err)
	return resp.StatusCode, Flowing(string(text))
}

// Has and hasNot look for a text in a page, which is too long to be told.
func (w *World) Has(page, text string) {
	w.T.Helper()
	if !strings.Contains(page, text) {
		w.T.Fatalf("the page does not have %q", text)
	}
}

func (w *World) HasNot(page, text string) {
	w.T.Helper()
	if strings.Contains(page, text) {
		w.T.Fatalf("the page has %q", text)
	}
}

// Dropped drops a file and waits for the end of its run.
func (w *World) Dropped(name, content string) store.Run {
	w.T.Helper()
	require.NoError(w.T, os.WriteFile(filepath.Join(w.Folder, "."+name), []byte(content), 0o644))
	require.NoError(w.T, os.Rename(filepath.Join(w.Folder, "."+name), filepath.Join(w.Folder, name)))
	var r store.Run
	require.Eventually(w.T, func() bool {
		runs, err := store.Runs(w.T.Context(), w.DB, store.RunFilter{Scope: testkit.Skerry, Reference: name, Most: 1})
		if err != nil || len(runs) == 0 {
			return false
		}
		r = runs[0]
		return r.Ended()
	}, 15*time.Second, 20*time.Millisecond)
	return r
}

// Post sends a form without following where it leads.
func (w *World) Post(path string, form url.Values) (status int, location string) {
	w.T.Helper()
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.PostForm(w.Base()+path, form)
	require.NoError(w.T, err)
	res.Body.Close()
	return res.StatusCode, strings.TrimPrefix(res.Header.Get("Location"), mount)
}

func (w *World) Draft(path string) store.Draft {
	w.T.Helper()
	d, err := store.PartDraft(w.T.Context(), w.DB, "skerry", path)
	require.NoError(w.T, err)
	return d
}

// Text is the draft of a part.
func (w *World) Text(path string) string {
	w.T.Helper()
	d, err := store.PartDraft(w.T.Context(), w.DB, "skerry", path)
	require.NoError(w.T, err)
	return d.Text
}

// Part adds a part to the demo's project.
func (w *World) Part(path, text string) {
	w.T.Helper()
	require.NoError(w.T, pgx.BeginFunc(w.T.Context(), w.DB, func(tx pgx.Tx) error {
		return store.AddPart(w.T.Context(), tx, "skerry", path, text, "mira")
	}))
}

// Change replaces a text in a part, as somebody else would.
func (w *World) Change(path, old, now string) {
	w.T.Helper()
	d := w.Draft(path)
	require.Contains(w.T, d.Text, old)
	require.NoError(w.T, pgx.BeginFunc(w.T.Context(), w.DB, func(tx pgx.Tx) error {
		return store.SavePart(w.T.Context(), tx, "skerry", path, strings.ReplaceAll(d.Text, old, now), d.Revision, "mira")
	}))
}

// Release puts a part into the draft and releases it.
func (w *World) Release(flow, text string) {
	w.T.Helper()
	require.NoError(w.T, pgx.BeginFunc(w.T.Context(), w.DB, func(tx pgx.Tx) error {
		return store.AddPart(w.T.Context(), tx, "skerry", "flows/"+flow+".yaml", text, "mira")
	}))
	_, err := w.Engine.CreateRelease(w.T.Context(), testkit.Skerry, flow, "", "mira")
	require.NoError(w.T, err)
}

// Ask sends a request with headers as "Name: value".
func (w *World) Ask(method, path, body string, headers ...string) (*http.Response, map[string]any) {
	w.T.Helper()
	req, err := http.NewRequestWithContext(w.T.Context(), method, w.Calls.URL+path, strings.NewReader(body))
	require.NoError(w.T, err)
	for _, h := range headers {
		name, v, _ := strings.Cut(h, ": ")
		req.Header.Set(name, v)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(w.T, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(w.T, err)
	var answer map[string]any
	if len(text) > 0 {
		require.NoError(w.T, json.Unmarshal(text, &answer), string(text))
	}
	return resp, answer
}

// Body is a page as the server sends it.
func (w *World) Body(path string) string {
	w.T.Helper()
	text, err := io.ReadAll(w.Get(path).Body)
	require.NoError(w.T, err)
	return Flowing(string(text))
}

// Keeps waits until a part holds a text.
func (w *World) Keeps(path, text string) {
	w.T.Helper()
	require.Eventually(w.T, func() bool { return strings.Contains(w.Text(path), text) }, 20*time.Second, 20*time.Millisecond, "%s lacks %s:\n%s", path, text, w.Text(path))
}

// Flowing is a page without line ends, which a browser shows as blanks, with addresses as the project's pages write them.
func Flowing(page string) string {
	return strings.ReplaceAll(lineEnds.ReplaceAllString(page, " "), `="`+mount+"/", `="/`)
}

var lineEnds = regexp.MustCompile(`\s*\n\s*`)

// Count is how many rows of the ledger a query counts.
func (w *World) Count(query string) (n int) {
	w.T.Helper()
	require.NoError(w.T, w.Ledger.QueryRow(w.T.Context(), query).Scan(&n))
	return n
}
