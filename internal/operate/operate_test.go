package operate

import (
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// parts are a flow that sets orders aside whose number is bad, and one that waits for an hour.
var parts = map[string]string{
	"project.yaml":       "project: Quay\n",
	"schemas/order.yaml": "schema: Order\nnotation: json\nfields:\n  - {name: number, type: text}\n  - name: lines\n    type: record\n    occurs: 0..n\n    fields: [{name: code, type: text}]\n",
	"flows/orders.yaml": `flow: Orders
trigger: {kind: person, input: order, as: order}
reference: order.number
steps:
  - step: choose
    id: sort
    when:
      - {if: 'order.number == "bad"', steps: [{step: stop, id: stop, text: '"a bad number"'}]}
  - step: each
    id: each
    of: order.lines
    as: line
    steps:
      - step: choose
        id: which
        when:
          - {if: 'line.code == "odd"', steps: [{step: stop, id: end, text: '"an odd line"'}]}
      - {step: note, id: note, text: line.code}
`,
	"flows/slow.yaml": "flow: Slow\ntrigger: {kind: person}\nsteps:\n  - {step: wait, id: w, seconds: 3600}\n",
}

var quay = store.Scope{Project: "quay", Environment: store.Environments[0]}

func operator(t *testing.T) Operator {
	ctx := t.Context()
	db := testkit.Project(t, "quay", "Quay", parts)
	outside := connector.Same[store.Scope](connector.StaticSettings{}, connector.Rules{})
	t.Cleanup(outside.Close)
	e, err := engine.New(db, outside, engine.Options{PollInterval: 50 * time.Millisecond, Heartbeat: 100 * time.Millisecond})
	require.NoError(t, err)
	for _, flow := range []string{"orders", "slow"} {
		_, err := e.CreateRelease(ctx, quay, flow, "", "mo")
		require.NoError(t, err)
	}
	require.NoError(t, e.Start(ctx))
	t.Cleanup(e.Stop)
	return Operator{DB: db, Engine: e, Scope: quay, Person: "mo"}
}

// run starts a run and waits until it is in a state.
func (o Operator) runs(t *testing.T, flow, message string, state store.State) uuid.UUID {
	t.Helper()
	id, err := o.Start(t.Context(), flow, []byte(message))
	require.NoError(t, err)
	o.becomes(t, id, state)
	return id
}

func (o Operator) becomes(t *testing.T, id uuid.UUID, state store.State) {
	t.Helper()
	testkit.Until(t, "the run to be "+string(state), func() (store.State, bool) {
		r, err := store.RunByID(t.Context(), o.DB, id)
		require.NoError(t, err)
		return r.State, r.State == state
	})
}

// deeds are what the audit log says, the newest first.
func (o Operator) deeds(t *testing.T) (list []string) {
	t.Helper()
	all, err := store.AuditEntries(t.Context(), o.DB, quay, nil, 100)
	require.NoError(t, err)
	for _, d := range all {
		require.Equal(t, "mo", d.Person)
		list = append(list, d.Action)
	}
	return list
}

func (o Operator) open(t *testing.T) []store.WorkItem {
	t.Helper()
	list, err := store.WorkItems(t.Context(), o.DB, store.WorkFilter{Scope: quay, Most: 100})
	require.NoError(t, err)
	return list
}

// odd is an order of which a line is set aside.
const odd = `{"number": "B-1", "lines": [{"code": "A"}, {"code": "odd"}]}`

// aside starts a run of which a line is set aside, and gives that.
func (o Operator) aside(t *testing.T) store.Aside {
	t.Helper()
	id := o.runs(t, "orders", odd, store.SetAside)
	asides, err := store.Asides(t.Context(), o.DB, id, 10)
	require.NoError(t, err)
	require.Len(t, asides, 1)
	return asides[0]
}

// TestWhatWasSetAsideIsDealtWith: assigned, noted, corrected and discarded; each deed is in the audit log.
func TestWhatWasSetAsideIsDealtWith(t *testing.T) {
	t.Parallel()
	o := operator(t)
	a := o.aside(t)
	require.Len(t, o.open(t), 1)
	w := Work{Records: []int64{a.ID}}
	require.NoError(t, o.Assign(t.Context(), w))
	require.Equal(t, "mo", *o.open(t)[0].Owner)
	require.NoError(t, o.NoteRecord(t.Context(), a.ID, "asked Ormlet"))
	require.Equal(t, "asked Ormlet", o.open(t)[0].Note)
	require.NoError(t, o.Unassign(t.Context(), w))
	require.Nil(t, o.open(t)[0].Owner)
	again, err := o.Correct(t.Context(), a.ID, nil)
	require.NoError(t, err)
	o.becomes(t, again, store.SetAside)
	_, err = o.Correct(t.Context(), a.ID, nil)
	require.Error(t, err, "once")
	require.Equal(t, []string{"ran again as it is", "gave back", "took", "started a run of"}, o.deeds(t), "and nothing that was refused")
	second := o.aside(t)
	of, err := o.Discard(t.Context(), second.ID)
	require.NoError(t, err)
	require.Equal(t, second.Run, of)
	require.Equal(t, "discarded", o.deeds(t)[0])

	whole := o.runs(t, "orders", `{"number": "bad"}`, store.SetAside)
	require.NoError(t, o.NoteRun(t.Context(), whole, "the sender mends it"))
	require.NoError(t, o.RerunWork(t.Context(), Work{Runs: []uuid.UUID{whole}}))
	require.Equal(t, "ran again", o.deeds(t)[0])
}

// TestManyAreDealtWithAtOnce: what cannot be done with one is told, with the others it is done; nothing and too much are refused.
func TestManyAreDealtWithAtOnce(t *testing.T) {
	t.Parallel()
	o := operator(t)
	var w Work
	for range 3 {
		w.Records = append(w.Records, o.aside(t).ID)
	}
	require.ErrorContains(t, o.RerunWork(t.Context(), Work{}), "nothing is chosen")
	require.ErrorContains(t, o.DiscardWork(t.Context(), Work{Records: make([]int64, MaxWork+1)}), "at most 100")
	require.NoError(t, o.DiscardWork(t.Context(), Work{Records: w.Records[:1]}))
	require.ErrorContains(t, o.DiscardWork(t.Context(), w), "1 of 3 could not be done")
	require.Empty(t, o.open(t), "the others were")
	third := o.aside(t)
	require.NoError(t, o.RerunOpen(t.Context(), third.Run))
	require.Equal(t, "ran again what was set aside:", o.deeds(t)[0])
	require.NoError(t, o.RerunCause(t.Context(), store.Cause{Flow: "orders"}))
	o.runs(t, "orders", `{"number": "B-2"}`, store.Done)
	require.NoError(t, o.RerunMatching(t.Context(), store.RunFilter{Scope: quay, Flow: "orders", State: store.Done}))
	require.ErrorContains(t, o.RerunMatching(t.Context(), store.RunFilter{Scope: quay}), "choose a flow or a cause first")
	require.Equal(t, "ran many again:", o.deeds(t)[0])
}

// TestARunIsStoppedResumedAndRunAgain: with the message as it was, or another.
func TestARunIsStoppedResumedAndRunAgain(t *testing.T) {
	t.Parallel()
	o := operator(t)
	slow := o.runs(t, "slow", "", store.Waiting)
	require.NoError(t, o.Cancel(t.Context(), slow))
	o.becomes(t, slow, store.Stopped)
	require.NoError(t, o.Resume(t.Context(), slow))
	o.becomes(t, slow, store.Waiting)
	done := o.runs(t, "orders", `{"number": "B-3"}`, store.Done)
	again, err := o.Rerun(t.Context(), done, nil, true)
	require.NoError(t, err)
	o.becomes(t, again, store.Done)
	mended, err := o.Rerun(t.Context(), done, []byte(`{"number": "B-4"}`), false)
	require.NoError(t, err)
	o.becomes(t, mended, store.Done)
	r, err := store.RunByID(t.Context(), o.DB, mended)
	require.NoError(t, err)
	require.Equal(t, "B-4", r.Reference)
	_, err = o.Rerun(t.Context(), uuid.New(), nil, false)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.Equal(t, []string{"ran it again with a mended message", "ran it again", "started a run of", "resumed the run", "stopped the run", "started a run of"}, o.deeds(t))
	require.NoError(t, o.Pause(t.Context(), "slow", "the clock is mended"))
	require.NoError(t, o.Unpause(t.Context(), "slow"))
	require.Equal(t, []string{"resumed the trigger of", "paused the trigger of"}, o.deeds(t)[:2])
}

// TestSearchesAndSecretsAreKept: a search under a name within bounds; a secret goes only when nothing uses it.
func TestSearchesAndSecretsAreKept(t *testing.T) {
	t.Parallel()
	o := operator(t)
	kept, err := o.SaveSearch(t.Context(), "mine", "flow=orders&before=2031&text=B")
	require.NoError(t, err)
	require.Equal(t, "flow=orders&text=B", kept, "where one was in the list is no part of it")
	searches, err := store.Searches(t.Context(), o.DB, quay.Project, "mo")
	require.NoError(t, err)
	require.Len(t, searches, 1)
	for _, name := range []string{"", string(make([]byte, 81))} {
		_, err = o.SaveSearch(t.Context(), name, "x=y")
		require.Error(t, err)
	}
	_, err = o.SaveSearch(t.Context(), "bad", "%zz")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorContains(t, o.NoteRun(t.Context(), uuid.New(), string(make([]byte, 2001))), "longer than 2000 bytes")

	require.ErrorIs(t, o.DeleteSecret(t.Context(), "Live", "desk"), store.ErrNotFound)
	require.NoError(t, o.NoteHealth(t.Context(), "Live", store.Health{Connection: "desk", Healthy: true}))
	health, err := store.Healths(t.Context(), o.DB, quay.In("Live"))
	require.NoError(t, err)
	require.True(t, health["desk"].Healthy)
}

// TestNobodyReachesRunsOfAnotherScope: who knows the id of a run, or of a record that was set aside, can do nothing with it from
// another environment or project, and nothing is noted.
func TestNobodyReachesRunsOfAnotherScope(t *testing.T) {
	o := operator(t)
	ctx := t.Context()
	set := o.runs(t, "orders", `{"lines": [{"code": "odd"}]}`, store.SetAside)
	slow := o.runs(t, "slow", "", store.Waiting)
	before := o.deeds(t)
	record := o.open(t)[0].Aside
	for _, scope := range []store.Scope{quay.In("Live"), {Project: "other", Environment: quay.Environment}} {
		other := o
		other.Scope = scope
		for what, do := range map[string]func() error{
			"resume":           func() error { return other.Resume(ctx, set) },
			"cancel":           func() error { return other.Cancel(ctx, slow) },
			"rerun":            func() error { _, err := other.Rerun(ctx, set, nil, false); return err },
			"rerun from":       func() error { _, err := other.RerunFrom(ctx, set, "note"); return err },
			"rerun records":    func() error { return other.RerunOpen(ctx, set) },
			"correct":          func() error { _, err := other.Correct(ctx, record, nil); return err },
			"discard":          func() error { _, err := other.Discard(ctx, record); return err },
			"let records go":   func() error { return other.DiscardWork(ctx, Work{Records: []int64{record}}) },
			"let the run go":   func() error { return other.DiscardWork(ctx, Work{Runs: []uuid.UUID{set}}) },
			"note of a record": func() error { return other.NoteRecord(ctx, record, "mine") },
			"note of a run":    func() error { return other.NoteRun(ctx, set, "mine") },
			"start":            func() error { _, err := other.Start(ctx, "orders", []byte(`{"lines": []}`)); return err },
		} {
			require.Error(t, do(), "%s from %s", what, scope)
		}
		require.NoError(t, other.Assign(ctx, Work{Records: []int64{record}}), "there is nothing to assign")
	}
	elsewhere := o
	elsewhere.Scope = quay.In("Live")
	require.NoError(t, elsewhere.RerunMatching(ctx, store.RunFilter{Scope: quay, Flow: "orders"}), "its own are looked for, of which there are none")
	require.Nil(t, o.open(t)[0].Owner)
	require.Empty(t, o.open(t)[0].Note)
	require.Equal(t, before, o.deeds(t))
	r, err := store.RunByID(ctx, o.DB, slow)
	require.NoError(t, err)
	require.Nil(t, r.CancelBy)
}
