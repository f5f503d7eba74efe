package engine

import (
	"fmt"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// noted is the text that the last note of a run's whole says.
func (w *world) noted(r store.Run) string {
	w.t.Helper()
	entry, err := journal.Of(w.t.Context(), w.engine.db, r.ID, running.WholeRun)
	require.NoError(w.t, err)
	require.NotEmpty(w.t, entry.Notes)
	return entry.Notes[len(entry.Notes)-1].Message
}

func (w *world) resting(id uuid.UUID) {
	w.t.Helper()
	testkit.Until(w.t, "the run to rest", func() (store.Run, bool) {
		r, err := store.RunByID(w.t.Context(), w.db, id)
		require.NoError(w.t, err)
		return r, r.State == store.Waiting && r.NextAttemptAt != nil
	})
}

const awaiting = `
flow: Awaiting
trigger: {kind: person, input: sign-up}
steps:
  - {step: await, id: a, kind: %s, reference: input.card, schema: sign-up, within: %s, none: %s, as: came}
  - {step: note, id: n, text: 'isAbsent(came) ? "nobody came" : "came " + came.name'}
`

// TestARunWaitsForAMessage: it rests until another run hands one over with its reference, and is woken by that; one that
// was handed over before is taken at once; two that wait get one each; none in time is what the step says.
func TestARunWaitsForAMessage(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.add("awaiting", map[string]string{"flows/awaiting.yaml": fmt.Sprintf(awaiting, "greeting", "300", "set aside")})
	w.add("hurried", map[string]string{"flows/hurried.yaml": strings.Replace(fmt.Sprintf(awaiting, "hurry", "1", "go on"), "Awaiting", "Hurried", 1)})
	w.add("handing", map[string]string{"flows/handing.yaml": `
flow: Handing
trigger: {kind: person, input: sign-up}
steps:
  - {step: deliver, id: d, kind: greeting, reference: input.card, from: input}
`})
	first := w.begin("awaiting", card("L1", "Ada"))
	w.resting(first)
	testkit.Until(t, "it to rest for an hour", func() (int64, bool) { // so that nothing but the message can wake it
		tag, err := w.db.Exec(t.Context(), "update river_job set scheduled_at = now() + interval '1 hour' where args->>'run' = $1 and state in ('scheduled', 'available')", first.String())
		require.NoError(t, err)
		return tag.RowsAffected(), tag.RowsAffected() == 1
	})
	require.Equal(t, store.Done, w.begun("handing", card("L1", "Bo")).State)
	require.Equal(t, "came Bo", w.noted(w.over(first)))

	for _, name := range []string{"Cem", "Dag"} {
		require.Equal(t, store.Done, w.begun("handing", card("L2", name)).State)
	}
	require.Equal(t, "came Cem", w.noted(w.begun("awaiting", card("L2", "x"))))
	require.Equal(t, "came Dag", w.noted(w.begun("awaiting", card("L2", "x"))))
	require.Equal(t, "nobody came", w.noted(w.begun("hurried", card("L2", "x"))))
}

const gathering = `
flow: Gathering
trigger: {kind: person, input: sign-up}
steps:
  - {step: gather, id: g, bring: input, key: input.kiosk, %s, as: all}
  - {step: note, id: n, text: 'join(map(all, .name), ", ")'}
`

// TestRunsGather: by number, the run that makes the group whole goes on with all of it; by time, the first one does, after
// a rest in which it needs no worker. Nothing is in two groups or none.
func TestRunsGather(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.start(Options{})
	w.add("threes", map[string]string{"flows/threes.yaml": fmt.Sprintf(gathering, "count: 3")})
	w.add("timed", map[string]string{"flows/timed.yaml": strings.Replace(fmt.Sprintf(gathering, "count: 50, within: 2"), "Gathering", "Timed", 1)})
	var ids []uuid.UUID
	for i := range 12 {
		ids = append(ids, w.begin("threes", card(fmt.Sprint("G", i), fmt.Sprint("N", i))))
	}
	seen := map[string]int{}
	for _, id := range ids {
		r := w.over(id)
		require.Equal(t, store.Done, r.State)
		entry, err := journal.Of(t.Context(), w.engine.db, r.ID, running.WholeRun)
		require.NoError(t, err)
		if entry.State == running.Skipped {
			continue
		}
		names := strings.Split(entry.Notes[0].Message, ", ")
		require.Len(t, names, 3)
		for _, name := range names {
			seen[name]++
		}
	}
	require.Len(t, seen, 12)
	for name, n := range seen {
		require.Equal(t, 1, n, name)
	}

	first := w.begin("timed", card("T1", "Ada"))
	w.resting(first)
	require.Equal(t, store.Done, w.begun("timed", card("T2", "Bo")).State)
	require.Equal(t, "Ada, Bo", w.noted(w.over(first)))
}

// TestFlowsRememberFromRunToRun: an answer for a time, and the rows of a table.
func TestFlowsRememberFromRunToRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.add("known", map[string]string{"flows/known.yaml": `
flow: Known
trigger: {kind: person, input: sign-up}
steps:
  - step: cached
    id: c
    key: input.kiosk
    keep: values.name
    for: 3600
    as: name
    steps: [{step: set, id: s, values: {name: input.name}}]
  - {step: note, id: n, text: name}
`})
	require.Equal(t, "Ada", w.noted(w.begun("known", card("K1", "Ada"))))
	require.Equal(t, "Ada", w.noted(w.begun("known", card("K2", "Bo"))))
	aged, err := w.db.Exec(t.Context(), "update flow_state set expires_at = expires_at - interval '1 hour'")
	require.NoError(t, err)
	require.EqualValues(t, 1, aged.RowsAffected())
	require.Equal(t, "Cem", w.noted(w.begun("known", card("K3", "Cem"))))

	w.add("berth", map[string]string{"tables/kiosks.yaml": "table: Kiosks\ncolumns:\n  - {name: kiosk, key: true}\n  - {name: host}\nrows:\n  - [K1, Rut]\n", "flows/berth.yaml": `
flow: Host
trigger: {kind: person, input: sign-up}
steps:
  - {step: look up, id: l, table: kiosks, match: {kiosk: input.kiosk}, as: was}
  - step: choose
    id: c
    when:
      - {if: input.name == "nobody", steps: [{step: change, id: away, table: kiosks, do: take it away, row: {kiosk: input.kiosk}}]}
    otherwise:
      - {step: change, id: put, table: kiosks, row: {kiosk: input.kiosk, host: input.name}}
  - {step: note, id: n, text: was.host}
`})
	require.Equal(t, "Rut", w.noted(w.begun("berth", card("K1", "Ada"))))
	require.Equal(t, "Ada", w.noted(w.begun("berth", card("K1", "nobody"))))
	r := w.begun("berth", card("K1", "Bo"))
	require.Equal(t, store.SetAside, r.State)
	require.Contains(t, r.Fault.What(), `no row of Kiosks with kiosk "K1"`)
}
