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
	Halt   *flow.Halt   // where it was halted; nil where it was not
	batch  *flow.Batch
	how    How
}

// How is what a try does.
type How struct {
	Choices map[StepOf]flow.Manner // of steps that reach a system, where it is not the usual one
	Heard   *flow.Recording        // what systems answered before; nil: nothing
	Asks    bool                   // somebody has asked for this try: what is to be done really is done
	Watch   flow.Watcher           // nil: nobody watches
	Record  int                    // from 1: the only one that is tried; 0: all
	At      time.Time              // that it is for the steps; zero: now
	Replays bool                   // what was heard before is taken for all steps
}

// StepOf names a step of a flow.
type StepOf struct{ Flow, Step string }

// Usual is what a try does about a step where nothing else is chosen: it reads really and changes nothing.
func Usual(effect bool) flow.Manner {
	if effect {
		return flow.NotAtAll
	}
	return flow.Really
}

func (h How) chosen(f, step string, effect bool) flow.Manner {
	if c, ok := h.Choices[StepOf{f, step}]; ok {
		return c
	}
	return Usual(effect)
}

// outside is how a try reaches systems. A page is drawn by a try that nobody has asked for: then a step that is done
// really, and changes something, shows what it answered when somebody did.
func (h How) outside(inner flow.Outside) *flow.Recorder {
	r := &flow.Recorder{Inner: inner, Dry: &flow.Dry{}, Heard: h.Heard}
	r.Choose = func(f, step string, effect bool) flow.Manner {
		c := h.chosen(f, step, effect)
		if effect && c == flow.Really && !h.Asks {
			return flow.NotAtAll
		}
		return c
	}
	if !h.Replays {
		r.Again = func(f, step string) bool {
			c := h.chosen(f, step, true)
			return c == flow.Remembered || c == flow.Really && !h.Asks && h.Choices[StepOf{f, step}] != ""
		}
	}
	return r
}

// Try runs a draft on a sample. Look-ups are done really and what would be written is not, unless something else is
// chosen for a step.
func (e *Engine) Try(ctx context.Context, p *project.Project, flowID, sample string, how How) *Trial {
	t := &Trial{Sample: sample, how: how}
	plan := p.Flow(flowID)
	if plan == nil {
		t.Fault = fault.New(fault.Setting, "there is no flow %q", flowID)
		return t
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if how.Heard == nil {
		how.Heard = &flow.Recording{}
	}
	if how.At.IsZero() {
		how.At = time.Now()
	}
	at := how.At.UTC().Truncate(time.Second)
	facts := flow.Facts{ID: "try", File: sample, Reference: sample, Started: value.Instant(at), Request: p.TriedRequest(plan)}
	outside := how.outside(e.outside)
	house := &flow.DryHouse{Outside: outside, Plan: p.Flow, At: at, Facts: facts, Watch: how.Watch, Secrets: e.outside.Secret}
	t.batch = &flow.Batch{Plan: plan, Outside: outside, Try: 1, Totals: &flow.Totals{}, House: house, Watch: how.Watch}
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
		t.ended(err)
		return
	}
	if plan.ReadStep == nil || t.Fault != nil || t.Whole.State != flow.Done {
		return
	}
	if plan.Source == nil {
		t.Fault = fault.New(fault.Setting, "the flow reads nothing yet")
		return
	}
	t.read(ctx, p, plan, facts)
	if t.Fault != nil || t.Halt != nil {
		return
	}
	plan.Tallied(t.Whole, t.batch.Totals.Values)
	t.Whole.State = flow.Live
	if err := t.batch.Pass(ctx, plan.Tail, t.Whole); err != nil {
		t.ended(err)
	}
}

// ended notes why a try was not done to its end.
func (t *Trial) ended(err error) {
	if !errors.As(err, &t.Halt) {
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
	items := t.Items
	if n := t.how.Record; n > 0 && n <= len(items) {
		items = items[n-1 : n]
	}
	if err := t.batch.Run(ctx, items); err != nil {
		t.ended(err)
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
