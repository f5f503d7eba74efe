package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheRulesHold: no file of the product breaks one.
func TestTheRulesHold(t *testing.T) {
	found, err := check("../..", rules)
	require.NoError(t, err)
	require.Empty(t, found)
}

// TestWhatBreaksARuleIsFound: each kind of rule finds what it forbids, where it holds and nowhere else.
func TestWhatBreaksARuleIsFound(t *testing.T) {
	root := t.TempDir()
	write := func(path, text string) {
		full := filepath.Join(root, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	bad := "package x\n\nimport (\n\tclock \"time\"\n\t\"net/http\"\n)\n\nvar _, _ = clock.Now, http.Get\n\nvar q = `select a\nfrom run where true`\n"
	write("internal/core/x/x.go", bad)
	write("internal/core/x/x_test.go", bad)
	write("internal/store/x.go", "package x\n\nvar q = `select a from run`\n")
	write("internal/core/script/x.go", "package x\n\nimport \"time\"\n\nvar _ = time.Now\n")
	write("internal/web/x.go", "package x\n\nimport \"hollowreed/internal/store\"\n\nvar _, _ = store.SaveSetting, store.SettingOf\n")
	write("internal/operate/x.go", "package x\n\nimport _ \"hollowreed/internal/web/page\"\n")
	found, err := check(root, rules)
	require.NoError(t, err)
	at := filepath.Join(root, "internal/core/x/x.go")
	require.Equal(t, []string{
		at + ":5:2: imports net/http: the core computes: it reaches no network, no database and no page",
		at + ":8:12: uses time.Now: what the core gives depends on what it is given, so the time is handed to it",
		at + ":10:9: has the text \"select a\\nfrom run where true\": only store knows the tables",
		filepath.Join(root, "internal/operate/x.go") + ":3:8: imports hollowreed/internal/web/page: use cases are for pages, commands and interfaces alike, and know none of them",
		filepath.Join(root, "internal/operate/x.go") + ":3:8: imports hollowreed/internal/web/page: nothing stands on the pages",
		filepath.Join(root, "internal/web/x.go") + ":5:12: uses hollowreed/internal/store.SaveSetting: pages change nothing by themselves: use cases of design and operate do, with a name, so that rights are asked for and deeds are noted in one place",
	}, found)
}
