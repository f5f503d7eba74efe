package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// parcels are files whose records are written into one file again; a record of the kind "ghost" is refused by the flow.
const parcels = `flow: Parcels
trigger: {kind: file, connection: crates, mask: "*"}
steps:
  - {step: read, id: read, schema: parcel, as: parcel}
  - step: each
    id: each
    of: parcel
    steps:
      - step: choose
        id: c
        when:
          - if: parcel.what == "ghost"
            steps: [{step: stop, id: no, text: '"no ghosts"'}]
      - {step: write, id: write, connection: office-folder, schema: crate, from: parcel, file name: '"all.csv"'}
`

// drops puts a file into the watched folder, whole at once.
func drops(t *testing.T, folder, name, content string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(folder, name+".tmp"), []byte(content), 0o600))
	require.NoError(t, os.Rename(filepath.Join(folder, name+".tmp"), filepath.Join(folder, name)))
}

// openAsides are what of a run waits for somebody.
func (w *world) openAsides(run uuid.UUID) (open []store.Aside) {
	w.t.Helper()
	list, err := store.Asides(w.t.Context(), w.db, run, 100)
	require.NoError(w.t, err)
	for _, a := range list {
		if a.State == "open" {
			open = append(open, a)
		}
	}
	return open
}

// TestEveryRecordIsMendedByItself: in every notation a record that cannot be read, and one that a step refuses, is shown as
// it stands, mended and run again by itself; what it comes to stands beside the others.
func TestEveryRecordIsMendedByItself(t *testing.T) {
	t.Parallel()
	const fields = "fields:\n  - {name: n, type: integer}\n  - {name: to, type: text}\n  - {name: what, type: text}\n"
	for name, c := range map[string]struct{ schema, message string }{
		"csv":     {"notation: csv\nnotation settings: {delimiter: ';', encoding: windows-1252}\n" + fields, "to;n;what\r\nLC;1;kelp\r\nOR;x;s\xf8l\r\nHV;3;ghost\r\n"},
		"json":    {"notation: json\n" + fields, "[{\"n\": 1, \"to\": \"LC\", \"what\": \"kelp\"},\n {\"n\": \"x\", \"to\": \"OR\", \"what\": \"søl\"},\n {\"n\": 3, \"to\": \"HV\", \"what\": \"ghost\"}]"},
		"ndjson":  {"notation: ndjson\n" + fields, "{\"n\": 1, \"to\": \"LC\", \"what\": \"kelp\"}\n{\"n\": \"x\", \"to\": \"OR\", \"what\": \"søl\"}\n{\"n\": 3, \"to\": \"HV\", \"what\": \"ghost\"}\n"},
		"xml":     {"notation: xml\nnotation settings: {root: parcels, record: parcel}\n" + fields, "<parcels day=\"1\"><parcel><n>1</n><to>LC</to><what>kelp</what></parcel>\n<parcel><n>x</n><to>OR</to><what>søl</what></parcel>\n<parcel><n>3</n><to>HV</to><what>ghost</what></parcel></parcels>"},
		"columns": {"notation: fixedwidth\nfields:\n  - {name: n, type: integer, columns: 1}\n  - {name: to, type: text, columns: 2-3}\n  - {name: what, type: text, columns: 4-9}\n", "1LCkelp  \r\nxORs\u00f8l  \r\n3HVghost \r\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w, in, out := crated(t)
			w.add("parcels", map[string]string{"schemas/parcel.yaml": "schema: Parcel\n" + c.schema, "flows/parcels.yaml": parcels})
			drops(t, in, "one.dat", c.message)
			r := w.ended("one.dat")
			require.Equal(t, store.SetAside, r.State, "%v", r.Fault)
			require.Equal(t, 2, r.RecordsSetAside)
			for _, change := range [][2]string{{"x", "2"}, {"ghost", "peats"}} {
				a := w.openAsides(r.ID)[0]
				m, err := w.engine.CorrectionText(t.Context(), a)
				require.NoError(t, err)
				require.Empty(t, m.Why)
				require.Contains(t, m.Text, change[0])
				same, err := w.engine.Correct(t.Context(), a.ID, nil, "mo")
				require.NoError(t, err)
				again := w.over(same)
				require.Equal(t, store.SetAside, again.State, "as it is it fails as before")
				require.Len(t, w.openAsides(again.ID), 1)
				a = w.openAsides(again.ID)[0]
				m, err = w.engine.CorrectionText(t.Context(), a)
				require.NoError(t, err)
				text := strings.Replace(strings.Replace(m.Text, `"x"`, "2", 1), change[0], change[1], 1)
				id, err := w.engine.Correct(t.Context(), a.ID, &text, "mo")
				require.NoError(t, err)
				mended := w.over(id)
				require.Equal(t, store.Done, mended.State, "%v %v", mended.Fault, text)
				require.Equal(t, 1, mended.RecordsRead)
			}
			content, err := os.ReadFile(filepath.Join(out, "all.csv"))
			require.NoError(t, err)
			require.Equal(t, "n,to,what\r\n1,LC,kelp\r\n2,OR,søl\r\n3,HV,peats\r\n", string(content))
			open, err := store.OpenWork(t.Context(), w.db, testkit.Skerry)
			require.NoError(t, err)
			require.Zero(t, open)
		})
	}
}

// TestAnEntryIsMendedByItself: one vehicle of a sailing, that of a flow with records and that of a whole run, also when the
// message is not kept; what was in scope of it is there.
func TestAnEntryIsMendedByItself(t *testing.T) {
	t.Parallel()
	w, in, out := crated(t)
	const loads = "    steps:\n" +
		"      - {step: set, id: tag, values: {label: 'load.ship + \" \" + crate.to'}}\n" +
		"      - step: choose\n        id: c\n        when:\n          - if: crate.what == \"ghost\"\n            steps: [{step: stop, id: no, text: 'label + \" is a ghost\"'}]\n" +
		"      - {step: write, id: write, connection: office-folder, schema: crate, from: crate, file name: 'load.ship + \".csv\"'}\n"
	parts := map[string]string{
		"schemas/load.yaml":  "schema: Load\nnotation: json\nfields:\n  - {name: ship, type: text}\n  - {name: crates, type: record, of: crate, occurs: 0..n}\n",
		"flows/by-hand.yaml": "flow: By hand\ntrigger: {kind: person, input: load, as: load}\nsteps:\n  - step: each\n    id: each\n    of: load.crates\n    as: crate\n" + loads,
		"flows/loads.yaml": "flow: Loads\ntrigger: {kind: file, connection: crates, mask: \"*.json\"}\nsteps:\n  - {step: read, id: read, schema: load, as: load}\n  - step: each\n    id: all\n    of: load\n    steps:\n" +
			strings.ReplaceAll(strings.TrimSuffix(strings.ReplaceAll("  - step: each\n    id: each\n    of: load.crates\n    as: crate\n"+loads, "\n", "\n    "), "    "), "  - step: each\n", "      - step: each\n"),
	}
	w.add("by-hand", parts)
	w.add("loads", nil)
	message := func(ship string) string {
		return fmt.Sprintf(`{"ship": %q, "crates": [{"n": 1, "to": "LC", "what": "kelp"}, {"n": 2, "to": "OR", "what": "ghost"}, {"n": 3, "to": "HV", "what": "salt"}]}`, ship)
	}
	drops(t, in, "a.json", "["+message("Ada")+","+message("Bo")+"]")
	for _, c := range []struct {
		run   store.Run
		ships []string
	}{{w.ended("a.json"), []string{"Ada", "Bo"}}, {w.begun("by-hand", []byte(message("Cy"))), []string{"Cy"}}} {
		require.Equal(t, store.SetAside, c.run.State, "%v", c.run.Fault)
		for i, a := range w.openAsides(c.run.ID) {
			require.Equal(t, "1", a.Path)
			require.Equal(t, c.ships[i]+" OR is a ghost", a.Faults[0].Message)
			m, err := w.engine.CorrectionText(t.Context(), a)
			require.NoError(t, err)
			require.True(t, m.Entry)
			require.JSONEq(t, `{"n": 2, "to": "OR", "what": "ghost"}`, m.Text)
			for _, bad := range []string{`{"n": 2`, `{"n": "two", "to": "OR", "what": "x"}`} {
				_, err = w.engine.Correct(t.Context(), a.ID, &bad, "mo")
				var f *fault.Fault
				require.ErrorAs(t, err, &f, "what is no entry is refused, and nothing is lost")
			}
			same, err := w.engine.Correct(t.Context(), a.ID, nil, "mo")
			require.NoError(t, err)
			require.Equal(t, store.SetAside, w.over(same).State)
			again := w.openAsides(same)
			require.Len(t, again, 1)
			require.Equal(t, c.ships[i]+" OR is a ghost", again[0].Faults[0].Message, "once more, with what was in scope")
			text := strings.Replace(m.Text, "ghost", "peat", 1)
			id, err := w.engine.Correct(t.Context(), again[0].ID, &text, "mo")
			require.NoError(t, err)
			mended := w.over(id)
			require.Equal(t, store.Done, mended.State, "%v", mended.Fault)
			content, err := os.ReadFile(filepath.Join(out, c.ships[i]+".csv"))
			require.NoError(t, err)
			require.Contains(t, string(content), "1,LC,kelp\r\n")
			require.Contains(t, string(content), "2,OR,peat\r\n")
			require.Contains(t, string(content), "3,HV,salt\r\n")
			require.Equal(t, 4, strings.Count(string(content), "\r\n"), string(content))
		}
	}
	open, err := store.OpenWork(t.Context(), w.db, testkit.Skerry)
	require.NoError(t, err)
	require.Zero(t, open)
}

// TestARunAgainClosesWhatItSolved: the whole message run again settles the records that were open; what fails again is open
// once. When that run is let go before it came so far, they are open again.
func TestARunAgainClosesWhatItSolved(t *testing.T) {
	t.Parallel()
	w, in, _ := crated(t)
	w.add("parcels", map[string]string{
		"schemas/parcel.yaml": "schema: Parcel\nnotation: csv\nfields:\n  - {name: n, type: integer}\n  - {name: to, type: text}\n  - {name: what, type: text}\n", "flows/parcels.yaml": parcels,
	})
	drops(t, in, "one.dat", "n,to,what\r\n1,LC,ghost\r\nx,OR,salt\r\n3,HV,peat\r\n")
	first := w.ended("one.dat")
	require.Len(t, w.openAsides(first.ID), 2)
	w.add("parcels", map[string]string{"flows/parcels.yaml": strings.Replace(parcels, `"ghost"`, `"spectre"`, 1)})
	id, err := w.engine.Rerun(t.Context(), first.ID, RerunOptions{By: "mo"})
	require.NoError(t, err)
	second := w.over(id)
	require.Equal(t, store.SetAside, second.State)
	require.Empty(t, w.openAsides(first.ID))
	require.Len(t, w.openAsides(second.ID), 1, "what still fails is open once")
	list, err := store.Asides(t.Context(), w.db, first.ID, 10)
	require.NoError(t, err)
	require.Equal(t, id, *list[0].Rerun)
	reruns, err := store.Reruns(t.Context(), w.db, first.ID, 10)
	require.NoError(t, err)
	require.Len(t, reruns, 1)
	require.Equal(t, id, reruns[0].ID)

	cause := store.Cause{Flow: "parcels", Step: "read", Text: ""}
	causes, err := store.Causes(t.Context(), w.db, testkit.Skerry, first.CreatedAt, 10)
	require.NoError(t, err)
	require.Len(t, causes, 1)
	cause.Text = causes[0].Text
	asides, runs, err := store.OpenOfCause(t.Context(), w.db, testkit.Skerry, cause, first.CreatedAt, 10)
	require.NoError(t, err)
	require.Len(t, asides, 1, "the open record of the cause, not the three of its message")
	require.Empty(t, runs)
	begun, err := w.engine.RerunAll(t.Context(), asides, runs, "mo")
	require.NoError(t, err)
	require.Equal(t, 1, begun)
	third, err := store.AsideByID(t.Context(), w.db, asides[0])
	require.NoError(t, err)
	require.Equal(t, 1, w.over(*third.Rerun).RecordsRead)
}

// TestAStoppedRunThatIsLetGoGivesBackWhatItWasToDo: nothing that it did not come to is lost.
func TestAStoppedRunThatIsLetGoGivesBackWhatItWasToDo(t *testing.T) {
	t.Parallel()
	w, in, _ := crated(t)
	const schema = "schema: Parcel\nnotation: csv\nfields:\n  - {name: n, type: integer}\n  - {name: to, type: text}\n  - {name: what, type: text}\n"
	w.add("parcels", map[string]string{"schemas/parcel.yaml": schema, "flows/parcels.yaml": parcels})
	drops(t, in, "one.dat", "n,to,what\r\n1,LC,salt\r\n2,OR,ghost\r\n")
	first := w.ended("one.dat")
	open := w.openAsides(first.ID)
	require.Len(t, open, 1)
	resting := strings.Replace(parcels, `"ghost"`, `"spectre"`, 1)
	resting = strings.Replace(resting, "      - {step: write", "      - {step: wait, id: rest, seconds: 3600}\n      - {step: write", 1)
	w.add("parcels", map[string]string{"flows/parcels.yaml": resting}) // so that it is not over when it is cancelled
	id, err := w.engine.Correct(t.Context(), open[0].ID, nil, "mo")
	require.NoError(t, err)
	require.NoError(t, w.engine.Cancel(t.Context(), id, "mo"))
	again := w.over(id)
	require.Equal(t, store.Stopped, again.State)
	require.Empty(t, w.openAsides(first.ID))
	require.NoError(t, w.engine.DiscardRun(t.Context(), id))
	require.Len(t, w.openAsides(first.ID), 1)
	require.ErrorIs(t, w.engine.Resume(t.Context(), id), store.ErrChanged, "what was let go is not resumed")
}

// TestARecordSetAsideInACalledRun: the run that called it goes on with a note, unless its step says otherwise.
func TestARecordSetAsideInACalledRun(t *testing.T) {
	t.Parallel()
	for setting, want := range map[string]store.State{"": store.Done, ", records set aside: set aside": store.SetAside, ", records set aside: stop": store.Stopped} {
		t.Run(setting, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.start(Options{})
			w.add("outer", map[string]string{
				"schemas/crate.yaml": "schema: Crate\nnotation: csv\nfields:\n  - {name: n, type: integer}\n",
				"schemas/load.yaml":  "schema: Load\nnotation: json\nfields:\n  - {name: crates, type: record, of: crate, occurs: 0..n}\n",
				"flows/inner.yaml": "flow: Inner\ntrigger: {kind: called, input: load}\nsteps:\n  - step: each\n    id: each\n    of: input.crates\n    as: crate\n    steps:\n      - step: choose\n        id: c\n        when:\n          - if: crate.n == 2\n" +
					"            steps: [{step: stop, id: no, text: '\"no\"'}]\n",
				"flows/outer.yaml": "flow: Outer\ntrigger: {kind: person, input: load}\nsteps:\n  - {step: flow, id: call, flow: inner, from: input" + setting + "}\n  - {step: note, id: n, text: '\"went on\"'}\n",
			})
			r := w.begun("outer", []byte(`{"crates": [{"n": 1}, {"n": 2}, {"n": 3}]}`))
			require.Equal(t, want, r.State, "%v", r.Fault)
			children, err := store.Children(t.Context(), w.db, r.ID, 10)
			require.NoError(t, err)
			require.Equal(t, store.SetAside, children[0].State)
			require.Len(t, w.openAsides(children[0].ID), 1)
			if want == store.Done {
				entry, err := journal.Of(t.Context(), w.engine.db, r.ID, -1)
				require.NoError(t, err)
				require.Equal(t, "the called run has set aside 1 record", entry.Notes[0].Message)
				require.Equal(t, "went on", entry.Notes[1].Message)
			}
		})
	}
}
