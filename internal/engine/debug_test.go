package engine

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// draft is the project as it is drafted.
func (w *world) draft() *project.Project {
	w.t.Helper()
	texts, _, err := store.Texts(w.t.Context(), w.db, "skerry")
	require.NoError(w.t, err)
	p := project.Load("skerry", texts)
	require.Empty(w.t, p.Faults)
	return p
}

// haltedAt is the step before which a session is halted.
func haltedAt(k *tries.DebugSession) string {
	if k.Test.Halt == nil {
		return "end"
	}
	s := k.Test.Halt.Step
	if k.Test.Halt.Failed {
		s += " failed"
	}
	return s
}

// TestADraftIsSteppedThrough: over, into, on to marks, to a fault, back; with a changed value; and with settings that were
// changed meanwhile. Rows are really looked up, and nothing is written.
func TestADraftIsSteppedThrough(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	ctx, p := t.Context(), w.draft()
	k, err := e.Tries.StartDebug(ctx, p, flowID, "sk_0309.tide", 1, tries.TestOptions{})
	require.NoError(t, err)
	go_ := func(move, to string) string {
		require.NoError(t, e.Tries.Advance(ctx, p, k, move, to))
		return haltedAt(k)
	}
	require.Equal(t, "read", haltedAt(k))
	require.Equal(t, "keep", go_("over", ""))
	require.Equal(t, "find", go_("into", ""))
	require.Equal(t, "upsert", go_("to", flowID+"/upsert"))
	slot := p.Flow(flowID).Planned("find").Result.Slot
	require.Equal(t, "SK04", k.Test.Halt.Item.Frame.Slots[slot].Field("gauge_code").Text(), "really looked up")
	require.Equal(t, "map", go_("back", ""))
	require.Equal(t, "end", go_("on", ""))
	require.Zero(t, w.count("select count(*) from tide_level"))
	require.Equal(t, "keep", go_("back to", flowID+"/keep"))

	require.Nil(t, e.Tries.Change(ctx, p, k, "reading.gauge", `"XX99"`))
	require.Equal(t, "keep", haltedAt(k))
	require.Equal(t, "XX99", k.Test.Halt.Item.Frame.Slots[p.Flow(flowID).Record].Field("gauge").Text())
	require.Equal(t, "find failed", go_("on", ""))
	require.Contains(t, k.Test.Halt.Item.Faults[0].What(), "XX99")
	require.Contains(t, e.Tries.Change(ctx, p, k, "reading.level_cm", `"many"`).What(), "expected")
	require.Equal(t, "find failed", haltedAt(k), "what cannot be changed changes nothing")

	require.Equal(t, "read", go_("back to", flowID+"/read"))
	require.Empty(t, k.Changes, "the change is behind it")
	k.SetBreakpoint(tries.StepRef{Flow: flowID, Step: "map"}, true, `reading.gauge == "nowhere"`)
	require.Equal(t, "end", go_("on", ""))
	k.SetBreakpoint(tries.StepRef{Flow: flowID, Step: "map"}, true, `reading.gauge == "SK04"`)
	go_("back to", flowID+"/read")
	require.Equal(t, "map", go_("on", ""))

	go_("back to", flowID+"/keep")
	w.change("flows/gauge-readings.yaml", `where: trend == "R" and level_cm > 0`, `where: trend == "never"`)
	p = w.draft()
	require.Equal(t, "keep", go_("again", ""))
	require.Equal(t, "end", go_("on", ""))
	require.Equal(t, running.Skipped, k.Test.Items[0].State)
	require.NotNil(t, e.Tries.DebugSessionByID(k.ID))
}

// TestAnEffectIsDoneInATryWhenItIsChosen: once when somebody asks for it; the page then shows what was answered; stepping
// through does it once however often it goes back.
func TestAnEffectIsDoneInATryWhenItIsChosen(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	ctx, p := t.Context(), w.draft()
	really := map[tries.StepRef]trial.CallMode{{Flow: flowID, Step: "upsert"}: trial.Live}
	rows := func() int { return w.count("select count(*) from tide_level_write") }
	heard := &trial.Recording{}
	tried := e.Tries.RunTest(ctx, p, flowID, "sk_0309.tide", tries.TestOptions{Choices: really, Recording: heard})
	require.Equal(t, running.NotDone, tried.Items[0].Effects[0].Effect)
	require.Zero(t, rows())
	tried = e.Tries.RunTest(ctx, p, flowID, "sk_0309.tide", tries.TestOptions{Choices: really, Recording: heard, Requested: true})
	require.Nil(t, tried.Fault)
	n := rows()
	require.Positive(t, n)
	require.NoError(t, store.SaveRecordedCall(ctx, w.db, testkit.Skerry, heard.All()))
	kept, err := store.RecordedCalls(ctx, w.db, testkit.Skerry, flowID)
	require.NoError(t, err)
	require.Len(t, kept.All(), len(heard.All()))
	tried = e.Tries.RunTest(ctx, p, flowID, "sk_0309.tide", tries.TestOptions{Choices: really, Recording: kept})
	require.Equal(t, running.Inserted, tried.Items[0].Effects[0].Effect, "as it was answered")
	w.ledger.Exec(ctx, "delete from tide_level_write")

	_, err = w.ledger.Exec(ctx, "delete from tide_level")
	require.NoError(t, err)
	k, err := e.Tries.StartDebug(ctx, p, flowID, "sk_0309.tide", 1, tries.TestOptions{Choices: really})
	require.NoError(t, err)
	for range 3 {
		require.NoError(t, e.Tries.Advance(ctx, p, k, "on", ""))
		require.NoError(t, e.Tries.Advance(ctx, p, k, "back", ""))
	}
	require.Equal(t, 1, rows())
	remembered := map[tries.StepRef]trial.CallMode{{Flow: flowID, Step: "find"}: trial.Replayed}
	require.Contains(t, e.Tries.RunTest(ctx, p, flowID, "sk_0309.tide", tries.TestOptions{Choices: remembered}).Fault.What(), "no answer is remembered")
	require.Nil(t, e.Tries.RunTest(ctx, p, flowID, "sk_0309.tide", tries.TestOptions{Choices: remembered, Recording: kept}).Fault)
}

// TestAFaultBehindBlanksNothingBefore: where a system that a later step asks is away, what came into the steps before it and
// out of them is there, with its counts.
func TestAFaultBehindBlanksNothingBefore(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.setLedger(false)
	tried := e.Tries.RunTest(t.Context(), w.draft(), flowID, "sk_0309.tide", tries.TestOptions{Requested: true})
	require.NotNil(t, tried.Fault)
	require.NotEmpty(t, tried.Items)
	require.Positive(t, tried.Counts["keep"].In)
	require.Positive(t, tried.Counts["keep"].Out)
	plan := w.draft().Flow(flowID)
	reading := plan.Planned("keep").Before[len(plan.Planned("keep").Before)-1]
	require.Equal(t, "SK04", tried.Items[0].Frame.Slots[reading.Slot].Field("gauge").String())
}
