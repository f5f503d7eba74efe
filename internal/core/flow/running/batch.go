package running

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/value"
)

// Batch runs a number of records through all steps together.
type Batch struct {
	Plan        *Plan
	Systems     Systems
	Runtime     Runtime
	Attempt     int // how often this was tried, this time included
	Counts      map[string]*Counts
	Collected   []Collected // records for files, in their order
	References  []Reference
	Published   []Published
	Events      []Event
	Answer      value.Value   // of the run, where a step gave one
	Reply       *Reply        // how an HTTP request is answered, where a step says so
	Totals      *Totals       // of the run so far
	Compensated []Compensated // what was taken back
	Stopped     *Stopped      // where the run is to stop: the records before that one are done
	Trace       Tracer        // told how long steps take; nil: nobody is
	Watcher     Watcher       // told where the items are; nil: nobody is
	Memory      *Memory       // that comes back when the batch is over; nil: it does not
	CallStack   []string      // the steps that have called this flow, as flow/step, for who watches
	beside      *beside
	live        []*Item // those that have not left the way
	next        int     // the step that they come to
}

// Reference is a business key by which a run is found.
type Reference struct {
	Record int
	Text   string
}

// Event is something that a step tells.
type Event struct {
	Step   string
	Record int
	Text   string
	Fault  *fault.Fault
}

// Stopped is the item at which a run was told to stop.
type Stopped struct {
	Record int
	Fault  *fault.Fault // nil where it stops without one
}

// Totals are the values that tally steps carry from record to record, by step.
type Totals struct {
	sync.Mutex
	Values map[string]value.Value
}

// Counts are the records at one step.
type Counts struct {
	In        int           `json:"in"`
	Out       int           `json:"out"`
	Skipped   int           `json:"left_out"`
	SetAside  int           `json:"set_aside"`
	Inserted  int           `json:"inserted,omitempty"`
	Updated   int           `json:"updated,omitempty"`
	Unchanged int           `json:"unchanged,omitempty"`
	Called    int           `json:"called,omitempty"`
	Collected int           `json:"collected,omitempty"` // for files, which are written when the run ends
	Caught    int           `json:"caught,omitempty"`    // failed, and the attempt around deals with it
	Duration  time.Duration `json:"took,omitempty"`      // of all its batches, the steps inside it among them
	Blank     int           `json:"blank,omitempty"`     // lines that were skipped, of a step that reads

	// Ignored are the fields that were passed over because the schema of a step that reads lacks them: how often, by path. No more
	// than maxIgnored of them; the others stand under MoreIgnored.
	Ignored map[string]int `json:"ignored,omitempty"`
}

// Add sums two counts.
func (c *Counts) Add(o *Counts) {
	c.In += o.In
	c.Out += o.Out
	c.Skipped += o.Skipped
	c.SetAside += o.SetAside
	c.Inserted += o.Inserted
	c.Updated += o.Updated
	c.Unchanged += o.Unchanged
	c.Called += o.Called
	c.Collected += o.Collected
	c.Caught += o.Caught
	c.Duration += o.Duration
	c.Blank += o.Blank
	if len(o.Ignored) > 0 {
		c.Ignored = maps.Clone(c.Ignored) // counts are copied and added up again where recording them failed
		for path, n := range o.Ignored {
			c.ignore(path, n)
		}
	}
}

// Prepare passes the items through the steps before the first that reaches an outside system or
// holds other steps. Batches of one message can be prepared at the same time; then they are run in
// their order.
func (b *Batch) Prepare(ctx context.Context, items []*Item) error {
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	b.live = append(make([]*Item, 0, len(items)), items...)
	for b.next < len(b.Plan.Body) && b.Plan.Body[b.next].concurrent() {
		if err := b.body(ctx); err != nil {
			return err
		}
	}
	return nil
}

// concurrent says whether a step may be done for a batch while the one before it is under way.
func (ps *PlannedStep) concurrent() bool {
	return ps.Kind.Concurrent && (!ps.Kind.Loops || ps.Inside == nil)
}

// Run passes the items through every step of the body, or those that are left after Prepare. Afterwards each
// is Done, Skipped or SetAside, save for those behind the one at which the run stops. When it returns an error
// nothing of the batch counts: it is tried again as a whole.
func (b *Batch) Run(ctx context.Context, items []*Item) error {
	if b.live == nil {
		if err := b.Prepare(ctx, items); err != nil {
			return err
		}
	}
	for b.next < len(b.Plan.Body) {
		if err := b.body(ctx); err != nil {
			return err
		}
	}
	return b.finish(b.live)
}

// RunFrom passes items that have come to a step of the body through it and those behind it.
func (b *Batch) RunFrom(ctx context.Context, step string, items []*Item) error {
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	b.live = make([]*Item, 0, len(items))
	for _, it := range items {
		if it.State == Live {
			b.live = append(b.live, it)
		}
	}
	b.next = slices.IndexFunc(b.Plan.Body, func(ps *PlannedStep) bool { return ps.Step.ID == step })
	return b.Run(ctx, items)
}

// body runs the next step of the body.
func (b *Batch) body(ctx context.Context) (err error) {
	ps := b.Plan.Body[b.next]
	b.next++
	if ps.Kind.Loops && ps.Inside == nil && b.Plan.streams(ps) {
		c := b.counts(ps)
		c.In, c.Out = c.In+len(b.live), c.Out+len(b.live)
		return nil
	}
	b.live, err = b.step(ctx, ps, b.live)
	return err
}

// Forgets says whether no step of the body keeps anything of a record once its batch is over.
func (p *Plan) Forgets() bool {
	return !slices.ContainsFunc(p.Body, func(ps *PlannedStep) bool { return !ps.Kind.Forgets || ps.Kind.Loops && ps.Inside != nil })
}

// Forgotten says whether nothing of the items of a batch is kept by anything else, so that their memory can be used again; its
// plan must be one that forgets.
func (b *Batch) Forgotten(items []*Item) bool {
	if b.Memory == nil || b.Collected != nil || b.References != nil || b.Published != nil || b.Events != nil || b.Answer.Kind() != value.Absent || b.Stopped != nil {
		return false
	}
	return !slices.ContainsFunc(items, func(it *Item) bool { return !it.Over() })
}

// Rewind lets the batch begin anew, with the items that Run is given next.
func (b *Batch) Rewind() { b.live, b.next = nil, 0 }

// Pass takes the run as a whole through steps of its head or tail.
func (b *Batch) Pass(ctx context.Context, steps []*PlannedStep, whole *Item) error {
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	live, err := b.Advance(ctx, steps, []*Item{whole})
	if err != nil {
		return err
	}
	return b.finish(live)
}

func (b *Batch) finish(live []*Item) error {
	if beside := b.beside; beside != nil {
		b.beside = nil
		if err := beside.wait(b); err != nil {
			return err
		}
	}
	for _, it := range live {
		it.State = Done
	}
	return nil
}

// Advance takes items through a sequence and gives those that are still on the way.
func (b *Batch) Advance(ctx context.Context, steps []*PlannedStep, live []*Item) ([]*Item, error) {
	var err error
	for _, ps := range steps {
		if live, err = b.step(ctx, ps, live); err != nil {
			return nil, err
		}
	}
	return live, nil
}

// counts finds a step's counts.
func (b *Batch) counts(ps *PlannedStep) *Counts {
	c := b.Counts[ps.Step.ID]
	if c == nil {
		c = &Counts{}
		b.Counts[ps.Step.ID] = c
	}
	return c
}

// step runs one step and gives the items that go on. The list of items is used for them.
func (b *Batch) step(ctx context.Context, ps *PlannedStep, live []*Item) ([]*Item, error) {
	counts := b.counts(ps)
	if ps.Step.Disabled || len(live) == 0 {
		return live, nil
	}
	if b.Watcher != nil {
		if err := b.Watcher.Before(b, ps, live); err != nil {
			return nil, err
		}
	}
	counts.In += len(live)
	began := b.now()
	if err := b.traced(ctx, ps, live); err != nil {
		return nil, err
	}
	counts.Duration += b.now().Sub(began)
	if b.Watcher != nil {
		if err := b.Watcher.After(b, ps, live); err != nil {
			return nil, err
		}
	}
	aside := counts.SetAside
	first := ps.FirstAside(live)
	on := ps.sort(live[:0], live, counts)
	if counts.SetAside > aside && first != nil && !ps.Caught && ps.Step.Setting("on fault") == "stop" {
		b.StopAt(first.Root().Record, first.Faults[0])
	}
	return b.before(on), nil
}

// Tracer is told when steps begin; what it gives is called when they end.
type Tracer interface {
	Begin(ctx context.Context, ps *PlannedStep, items int) (context.Context, func(error))
}

// now is the time by the clock of the runtime; always the same where there is none.
func (b *Batch) now() time.Time {
	if b.Runtime == nil {
		return time.Time{}
	}
	return b.Runtime.Now()
}

// traced does a step, and tells how long it takes.
func (b *Batch) traced(ctx context.Context, ps *PlannedStep, items []*Item) error {
	if b.Trace == nil {
		return ps.do(ctx, b, items)
	}
	ctx, end := b.Trace.Begin(ctx, ps, len(items))
	err := ps.do(ctx, b, items)
	end(err)
	return err
}

// StopAt notes where the run is to stop.
func (b *Batch) StopAt(record int, f *fault.Fault) {
	if b.Stopped == nil || record < b.Stopped.Record {
		b.Stopped = &Stopped{Record: record, Fault: f}
	}
}

// before keeps the items before the one at which the run stops.
func (b *Batch) before(live []*Item) []*Item {
	if b.Stopped == nil {
		return live
	}
	kept := live[:0]
	for _, it := range live {
		if it.Root().Record < b.Stopped.Record {
			kept = append(kept, it)
		}
	}
	return kept
}

// sort counts what became of the items and appends those that go on to kept.
func (ps *PlannedStep) sort(kept, items []*Item, counts *Counts) []*Item {
	live := kept
	for _, it := range items {
		switch it.State {
		case Skipped:
			counts.Skipped++
		case SetAside:
			if ps.Caught {
				counts.Caught++
			} else {
				counts.SetAside++
			}
		case Ended:
			counts.Out++
		default:
			counts.Out++
			live = append(live, it)
		}
		if ps.Kind.Effect && it.State != SetAside {
			counts.effect(it.EffectOf(ps.Step.ID))
		}
	}
	return live
}

func (c *Counts) effect(e Effect) {
	switch e {
	case Inserted:
		c.Inserted++
	case Updated:
		c.Updated++
	case Unchanged:
		c.Unchanged++
	case Called:
		c.Called++
	case ForFile:
		c.Collected++
	}
}

// Fork is a batch for work beside others; Join adds what it did.
func (b *Batch) Fork() *Batch {
	return &Batch{Plan: b.Plan, Systems: b.Systems, Runtime: b.Runtime, Attempt: b.Attempt, Totals: b.Totals, Trace: b.Trace, Watcher: b.Watcher, CallStack: b.CallStack, Counts: map[string]*Counts{}}
}

// Join adds what a fork of the batch has done.
func (b *Batch) Join(o *Batch) {
	for id, c := range o.Counts {
		if b.Counts[id] == nil {
			b.Counts[id] = &Counts{}
		}
		b.Counts[id].Add(c)
	}
	b.Collected = append(b.Collected, o.Collected...)
	b.References = append(b.References, o.References...)
	b.Published = append(b.Published, o.Published...)
	b.Events = append(b.Events, o.Events...)
	b.Compensated = append(b.Compensated, o.Compensated...)
	if o.Answer.Kind() != value.Absent {
		b.Answer = o.Answer
	}
	if o.Reply != nil {
		b.Reply = o.Reply
	}
	if o.Stopped != nil {
		b.StopAt(o.Stopped.Record, o.Stopped.Fault)
	}
}

// do runs the step within its time limit. Inside a Try step, a step whose last attempt fails sets its items aside, so that the Try
// step can deal with them.
func (ps *PlannedStep) do(ctx context.Context, b *Batch, items []*Item) error {
	err := ps.limited(ctx, b, items)
	var failed *Failed
	var waiting *Waiting
	var final *fault.Fault
	var halted *Halt
	switch {
	case err == nil, errors.As(err, &waiting), errors.As(err, &halted), errors.As(err, &failed), errors.As(err, &final) && final.Code == fault.Setting, ctx.Err() != nil:
		return err
	}
	failed = &Failed{Step: ps, Err: err}
	if !ps.Caught || b.Attempt < failed.Attempts(StandardTries) {
		return failed
	}
	for _, it := range items { // each by itself: some may be done already
		if it.State != Live {
			continue
		}
		if err := ps.limited(ctx, b, []*Item{it}); err != nil {
			if ctx.Err() != nil {
				return err
			}
			it.Aside(ps.Step.ID, fault.New(fault.Outside, "cannot be reached, tried %d times: %s", b.Attempt, err).InField(ps.Step.Name))
		}
	}
	return nil
}

func (ps *PlannedStep) limited(ctx context.Context, b *Batch, items []*Item) error {
	if ps.Policy.limit == 0 {
		return ps.Run(ctx, b, items)
	}
	inner, cancel := context.WithTimeout(ctx, ps.Policy.limit)
	defer cancel()
	err := ps.Run(inner, b, items)
	if err != nil && ctx.Err() == nil && inner.Err() != nil {
		err = errors.New("it took longer than " + ps.Policy.limit.String())
	}
	return err
}

// Planned finds a step of the plan by id; nil when it has none.
func (p *Plan) Planned(id string) *PlannedStep {
	if i, ok := p.Order[id]; ok {
		return p.Steps[i]
	}
	return nil
}

// HasReached says whether an item came as far as a step: its result is there, or it left the way there or behind it.
func (p *Plan) HasReached(it *Item, id string) bool {
	if it.Step == "" || it.State == Done {
		return true
	}
	return p.Order[id] <= p.Order[it.Step]
}

// RunFacts makes the value of run.
func RunFacts(id, file, reference string, line int, started value.Value) value.Value {
	ref := value.Value{}
	if reference != "" {
		ref = value.NewText(reference)
	}
	return value.NewRecord(mapping.Run.Layout(), []value.Value{value.NewText(file), value.Int(int64(line)), started, value.NewText(id), ref})
}

// RunItem makes the item that is the run as a whole. The input is absent where there is none.
func (p *Plan) RunItem(facts Facts, input value.Value) *Item {
	it := &Item{Record: WholeRun, State: Live, Place: fault.Place{Source: facts.File}}
	it.Frame.Slots = make([]value.Value, p.Slots)
	it.Frame.Slots[RunSlot] = RunFacts(facts.ID, facts.File, facts.Reference, 0, facts.Started)
	it.Frame.Slots[InputSlot], it.Frame.Slots[RequestSlot] = input, p.RequestValue(facts.Request)
	if facts.Request.Kind() == value.Absent && p.Channel != nil {
		it.Frame.Slots[RequestSlot] = TriedMessage(p.Channel, facts.Started)
	} else if facts.Request.Kind() == value.Absent {
		it.Frame.Slots[RequestSlot] = p.RequestValue(TriedRequest(p.Flow.Trigger, nil, value.Value{}))
	}
	return it
}

// OrderingKeyOf works out in which lane a run waits for others; empty where it waits for none.
func (p *Plan) OrderingKeyOf(run, input, request value.Value) string {
	if p.OnePer == nil {
		return ""
	}
	v, f := p.OnePer.Eval(&formula.Frame{Slots: []value.Value{run, input, p.RequestValue(request)}})
	if f != nil {
		return ""
	}
	return fault.Printable(v.String())
}

// ReferenceOf works out a run's reference; the file's name where the flow has no formula for it.
func (p *Plan) ReferenceOf(run, input, request value.Value) string {
	if p.Reference != nil {
		fr := &formula.Frame{Slots: []value.Value{run, input, p.RequestValue(request)}}
		if v, f := p.Reference.Eval(fr); f == nil && !v.IsMissing() {
			return fault.Printable(v.String())
		}
	}
	return run.Field("file").String()
}

// BranchTaken is a branch that an item was led to, counted from 0.
type BranchTaken struct {
	Step  string `json:"step"`
	Track int    `json:"track"`
}
