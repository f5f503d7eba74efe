// Package mapping makes a target message from source messages: one rule for each target field.
// A mapping is compiled once against the schemas of both sides; the plan is immutable and shared,
// each goroutine runs it with a Frame of its own. The order of the rules never matters.
package mapping

import (
	"slices"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Mapping is one part.
type Mapping struct {
	ID    string
	Title string
	From  []Source
	To    doc.Text // id of the target schema
	Rules []Rule
	At    doc.Text
	doc   *doc.Doc
}

// Source is one source message.
type Source struct{ Name, Schema doc.Text }

// RuleKind says how a rule makes its field.
type RuleKind string

// The kinds of rule.
const (
	Formula  RuleKind = "formula"
	Constant RuleKind = "constant"
	Each     RuleKind = "each"
)

// Rule makes one target field.
type Rule struct {
	Field doc.Text // path of names with slashes
	Kind  RuleKind
	Text  doc.Text // the formula, the constant, or the list of an each
	As    string   // name of the item inside an each
}

// Run is the record of facts about the run that every formula may read as run.…
var Run = schema.Record("run",
	schema.Scalar("file", value.Text),
	schema.Scalar("line", value.Integer),
	schema.Scalar("started_at", value.Timestamp),
	schema.Scalar("id", value.Text),
)

// Parse reads a mapping part.
func Parse(id string, d *doc.Doc) *Mapping {
	n := d.Root()
	m := &Mapping{ID: id, Title: n.Need("mapping").Value, To: n.Need("to"), At: n.At(), doc: d}
	for _, s := range n.List("from") {
		m.From = append(m.From, Source{Name: s.Need("name"), Schema: s.Need("schema")})
		s.Done()
	}
	if len(m.From) == 0 && n.Present() {
		n.Fault(fault.Required, "the mapping has no source")
	}
	for _, r := range n.List("rules") {
		m.Rules = append(m.Rules, rule(r))
	}
	n.Done()
	return m
}

func rule(n doc.Node) Rule {
	r := Rule{Field: n.Need("field")}
	for _, k := range []RuleKind{Formula, Constant, Each} {
		t := n.Text(string(k))
		if t.Line == 0 {
			continue
		}
		if r.Kind != "" {
			n.Fault(fault.Setting, "a rule has one of formula, constant and each, not two")
		}
		r.Kind, r.Text = k, t
	}
	if r.Kind == "" {
		n.Fault(fault.Required, "the rule has neither formula nor constant nor each")
		r.Kind = Formula
	}
	r.As = n.Text("as").Value
	if r.As == "" {
		r.As = "item"
	}
	n.Done()
	return r
}

// Schemas finds a schema by id.
type Schemas func(id string) *schema.Schema

// Plan is a compiled mapping.
type Plan struct {
	Mapping *Mapping
	Sources []*schema.Schema
	Target  *schema.Schema
	Fields  []*Field // of the target, in order, each record before its fields
	Faults  fault.List
	root    *node
}

// Field is what the plan knows of one target field.
type Field struct {
	Path    []string
	Field   *schema.Field
	Rule    *Rule            // nil when it has none
	Index   int              // of the rule in the mapping
	Program *formula.Program // nil for constants and faulty rules
	Reads   [][]string       // the source fields that the rule reads: a source's name, then names
	Faults  fault.List
	Missing bool // required, and no rule makes it
}

// Name is the path as rules write it.
func (f *Field) Name() string { return strings.Join(f.Path, "/") }

type node struct {
	field    *schema.Field
	info     *Field
	program  *formula.Program
	direct   *formula.Direct // where the value stands, for a rule that is only a field
	constant value.Value
	item     int // slot of the item, for an each
	children []*node
	scope    *formula.Scope // of the rules inside, for the root and for an each
	opened   string         // the name of the item, for an each
}

// Frame is the working memory of one goroutine.
type Frame struct {
	formula.Frame
	fields  []value.Value // room for the records to come
	records []value.Record
}

// ahead is for how many records memory is taken at once.
const ahead = 64

// record gives an empty record of a shape.
func (fr *Frame) record(shape *value.Shape) *value.Record {
	n := len(shape.Names)
	if len(fr.records) == 0 {
		fr.records = make([]value.Record, ahead)
	}
	if len(fr.fields) < n {
		fr.fields = make([]value.Value, ahead*n)
	}
	r := &fr.records[0]
	fr.records = fr.records[1:]
	r.Shape, r.Fields = shape, fr.fields[:n:n]
	fr.fields = fr.fields[n:]
	return r
}

// NewFrame makes a frame for the plan.
func (p *Plan) NewFrame() *Frame {
	return &Frame{Frame: formula.Frame{Slots: make([]value.Value, 1+len(p.Sources), 8+len(p.Sources))}}
}

// Scope is what a rule for a target field can read; that of the whole for a field that is not there.
func (p *Plan) Scope(field string) *formula.Scope {
	n, scope := p.root, p.root.scope
	for _, name := range strings.Split(field, "/") {
		at := slices.IndexFunc(n.children, func(c *node) bool { return c.field.Name == name })
		if at < 0 {
			break
		}
		if n.scope != nil {
			scope = n.scope
		}
		n = n.children[at]
	}
	return scope
}

// Complete says how many of the leaf fields of the target have a rule that works.
func (p *Plan) Complete() (done, all int) {
	for _, f := range p.Fields {
		if f.Field.Kind == value.RecordKind && !f.Field.List() {
			continue
		}
		all++
		if f.Rule != nil && len(f.Faults) == 0 {
			done++
		}
	}
	return done, all
}
