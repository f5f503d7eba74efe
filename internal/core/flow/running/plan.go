// Package running takes records through a compiled flow, batch by batch: the plan, the items on their way, and the systems
// and services that steps ask, as interfaces.
package running

import (
	"context"
	"fmt"
	"slices"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Plan is a compiled flow. It is immutable and shared.
//
// What a run does has three parts. Its head are the steps that work on the run as a whole; a flow that reads no
// records has nothing else. Its body is done for every record that is read, batch by batch; its tail are the steps
// behind that.
type Plan struct {
	Flow       *flow.Flow
	Bound      *Bound                    // the operation of an API that it answers; nil where it answers none
	Input      *schema.Schema            // of the message that a run begins with; nil where it has none
	Channel    *channel.Channel          // whose messages start it; nil where none do
	Given      *schema.Schema            // the parameters of the request that starts it; nil where there are none
	Requested  *schema.Field             // the request with its parameters
	Answers    map[string]*schema.Schema // of answers that have a schema of their own, by its id
	Output     *schema.Schema            // of what the caller is answered; nil where nobody waits for an answer
	Source     *schema.Schema            // of the records that are read
	ReadStep   *flow.Step                // the step that reads them; nil where none does
	Record     int                       // their slot
	Reference  *formula.Program          // over run and input; nil when the flow has none
	OnePer     *formula.Program          // over run and input; nil where runs need not wait for each other
	Where      *formula.Program          // over the message that starts it: others are passed over; nil where none are
	Schedule   *flow.Schedule            // of a flow that starts on time
	Steps      []*PlannedStep            // all of them, outer before inner
	Head       []*PlannedStep
	Body       []*PlannedStep
	Tail       []*PlannedStep
	Slots      int      // of an item's frame
	Tables     []string // that the flow's own formulas look into
	Functions  []string // of libraries that they use, as library.name
	Flows      []string // that it runs
	Publishes  []string // the channels into which it puts messages
	Faults     fault.List
	Notes      fault.List              // outcomes that nothing is done about; they keep nobody from running it
	Asks       *RequestBuilder         // what its records are read with, where they are an operation's answer
	Operations []*connection.Operation // that the flow asks for
	Poll       *RequestBuilder         // the same for a trigger that looks for new records
	Kept       []Kept                  // what is to be remembered of an item
	Polls      *formula.Scope          // of what it asks with
	Order      map[string]int          // of the steps, by id
	Ends       map[string][]Named      // what is in scope at the end of each list of steps, by its path
}

// ScopeAt is what is in scope at a gap.
func (p *Plan) ScopeAt(list []*flow.Step, gap flow.Gap) []Named {
	if gap.At < len(list) {
		if ps := p.Planned(list[gap.At].ID); ps != nil {
			return ps.Before
		}
	}
	return p.Ends[fmt.Sprint(gap.Path)]
}

// Kept is a value of an item, under a key that no other has.
type Kept struct {
	Key string
	Named
	Holder *schema.Schema // of a JSON object whose member value it is; nil where its type is not known
}

// PlannedStep is one step with the shapes around it.
type PlannedStep struct {
	Step           *flow.Step
	Before         []Named // what is in scope when it begins
	Result         *Named  // what it adds
	Entry          *Named  // what the steps inside it see beside: the entry of a list, the fault
	Common         []Named // what all its branches yield
	Faults         fault.List
	Branches       [][]*PlannedStep      // beside those of its step
	Inside         *PlannedStep          // the step whose branch it is in; nil at the top
	Scope          *formula.Scope        // in which its formulas are
	Mapping        *mapping.Plan         // of a map step
	Upsert         *Upsert               // of a step that upserts rows, by a table's name or an operation
	Sources        []string              // of a map step: the names in scope that the mapping's sources are
	File           *FileTarget           // of a write step
	Op             *connection.Operation // of a call
	RequestBuilder *RequestBuilder       // of a call: how its request is made
	Calls          *Contract             // of a flow step
	Columns        *schema.Schema        // of a step that works on a table of the project: those that it names
	Plan           *Plan                 // to which it belongs
	Kind           *flow.Kind            // of the step
	Policy         Policy                // how often it is tried
	Caught         bool                  // inside an attempt
	Nested         bool                  // inside the steps of an each over a list
	Parallel       bool                  // inside a branch that runs beside others
	Run            Runner                // what it does
}

// Named is a name in scope with the shape of its value and its slot.
type Named struct {
	Name   string
	Schema *schema.Schema // of a record, or of the items of a list; nil for anything else
	List   bool
	Type   formula.Type
	Slot   int
}

// RecordOf describes a name for a record of a schema.
func RecordOf(name string, sch *schema.Schema, slot int) Named {
	return Named{Name: name, Schema: sch, Type: formula.Of(sch.Root), Slot: slot}
}

// Output is the schema of what the step answers, or else the flow; nil where the answer has no body.
func (ps *PlannedStep) Output() *schema.Schema { return ps.Plan.AnswerOf(ps.Step) }

// AnswerOf is the schema of what an answer step answers; nil where the answer has no body.
func (p *Plan) AnswerOf(s *flow.Step) *schema.Schema {
	switch own := s.Setting("schema"); {
	case s.Setting("body") == NoBody:
		return nil
	case own != "":
		return p.Answers[own]
	}
	if a := p.Promised(s); a != nil {
		return p.Answers[AnswerKey(a)]
	}
	return p.Output
}

// AnswerSchema is the schema of an answer as a run has given it; nil where it has no body.
func (p *Plan) AnswerSchema(r *Reply) *schema.Schema {
	switch {
	case r == nil:
		return p.Output
	case r.Empty:
		return nil
	case r.Schema != "":
		return p.Answers[r.Schema]
	}
	return p.Output
}

// PairFields is the schema whose fields the step's pairs are; nil where their names are written by hand.
func (ps *PlannedStep) PairFields() *schema.Schema {
	switch {
	case ps.Columns != nil:
		return ps.Columns
	case ps.Op != nil:
		return ps.Op.Request
	case ps.Calls != nil:
		return ps.Calls.Input
	}
	return nil
}

// RunSlot is the slot of the run's facts in every item, InputSlot that of the message that a run begins with, RequestSlot
// that of the HTTP request that it came with.
const (
	RunSlot     = 0
	InputSlot   = 1
	RequestSlot = 2
)

// Keep gives everything that steps yield its key: its name, and behind an @ the step where another has the name.
func (p *Plan) Keep() {
	taken := map[string]bool{}
	add := func(ps *PlannedStep, n *Named) {
		if n == nil {
			return
		}
		key := n.Name
		if taken[key] {
			key += "@" + ps.Step.ID
		}
		taken[key] = true
		k := KeptOf(*n)
		k.Key = key
		p.Kept = append(p.Kept, k)
	}
	for _, ps := range p.Steps {
		add(ps, ps.Result)
		add(ps, ps.Entry)
		for i := range ps.Common {
			add(ps, &ps.Common[i])
		}
	}
}

// RestartStep is the step in the head, the body or the tail in which a step stands: from there a run can begin again. Nil for a
// step that reads, or holds all records.
func (p *Plan) RestartStep(id string) *PlannedStep {
	ps := p.Planned(id)
	for ps != nil && ps.Inside != nil && !p.streams(ps.Inside) {
		ps = ps.Inside
	}
	if ps == nil || ps.Step == p.ReadStep || p.streams(ps) {
		return nil
	}
	return ps
}

// From lists the steps from one on.
func (p *Plan) From(id string) (ids []string) {
	for _, ps := range p.Steps[p.Order[id]:] {
		ids = append(ids, ps.Step.ID)
	}
	return ids
}

// Reset takes an item back to where it came to a step: what steps from there on have yielded is taken away. It is false for
// one that has not come so far.
func (p *Plan) Reset(it *Item, step string) bool {
	at := p.Order[step]
	if it.Step != "" && it.State != Done && p.Order[it.Step] < at {
		return false
	}
	for _, ps := range p.Steps[at:] {
		for _, n := range []*Named{ps.Result, ps.Entry} {
			if n != nil {
				it.Frame.Slots[n.Slot] = value.Value{}
			}
		}
	}
	it.State, it.Step, it.Reason, it.Faults, it.Effects, it.Inner, it.Turns = Live, "", "", nil, nil, nil, nil
	return true
}

// LastValue is the position in Kept of the last value that an item has; -1 where it has none.
func (p *Plan) LastValue(it *Item) int {
	for i := len(p.Kept) - 1; i >= 0; i-- {
		if it.Frame.Slots[p.Kept[i].Slot].Kind() != value.Absent {
			return i
		}
	}
	return -1
}

// Divide cuts the steps at the top into head, body and tail.
func (p *Plan) Divide(top []*PlannedStep) {
	to := &p.Head
	for _, ps := range top {
		switch {
		case ps.Step == p.ReadStep:
			p.Body = append(p.Body, ps)
		case p.streams(ps):
			p.Body = append(append(p.Body, ps), ps.Branches[0]...)
			to = &p.Tail
		default:
			*to = append(*to, ps)
		}
	}
}

// streams says whether a step is the each over the records that are read.
func (p *Plan) streams(ps *PlannedStep) bool {
	return ps.Kind.Loops && ps.Inside == nil && p.ReadStep != nil && ps.Step.Setting("of") == p.ReadStep.Setting("as")
}

// Refuse lets no record through a step that has faults, so that a try shows what comes before it.
func (ps *PlannedStep) Refuse(_ context.Context, _ *Batch, items []*Item) error {
	for _, it := range items {
		if it.State == Live {
			f := *ps.Faults[0]
			it.State, it.Step, it.Faults = SetAside, ps.Step.ID, fault.List{&f}
		}
	}
	return nil
}

// Repeatable says whether a run of the plan changes nothing but itself, so that it can be done again from its beginning at any time:
// no step reaches an outside system, and none outlives the run.
func (p *Plan) Repeatable() bool {
	return !slices.ContainsFunc(p.Steps, func(ps *PlannedStep) bool { return ps.Kind.OnConnection || ps.Kind.Lasting })
}

// Needs counts what is wrong, and apart from it the settings that are only not there yet.
func Needs(list fault.List) (faults, needs int) {
	for _, f := range list {
		if f.Setting != "" {
			needs++
		} else {
			faults++
		}
	}
	return faults, needs
}

// NoBody is the setting of an answer whose status says all.
const NoBody = "none"

// FitsSource says whether a name in scope can be a source of a mapping.
func (n Named) FitsSource(src mapping.Source, sch *schema.Schema) bool {
	return n.Name != "run" && n.Schema != nil && sch != nil && n.List == src.List && n.Schema.Root == sch.Root
}
