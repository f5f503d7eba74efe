// Package compile checks a flow against its project and makes a plan of it, which knows the shape of the data after every
// step. Kinds of step and of trigger register what the compiler does for them.
package compile

import (
	"fmt"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Compiler is at one place of a flow while it compiles it: kinds of step change what they find here for the steps inside them.
type Compiler struct {
	Flow     *flow.Flow           // that is compiled
	Parts    Parts                // the other parts of its project
	Plan     *running.Plan        // that is made
	Scope    *formula.Scope       // of the formulas at this place
	Named    []running.Named      // the results in scope, the outermost first
	Cur      *running.PlannedStep // the step that is compiled; nil for the trigger
	Streamed bool                 // an each over the records that are read was there
	Caught   bool                 // inside an attempt
	Nested   bool                 // inside an each over a list
	Parallel bool                 // inside a branch that runs beside others
	depth    int                  // of steps in steps
	slots    int                  // the most that a formula needs
}

// MaxDepth bounds steps in steps.
const MaxDepth = 40

// Compile checks a flow and works out the shape of the data after every step. The plan can be
// drawn whatever its faults; it can be run only when it has none. It goes over the flow twice: what
// formulas compute in between must stand behind all names, and how many there are is known at the end.
func Compile(f *flow.Flow, parts Parts) *running.Plan {
	return compileWith(f, parts, compileWith(f, parts, 0).Slots)
}

// compileWith compiles with a number of slots reserved for what formulas compute in between.
func compileWith(f *flow.Flow, parts Parts, reserve int) *running.Plan {
	p := &running.Plan{Flow: f, Order: map[string]int{}, Ends: map[string][]running.Named{}}
	c := &Compiler{Flow: f, Parts: parts, Plan: p, Scope: parts.Formulas().Scope()}
	c.Scope.Reserve(reserve)
	c.Scope.Define("run", formula.Type{Kind: value.RecordKind, Fields: mapping.Run})
	c.Named = []running.Named{running.RecordOf("run", running.Described("run", mapping.Run), running.RunSlot)}
	c.bind()
	c.reads()
	c.input()
	c.request()
	c.trigger()
	top := c.steps(f.Steps)
	p.Ends[fmt.Sprint([]any{"steps"})] = c.Named
	if len(f.Steps) > 0 && p.ReadStep == nil && f.Trigger.Of().Brings {
		c.Fault(f.At, fault.New(fault.Required, "the flow does not read what starts it").WithFix("Begin with a read step"))
	}
	c.checkResponse()
	p.Divide(top)
	p.Slots = max(c.Scope.Size(), c.slots)
	p.Keep()
	return p
}

// input defines the message that a run begins with. It has its slot whether there is one or not.
func (c *Compiler) input() {
	t := c.Flow.Trigger
	if c.Plan.Bound == nil {
		c.Plan.Input, c.Plan.Output = c.Contract(t.Input), c.Contract(t.Output)
	}
	if c.Plan.Channel != nil {
		c.Plan.Input = c.Plan.Channel.Message()
	}
	if message := t.Of().Message; message != nil {
		c.Plan.Input = message(t)
	}
	if c.Plan.Input == nil {
		c.Scope.Take()
		return
	}
	slot := c.Scope.Define(t.As, formula.Of(c.Plan.Input.Root))
	c.Scope.Open(t.As)
	c.Named = append(c.Named, running.RecordOf(t.As, c.Plan.Input, slot))
}

// reads finds the channel whose messages start the flow.
func (c *Compiler) reads() {
	t := c.Flow.Trigger
	if at := t.Settings.Text("channel"); t.Of().Channel && at.Value != "" {
		if c.Plan.Channel = c.Parts.Channel(at.Value); c.Plan.Channel == nil {
			c.Fault(at, fault.New(fault.Unknown, "there is no channel %s", fault.Quote(at.Value)))
		}
	}
}

// request defines what a run knows of the HTTP request, or the message, that has started it. It has its slot whether there is one or not.
func (c *Compiler) request() {
	if c.Plan.Channel != nil {
		c.Plan.Requested = running.MessageFacts
		slot := c.Scope.Define("message", formula.Type{Kind: value.RecordKind, Fields: running.MessageFacts})
		c.Named = append(c.Named, running.RecordOf("message", running.Described("message", running.MessageFacts), slot))
		return
	}
	if !c.Flow.Trigger.Of().Requests {
		c.Scope.Take()
		return
	}
	c.Plan.Requested = running.Request
	if c.Plan.Given = c.parameters(c.Flow.Trigger); c.Plan.Given != nil {
		c.Plan.Requested = schema.Record("request", append(ownFields(running.Request.Fields), c.Plan.Given.Root)...)
	}
	slot := c.Scope.Define("request", formula.Type{Kind: value.RecordKind, Fields: c.Plan.Requested})
	c.Named = append(c.Named, running.RecordOf("request", running.Described("request", c.Plan.Requested), slot))
}

// Contract finds the schema that a setting names; nil where it names none, or one that there is not, which is a fault.
func (c *Compiler) Contract(at partfile.Text) *schema.Schema {
	if at.Value == "" {
		return nil
	}
	sch := c.Parts.Schema(at.Value)
	if sch == nil {
		c.Fault(at, fault.New(fault.Unknown, "there is no schema %q", at.Value))
	}
	return sch
}

func (c *Compiler) trigger() {
	if c.Flow.OrderingKey.Value != "" {
		c.Plan.OnePer = c.Formula(c.Flow.OrderingKey)
	}
	if k := triggerKinds[c.Flow.Trigger.Kind]; k != nil && k.Check != nil {
		k.Check(c, c.Flow.Trigger)
	}
	if c.Flow.Reference.Value != "" {
		c.Plan.Reference = c.Single(c.Flow.Reference)
	}
}

// Fault notes a fault at a text of the part; a formula's fault keeps its column.
func (c *Compiler) Fault(at partfile.Text, f *fault.Fault) {
	column := f.Place.Column
	f.Place = c.Flow.Doc.Place(at)
	if column > 1 {
		f.Place.Column += column - 1
	}
	if c.Cur != nil {
		f.Place.Step = c.Cur.Step.ID
		c.Cur.Faults = append(c.Cur.Faults, f)
	}
	c.Plan.Faults = append(c.Plan.Faults, f)
}

// UnknownConnection tells that there is no connection of a name; that none is named is told already.
func (c *Compiler) UnknownConnection(at partfile.Text) {
	if at.Value != "" {
		c.Fault(at, fault.New(fault.Unknown, "there is no connection %q", at.Value))
	}
}

// steps compiles a sequence. A step that is switched off is left out: it yields nothing.
func (c *Compiler) steps(steps []*flow.Step) []*running.PlannedStep {
	var list []*running.PlannedStep
	ended := ""
	if c.depth++; c.depth > MaxDepth {
		c.Fault(c.Flow.At, fault.New(fault.Limit, "steps stand in steps more than %d deep", MaxDepth))
		return nil
	}
	defer func() { c.depth-- }()
	for _, s := range steps {
		k := stepKinds[s.Kind]
		if k == nil {
			continue
		}
		ps := c.planned(s, k, ended)
		list = append(list, ps)
		if k.Ends && !s.Disabled {
			ended = s.Name
		}
	}
	return list
}

func (c *Compiler) planned(s *flow.Step, k *Kind, ended string) *running.PlannedStep {
	ps := &running.PlannedStep{
		Step: s, Before: append([]running.Named(nil), c.Named...), Inside: c.Cur, Scope: c.Scope, Plan: c.Plan, Kind: &k.Kind,
		Caught: c.Caught, Nested: c.Nested, Parallel: c.Parallel, Run: running.PassOn, Faults: slices.Clone(s.Faults),
	}
	c.Plan.Order[s.ID] = len(c.Plan.Steps)
	c.Plan.Steps = append(c.Plan.Steps, ps)
	outer := c.Cur
	c.Cur = ps
	defer func() { c.Cur = outer }()
	if s.Disabled {
		ps.Branches = make([][]*running.PlannedStep, len(s.Branches))
		return ps
	}
	if ended != "" {
		c.Fault(s.At, fault.New(fault.Setting, "this step is never reached: %s ends the way before it", ended))
	}
	ps.Policy = running.PolicyOf(s)
	ps.Run = k.Compile(c, s)
	c.undo(s)
	switch faults, needs := running.Needs(ps.Faults); {
	case faults > 0:
		ps.Run = ps.Refuse
	case needs > 0: // what only lacks settings yet is passed by
		ps.Run = running.PassOn
	}
	return ps
}

// undo compiles the steps that take a step back.
func (c *Compiler) undo(s *flow.Step) {
	t := s.Branch("compensate")
	if t == nil {
		return
	}
	if len(t.Steps) > 0 && !c.Caught {
		c.Fault(s.At, fault.New(fault.Setting, "%s has compensating steps, and stands in no Try step", s.Name).WithFix("Wrap it and the steps behind it in a Try step"))
	}
	c.Within(func() { c.Branch(t) })
}

// Within compiles in a scope of its own: what is yielded there is not seen behind it.
func (c *Compiler) Within(do func()) {
	scope, named := c.Scope, c.Named
	c.Scope = scope.Inner()
	do()
	scope.ExtendTo(c.Scope)
	c.Scope, c.Named = scope, named[:len(named):len(named)]
}

// Branch compiles the steps of a branch of the step at hand.
func (c *Compiler) Branch(t *flow.Branch) []*running.PlannedStep {
	list := c.steps(t.Steps)
	c.Plan.Ends[fmt.Sprint(t.Path)] = append([]running.Named(nil), c.Named...)
	c.Cur.Branches = append(c.Cur.Branches, list)
	return list
}

// Define adds a step's result, a record, to the scope.
func (c *Compiler) Define(s *flow.Step, setting string, sch *schema.Schema) int {
	return c.Yield(s, setting, running.Named{Schema: sch}, formula.Of(sch.Root))
}

// Yield adds a step's result of any type to the scope.
func (c *Compiler) Yield(s *flow.Step, setting string, n running.Named, t formula.Type) int {
	n.Name, n.Type = s.Setting(setting), t
	if _, _, taken := c.Scope.Slot(n.Name); taken {
		c.Fault(s.Place(setting), fault.New(fault.Setting, "the name %q is taken already", n.Name))
	}
	n.Slot = c.Scope.Define(n.Name, t)
	c.Named = append(c.Named, n)
	c.Cur.Result = &n
	return n.Slot
}

// Formula compiles a formula at the place of the step. Nil where it has faults, which are noted at the formula.
func (c *Compiler) Formula(at partfile.Text) *formula.Program {
	if at.Value == "" && c.Cur != nil && at == c.Cur.Step.At {
		return nil // the setting is not there: that is told already
	}
	if at.Value == "" && at.Line > 0 {
		c.Fault(at, fault.Missing("formula"))
		return nil
	}
	prog, faults := formula.Compile(at.Value, c.Scope)
	for _, f := range faults {
		if c.unread(at.Value) {
			f.WithFix("%s is read record by record: use it inside a For each of it", c.Plan.ReadStep.Setting("as"))
		}
		c.Fault(at, f)
	}
	if prog != nil {
		c.Plan.Tables, c.Plan.Functions = append(c.Plan.Tables, prog.Tables...), append(c.Plan.Functions, prog.Libraries...)
		c.slots = max(c.slots, prog.Slots())
	}
	return prog
}

// Want compiles a formula that must yield a kind of value.
func (c *Compiler) Want(at partfile.Text, kind value.Kind, expected string) *formula.Program {
	prog := c.Formula(at)
	if prog != nil && !prog.Type.Fits(kind) {
		c.Fault(at, fault.Expect(fault.Type, expected, prog.Type.String()))
		return nil
	}
	return prog
}

// Single is a formula that must not yield a record or a list: what is found, told or counted by it is a text.
func (c *Compiler) Single(at partfile.Text) *formula.Program {
	prog := c.Formula(at)
	if prog != nil && prog.Type.Kind >= value.RecordKind {
		c.Fault(at, fault.Expect(fault.Type, "a single value", prog.Type.String()).WithFix("Name one of its fields"))
		return nil
	}
	return prog
}

// Plain compiles a formula of the product's own at this place.
func (c *Compiler) Plain(source string) *formula.Program {
	prog, _ := formula.Compile(source, c.Scope) // it was written to fit
	return prog
}

// unread says whether a formula speaks of the records outside of the each that reads them.
func (c *Compiler) unread(source string) bool {
	if c.Plan.ReadStep == nil {
		return false
	}
	name := c.Plan.ReadStep.Setting("as")
	if _, _, ok := c.Scope.Slot(name); ok {
		return false
	}
	return slices.Contains(formula.Names(source), name)
}

// Record finds the record that a setting names.
func (c *Compiler) Record(s *flow.Step, setting string) (slot int, sch *schema.Schema) {
	name := s.Setting(setting)
	for i := len(c.Named) - 1; i >= 0; i-- {
		if n := c.Named[i]; n.Name == name && n.Schema != nil && !n.List {
			return n.Slot, n.Schema
		}
	}
	if name != "" {
		f := fault.New(fault.Unknown, "no step before yields %q", name)
		if c.unread(name) {
			f.WithFix("It is read record by record: put this step inside a For each of it")
		}
		c.Fault(s.Place(setting), f)
	}
	return -1, nil
}

// Fits says of a record in scope whether it can stand for one of a schema; has is nil where its name is not known, which is
// a fault of its own. What it must be is checked when it comes, where it is not of that schema itself.
func (c *Compiler) Fits(s *flow.Step, setting string, has, sch *schema.Schema) (check bool) {
	if has == nil || has.Root == sch.Root {
		return false
	}
	if !has.Root.SameLayout(sch.Root) {
		c.Fault(s.Place(setting), fault.Expect(fault.Type, s.Setting(setting)+" of schema "+sch.ID, "schema "+has.ID))
	}
	return true
}

// Schema finds the schema that a setting of a step names; one without fields where there is none, which is a fault.
func (c *Compiler) Schema(s *flow.Step, setting string) *schema.Schema {
	id := s.Setting(setting)
	if sch := c.Parts.Schema(id); sch != nil {
		return sch
	}
	if id != "" {
		c.Fault(s.Place(setting), fault.New(fault.Unknown, "there is no schema %q", id))
	}
	return running.Described(id, schema.Record(id))
}
