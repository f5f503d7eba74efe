package flows

import (
	"context"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
)

// Exchange is what a step says to its system for an item: as it was said, or as it would be.
type Exchange struct {
	Title, About string
	Why          string // nothing can be shown; empty where it can
	Turns        []running.Turn
}

// After is the heading of what stands below it.
func (x *Exchange) After() string { return "What the flow goes on with" }

// ExchangeOf shows what a step that calls an operation sends for an item; nil for other steps, and for an item that did not
// come to it.
func ExchangeOf(ctx context.Context, e *engine.Engine, s store.Scope, plan *running.Plan, ps *running.PlannedStep, it *running.Item) *Exchange {
	if ps == nil || ps.RequestBuilder == nil || ps.Step.Disabled || !plan.HasReached(it, ps.Step.ID) || !Reached(plan, it, ps) {
		return nil
	}
	if turns := it.TurnsAt(ps.Step.ID); turns != nil {
		return &Exchange{Title: "What was sent and answered", About: "on the wire; secrets masked", Turns: turns}
	}
	x := &Exchange{Title: "What would be sent", About: "secrets masked"}
	if it.EffectOf(ps.Step.ID) == running.Called {
		x.Title, x.About = "What is sent with these values", "made anew; the exchange itself was not kept"
	}
	turn, err := e.Tries.Preview(ctx, s, plan.Flow.ID, ps, it)
	switch {
	case err != nil:
		x.Why = "The request cannot be made: " + err.Error()
	case turn == nil:
		return nil
	default:
		x.Turns = []running.Turn{*turn}
	}
	return x
}
