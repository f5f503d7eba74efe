package engine

import (
	"context"
	"errors"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
)

// MaxTried is how many records of a sample a try takes.
const MaxTried = 1000

// Trial is what a try of a draft did with a sample: every record of every step.
type Trial struct {
	Sample string
	Items  []*flow.Item
	Counts map[string]*flow.Counts
	More   bool         // the sample has more records than were tried
	Fault  *fault.Fault // why it could not be tried to the end
}

// readOnly looks up really and writes nothing.
type readOnly struct {
	flow.Outside
	dry flow.Dry
}

func (r *readOnly) Upsert(ctx context.Context, u flow.Upsert, rows []value.Value) ([]flow.Written, error) {
	return r.dry.Upsert(ctx, u, rows)
}

// Call asks only for what changes nothing.
func (r *readOnly) Call(ctx context.Context, c flow.Call, requests []value.Value) ([]flow.Answered, error) {
	if c.Op.Verb.Effect {
		return r.dry.Call(ctx, c, requests)
	}
	return r.Outside.Call(ctx, c, requests)
}

// Try runs a draft on a sample: look-ups are done really, what would be written is not.
func (e *Engine) Try(ctx context.Context, p *project.Project, flowID, sample string) *Trial {
	t := &Trial{Sample: sample}
	plan := p.Flow(flowID)
	if plan == nil || plan.Source == nil {
		t.Fault = fault.New(fault.Setting, "the flow reads nothing yet")
		return t
	}
	r, err := p.OpenSample(plan.Source, sample, false)
	if err != nil {
		t.Fault = fault.From(err, fault.Setting)
		return t
	}
	src := flow.NewSource(plan, r, flow.Facts{ID: "try", File: sample, Reference: sample, Started: value.Instant(time.Now().UTC().Truncate(time.Second))})
	t.Items, err = src.Batch(MaxTried)
	if err != nil {
		t.Fault = flow.Empty(sample)
		if !flow.AtEnd(err) {
			t.Fault = fault.From(err, fault.Syntax)
		}
		return t
	}
	if len(t.Items) == MaxTried {
		_, err := src.Batch(1)
		t.More = err == nil
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	b := &flow.Batch{Plan: plan, Outside: &readOnly{Outside: e.outside}}
	if err := b.Run(ctx, t.Items); err != nil {
		t.Fault = tryFault(err)
	}
	t.Counts = b.Counts
	return t
}

func tryFault(err error) *fault.Fault {
	var f *fault.Fault
	var stop *flow.Stop
	switch {
	case errors.As(err, &stop):
		return stop.Fault
	case errors.As(err, &f):
		return f
	}
	return fault.New(fault.Outside, "an outside system cannot be reached: %s", plainError(err)).
		Mended("The steps before it are shown; start the system and try again")
}
