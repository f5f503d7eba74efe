package engine

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/store"
)

// Answered is what steps without a run came to.
type Answered struct {
	Message value.Value // absent where there is none
	Reply   *running.Reply
}

// Unanswered is why steps without a run came to nothing.
type Unanswered struct {
	Refused bool // by a step that stops, or for what the request holds
	Slow    bool // a system did not answer in time
	Fault   *fault.Fault
}

// Error says what was at fault.
func (u *Unanswered) Error() string { return u.Fault.Error() }

// Unwrap is that fault.
func (u *Unanswered) Unwrap() error { return u.Fault }

// Direct does the steps of a way for a call with a body; nothing of it is recorded. The error is a *Rejected where the request is at
// fault, or an *Unanswered.
func (e *Engine) Direct(ctx context.Context, s store.Scope, c *Call, body []byte) (Answered, error) {
	a := c.asked
	a.Path, a.Body = filledPath(c.Way.In.Flow.Trigger.Path.Value, c.Values), body
	b, err := e.begun(ctx, c.Way.In, a)
	if err != nil {
		return Answered{}, err
	}
	return e.doSteps(ctx, s, c.Way.In, b)
}

// DirectBack does the steps behind a backend with the body of its response; it is read as the steps take it, and nil where they take none.
func (e *Engine) DirectBack(ctx context.Context, s store.Scope, c *Call, body []byte) (Answered, error) {
	plan := c.Way.Back
	query, headers := plan.KeptRequest(c.asked.Query, c.asked.Headers)
	b := triggers.Start{RequestValue: running.RequestOf(c.asked.Method, filledPath(plan.Flow.Trigger.Path.Value, c.Values), nil, query, headers)}
	if plan.Input != nil {
		v, faults := readBody(plan.Input, body, nil)
		if len(faults) > 0 {
			return Answered{}, &Unanswered{Fault: faults[0]}
		}
		b.Value = v
	}
	out, err := e.doSteps(ctx, s, plan, b)
	var un *Unanswered
	if errors.As(err, &un) {
		un.Refused = false // the caller's part of it is over
	}
	return out, err
}

func (e *Engine) doSteps(ctx context.Context, s store.Scope, plan *running.Plan, b triggers.Start) (Answered, error) {
	whole := plan.RunItem(running.Facts{ID: uuid.Must(uuid.NewV7()).String(), Started: value.Instant(e.now()), Request: b.RequestValue}, b.Value)
	batch := &running.Batch{Plan: plan, Systems: e.outside.Of(s), Attempt: 1}
	err := batch.Pass(ctx, plan.Head, whole)
	var own *fault.Fault
	switch {
	case err != nil && ctx.Err() != nil && !errors.Is(context.Cause(ctx), context.Canceled):
		return Answered{}, &Unanswered{Slow: true, Fault: fault.New(fault.Outside, "the system did not answer in time")}
	case errors.As(err, &own):
		return Answered{}, &Unanswered{Fault: own}
	case err != nil:
		return Answered{}, &Unanswered{Fault: fault.New(fault.Outside, "%s", err)}
	case whole.State == running.SetAside:
		return Answered{}, &Unanswered{Refused: theirs(plan, whole), Fault: whole.Faults[0]}
	case whole.State == running.Skipped:
		return Answered{}, &Unanswered{Refused: theirs(plan, whole), Fault: fault.New(fault.Stopped, "%s", whole.Reason)}
	}
	return Answered{batch.Answer, batch.Reply}, nil
}

// theirs says whether an item left before any system was asked: for what the caller sent, then.
func theirs(plan *running.Plan, it *running.Item) bool {
	for _, ps := range plan.Steps {
		if ps.Op != nil {
			return plan.Order[it.Step] < plan.Order[ps.Step.ID]
		}
	}
	return true
}
