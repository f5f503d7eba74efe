package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// add puts parts into the draft and releases the flow among them.
func (w *world) add(flow string, parts map[string]string) {
	w.t.Helper()
	require.NoError(w.t, pgx.BeginFunc(w.t.Context(), w.db, func(tx pgx.Tx) error {
		for path, text := range parts {
			draft, err := store.PartDraft(w.t.Context(), w.db, "skerry", path)
			if errors.Is(err, store.ErrNotFound) {
				err = store.AddPart(w.t.Context(), tx, "skerry", path, text, "mo")
			} else if err == nil {
				err = store.SavePart(w.t.Context(), tx, "skerry", path, text, draft.Revision, "mo")
			}
			if err != nil {
				return err
			}
		}
		return nil
	}))
	_, err := w.engine.CreateRelease(w.t.Context(), testkit.Skerry, flow, "", "mo")
	require.NoError(w.t, err)
}

func card(number, name string) []byte {
	text, err := json.Marshal(map[string]string{"card": number, "name": name, "mail": name + "@x.example", "kiosk": "K1", "at": "2031-03-09T06:00:00Z"})
	if err != nil {
		panic(err)
	}
	return text
}

// begun starts a flow by hand and waits for its end.
func (w *world) begun(flow string, input []byte) store.Run {
	w.t.Helper()
	return w.over(w.begin(flow, input))
}

func (w *world) begin(flow string, input []byte) uuid.UUID {
	w.t.Helper()
	id, err := w.engine.StartRun(w.t.Context(), testkit.Skerry, flow, "mo", input)
	require.NoError(w.t, err)
	return id
}

func (w *world) over(id uuid.UUID) store.Run {
	w.t.Helper()
	return testkit.Until(w.t, "the run to end", func() (store.Run, bool) {
		r, err := store.RunByID(w.t.Context(), w.db, id)
		require.NoError(w.t, err)
		return r, r.Ended()
	})
}

const upsertMember = `{step: upsert, id: put, connection: harbour-ledger, table: kiosk_member, from: input, key: card}`

// TestARunWithoutRecords: a message that a person gives passes the steps as a whole; its journal, its references,
// what its steps told and what was left out are kept.
func TestARunWithoutRecords(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("member", map[string]string{"flows/member.yaml": `
flow: Member
trigger: {kind: person, input: sign-up}
reference: input.card
steps:
  - {step: set, id: s, values: {first: 'split(input.name, " ")[0]'}}
  - {step: reference, id: r, is: upper(first)}
  - step: choose
    id: c
    when:
      - if: input.kiosk == "closed"
        steps: [{step: stop, id: no, outcome: left out, text: '"the kiosk is closed"'}]
  - ` + upsertMember + `
  - {step: note, id: n, text: '"welcome " + first', where: the event log}
`})
	r := w.begun("member", card("C1", "Ada Lind"))
	require.Equal(t, store.Done, r.State)
	require.Equal(t, "C1", r.Reference)
	require.Equal(t, 1, r.Counts["put"].Inserted)
	require.Equal(t, 1, w.count("select count(*) from kiosk_member where card = 'C1'"))
	entry, err := journal.Of(t.Context(), e.db, r.ID, running.WholeRun)
	require.NoError(t, err)
	require.JSONEq(t, `{"first": "Ada"}`, string(entry.Values["values"]))
	require.Equal(t, []running.BranchTaken{{Step: "c", Track: 1}}, entry.Branches)
	p, err := e.Release(t.Context(), "skerry", "member", r.Release)
	require.NoError(t, err)
	require.Equal(t, "Ada", entry.Item(p.Flow("member")).Frame.Slots[p.Flow("member").Planned("s").Result.Slot].Field("first").Text())
	found, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Reference: "ad", Most: 5})
	require.NoError(t, err)
	require.Len(t, found, 1, "found by what a step gave it")
	events, err := store.Events(t.Context(), w.db, testkit.Skerry, 10)
	require.NoError(t, err)
	require.Equal(t, "welcome Ada", events[0].Text)

	closed := map[string]string{}
	require.NoError(t, json.Unmarshal(card("C2", "Bo"), &closed))
	closed["kiosk"] = "closed"
	text, err := json.Marshal(closed)
	require.NoError(t, err)
	require.Equal(t, store.Done, w.begun("member", text).State)
	require.Zero(t, w.count("select count(*) from kiosk_member where card = 'C2'"))
	_, err = e.StartRun(t.Context(), testkit.Skerry, "member", "mo", []byte(`{"card": 7}`))
	require.Error(t, err, "what a person gives is checked before a run begins")
}

const greeting = `
flow: Greeting
trigger: {kind: called, input: sign-up, output: board-post}
reference: input.card
steps:
  - step: choose
    id: c
    when:
      - if: input.kiosk == "closed"
        steps: [{step: stop, id: no, text: '"the kiosk is closed"'}]
  - ` + upsertMember + `
  - {step: answer, id: a, with: {board: '"crew"', text: '"hello " + input.name'}}
`

const splitting = `
flow: Splitting
trigger: {kind: person, input: sign-up}
steps:
  - {step: set, id: names, values: {list: 'split(input.name, " ")'}}
  - step: each
    id: e
    of: list
    as: name
    at once: 3
    collect: said.text
    collected as: greetings
    steps:
      - {step: flow, id: f, flow: greeting, wait: "%WAIT%", as: said, with: {card: 'input.card + name', name: name, mail: input.mail, kiosk: 'name == "Bad" ? "closed" : input.kiosk', at: input.at}}
  - {step: note, id: n, text: 'join(greetings, "; ")'}
`

// TestAFlowCallsAnother: each call is a run of its own in the release of its parent; its answer goes on, its fault
// harms one entry only.
func TestAFlowCallsAnother(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("splitting", map[string]string{"flows/greeting.yaml": greeting, "flows/splitting.yaml": strings.Replace(splitting, "%WAIT%", "yes", 1)})
	r := w.begun("splitting", card("S", "Ada Bad Cem"))
	require.Equal(t, store.SetAside, r.State)
	entry, err := journal.Of(t.Context(), e.db, r.ID, running.WholeRun)
	require.NoError(t, err)
	require.Equal(t, "hello Ada; hello Cem", entry.Notes[0].Message)
	require.Len(t, entry.Inner, 3)
	asides, err := store.Asides(t.Context(), w.db, r.ID, 10)
	require.NoError(t, err)
	require.Len(t, asides, 1)
	require.Equal(t, "1", asides[0].Path)
	require.Contains(t, asides[0].Faults.Error(), "the run of Greeting is set aside: the kiosk is closed")
	children, err := store.Children(t.Context(), w.db, r.ID, 10)
	require.NoError(t, err)
	require.Len(t, children, 3)
	states := map[string]store.State{}
	for _, c := range children {
		states[c.Reference] = c.State
		require.Equal(t, "splitting", c.Of)
		require.Equal(t, 1, c.Depth)
	}
	require.Equal(t, map[string]store.State{"SAda": store.Done, "SBad": store.SetAside, "SCem": store.Done}, states)
}

// TestOneMessageBecomesManyRuns: nobody waits for them, and one bad one harms no other.
func TestOneMessageBecomesManyRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	text := strings.NewReplacer("%WAIT%", "no", ", as: said", "", "    collect: said.text\n    collected as: greetings\n", "", `  - {step: note, id: n, text: 'join(greetings, "; ")'}`+"\n", "").Replace(splitting)
	w.add("splitting", map[string]string{"flows/greeting.yaml": greeting, "flows/splitting.yaml": text})
	var names []string
	for i := range 40 {
		names = append(names, fmt.Sprint("N", i))
	}
	r := w.begun("splitting", card("M", strings.Join(append(names, "Bad"), " ")))
	require.Equal(t, store.Done, r.State)
	children := testkit.Until(t, "all children to end", func() ([]store.Run, bool) {
		children, err := store.Children(t.Context(), w.db, r.ID, 100)
		require.NoError(t, err)
		ended := 0
		for _, c := range children {
			if c.Ended() {
				ended++
			}
		}
		return children, ended == 41
	})
	require.Len(t, children, 41)
	require.Equal(t, 40, w.count("select count(*) from kiosk_member where card like 'M%'"))
}

// TestARunRests: it needs no worker while it waits, and goes on where it was, also on another worker; what it did
// before is not done again.
func TestARunRests(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.add("resting", map[string]string{"flows/resting.yaml": `
flow: Resting
trigger: {kind: person, input: sign-up}
steps:
  - {step: call, id: post, connection: harbour-ledger, operation: put-member, from: input, as: put}
  - {step: wait, id: w, seconds: "2"}
  - {step: note, id: n, text: '"rested"'}
`, "connections/harbour-ledger.yaml": w.part("connections/harbour-ledger.yaml") + `
  - operation: put-member
    name: Put a member
    kind: insert
    request: sign-up
    table: kiosk_member
`})
	id := w.begin("resting", card("R1", "Rut"))
	r := testkit.Until(t, "the run to rest", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, id)
		require.NoError(t, err)
		return r, r.State == store.Waiting && r.NextAttemptAt != nil
	})
	require.Equal(t, 1, w.count("select count(*) from kiosk_member where card = 'R1'"))
	w.engine.Stop()
	w.start(Options{})
	r = w.over(id)
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 1, r.Counts["post"].Called, "a second insert would have been refused")
	require.GreaterOrEqual(t, r.EndedAt.Sub(*r.StartedAt), 2*time.Second)
}

func (w *world) part(path string) string {
	w.t.Helper()
	draft, err := store.PartDraft(w.t.Context(), w.db, "skerry", path)
	require.NoError(w.t, err)
	return draft.Text
}

// TestARunThatHangsIsStopped: though its step does not end by itself; a run with a time limit
// ends when that is over.
func TestARunThatHangsIsStopped(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	hang := `
flow: Hanging
trigger: {kind: person, input: sign-up}
%LIMIT%steps:
  - ` + upsertMember + "\n"
	w.add("hanging", map[string]string{"flows/hanging.yaml": strings.Replace(hang, "%LIMIT%", "", 1)})
	w.add("limited", map[string]string{"flows/limited.yaml": strings.NewReplacer("%LIMIT%", "time limit: 1\n", "Hanging", "Limited").Replace(hang)})
	tx, err := w.ledger.Begin(t.Context())
	require.NoError(t, err)
	defer tx.Rollback(context.Background()) // whatever fails: who closes the pool waits for it
	_, err = tx.Exec(t.Context(), "lock table kiosk_member in access exclusive mode")
	require.NoError(t, err)
	id, limited := w.begin("hanging", card("H1", "Hal")), w.begin("limited", card("H2", "Hal"))
	testkit.Until(t, "the run to hang", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, id)
		require.NoError(t, err)
		return r, r.State == store.Running
	})
	require.NoError(t, e.Cancel(t.Context(), id, "mo"))
	r := w.over(id)
	require.Equal(t, store.Stopped, r.State)
	require.Equal(t, fault.Cancelled, r.Fault.Code)
	r = w.over(limited)
	require.Equal(t, store.SetAside, r.State)
	require.Contains(t, r.Fault.What(), "the run took longer than 1s")
	require.NoError(t, tx.Rollback(t.Context()))
	require.NoError(t, e.Resume(t.Context(), id))
	require.Equal(t, store.Done, w.over(id).State)
}

// TestRepeatsAndTalliesOverRuns: a key that came before is left out, in a later run, too; a tally goes on through
// all batches of a run.
func TestRepeatsAndTalliesOverRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.change("flows/gauge-readings.yaml", "      - step: look up row\n", "      - {step: once, id: once, key: 'text(reading.day) + text(reading.time) + reading.gauge'}\n      - {step: tally, id: tally, as: total, becomes: total + 1}\n      - step: look up row\n")
	w.change("flows/gauge-readings.yaml", "steps:\n  - step: read\n", "steps:\n  - {step: set, id: first, values: {greeting: '\"kept \"'}}\n  - step: read\n")
	w.change("flows/gauge-readings.yaml", "key: gauge_code, taken_at\n", "key: gauge_code, taken_at\n  - {step: note, id: told, text: greeting + text(total)}\n")
	e := w.start(Options{Batch: 7})
	w.drop("one.tide", tide(reading("SK04", 1, 4125, "R"), reading("SK04", 2, 4125, "R"), reading("SK04", 1, 4125, "R")))
	require.Equal(t, 1, w.ended("one.tide").Counts["once"].Skipped)
	w.drop("two.tide", tide(reading("SK04", 1, 4125, "R"), reading("SK04", 2, 4125, "R"))+many(18))
	r := w.ended("two.tide")
	require.Equal(t, 2, r.Counts["once"].Skipped)
	entry, err := journal.Of(t.Context(), e.db, r.ID, running.WholeRun)
	require.NoError(t, err)
	require.Equal(t, "kept 18", entry.Notes[0].Message)
	require.Equal(t, 20, w.count("select count(*) from tide_level"))
}

// TestAScheduleStartsOnceForAllWorkers: by the clock, at its times, whichever workers look; when it is paused it
// starts nothing and what it missed comes as it says.
func TestAScheduleStartsOnceForAllWorkers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var passed atomic.Int64 // seconds since the clock was first read
	began := time.Now().Truncate(time.Second)
	clock := Options{Now: func() time.Time { return began.Add(time.Duration(passed.Load()) * time.Second) }}
	w.start(clock)
	w.start(clock)
	text := "flow: Ticking\ntrigger: {kind: schedule, cron: '* * * * * *', missed: none}\nsteps:\n  - {step: note, id: n, text: '\"tick\"'}\n"
	w.add("ticking", map[string]string{"flows/ticking.yaml": text})
	w.add("beside", map[string]string{"flows/beside.yaml": strings.Replace(text, "Ticking", "Beside", 1)})
	ticks := func(flow string) int {
		runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Flow: flow, Most: 100})
		require.NoError(t, err)
		return len(runs)
	}
	for _, flow := range []string{"ticking", "beside"} {
		testkit.Until(t, "the first time of "+flow, func() (store.Trigger, bool) {
			state, err := store.TriggerOf(t.Context(), w.db, testkit.Skerry, flow)
			return state, err == nil && state.NextAt.After(began)
		})
	}
	second := func(flows ...string) {
		before := map[string]int{}
		for _, flow := range flows {
			before[flow] = ticks(flow)
		}
		passed.Add(1)
		for _, flow := range flows {
			testkit.Until(t, "a tick of "+flow, func() (int, bool) { n := ticks(flow); return n, n > before[flow] })
		}
	}
	for range 4 {
		second("ticking", "beside")
	}
	require.NoError(t, store.Pause(t.Context(), w.db, testkit.Skerry, "ticking", "mo", "the clock is mended"))
	second("beside") // the flow beside it is looked at together with it
	second("beside")
	require.Equal(t, []int{4, 6}, []int{ticks("ticking"), ticks("beside")}, "one for each second, whoever looked, and none while it is paused")
	require.NoError(t, store.Unpause(t.Context(), w.db, testkit.Skerry, "ticking"))
	second("ticking", "beside")
}

// TestRunsWaitForTheirTurn: of the runs with one key one is under way, in their order; those with other keys do not
// wait for it.
func TestRunsWaitForTheirTurn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{Workers: 8})
	w.add("turns", map[string]string{"flows/turns.yaml": `
flow: Turns
trigger: {kind: person, input: sign-up}
one per: input.kiosk
reference: input.card
steps:
  - {step: wait, id: w, seconds: 'input.name == "slow" ? 1 : 0'}
  - ` + upsertMember + "\n"})
	slow := w.begin("turns", card("T1", "slow"))
	second := w.begin("turns", card("T1", "quick"))
	var elsewhere map[string]string
	require.NoError(t, json.Unmarshal(card("T2", "quick"), &elsewhere))
	elsewhere["kiosk"] = "K2"
	text, err := json.Marshal(elsewhere)
	require.NoError(t, err)
	beside := w.over(w.begin("turns", text))
	require.Equal(t, store.Done, beside.State)
	first, last := w.over(slow), w.over(second)
	require.True(t, last.StartedAt.After(*first.EndedAt), "the second began %s, the first ended %s", last.StartedAt, first.EndedAt)
	require.True(t, beside.EndedAt.Before(*first.EndedAt))
	require.Equal(t, 1, w.count("select count(*) from kiosk_member where card = 'T1' and name = 'quick'"), "the last one wrote last")
}
