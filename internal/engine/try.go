package engine

import (
	"context"
	"errors"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
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
	Asks    bool                   // somebody has asked for this try: systems are read, and what is to be done really is done
	Reads   bool                   // systems are read, and nothing is done
	Watch   flow.Watcher           // nil: nobody watches
	Record  int                    // from 1: the only one that is tried; 0: all
	At      time.Time              // that it is for the steps; zero: now
	Keeps   bool                   // what is made up is kept among what was heard, and what flows that are called have answered
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

// asks says whether a step is asked now. A page is drawn by a try that nobody has asked for: it reaches no system, and shows
// what was answered when somebody did.
func (h How) asks(effect bool) bool { return h.Asks || h.Reads && !effect }

// outside is how a try reaches systems.
func (h How) outside(inner flow.Outside, p *project.Project) *flow.Recorder {
	dry := &flow.Dry{Rows: func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, MaxTried) }, Asks: "Press Try with sample (Ctrl Enter) to ask"}
	r := &flow.Recorder{Inner: inner, Dry: dry, Heard: h.Heard, All: h.Keeps, At: h.At, Checks: h.Asks}
	r.Choose = func(f, step string, effect bool) flow.Manner {
		c := h.chosen(f, step, effect)
		if c == flow.Really && !h.asks(effect) {
			return flow.NotAtAll
		}
		return c
	}
	if !h.Replays {
		r.Again = func(f, step string, effect bool) bool {
			c := h.chosen(f, step, effect)
			return c == flow.Remembered || c == flow.Really && !h.asks(effect)
		}
	}
	return r
}

// Try runs a draft on a sample. What would be written is not, unless something else is chosen for a step; systems are read
// when somebody asks for it, and otherwise what they answered then is taken.
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
	facts := flow.Facts{ID: "try", File: sample, Started: value.Instant(at), Request: p.TriedRequest(plan)}
	input, err := t.input(p, plan)
	if err != nil {
		t.Fault = fault.From(err, fault.Setting)
		return t
	}
	facts.Reference = plan.ReferenceOf(flow.RunFacts(facts.ID, facts.File, "", 0, facts.Started), input, facts.Request)
	outside := how.outside(e.outside, p)
	house := &flow.DryHouse{Outside: outside, Plan: p.Flow, At: at, Facts: facts, Watch: how.Watch, Secrets: e.outside.Secret}
	if how.Keeps {
		house.Heard = how.Heard
	}
	t.batch = &flow.Batch{Plan: plan, Outside: outside, Try: 1, Totals: &flow.Totals{}, House: house, Watch: how.Watch}
	t.run(ctx, p, plan, flow.Playing{Facts: facts, Input: input, Most: MaxTried, Only: how.Record})
	t.Counts = t.batch.Counts
	return t
}

// run takes the sample through the flow.
func (t *Trial) run(ctx context.Context, p *project.Project, plan *flow.Plan, m flow.Playing) {
	if plan.Source != nil {
		m.Open = func() (notation.Reader, error) { return p.OpenSample(plan.Source, t.Sample, false) }
	}
	played, err := t.batch.Play(ctx, m)
	t.Whole, t.Items, t.More = played.Whole, played.Items, played.More
	if t.Halt = flow.Halted(err); err != nil && t.Halt == nil {
		t.Fault = tryFault(err)
	}
	if s := t.batch.Stopped; s != nil && t.Fault == nil {
		t.Fault = s.Fault
	}
}

// input is the message with which the try begins: the sample, or the first one of the input's schema.
func (t *Trial) input(p *project.Project, plan *flow.Plan) (value.Value, error) {
	if plan.Input == nil {
		return value.Value{}, nil
	}
	if plan.ReadStep == nil && t.Sample != "" {
		r, err := p.OpenSample(plan.Input, t.Sample, false)
		if err != nil {
			return value.Value{}, err
		}
		return r.Next()
	}
	return p.Example(plan.Input)
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
