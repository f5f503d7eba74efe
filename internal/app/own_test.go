package app

import (
	"bytes"
	"context"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
)

// told collects what a command says, for several at once.
type told struct {
	lines chan string
}

func (o *told) Write(p []byte) (int, error) {
	o.lines <- string(p)
	return len(p), nil
}

// served runs hollowreed serve on a database and gives its address.
func served(t *testing.T, database string) (address string) {
	t.Helper()
	f := flags{database: database, listen: "127.0.0.1:0", calls: "127.0.0.1:0", env: Demo.Environment, keyFile: filepath.Join(t.TempDir(), "key"), logs: "text", data: t.TempDir()}
	out := &told{make(chan string, 100)}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- f.own(ctx, out) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-done)
	})
	select {
	case line := <-out.lines:
		found := regexp.MustCompile(`http://[0-9.:]+`).FindString(line)
		require.NotEmpty(t, found, line)
		return found
	case err := <-done:
		done <- err
		require.NoError(t, err)
	case <-time.After(30 * time.Second):
		t.Fatal("it does not serve")
	}
	return ""
}

func body(t *testing.T, res *http.Response, err error) (int, string) {
	t.Helper()
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text)
}

// form posts fields, and a file where content is given.
func form(t *testing.T, address string, fields map[string]string, content []byte) (int, string) {
	t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for name, v := range fields {
		require.NoError(t, w.WriteField(name, v))
	}
	if content != nil {
		part, err := w.CreateFormFile("file", "project.zip")
		require.NoError(t, err)
		_, err = part.Write(content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	res, err := http.Post(address, w.FormDataContentType(), &b)
	return body(t, res, err)
}

// TestAProjectIsBegunFromNothing: an empty database serves the page that begins one, and then the project, with no restart.
func TestAProjectIsBegunFromNothing(t *testing.T) {
	t.Parallel()
	address := served(t, testdb.New(t))
	res, err := http.Get(address + "/bench")
	status, text := body(t, res, err)
	require.Equal(t, 200, status)
	require.True(t, strings.Contains(text, "A project of your own"), "the page does not say it")
	status, text = form(t, address+"/bench/import", map[string]string{"title": "  ", "from": "nothing"}, nil)
	require.Equal(t, 422, status)
	require.True(t, strings.Contains(text, "expected a title with letters or digits"), "the page does not say it")
	status, text = form(t, address+"/bench/import", map[string]string{"from": "archive"}, []byte("no archive"))
	require.Equal(t, 422, status)
	require.True(t, strings.Contains(text, "no ZIP archive"), "the page does not say it")
	status, text = form(t, address+"/bench/import", map[string]string{"title": "North yard", "from": "nothing"}, nil)
	require.Equal(t, 200, status)
	require.True(t, strings.Contains(text, "North yard"), "the page does not say it")
	res, err = http.PostForm(address+"/bench/tables", url.Values{"title": {"Ports"}, "columns": {"code*, name"}})
	status, text = body(t, res, err)
	require.Equal(t, 200, status)
	require.True(t, strings.Contains(text, "Ports"), "the page does not say it")
}

// TestAProjectGoesOutAndIn: by the commands and the pages, byte for byte, project file among them.
func TestAProjectGoesOutAndIn(t *testing.T) {
	t.Parallel()
	texts, err := project.Read(demo.Files)
	require.NoError(t, err)
	from, to, database := t.TempDir(), filepath.Join(t.TempDir(), "out"), testdb.New(t)
	require.NoError(t, project.Write(from, texts))
	given := filepath.Join(t.TempDir(), "database")
	require.NoError(t, os.WriteFile(given, []byte(database), 0o600))
	run := func(c *cobra.Command, args ...string) string {
		t.Helper()
		var out bytes.Buffer
		c.SetErr(&out)
		c.SetArgs(append(args, "--database-file", given))
		require.NoError(t, c.ExecuteContext(t.Context()))
		return out.String()
	}
	require.Contains(t, run(importCommand(), from), "imported Skerry Line:")
	run(exportCommand(), to)
	back, err := project.Read(os.DirFS(to))
	require.NoError(t, err)
	require.Equal(t, texts, back)
	require.Equal(t, "imported into skerry-line: 0 added, 0 changed, 0 removed\n", run(importCommand(), to))

	address := served(t, database)
	res, err := http.Get(address + "/bench/export.zip")
	status, packed := body(t, res, err)
	require.Equal(t, 200, status)
	back, err = project.Unpack([]byte(packed))
	require.NoError(t, err)
	require.Equal(t, texts, back)
	for path := range back {
		if strings.HasPrefix(path, project.Alerts+"/") {
			delete(back, path)
		}
	}
	back["schemas/new.yaml"] = "schema: New\nnotation: json\nfields:\n  - {name: a, type: text}\n"
	changed, err := project.Pack(back)
	require.NoError(t, err)
	status, text := form(t, address+"/bench/import", nil, changed)
	require.Equal(t, 200, status)
	require.True(t, strings.Contains(text, "Imported: 1 added, 0 changed, 3 removed"))
	db, err := store.Open(t.Context(), database)
	require.NoError(t, err)
	defer db.Close()
	now, _, err := store.Texts(t.Context(), db, "skerry-line")
	require.NoError(t, err)
	require.Equal(t, back, now)
}
