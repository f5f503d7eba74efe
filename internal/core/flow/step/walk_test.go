package step

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/value"
)

// stepped takes a sailing through a flow until it is halted.
func stepped(t *testing.T, d *desk, plan *running.Plan, w *trial.Walk, rec *trial.Recording, out running.Systems) (*running.Item, *running.Halt) {
	t.Helper()
	require.Empty(t, plan.Faults)
	at := time.Date(2031, 3, 9, 6, 0, 0, 0, time.UTC)
	facts := running.Facts{ID: "r1", Started: value.Instant(at)}
	o := &trial.Recorder{Inner: out, Dry: &trial.Dry{}, Recording: rec, CallMode: func(_, _ string, effect bool) trial.CallMode { return trial.Live }}
	runtime := &trial.DryRuntime{Systems: o, At: at, Facts: facts, Plan: func(id string) *running.Plan { return d.flows[id] }, Watcher: w}
	b := &running.Batch{Plan: plan, Systems: o, Runtime: runtime, Attempt: 1, Watcher: w, Totals: &running.Totals{}}
	whole := plan.RunItem(facts, value.NewRecord(d.schemas["booking"].Root.Layout(), []value.Value{value.NewText("A"), value.Int(2)}))
	err := b.Pass(t.Context(), plan.Head, whole)
	var h *running.Halt
	if !errors.As(err, &h) {
		require.NoError(t, err)
	}
	return whole, h
}

const walked = `
flow: Walked
trigger: {kind: person, input: booking, as: booking}
steps:
  - {step: set, id: s, values: {list: '[1, 2]', more: booking.pax + 1}}
  - step: each
    id: e
    of: list
    as: n
    steps:
      - {step: set, id: double, values: {twice: n * 2}, as: doubled}
      - {step: call, id: ask, connection: desk, operation: note, with: {number: booking.number, count: twice}, as: noted}
  - step: attempt
    id: try
    steps: [{step: check, id: sure, value: booking, schema: sailing}]
    on fault: [{step: note, id: failed, text: fault.text}]
  - {step: flow, id: f, flow: inner, from: booking, as: said}
  - {step: note, id: end, text: 'text(more) + " " + said.number'}
`

const innerWalked = "flow: Inner\ntrigger: {kind: called, input: booking, output: booking, as: b}\nsteps:\n  - {step: answer, id: a, with: {number: '\"in \" + b.number', pax: b.pax}}\n"

func walkers(t *testing.T) (*desk, *running.Plan) {
	d := parts(t)
	d.flows = map[string]*running.Plan{"inner": compiledText(t, d, "inner", innerWalked)}
	return d, compiledText(t, d, "walked", walked)
}

func onwards(running.Stop, *running.Item, *running.PlannedStep) bool { return false }

func halting(n int) func(running.Stop, *running.Item, *running.PlannedStep) bool {
	return func(s running.Stop, _ *running.Item, _ *running.PlannedStep) bool { return s.N == n }
}

// TestAWalkPassesEveryStep: in steps, in flows that are called, entry by entry, and behind a step that failed.
func TestAWalkPassesEveryStep(t *testing.T) {
	d, plan := walkers(t)
	w := &trial.Walk{Halts: onwards}
	whole, h := stepped(t, d, plan, w, &trial.Recording{}, &told{})
	require.Nil(t, h)
	require.Equal(t, "3 in A", whole.Notes[len(whole.Notes)-1].Message)
	var trace []string
	for _, s := range w.Trace {
		text := strings.Repeat(">", len(s.CallStack)) + s.Flow + "." + s.Step
		if s.Path != "" {
			text += "[" + s.Path + "]"
		}
		if s.Failed {
			text += "!"
		}
		trace = append(trace, text)
	}
	require.Equal(t, []string{
		"walked.s", "walked.e", ">walked.double[0]", ">walked.ask[0]", ">walked.double[1]", ">walked.ask[1]",
		"walked.try", ">walked.sure", ">walked.sure!", ">walked.failed", "walked.f", ">inner.a", "walked.end",
	}, trace)
}

// TestAWalkHaltsAndGoesOnWithChangedValues: from the start each time, with what was heard before, so that nothing is asked
// twice; a later halt sees what an earlier change has led to.
func TestAWalkHaltsAndGoesOnWithChangedValues(t *testing.T) {
	d, plan := walkers(t)
	out, rec := &told{}, &trial.Recording{}
	_, h := stepped(t, d, plan, &trial.Walk{Halts: halting(4)}, rec, out)
	require.Equal(t, "double", h.Step)
	require.Equal(t, "1", h.Path)
	require.Len(t, out.numbers, 1, "the second call is not reached")
	changes := []trial.Change{{N: 1, Name: "values.more", Formula: "40"}, {N: 6, Name: "more", Formula: "41"}, {N: 4, Name: "n", Formula: "n + 5"}, {N: 12, Name: "said.number", Formula: `"changed"`}}
	whole, h := stepped(t, d, plan, &trial.Walk{Changes: changes, Halts: onwards}, rec, out)
	require.Nil(t, h)
	require.Equal(t, "41 changed", whole.Notes[len(whole.Notes)-1].Message)
	require.Len(t, out.numbers, 2, "the first was heard before")
	require.Equal(t, int64(14), whole64(out.requests[0].Field("count").Int64()))
	require.Len(t, rec.All(), 2)

	for name, want := range map[string]string{"nothing": "there is no value", "run.id": "there is no value", "booking.pax": "expected integer, found text", "booking.nothing": "nothing"} {
		w := &trial.Walk{Changes: []trial.Change{{N: 1, Name: name, Formula: `"x"`}}, Halts: onwards}
		_, h := stepped(t, d, plan, w, rec, out)
		require.Equal(t, 1, h.N, name)
		require.Contains(t, w.Bad.What(), want, name)
	}
	w := &trial.Walk{Changes: []trial.Change{{N: 1, Name: "booking.pax", Formula: "7"}}, Halts: halting(2)}
	_, h = stepped(t, d, plan, w, rec, out)
	require.Equal(t, int64(7), whole64(h.Item.Frame.Slots[running.InputSlot].Field("pax").Int64()))
}

func whole64(n int64, _ bool) int64 { return n }

// TestAnswersAreRememberedOrMadeUp: as is chosen for each step.
func TestAnswersAreRememberedOrMadeUp(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, "- {step: call, id: ask, connection: desk, operation: note, with: {number: number, count: pax}, as: noted}\n", "")
	out, rec := &told{}, &trial.Recording{}
	how := trial.Live
	var asked []trial.RecordedRequest
	o := &trial.Recorder{Inner: out, Dry: &trial.Dry{}, Recording: rec, CallMode: func(string, string, bool) trial.CallMode { return how }, OnRequest: func(q trial.RecordedRequest) { asked = append(asked, q) }}
	run := func(bookings ...string) *journey {
		j := fly(t, d, plan, nil, "x:1")
		j.items = nil
		for i, b := range bookings {
			it := &running.Item{Record: i, State: running.Live}
			it.Frame.Slots = make([]value.Value, plan.Slots)
			it.Frame.Slots[plan.Record] = value.NewRecord(d.schemas["booking"].Root.Layout(), []value.Value{value.NewText(b), value.Int(1)})
			j.items = append(j.items, it)
		}
		b := &running.Batch{Plan: plan, Systems: o, Runtime: j.batch.Runtime, Attempt: 1}
		j.err = b.Run(t.Context(), j.items)
		return j
	}
	require.Equal(t, "done, set aside", run("a", "refused").states())
	require.Len(t, out.numbers, 2)
	how = trial.Replayed
	j := run("a", "refused", "new")
	require.Equal(t, "done, set aside, set aside", j.states())
	require.Equal(t, "a", j.result(0, "ask").Field("number").Text())
	require.Contains(t, j.items[2].Faults[0].What(), "no answer is remembered")
	require.Len(t, out.numbers, 2, "nobody was asked")
	how = trial.Simulated
	require.Equal(t, "done, set aside, done", run("a", "refused", "new").states())
	require.Len(t, out.numbers, 2)
	require.Len(t, asked, 8)
	require.Equal(t, `{"number":"a","count":1}`, asked[0].Asked)
}
