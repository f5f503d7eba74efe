package engine

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

const crates = `flow: Crates
trigger: {kind: file, connection: crates, mask: "*.csv"}
steps:
  - {step: read, id: read, schema: crate, as: crate}
  - step: each
    id: each
    of: crate
    steps:
      - {step: write, id: write, connection: office-folder, schema: crate, from: crate, file name: 'crate.to + ".csv"', compress: gzip}
`

// crated is a world in which crates are written to a file for each port.
func crated(t *testing.T) (w *world, in, out string) {
	t.Helper()
	w, in, out = newWorld(t), t.TempDir(), t.TempDir()
	w.settings["crates"] = connector.Settings{Kind: "file", Values: map[string]string{"folder": in, "after": "leave"}}
	w.settings["office-folder"] = connector.Settings{Kind: "file", Values: map[string]string{"folder": out, "after": "leave"}}
	w.start(Options{})
	w.add("crates", map[string]string{
		"connections/crates.yaml": "connection: Crates\nkind: file\n", "flows/crates.yaml": crates,
		"schemas/crate.yaml": "schema: Crate\nnotation: csv\nfields:\n  - {name: n, type: integer}\n  - {name: to, type: text}\n  - {name: what, type: text}\n",
	})
	return w, in, out
}

// TestFilesOfAnyLengthAreWritten: records of a long file go into the file of their port, in their order, packed; what was
// set aside is missing until it is mended.
func TestFilesOfAnyLengthAreWritten(t *testing.T) {
	w, in, out := crated(t)
	var text strings.Builder
	text.WriteString("n,to,what\r\n")
	want := map[string]*strings.Builder{}
	for i := range 12_000 {
		to := []string{"LC", "OR", "HV"}[i%3]
		line := fmt.Sprintf("%d,%s,%s\r\n", i, to, strings.Repeat("kelp", i%9+1))
		if want[to] == nil {
			want[to] = &strings.Builder{}
			want[to].WriteString("n,to,what\r\n")
		}
		want[to].WriteString(line)
		text.WriteString(line)
	}
	require.NoError(t, os.WriteFile(filepath.Join(in, "a.tmp"), []byte(text.String()), 0o600))
	require.NoError(t, os.Rename(filepath.Join(in, "a.tmp"), filepath.Join(in, "a.csv")))
	r := w.ended("a.csv")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 12_000, r.RecordsRead)
	for to, content := range want {
		f, err := os.Open(filepath.Join(out, to+".csv.gz"))
		require.NoError(t, err)
		z, err := gzip.NewReader(f)
		require.NoError(t, err)
		got, err := io.ReadAll(z)
		require.NoError(t, err)
		require.True(t, content.String() == string(got), to)
		require.NoError(t, f.Close())
	}
	entries, err := os.ReadDir(out)
	require.NoError(t, err)
	require.Len(t, entries, 3, "nothing else is left there")
}

// situations are the four ways in which a step that works outside comes to its records; %s stands for the steps.
var situations = map[string]struct{ head, steps, called string }{
	"read": {
		head:  "trigger: {kind: file, connection: crates, mask: \"*.csv\"}",
		steps: "  - {step: read, id: read, schema: crate, as: crate}\n  - step: each\n    id: each\n    of: crate\n    steps:\n%s",
	},
	"whole run":        {head: "trigger: {kind: person, input: crate, as: crate}", steps: "%s"},
	"each over a list": {head: "trigger: {kind: person, input: load}", steps: "  - step: each\n    id: each\n    of: input.crates\n    as: crate\n    steps:\n%s"},
	"branches at once": {head: "trigger: {kind: person, input: load}", steps: "  - step: each\n    id: each\n    of: input.crates\n    as: crate\n    steps:\n      - step: at once\n        id: both\n        branches:\n          - steps:\n%s          - steps:\n              - {step: note, id: n, text: '\"beside\"'}\n"},
	"called flow": {
		head:   "trigger: {kind: person, input: load}",
		steps:  "  - {step: flow, id: call, flow: inner, with: {n: '1', to: '\"LC\"', what: '\"kelp\"'}}\n",
		called: "flow: Inner\ntrigger: {kind: called, input: crate, as: crate}\nsteps:\n%s",
	},
}

func indented(text string, by int) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(strings.Repeat(" ", by) + line)
	}
	return b.String()
}

// TestFilesAreWrittenFromEverywhere: a write step writes its files whatever it stands in, the run names them with what
// stands there, and doing the run once more changes nothing.
func TestFilesAreWrittenFromEverywhere(t *testing.T) {
	t.Parallel()
	const write = "- {step: write, id: write, connection: office-folder, schema: crate, from: crate, file name: 'crate.to + \".csv\"'}\n"
	for name, s := range situations {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w, in, out := crated(t)
			parts := map[string]string{
				"schemas/load.yaml": "schema: Load\nnotation: json\nfields:\n  - {name: crates, type: record, of: crate, occurs: 0..n}\n",
			}
			steps := "flow: Load\n" + s.head + "\nsteps:\n"
			switch {
			case s.called != "":
				parts["flows/inner.yaml"] = fmt.Sprintf(s.called, indented(write, 2))
				steps += s.steps
			case strings.Contains(s.steps, "branches"):
				steps += fmt.Sprintf(s.steps, indented(write, 14))
			case name == "whole run":
				steps += fmt.Sprintf(s.steps, indented(write, 2))
			default:
				steps += fmt.Sprintf(s.steps, indented(write, 6))
			}
			parts["flows/load.yaml"] = steps
			var r store.Run
			switch name {
			case "read":
				w.add("crates", parts)
				require.NoError(t, os.WriteFile(filepath.Join(in, "a.tmp"), []byte("n,to,what\r\n1,LC,kelp\r\n"), 0o600))
				require.NoError(t, os.Rename(filepath.Join(in, "a.tmp"), filepath.Join(in, "a.csv")))
				r = w.ended("a.csv")
			case "whole run":
				w.add("load", parts)
				r = w.begun("load", []byte(`{"n": 1, "to": "LC", "what": "kelp"}`))
			default:
				w.add("load", parts)
				r = w.begun("load", []byte(`{"crates": [{"n": 1, "to": "LC", "what": "kelp"}]}`))
			}
			require.Equal(t, store.Done, r.State, "%v", r.Fault)
			file := "LC.csv"
			if name == "read" {
				file = "LC.csv.gz"
			} else {
				content, err := os.ReadFile(filepath.Join(out, file))
				require.NoError(t, err)
				require.Equal(t, "n,to,what\r\n1,LC,kelp\r\n", string(content))
			}
			if s.called != "" {
				require.NoError(t, w.db.QueryRow(t.Context(), "select id from run where parent = $1", r.ID).Scan(&r.ID))
				r = w.over(r.ID)
			}
			info, err := os.Stat(filepath.Join(out, file))
			require.NoError(t, err)
			files, err := store.RunFiles(t.Context(), w.db, r.ID, 10)
			require.NoError(t, err)
			require.Len(t, files, 1)
			require.Equal(t, store.RunFile{Step: "write", Name: file, Size: info.Size(), Records: 1, At: files[0].At}, files[0])
			require.Equal(t, 1, r.Counts["write"].Collected)
			require.Zero(t, r.Counts["write"].Called, "it is collected, and nothing was called")
		})
	}
}

// TestAWholeRunIsDoneAgain: what the run as a whole collects, tells and sets aside stands there once, however often it is
// taken on.
func TestAWholeRunIsDoneAgain(t *testing.T) {
	t.Parallel()
	w, _, out := crated(t)
	w.add("load", map[string]string{
		"schemas/load.yaml": "schema: Load\nnotation: json\nfields:\n  - {name: crates, type: record, of: crate, occurs: 0..n}\n",
		"flows/load.yaml": "flow: Load\ntrigger: {kind: person, input: load}\nsteps:\n  - step: each\n    id: each\n    of: input.crates\n    as: crate\n    steps:\n" +
			"      - {step: note, id: n, text: crate.to, where: the event log}\n" +
			"      - step: choose\n        id: c\n        when:\n          - if: crate.n == 2\n            steps: [{step: stop, id: no, text: '\"no crate 2\"'}]\n" +
			"      - {step: write, id: write, connection: office-folder, schema: crate, from: crate, file name: 'crate.to + \".csv\"'}\n",
	})
	require.NoError(t, os.Chmod(out, 0o500)) // root may write there nevertheless: a file stands in its place
	require.NoError(t, os.Remove(out))
	require.NoError(t, os.WriteFile(out, nil, 0o600))
	id := w.begin("load", []byte(`{"crates": [{"n": 1, "to": "LC", "what": "kelp"}, {"n": 2, "to": "LC", "what": "peat"}, {"n": 3, "to": "OR", "what": "salt"}]}`))
	testkit.Until(t, "the run to be tried again", func() (int64, bool) {
		r, err := store.RunByID(t.Context(), w.db, id)
		require.NoError(t, err)
		return r.ClaimVersion, r.ClaimVersion >= 3
	})
	require.NoError(t, os.Remove(out))
	require.NoError(t, os.Mkdir(out, 0o700))
	r := w.over(id)
	require.Equal(t, store.SetAside, r.State, "%v", r.Fault)
	require.Equal(t, 1, r.RecordsSetAside)
	list, err := store.Asides(t.Context(), w.db, id, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "1", list[0].Path)
	events := 0
	require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from event where run = $1", id).Scan(&events))
	require.Equal(t, 3, events)
	content, err := os.ReadFile(filepath.Join(out, "LC.csv"))
	require.NoError(t, err)
	require.Equal(t, "n,to,what\r\n1,LC,kelp\r\n", string(content))
}

// TestWhatAPartnerAddsIsPassedOverAndCounted: through all batches of a message, and each once.
func TestWhatAPartnerAddsIsPassedOverAndCounted(t *testing.T) {
	t.Parallel()
	w, in, out := crated(t)
	var text strings.Builder
	text.WriteString("n,to,deck,wh\x00\x1bat,what\r\n") // a name that is hostile to databases and terminals, too
	for i := range 1_200 {
		fmt.Fprintf(&text, "%d,LC,%d,x,kelp\r\n", i, i%4)
		if i%600 == 0 {
			text.WriteString("\r\n")
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(in, "more.csv"), []byte(text.String()), 0o600))
	r := w.ended("more.csv")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 1_200, r.RecordsRead)
	require.Equal(t, map[string]int{"deck": 1_200, "wh\uFFFD\uFFFDat": 1_200}, r.Counts["read"].Ignored)
	require.Equal(t, 2, r.Counts["read"].Blank)
	require.Equal(t, 1_200, r.Counts["read"].In)
	require.FileExists(t, filepath.Join(out, "LC.csv.gz"))
}
