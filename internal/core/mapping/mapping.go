// Package mapping makes a target message from source messages: one rule for each target field.
// A mapping is compiled once against the schemas of both sides; the plan is immutable and shared,
// each goroutine runs it with a Frame of its own. The order of the rules never matters.
package mapping

import (
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Mapping is one part.
type Mapping struct {
	ID         string
	Title      string
	From       []Source
	To         partfile.Text // id of the target schema
	Variables  []Variable
	Conditions []Condition
	OnFault    OnFault
	Rules      []Rule
	Script     partfile.Text // in place of rules: the body of a function of the sources and run
	At         partfile.Text
	doc        *partfile.Doc
}

// Source is one source message, or a list of them.
type Source struct {
	Name, Schema partfile.Text
	List         bool
}

// SourceAt is the position of a source by its name; -1 where there is none.
func (m *Mapping) SourceAt(name string) int {
	return slices.IndexFunc(m.From, func(s Source) bool { return s.Name.Value == name })
}

// Variable is computed once, for the message or for each entry of a list, and read by name. The
// order of variables never matters.
type Variable struct {
	Name    string
	Formula partfile.Text
}

// Condition is one that a message must meet; else it is left out with the reason.
type Condition struct {
	When   partfile.Text
	Reason string
}

// OnFault is what a fault in a rule does.
type OnFault string

// The choices of what a fault does. What is left out is noted.
const (
	Fail      OnFault = "fail"
	SkipEntry OnFault = "skip entry" // of the innermost list around the rule; fails outside of lists
	OmitField OnFault = "omit field"
)

// What can become of an empty result.
const (
	asItIs       = "keep"
	omit         = "omit"
	explicitNull = "null"
)

// OnFaults lists the choices, the default first.
var OnFaults = []OnFault{Fail, SkipEntry, OmitField}

// Empties lists what can become of an empty result, the default first.
var Empties = []string{asItIs, omit, explicitNull}

// RuleKind says how a rule makes its field.
type RuleKind string

// The kinds of rule. A script is the body of a function of all names in scope, and gives the field with all that is in it. An each makes the entries of a list, or of a map, of the items of a list. A record rule makes a record, one
// entry of a list of records, or a branch of a variant, by the rules for its fields.
const (
	Formula  RuleKind = "formula"
	Constant RuleKind = "constant"
	Each     RuleKind = "each"
	Record   RuleKind = "record"
	Script   RuleKind = "script"
)

// Kinds lists the kinds of rule.
var Kinds = []RuleKind{Formula, Constant, Each, Record, Script}

// Rule makes one target field.
type Rule struct {
	Field   partfile.Text // path of names with slashes; line[extras] is one more feed of the list line
	Kind    RuleKind
	Text    partfile.Text // the formula, the constant, the list of an each, or the script; a record has none
	When    partfile.Text // a condition; the field is left out where it is not true
	Default partfile.Text // a formula for a result that is absent or null
	Empty   string        // what becomes of a result that is absent, null, an empty text or an empty list
	ListSettings
}

// ListSettings says how the items of an each become entries: they are taken apart, filtered, told apart,
// grouped and sorted, in this order.
type ListSettings struct {
	As        string        // name of the item, or of the group
	Key       partfile.Text // of a map: the name at which the entry stands
	Nested    []NestedList  // lists inside of the item, each within the one before
	Where     partfile.Text // which items are taken
	Distinct  partfile.Text // of those with the same result only the first is taken
	Group     partfile.Text // those with the same result become one entry with key and items
	Sort      partfile.Text // formulas with ; between; each may end in the word descending
	Index     string        // name of the entry's position, from 1
	Variables []Variable
}

// NestedList is a list inside of an item.
type NestedList struct {
	List partfile.Text
	As   string
}

// Run is the record of facts about the run that every formula may read as run.…
var Run = schema.Record("run",
	schema.Scalar("file", value.Text),
	schema.Scalar("line", value.Integer),
	schema.Scalar("started_at", value.Timestamp),
	schema.Scalar("id", value.Text),
	schema.Scalar("reference", value.Text),
)

// Parse reads a mapping part.
func Parse(id string, d *partfile.Doc) *Mapping {
	d.Upgrade(Upgrade)
	n := d.Root()
	m := &Mapping{ID: id, Title: n.Required("mapping").Value, To: n.Required("to"), At: n.At(), doc: d}
	for _, s := range n.List("from") {
		m.From = append(m.From, Source{Name: s.Required("name"), Schema: s.Required("schema"), List: s.Bool("list", false)})
		s.RejectUnknown()
	}
	if len(m.From) == 0 && n.Present() {
		n.Fault(fault.Required, "the mapping has no source")
	}
	m.Variables = variables(n)
	for _, k := range n.List("conditions") {
		m.Conditions = append(m.Conditions, Condition{When: k.Required("when"), Reason: k.Text("reason").Value})
		k.RejectUnknown()
	}
	if m.Script = n.Text("script"); m.Script.Line > 0 && len(n.List("rules")) > 0 {
		d.Fault(m.Script, fault.New(fault.Setting, "a mapping has rules or a script, and not both"))
	}
	m.OnFault = OnFault(n.Choice("on fault", names(OnFaults)...))
	for _, r := range n.List("rules") {
		m.Rules = append(m.Rules, rule(r))
	}
	n.RejectUnknown()
	return m
}

func names[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

func variables(n partfile.Node) []Variable {
	var vars []Variable
	for _, v := range n.List("variables") {
		name := v.Required("name")
		if name.Value != "" && !formula.Name(name.Value) {
			n.Doc().Fault(name, fault.New(fault.Setting, "a variable cannot be called %q", name.Value).WithFix("Use letters, digits and _"))
		}
		vars = append(vars, Variable{Name: name.Value, Formula: v.Required("formula")})
		v.RejectUnknown()
	}
	return vars
}

func rule(n partfile.Node) Rule {
	r := Rule{Field: n.Required("field"), Kind: Record, When: n.Text("when"), Default: n.Text("default"), Empty: n.Choice("when empty", Empties...)}
	for _, k := range []RuleKind{Formula, Constant, Each, Script} {
		t := n.Text(string(k))
		if t.Line == 0 {
			continue
		}
		if r.Kind != Record {
			n.Fault(fault.Setting, "a rule has one of formula, constant, each and script, not two")
		}
		r.Kind, r.Text = k, t
	}
	if r.Kind == Each {
		r.ListSettings = listSettings(n)
	}
	n.RejectUnknown()
	return r
}

func listSettings(n partfile.Node) ListSettings {
	e := ListSettings{
		As: n.Text("as").Value, Key: n.Text("key"), Where: n.Text("where"), Distinct: n.Text("distinct by"), Group: n.Text("group by"),
		Sort: n.Text("sort by"), Index: n.Text("index").Value, Variables: variables(n),
	}
	if e.As == "" {
		e.As = "item"
	}
	for _, in := range n.List("nested lists") {
		e.Nested = append(e.Nested, NestedList{List: in.Required("each"), As: in.Required("as").Value})
		in.RejectUnknown()
	}
	if len(e.Nested) > 0 && e.Group.Value != "" {
		n.Doc().Fault(e.Group, fault.New(fault.Setting, "items with a list inside cannot be grouped").WithFix("Group the items, and take the list inside in an each below"))
		e.Nested = nil
	}
	return e
}
