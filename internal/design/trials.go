package design

import (
	"context"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/store"
)

// maxTyped bounds what is kept for test runs of a flow, in bytes.
const maxTyped = 256 << 10

// TypeTry keeps what test runs of a flow begin with; nothing is what its samples say.
func (d Designer) TypeTry(ctx context.Context, plan *running.Plan, with trial.TriedWith) error {
	if len(with.Message)+len(with.Address)+len(with.Headers) > maxTyped {
		return fault.New(fault.Limit, "more than 256 KB are not kept for a try").WithFix("Keep it as a sample with its schema")
	}
	if plan.Flow.Trigger.Of().Requests && !with.Empty() {
		if _, ft := with.Request(plan); ft != nil {
			return ft
		}
	}
	return store.SaveTestInput(ctx, d.DB, d.Scope, plan.Flow.ID, with)
}

// ChooseCallMode says what test runs do about a step that reaches a system.
func (d Designer) ChooseCallMode(ctx context.Context, stepKey string, m trial.CallMode) error {
	if !slices.Contains(trial.Manners, m) {
		return store.ErrNotFound
	}
	return store.SetCallMode(ctx, d.DB, d.Scope, stepKey, m)
}

// KeepRecordedCalls keeps what systems answered in a test run, to be replayed.
func (d Designer) KeepRecordedCalls(ctx context.Context, calls []trial.RecordedCall) error {
	return store.SaveRecordedCall(ctx, d.DB, d.Scope, calls)
}

// Release makes the draft of a flow, with all that it needs, the release that new runs take. It gives its number.
func (d Designer) Release(ctx context.Context, flowID, note string) (int, error) {
	return d.Engine.CreateRelease(ctx, d.Scope, flowID, note, d.Person)
}
