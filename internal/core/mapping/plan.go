package mapping

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/script"
	"hollowreed/internal/core/value"
)

// Schemas finds a schema by id.
type Schemas func(id string) *schema.Schema

// Plan is a compiled mapping.
type Plan struct {
	Mapping   *Mapping
	Sources   []*schema.Schema
	Target    *schema.Schema
	Fields    []*Field // of the target, in order, each record before its fields
	Variables []*Field // those of the message, in the order of the part
	Tables    []string // that any formula looks into
	Functions []string // of libraries that any formula uses, as library.name
	Orphans   []int    // the rules for fields that the target does not have
	Faults    fault.List
	// ScriptReads are the source fields that the script in place of rules reads.
	ScriptReads [][]string
	root        *node
	script      *script.Function // in place of rules
	keep        []*formula.Program
	slots       int // of the run's facts, the sources and the variables
}

// Field is what the plan knows of one target field.
type Field struct {
	Path              []string
	Field             *schema.Field
	Rule              *Rule            // nil when it has none
	Index             int              // of the rule in the mapping
	Program           *formula.Program // nil for constants and faulty rules
	Tables, Functions []string         // that the rule looks into, and uses of libraries as library.name
	Reads             [][]string       // the source fields that the rule reads: a source's name, then names
	Faults            fault.List
	Missing           bool      // required, and no rule makes it
	Through           []*Field  // the variables that the rule reads
	Variable          *Variable // of a variable, which has no Field and no Rule
	Branches          bool      // a variant that is made by the rules for its branches
	Aside             bool      // a branch of a variant that is not made, or inside of one
	ByScript          *Field    // the field above whose script makes this one
	Makes             []string  // what is below it that the rule's script makes, as its text says
	Made              bool      // by the script in place of rules, as its text says
	Feeds             int       // of a list with several feeds: how many; each is a field of its own
}

// Name is the path as rules write it.
func (f *Field) Name() string { return strings.Join(f.Path, "/") }

type node struct {
	field    *schema.Field
	info     *Field
	program  *formula.Program
	direct   *formula.FieldAccess // where the value stands, for a rule that is only a field
	plain    bool                 // a formula without further settings
	constant value.Value
	when     *formula.Program
	other    *formula.Program // for a result that is absent or null
	script   *scripted
	list     *listing   // of an each
	feeds    []*node    // of a list that is fed by several rules
	let      []variable // of the root, or of an each
	children []*node
	begun    bool           // there are rules below
	scope    *formula.Scope // of the rules inside, for the root and for an each
	opened   string         // the name of the item, for an each
}

// variable is a compiled one, and the slot that holds it.
type variable struct {
	info    *Field
	program *formula.Program
	slot    int
}

// Frame is the working memory of one goroutine.
type Frame struct {
	formula.Frame
	Memory  *value.Memory // that records are taken from; nil: from slabs of the frame's own
	fields  []value.Value // room for the records to come
	records []value.Record
	run     runner
}

// ahead is for how many records memory is taken at once.
const ahead = 64

// record gives an empty record of a shape.
func (fr *Frame) record(shape *value.Layout) *value.Record {
	if fr.Memory != nil {
		return fr.Memory.Record(shape)
	}
	n := len(shape.Names)
	if len(fr.records) == 0 {
		fr.records = make([]value.Record, ahead)
	}
	if len(fr.fields) < n {
		fr.fields = make([]value.Value, ahead*n)
	}
	r := &fr.records[0]
	fr.records = fr.records[1:]
	r.Layout, r.Fields = shape, fr.fields[:n:n]
	fr.fields = fr.fields[n:]
	return r
}

// NewFrame makes a frame for the plan.
func (p *Plan) NewFrame() *Frame {
	return &Frame{Frame: formula.Frame{Slots: make([]value.Value, p.slots, 8+p.slots)}}
}

// Scope is what a rule for a target field can read; that of the whole for a field that is not there.
func (p *Plan) Scope(field string) *formula.Scope {
	n, scope := p.root, p.root.scope
	for _, name := range strings.Split(field, "/") {
		if n.scope != nil {
			scope = n.scope
		}
		if n = n.child(name); n == nil {
			break
		}
	}
	return scope
}

// child finds the node of a field, or of one of the feeds of a list, by name.
func (n *node) child(name string) *node {
	for _, c := range n.made() {
		if c.info.Path[len(c.info.Path)-1] == name {
			return c
		}
	}
	return nil
}

// parts are the feeds of a node; the node itself when it has none.
func (n *node) parts() []*node {
	if n.feeds == nil {
		return []*node{n}
	}
	return n.feeds
}

// made are the nodes inside of one, each feed of a list by itself.
func (n *node) made() []*node {
	var out []*node
	for _, c := range n.children {
		out = append(out, c.parts()...)
	}
	return out
}

// Complete says how many of the leaf fields of the target have a rule that works.
func (p *Plan) Complete() (done, all int) {
	if p.Mapping.Script.Line > 0 {
		return min(1, len(p.Faults)) ^ 1, 1
	}
	for _, f := range p.Fields {
		if f.Feeds > 0 && f.Rule == nil || f.Aside || f.Field.Kind == value.RecordKind && !f.Field.List() {
			continue
		}
		all++
		if (f.Rule != nil || f.Branches || f.ByScript != nil) && len(f.Faults) == 0 {
			done++
		}
	}
	return done, all
}
