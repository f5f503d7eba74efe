package tries

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
)

// MaxTried is how many records of a sample a try takes.
const MaxTried = 1000

// TestRun is what a try of a draft did with a sample: every record of every step.
type TestRun struct {
	Sample string
	Whole  *running.Item // the run as a whole
	Items  []*running.Item
	Counts map[string]*running.Counts
	More   bool          // the sample has more records than were tried
	Fault  *fault.Fault  // why it could not be tried to the end
	Halt   *running.Halt // where it was halted; nil where it was not
	MadeUp bool          // the message with which it begins is made up: no sample is kept, and nobody has typed one
	batch  *running.Batch
	how    TestOptions
}

// TestOptions is what a try does.
type TestOptions struct {
	Choices     map[StepRef]trial.CallMode // of steps that reach a system, where it is not the usual one
	Recording   *trial.Recording           // what systems answered before; nil: nothing
	Requested   bool                       // somebody has asked for this try: systems are read, and what is to be done really is done
	ReadSystems bool                       // systems are read, and nothing is done
	Watcher     running.Watcher            // nil: nobody watches
	Record      int                        // from 1: the only one that is tried; 0: all
	At          time.Time                  // that it is for the steps; zero: now
	RecordAll   bool                       // what is made up is kept among what was heard, and what flows that are called have answered
	Replay      bool                       // what was heard before is taken for all steps
	With        *trial.TriedWith           // what somebody has typed in place of a sample; nil: nothing
}

// StepRef names a step of a flow.
type StepRef struct{ Flow, Step string }

// DefaultCallMode is what a try does about a step where nothing else is chosen: it reads really and changes nothing.
func DefaultCallMode(effect bool) trial.CallMode {
	if effect {
		return trial.Simulated
	}
	return trial.Live
}

func (h TestOptions) chosen(f, step string, effect bool) trial.CallMode {
	if c, ok := h.Choices[StepRef{f, step}]; ok {
		return c
	}
	return DefaultCallMode(effect)
}

// asks says whether a step is asked now. A page is drawn by a try that nobody has asked for: it reaches no system, and shows
// what was answered when somebody did.
func (h TestOptions) asks(effect bool) bool { return h.Requested || h.ReadSystems && !effect }

// outside is how a try reaches systems.
func (h TestOptions) outside(inner running.Systems, p *project.Project) *trial.Recorder {
	dry := &trial.Dry{Rows: func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, MaxTried) }, Hint: "Press Try with sample (Ctrl Enter) to ask"}
	r := &trial.Recorder{Inner: inner, Dry: dry, Recording: h.Recording, All: h.RecordAll, At: h.At, Checks: h.Requested}
	r.CallMode = func(f, step string, effect bool) trial.CallMode {
		c := h.chosen(f, step, effect)
		if c == trial.Live && !h.asks(effect) {
			return trial.Simulated
		}
		return c
	}
	if !h.Replay {
		r.Repeat = func(f, step string, effect bool) bool {
			c := h.chosen(f, step, effect)
			return c == trial.Replayed || c == trial.Live && !h.asks(effect)
		}
	}
	return r
}

// RunTest runs a draft on a sample. What would be written is not, unless something else is chosen for a step; systems are read
// when somebody asks for it, and otherwise what they answered then is taken.
func (e *Tries) RunTest(ctx context.Context, p *project.Project, flowID, sample string, how TestOptions) *TestRun {
	t := &TestRun{Sample: sample, how: how}
	plan := p.Flow(flowID)
	if plan == nil {
		t.Fault = fault.New(fault.Setting, "there is no flow %q", flowID)
		return t
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if how.Recording == nil {
		how.Recording = &trial.Recording{}
	}
	if how.At.IsZero() {
		how.At = time.Now()
	}
	at := how.At.UTC().Truncate(time.Second)
	facts := running.Facts{ID: "try", File: sample, Started: value.Instant(at)}
	var ft *fault.Fault
	if facts.Request, ft = t.request(p, plan); ft != nil {
		t.Fault = ft
		return t
	}
	input, err := t.input(p, plan)
	if err != nil {
		t.Fault = fault.From(err, fault.Setting)
		return t
	}
	facts.Reference = plan.ReferenceOf(running.RunFacts(facts.ID, facts.File, "", 0, facts.Started), input, facts.Request)
	real := e.outside.Of(store.Scope{Project: p.ID, Environment: e.env})
	outside := how.outside(real, p)
	runtime := &trial.DryRuntime{Systems: outside, Plan: p.Flow, At: at, Facts: facts, Watcher: how.Watcher, Secrets: real.Secret, Randomness: rand.Reader}
	if how.RecordAll {
		runtime.Recording = how.Recording
	}
	t.batch = &running.Batch{Plan: plan, Systems: outside, Attempt: 1, Totals: &running.Totals{}, Runtime: runtime, Watcher: how.Watcher}
	t.run(ctx, p, plan, trial.PlayOptions{Facts: facts, Input: input, Most: MaxTried, Only: how.Record})
	t.Counts = t.batch.Counts
	return t
}

// run takes the sample through the flow.
func (t *TestRun) run(ctx context.Context, p *project.Project, plan *running.Plan, m trial.PlayOptions) {
	if plan.Source != nil {
		m.Ignored = &notation.Ignored{}
		m.Open = func() (notation.Reader, error) { return p.OpenSample(plan.Source, t.Sample, false, m.Ignored) }
	}
	played, err := trial.Play(ctx, t.batch, m)
	t.Whole, t.Items, t.More = played.Whole, played.Items, played.More
	if t.Halt = trial.Halted(err); err != nil && t.Halt == nil {
		t.Fault = tryFault(err)
	}
	if s := t.batch.Stopped; s != nil && t.Fault == nil {
		t.Fault = s.Fault
	}
}

// request is the HTTP request with which the try begins: as it was typed, or one that is made of samples. It is refused where
// a caller would be.
func (t *TestRun) request(p *project.Project, plan *running.Plan) (value.Value, *fault.Fault) {
	if !plan.Flow.Trigger.Of().Requests || t.how.With.Empty() {
		return p.TriedRequest(plan), nil
	}
	request, ft := t.how.With.Request(plan)
	if ft != nil {
		return request, ft
	}
	if _, faults := plan.Parameters(request); len(faults) > 0 {
		return request, fault.New(fault.Required, "the caller would be answered 422: %s", faults[0].What())
	}
	return request, nil
}

// input is the message with which the try begins: what was typed, the sample, or the first one of the input's schema. One
// that does not fit is a fault: its values would only be absent.
func (t *TestRun) input(p *project.Project, plan *running.Plan) (value.Value, error) {
	if plan.Input == nil {
		return value.Value{}, nil
	}
	name, text := "what was typed", ""
	sch := plan.Input
	switch {
	case !t.how.With.Empty() && (t.how.With.Message != "" || t.how.With.Came):
		text = t.how.With.Message
		if !plan.Flow.Trigger.Of().Requests {
			sch = plan.Input.As(json.Kind.Notation)
		}
	case plan.ReadStep == nil && t.Sample != "":
		name, text = t.Sample, p.Texts[project.Path(project.Samples, t.Sample)]
	case len(plan.Input.Samples) > 0:
		name, text = plan.Input.Samples[0], p.Texts[project.Path(project.Samples, plan.Input.Samples[0])]
	default:
		t.MadeUp = true
		return p.Example(plan.Input)
	}
	n, err := all.OfFile(name, sch)
	if err != nil {
		return value.Value{}, err
	}
	r, err := n.NewReader(strings.NewReader(text), notation.Options{Source: name, Schema: sch, Check: true})
	if err != nil {
		return value.Value{}, err
	}
	v, err := r.Next()
	var faults fault.List
	if errors.As(err, &faults) && len(faults) > 0 {
		return v, fault.New(fault.Setting, "%s does not fit %s: %s", name, plan.Input.Title, faults[0].What()).WithFix("Mend it, or type another message")
	}
	return v, err
}

func tryFault(err error) *fault.Fault {
	var f *fault.Fault
	switch {
	case errors.As(err, &f):
		return f
	}
	return fault.New(fault.Outside, "an outside system cannot be reached: %s", shared.PlainError(err)).
		WithFix("The steps before it are shown; start the system and try again")
}
