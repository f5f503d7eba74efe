package flow

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// runner runs one step for a batch. Its error means that the whole batch must be tried again.
type runner func(ctx context.Context, b *Batch, items []*Item) error

type compiler struct {
	flow     *Flow
	parts    Parts
	plan     *Plan
	scope    *formula.Scope
	named    []Named
	cur      *PlannedStep
	depth    int // of steps in steps
	streamed bool
	caught   bool
	nested   bool
	parallel bool
	slots    int // the most that a formula needs
}

// MaxDepth bounds steps in steps.
const MaxDepth = 40

// Compile checks a flow and works out the shape of the data after every step. The plan can be
// drawn whatever its faults; it can be run only when it has none. It goes over the flow twice: what
// formulas compute in between must stand behind all names, and how many there are is known at the end.
func (f *Flow) Compile(parts Parts) *Plan {
	return f.compile(parts, f.compile(parts, 0).Slots)
}

func (f *Flow) compile(parts Parts, reserve int) *Plan {
	p := &Plan{Flow: f, order: map[string]int{}, ends: map[string][]Named{}}
	c := &compiler{flow: f, parts: parts, plan: p, scope: parts.Formulas().Scope()}
	c.scope.Reserve(reserve)
	c.scope.Define("run", formula.Type{Kind: value.RecordKind, Fields: mapping.Run})
	c.named = []Named{recordOf("run", described("run", mapping.Run), RunSlot)}
	c.input()
	c.request()
	c.trigger()
	top := c.steps(f.Steps)
	p.ends[fmt.Sprint([]any{"steps"})] = c.named
	if len(f.Steps) > 0 && p.ReadStep == nil && f.Trigger.Of().Brings {
		c.fault(f.At, fault.New(fault.Required, "the flow does not read what starts it").Mended("Begin with a read step"))
	}
	c.promised()
	p.parts(top)
	p.Slots = max(c.scope.Size(), c.slots)
	p.keep()
	return p
}

// holidays says whether a day is among those of the trigger's table.
func (c *compiler) holidays(id doc.Text) func(date string) bool {
	if id.Value == "" {
		return nil
	}
	t := c.parts.Formulas().Table(id.Value)
	if t == nil {
		c.fault(id, fault.New(fault.Unknown, "there is no table %q", id.Value))
		return nil
	}
	c.plan.Tables = append(c.plan.Tables, id.Value)
	if len(t.Keys) != 1 {
		c.fault(id, fault.New(fault.Setting, "the table %s has not one key, the day", t.Title))
		return nil
	}
	return func(date string) bool {
		day, ok := schema.ParseScalar(t.Keys[0].Kind, date)
		return ok && t.Has([]value.Value{day})
	}
}

// input defines the message that a run begins with. It has its slot whether there is one or not.
func (c *compiler) input() {
	t := c.flow.Trigger
	c.plan.Input, c.plan.Output = c.contract(t.Input), c.contract(t.Output)
	if message := t.Of().message; message != nil {
		c.plan.Input = message(t)
	}
	if c.plan.Input == nil {
		c.scope.Take()
		return
	}
	slot := c.scope.Define(t.As, formula.Type{Kind: value.RecordKind, Fields: c.plan.Input.Root})
	c.scope.Open(t.As)
	c.named = append(c.named, recordOf(t.As, c.plan.Input, slot))
}

// request defines what a run knows of the HTTP request that has started it. It has its slot whether there is one or not.
func (c *compiler) request() {
	if !c.flow.Trigger.Of().Requests {
		c.scope.Take()
		return
	}
	c.plan.requested = Request
	if c.plan.Given = c.parameters(c.flow.Trigger); c.plan.Given != nil {
		c.plan.requested = schema.Record("request", append(ownFields(Request.Fields), c.plan.Given.Root)...)
	}
	slot := c.scope.Define("request", formula.Type{Kind: value.RecordKind, Fields: c.plan.requested})
	c.named = append(c.named, recordOf("request", described("request", c.plan.requested), slot))
}

func (c *compiler) contract(at doc.Text) *schema.Schema {
	if at.Value == "" {
		return nil
	}
	sch := c.parts.Schema(at.Value)
	if sch == nil {
		c.fault(at, fault.New(fault.Unknown, "there is no schema %q", at.Value))
	}
	return sch
}

func (c *compiler) trigger() {
	if c.flow.OnePer.Value != "" {
		c.plan.OnePer = c.formula(c.flow.OnePer)
	}
	if check := c.flow.Trigger.Of().check; check != nil {
		check(c, c.flow.Trigger)
	}
	if c.flow.Reference.Value != "" {
		c.plan.Reference = c.single(c.flow.Reference)
	}
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

// unknownConnection tells that there is no connection of a name; that none is named is told already.
func (c *compiler) unknownConnection(at doc.Text) {
	if at.Value != "" {
		c.fault(at, fault.New(fault.Unknown, "there is no connection %q", at.Value))
	}
}

// steps compiles a sequence. A step that is switched off is left out: it yields nothing.
func (c *compiler) steps(steps []*Step) []*PlannedStep {
	var list []*PlannedStep
	ended := ""
	if c.depth++; c.depth > MaxDepth {
		c.fault(c.flow.At, fault.New(fault.Limit, "steps stand in steps more than %d deep", MaxDepth))
		return nil
	}
	defer func() { c.depth-- }()
	for _, s := range steps {
		k := kindOf(s.Kind)
		if k == nil {
			continue
		}
		ps := c.planned(s, k, ended)
		list = append(list, ps)
		if k.Ends && !s.Off {
			ended = s.Name
		}
	}
	return list
}

func (c *compiler) planned(s *Step, k *Kind, ended string) *PlannedStep {
	ps := &PlannedStep{
		Step: s, Before: append([]Named(nil), c.named...), Inside: c.cur, Scope: c.scope, plan: c.plan, kind: k,
		caught: c.caught, nested: c.nested, parallel: c.parallel, run: pass, Faults: slices.Clone(s.Faults),
	}
	c.plan.order[s.ID] = len(c.plan.Steps)
	c.plan.Steps = append(c.plan.Steps, ps)
	outer := c.cur
	c.cur = ps
	defer func() { c.cur = outer }()
	if s.Off {
		ps.Tracks = make([][]*PlannedStep, len(s.Tracks))
		return ps
	}
	if ended != "" {
		c.fault(s.At, fault.New(fault.Setting, "this step is never reached: %s ends the way before it", ended))
	}
	ps.policy = policyOf(s)
	ps.run = k.compile(c, s)
	c.undo(s)
	switch faults, needs := Needs(ps.Faults); {
	case faults > 0:
		ps.run = ps.refuse
	case needs > 0: // what only lacks settings yet is passed by
		ps.run = pass
	}
	return ps
}

// number reads a setting that was checked.
func (s *Step) number(name string) float64 {
	n, err := strconv.ParseFloat(s.Setting(name), 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// undo compiles the steps that take a step back.
func (c *compiler) undo(s *Step) {
	t := s.Track("undo")
	if t == nil {
		return
	}
	if len(t.Steps) > 0 && !c.caught {
		c.fault(s.At, fault.New(fault.Setting, "%s is undone by nothing: it stands in no attempt", s.Name).Mended("Wrap it and the steps behind it in an attempt"))
	}
	c.within(func() { c.track(t) })
}

// within compiles in a scope of its own: what is yielded there is not seen behind it.
func (c *compiler) within(do func()) {
	scope, named := c.scope, c.named
	c.scope = scope.Inner()
	do()
	scope.Follow(c.scope)
	c.scope, c.named = scope, named[:len(named):len(named)]
}

// track compiles the steps of a track of the step at hand.
func (c *compiler) track(t *Track) []*PlannedStep {
	list := c.steps(t.Steps)
	c.plan.ends[fmt.Sprint(t.Path)] = append([]Named(nil), c.named...)
	c.cur.Tracks = append(c.cur.Tracks, list)
	return list
}

// define adds a step's result, a record, to the scope.
func (c *compiler) define(s *Step, setting string, sch *schema.Schema) int {
	return c.yield(s, setting, Named{Schema: sch}, formula.Type{Kind: value.RecordKind, Fields: sch.Root})
}

// yield adds a step's result of any type to the scope.
func (c *compiler) yield(s *Step, setting string, n Named, t formula.Type) int {
	n.Name, n.Type = s.Setting(setting), t
	if _, _, taken := c.scope.Slot(n.Name); taken {
		c.fault(s.place(setting), fault.New(fault.Setting, "the name %q is taken already", n.Name))
	}
	n.Slot = c.scope.Define(n.Name, t)
	c.named = append(c.named, n)
	c.cur.Result = &n
	return n.Slot
}

func (c *compiler) formula(at doc.Text) *formula.Program {
	if at.Value == "" && c.cur != nil && at == c.cur.Step.At {
		return nil // the setting is not there: that is told already
	}
	if at.Value == "" && at.Line > 0 {
		c.fault(at, fault.Missing("formula"))
		return nil
	}
	prog, faults := formula.Compile(at.Value, c.scope)
	for _, f := range faults {
		if c.unread(at.Value) {
			f.Mended("%s is read record by record: use it inside a For each of it", c.plan.ReadStep.Setting("as"))
		}
		c.fault(at, f)
	}
	if prog != nil {
		c.plan.Tables, c.plan.Functions = append(c.plan.Tables, prog.Tables...), append(c.plan.Functions, prog.Libraries...)
		c.slots = max(c.slots, prog.Slots())
	}
	return prog
}

// want compiles a formula that must yield a kind of value.
func (c *compiler) want(at doc.Text, kind value.Kind, expected string) *formula.Program {
	prog := c.formula(at)
	if prog != nil && !prog.Type.Fits(kind) {
		c.fault(at, fault.Expect(fault.Type, expected, prog.Type.String()))
		return nil
	}
	return prog
}

// single is a formula that must not yield a record or a list: what is found, told or counted by it is a text.
func (c *compiler) single(at doc.Text) *formula.Program {
	prog := c.formula(at)
	if prog != nil && prog.Type.Kind >= value.RecordKind {
		c.fault(at, fault.Expect(fault.Type, "a single value", prog.Type.String()).Mended("Name one of its fields"))
		return nil
	}
	return prog
}

// unread says whether a formula speaks of the records outside of the each that reads them.
func (c *compiler) unread(source string) bool {
	if c.plan.ReadStep == nil {
		return false
	}
	name := c.plan.ReadStep.Setting("as")
	if _, _, ok := c.scope.Slot(name); ok {
		return false
	}
	return slices.Contains(formula.Names(source), name)
}

// record finds the record that a setting names.
func (c *compiler) record(s *Step, setting string) (slot int, sch *schema.Schema) {
	name := s.Setting(setting)
	for i := len(c.named) - 1; i >= 0; i-- {
		if n := c.named[i]; n.Name == name && n.Schema != nil && !n.List {
			return n.Slot, n.Schema
		}
	}
	if name != "" {
		f := fault.New(fault.Unknown, "no step before yields %q", name)
		if c.unread(name) {
			f.Mended("It is read record by record: put this step inside a For each of it")
		}
		c.fault(s.place(setting), f)
	}
	return -1, nil
}

// fits says of a record in scope whether it can stand for one of a schema; has is nil where its name is not known, which is
// a fault of its own. What it must be is checked when it comes, where it is not of that schema itself.
func (c *compiler) fits(s *Step, setting string, has, sch *schema.Schema) (check bool) {
	if has == nil || has.Root == sch.Root {
		return false
	}
	if !has.Root.SameLayout(sch.Root) {
		c.fault(s.place(setting), fault.Expect(fault.Type, s.Setting(setting)+" of schema "+sch.ID, "schema "+has.ID))
	}
	return true
}

// firstFault is the first fault of a value of a schema, or nil.
func firstFault(sch *schema.Schema, v value.Value) *fault.Fault {
	var first *fault.Fault
	sch.Check(v, func(f *fault.Fault) {
		if first == nil {
			first = f
		}
	})
	return first
}

// described is the schema of what no part describes, as the results of steps. Written as bytes it is JSON.
func described(id string, root *schema.Field) *schema.Schema {
	return &schema.Schema{ID: id, Notation: json.Kind.Notation, Root: root}
}

func (c *compiler) schema(s *Step, setting string) *schema.Schema {
	id := s.Setting(setting)
	if sch := c.parts.Schema(id); sch != nil {
		return sch
	}
	if id != "" {
		c.fault(s.place(setting), fault.New(fault.Unknown, "there is no schema %q", id))
	}
	return described(id, schema.Record(id))
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
