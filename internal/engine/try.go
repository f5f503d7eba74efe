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
	Whole  *flow.Item // the run as a whole
	Items  []*flow.Item
	Counts map[string]*flow.Counts
	More   bool         // the sample has more records than were tried
	Fault  *fault.Fault // why it could not be tried to the end
	batch  *flow.Batch
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
	if plan == nil {
		t.Fault = fault.New(fault.Setting, "there is no flow %q", flowID)
		return t
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	at := time.Now().UTC().Truncate(time.Second)
	facts := flow.Facts{ID: "try", File: sample, Reference: sample, Started: value.Instant(at), Request: p.TriedRequest(plan)}
	outside := &readOnly{Outside: e.outside}
	t.batch = &flow.Batch{Plan: plan, Outside: outside, Try: 1, Totals: &flow.Totals{}, House: &flow.DryHouse{Outside: outside, Plan: p.Flow, At: at, Facts: facts}}
	t.run(ctx, p, plan, facts)
	t.Counts = t.batch.Counts
	return t
}

// run does the head, the records of the sample and the tail.
func (t *Trial) run(ctx context.Context, p *project.Project, plan *flow.Plan, facts flow.Facts) {
	of := plan.Source
	if plan.ReadStep == nil {
		of = plan.Input
	}
	input := value.Value{}
	if plan.Input != nil {
		rows, err := p.SampleRecords(plan.Input, 1)
		if err == nil && len(rows) > 0 {
			input = rows[0]
		}
		if plan.ReadStep == nil && t.Sample != "" {
			r, err := p.OpenSample(of, t.Sample, false)
			if err == nil {
				input, err = r.Next()
			}
			if err != nil {
				t.Fault = fault.From(err, fault.Setting)
				return
			}
		}
	}
	t.Whole = plan.Whole(facts, input)
	if err := t.batch.Pass(ctx, plan.Head, t.Whole); err != nil {
		t.Fault = tryFault(err)
	}
	if plan.ReadStep == nil || t.Fault != nil || t.Whole.State != flow.Done {
		return
	}
	if plan.Source == nil {
		t.Fault = fault.New(fault.Setting, "the flow reads nothing yet")
		return
	}
	t.read(ctx, p, plan, facts)
	if t.Fault != nil {
		return
	}
	plan.Tallied(t.Whole, t.batch.Totals.Values)
	t.Whole.State = flow.Live
	if err := t.batch.Pass(ctx, plan.Tail, t.Whole); err != nil {
		t.Fault = tryFault(err)
	}
}

func (t *Trial) read(ctx context.Context, p *project.Project, plan *flow.Plan, facts flow.Facts) {
	r, err := p.OpenSample(plan.Source, t.Sample, false)
	if err != nil {
		t.Fault = fault.From(err, fault.Setting)
		return
	}
	src := flow.NewSource(plan, r, facts).Within(t.Whole)
	t.Items, err = src.Batch(MaxTried)
	if err != nil {
		t.Fault = flow.Empty(t.Sample)
		if !flow.AtEnd(err) {
			t.Fault = fault.From(err, fault.Syntax)
		}
		return
	}
	if len(t.Items) == MaxTried {
		_, err := src.Batch(1)
		t.More = err == nil
	}
	if err := t.batch.Run(ctx, t.Items); err != nil {
		t.Fault = tryFault(err)
	}
	if s := t.batch.Stopped; s != nil {
		t.Fault = s.Fault
	}
}

func tryFault(err error) *fault.Fault {
	var f *fault.Fault
	switch {
	case errors.As(err, &f):
		return f
	}
	return fault.New(fault.Outside, "an outside system cannot be reached: %s", plainError(err)).
		Mended("The steps before it are shown; start the system and try again")
}
