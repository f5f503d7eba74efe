package flow

import (
	"context"
	"errors"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Plan is a compiled flow. It is immutable and shared.
type Plan struct {
	Flow       *Flow
	Source     *schema.Schema   // of the records that are read
	ReadStep   *Step            // the step that reads them
	Reference  *formula.Program // over run; nil when the flow has none
	Steps      []*PlannedStep   // that every record passes, in order
	Scope      *formula.Scope   // after the last step
	Tables     []string         // that the flow's own formulas look into
	Functions  []string         // of libraries that they use, as library.name
	Faults     fault.List
	Asks       *Asking                 // what its records are read with, where they are an operation's answer
	Operations []*connection.Operation // that the flow asks for
	Poll       *Asking                 // the same for a trigger that looks for new records
	order      map[string]int
}

// PlannedStep is one step with the shapes around it.
type PlannedStep struct {
	Step    *Step
	Before  []Named // what is in scope when it begins
	Result  *Named  // what it adds
	Faults  fault.List
	Mapping *mapping.Plan         // of a map step
	File    *FileTarget           // of a write step
	Op      *connection.Operation // of a call
	effect  bool                  // writes to an outside system
	outside bool                  // reaches an outside system
	run     runner
}

// Named is a name in scope with the shape of its value and its slot.
type Named struct {
	Name   string
	Schema *schema.Schema
	Slot   int
}

// runner runs one step for a batch. Its error means that the whole batch must be tried again.
type runner func(ctx context.Context, b *Batch, items []*Item) error

type compiler struct {
	flow  *Flow
	parts Parts
	plan  *Plan
	scope *formula.Scope
	named []Named
	cur   *PlannedStep
	inner bool // inside an each
}

// RunSlot is the slot of the run's facts in every item.
const RunSlot = 0

// Compile checks a flow and works out the shape of the data after every step. The plan can be
// drawn whatever its faults; it can be run only when it has none.
func (f *Flow) Compile(parts Parts) *Plan {
	p := &Plan{Flow: f, order: map[string]int{}}
	c := &compiler{flow: f, parts: parts, plan: p, scope: parts.Formulas().Scope()}
	c.scope.Define("run", formula.Type{Kind: value.RecordKind, Fields: mapping.Run})
	c.named = []Named{{Name: "run", Schema: &schema.Schema{Root: mapping.Run}}}
	c.trigger()
	c.steps(f.Steps)
	if p.ReadStep == nil && len(f.Steps) > 0 {
		c.fault(f.At, fault.New(fault.Required, "the flow reads nothing").Mended("Begin with a read step"))
	}
	p.Scope = c.scope
	return p
}

// triggers are the checks of the kinds of trigger.
var triggers = map[string]func(c *compiler, t Trigger){
	"file": func(c *compiler, t Trigger) {
		if conn := c.parts.Connection(t.Connection.Value); conn == nil {
			c.fault(t.Connection, fault.New(fault.Unknown, "there is no connection %q", t.Connection.Value))
		} else if k := connection.KindOf(conn.Kind); k == nil || !k.Watches {
			c.fault(t.Connection, fault.Expect(fault.Setting, "a connection to a folder", conn.Kind))
		}
		if strings.ContainsAny(t.Mask.Value, `/\`) {
			c.fault(t.Mask, fault.Expect(fault.Setting, "a mask for file names, as *.tide", fault.Quote(t.Mask.Value)))
		}
	},
	"records": func(c *compiler, t Trigger) {
		op := c.operation(t.Operation, t.Connection.Value, t.Operation.Value)
		if op == nil {
			return
		}
		if !op.Verb.Reads || op.Response == nil {
			c.fault(t.Operation, fault.New(fault.Setting, "%s gives no records that are described", op.Name).Mended("Choose an operation that reads, with a response schema"))
			return
		}
		if op.Response.Root.Field(t.Rising.Value) == nil {
			c.fault(t.Rising, fault.New(fault.Unknown, "%s has no field %q", op.Response.ID, t.Rising.Value))
			return
		}
		outer := c.scope
		c.scope = c.parts.Formulas().Scope()
		c.scope.Define("rising", formula.Type{Kind: op.Response.Root.Field(t.Rising.Value).Kind, Maybe: true})
		c.plan.Poll = c.asking(t.At, op, "", t.With)
		c.scope = outer
	},
	"schedule": func(*compiler, Trigger) {},
	"person":   func(*compiler, Trigger) {},
}

func (c *compiler) trigger() {
	if check := triggers[c.flow.Trigger.Kind]; check != nil {
		check(c, c.flow.Trigger)
	}
	if c.flow.Reference.Value == "" {
		return
	}
	c.plan.Reference = c.formula(c.flow.Reference)
}

// fault notes a fault at a text of the part; a formula's fault keeps its column.
func (c *compiler) fault(at doc.Text, f *fault.Fault) {
	column := f.Place.Column
	f.Place = c.flow.doc.Place(at)
	if column > 1 {
		f.Place.Column += column - 1
	}
	if c.cur != nil {
		f.Place.Step = c.cur.Step.ID
		c.cur.Faults = append(c.cur.Faults, f)
	}
	c.plan.Faults = append(c.plan.Faults, f)
}

func (c *compiler) steps(steps []*Step) {
	for _, s := range steps {
		k := kindOf(s.Kind)
		if k == nil {
			continue
		}
		outer, ps := c.cur, &PlannedStep{Step: s, Before: append([]Named(nil), c.named...)}
		c.plan.order[s.ID] = len(c.plan.Steps)
		c.plan.Steps = append(c.plan.Steps, ps)
		c.cur, ps.effect, ps.outside = ps, k.Effect, k.Outside
		ps.run = k.compile(c, s)
		if len(ps.Faults) > 0 {
			ps.run = ps.refuse
		}
		c.cur = outer
	}
}

// refuse lets no record through a step that has faults, so that a try shows what comes before it.
func (ps *PlannedStep) refuse(_ context.Context, _ *Batch, items []*Item) error {
	for _, it := range items {
		if it.State == Live {
			f := *ps.Faults[0]
			it.State, it.Step, it.Faults = SetAside, ps.Step.ID, fault.List{&f}
		}
	}
	return nil
}

// define adds a step's result to the scope.
func (c *compiler) define(s *Step, setting string, sch *schema.Schema) int {
	name := s.Setting(setting)
	if _, _, taken := c.scope.Slot(name); taken {
		c.fault(s.place(setting), fault.New(fault.Setting, "the name %q is taken already", name))
	}
	slot := c.scope.Define(name, formula.Type{Kind: value.RecordKind, Fields: sch.Root})
	n := Named{Name: name, Schema: sch, Slot: slot}
	c.named = append(c.named, n)
	c.cur.Result = &n
	return slot
}

func (c *compiler) formula(at doc.Text) *formula.Program {
	prog, faults := formula.Compile(at.Value, c.scope)
	for _, f := range faults {
		c.fault(at, f)
	}
	if prog != nil {
		c.plan.Tables, c.plan.Functions = append(c.plan.Tables, prog.Tables...), append(c.plan.Functions, prog.Libraries...)
	}
	return prog
}

func (c *compiler) schema(s *Step, setting string) *schema.Schema {
	id := s.Setting(setting)
	if sch := c.parts.Schema(id); sch != nil {
		return sch
	}
	if id != "" {
		c.fault(s.place(setting), fault.New(fault.Unknown, "there is no schema %q", id))
	}
	return &schema.Schema{ID: id, Root: schema.Record(id)}
}

// tables checks that a step's connection has tables.
func (c *compiler) tables(s *Step) {
	id := s.Setting("connection")
	conn := c.parts.Connection(id)
	switch {
	case id == "":
	case conn == nil:
		c.fault(s.place("connection"), fault.New(fault.Unknown, "there is no connection %q", id))
	case connection.KindOf(conn.Kind) == nil || !connection.KindOf(conn.Kind).Tables:
		c.fault(s.place("connection"), fault.Expect(fault.Setting, "a connection to a database", conn.Kind))
	}
}

// perRecord refuses a step that works on records where there are none yet.
func (c *compiler) perRecord(s *Step) {
	if !c.inner {
		c.fault(s.At, fault.New(fault.Setting, "this step works on one record").Mended("Put it inside an each"))
	}
}

// State is how far a record has come.
type State string

// The states of a record.
const (
	Live     State = "live"
	LeftOut  State = "left out"
	SetAside State = "set aside"
	Done     State = "done"
)

// Item is one record on its way through the steps.
type Item struct {
	Record int // its position in the message, from 0
	Frame  formula.Frame
	Place  fault.Place
	Raw    string
	State  State
	Step   string // where it left the way, when it did
	Reason string // why it was left out
	Faults fault.List
	Notes  fault.List // of fields and entries that a map step left out
	Effect Effect
}

// Batch runs a number of records through all steps together.
type Batch struct {
	Plan      *Plan
	Outside   Outside
	Counts    map[string]*Counts
	Collected []Collected // records for files, in their order
	live      []*Item     // those that have not left the way
	next      int         // the step that they come to
}

// Counts are the records at one step.
type Counts struct {
	In        int `json:"in"`
	Out       int `json:"out"`
	LeftOut   int `json:"left_out"`
	SetAside  int `json:"set_aside"`
	Inserted  int `json:"inserted,omitempty"`
	Updated   int `json:"updated,omitempty"`
	Unchanged int `json:"unchanged,omitempty"`
	Called    int `json:"called,omitempty"`
}

// Add sums two counts.
func (c *Counts) Add(o *Counts) {
	c.In += o.In
	c.Out += o.Out
	c.LeftOut += o.LeftOut
	c.SetAside += o.SetAside
	c.Inserted += o.Inserted
	c.Updated += o.Updated
	c.Unchanged += o.Unchanged
	c.Called += o.Called
}

func (it *Item) aside(step string, faults ...*fault.Fault) {
	it.State, it.Step = SetAside, step
	for _, f := range faults {
		f.Place.Step = step
		if f.Place.Line == 0 {
			path := f.Place.Path
			f.Place = it.Place
			f.Place.Path, f.Place.Step = path, step
		}
		it.Faults = append(it.Faults, f)
	}
}

// ErrStop is returned when a record's fault must stop the run.
var ErrStop = errors.New("stopped at the first fault")

// Prepare passes the items through the steps before the first that reaches an outside system.
// Batches of one message can be prepared at the same time; then they are run in their order.
func (b *Batch) Prepare(ctx context.Context, items []*Item) error {
	b.Counts = map[string]*Counts{}
	b.live = append(make([]*Item, 0, len(items)), items...)
	for b.next < len(b.Plan.Steps) && !b.Plan.Steps[b.next].outside {
		if err := b.step(ctx, items); err != nil {
			return err
		}
	}
	return nil
}

// Run passes the items through every step, or those that are left after Prepare. Afterwards each
// is Done, LeftOut or SetAside. When it returns an error nothing of the batch counts: it is tried
// again as a whole.
func (b *Batch) Run(ctx context.Context, items []*Item) error {
	if b.Counts == nil {
		if err := b.Prepare(ctx, items); err != nil {
			return err
		}
	}
	for b.next < len(b.Plan.Steps) {
		if err := b.step(ctx, items); err != nil {
			return err
		}
	}
	for _, it := range b.live {
		it.State = Done
	}
	return nil
}

// step runs the next step.
func (b *Batch) step(ctx context.Context, items []*Item) error {
	ps := b.Plan.Steps[b.next]
	b.next++
	counts := &Counts{In: len(b.live)}
	b.Counts[ps.Step.ID] = counts
	if err := ps.run(ctx, b, b.live); err != nil {
		return err
	}
	b.live = ps.sort(b.live[:0], b.live, counts)
	if counts.SetAside > 0 && ps.Step.Setting("on fault") == "stop" {
		return b.stop(ps, items)
	}
	return nil
}

func (b *Batch) stop(ps *PlannedStep, items []*Item) error {
	for _, it := range items {
		if it.State == SetAside && it.Step == ps.Step.ID {
			return &Stop{Fault: it.Faults[0]}
		}
	}
	return ErrStop
}

// Stop is the fault at which a run was told to stop.
type Stop struct{ Fault *fault.Fault }

// Error is the fault's text.
func (s *Stop) Error() string { return s.Fault.Error() }

// sort counts what became of the items and appends those that go on to kept.
func (ps *PlannedStep) sort(kept, items []*Item, counts *Counts) []*Item {
	live := kept
	for _, it := range items {
		switch it.State {
		case LeftOut:
			counts.LeftOut++
		case SetAside:
			counts.SetAside++
		default:
			counts.Out++
			live = append(live, it)
		}
		if ps.effect && it.State != SetAside {
			counts.effect(it)
		}
	}
	return live
}

func (c *Counts) effect(it *Item) {
	switch it.Effect {
	case Inserted:
		c.Inserted++
	case Updated:
		c.Updated++
	case Unchanged:
		c.Unchanged++
	case Called:
		c.Called++
	}
}

// Planned finds a step of the plan by id; nil when it has none.
func (p *Plan) Planned(id string) *PlannedStep {
	if i, ok := p.order[id]; ok {
		return p.Steps[i]
	}
	return nil
}

// Passed says whether an item came as far as a step.
func (p *Plan) Passed(it *Item, id string) bool {
	if it.Step == "" || it.State == Done {
		return true
	}
	return p.order[id] <= p.order[it.Step]
}

// RunFacts makes the value of run.
func RunFacts(id, file, reference string, line int, started value.Value) value.Value {
	ref := value.Value{}
	if reference != "" {
		ref = value.Str(reference)
	}
	return value.Rec(mapping.Run.Shape(), []value.Value{value.Str(file), value.Int(int64(line)), started, value.Str(id), ref})
}

// ReferenceOf works out a run's reference; the file's name where the flow has no formula for it.
func (p *Plan) ReferenceOf(run value.Value) string {
	if p.Reference != nil {
		fr := &formula.Frame{Slots: []value.Value{run}}
		if v, f := p.Reference.Eval(fr); f == nil && !v.Missing() {
			return v.String()
		}
	}
	return run.Field("file").String()
}
