package mapping

import (
	"maps"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Compile checks every rule against the schemas and makes a plan. The plan is always usable: a
// field whose rule has a fault reports that fault when it runs.
func (m *Mapping) Compile(schemas Schemas) *Plan {
	p := &Plan{Mapping: m}
	scope := formula.NewScope()
	scope.Define("run", formula.Type{Kind: value.RecordKind, Fields: Run})
	for i, src := range m.From {
		s := schemas(src.Schema.Value)
		if s == nil {
			p.note(src.Schema, fault.New(fault.Unknown, "there is no schema %q", src.Schema.Value))
			s = &schema.Schema{Root: schema.Record(src.Name.Value)}
		}
		p.Sources = append(p.Sources, s)
		scope.Define(src.Name.Value, formula.Type{Kind: value.RecordKind, Fields: s.Root})
		if i == 0 {
			scope.Open(src.Name.Value)
		}
	}
	if p.Target = schemas(m.To.Value); p.Target == nil {
		p.note(m.To, fault.New(fault.Unknown, "there is no schema %q", m.To.Value))
		p.Target = &schema.Schema{Root: schema.Record("target")}
	}
	c := &compiler{items: map[string][]string{}, plan: p, rules: map[string]int{}, used: map[string]bool{}}
	for i, r := range m.Rules {
		if _, twice := c.rules[r.Field.Value]; twice {
			p.note(r.Field, fault.New(fault.Setting, "%s has a rule already", r.Field.Value))
			continue
		}
		c.rules[r.Field.Value] = i
	}
	p.root = &node{field: p.Target.Root, info: &Field{Field: p.Target.Root}, scope: scope}
	c.children(p.root, nil, scope)
	c.unused()
	return p
}

// note keeps a fault with its place in the part file. A fault in a formula keeps the column that
// it has there as its own.
func (p *Plan) note(at doc.Text, f *fault.Fault) {
	noted := *f
	noted.Place = p.Mapping.doc.Place(at)
	if f.Place.Column > 1 {
		noted.Place.Column += f.Place.Column - 1
	}
	p.Faults = append(p.Faults, &noted)
}

type compiler struct {
	items map[string][]string // where the items of the lists around stand in the sources
	plan  *Plan
	rules map[string]int
	used  map[string]bool
}

func (c *compiler) children(n *node, path []string, scope *formula.Scope) {
	for _, f := range n.field.Fields {
		n.children = append(n.children, c.field(f, append(path[:len(path):len(path)], f.Name), scope))
	}
}

func (c *compiler) field(f *schema.Field, path []string, scope *formula.Scope) *node {
	info := &Field{Path: path, Field: f, Index: -1}
	c.plan.Fields = append(c.plan.Fields, info)
	n := &node{field: f, info: info}
	name := info.Name()
	i, ok := c.rules[name]
	record := f.Kind == value.RecordKind
	switch {
	case !ok && record && !f.List():
		c.children(n, path, scope)
		return n
	case !ok:
		c.missing(info, name)
		if record {
			c.children(n, path, scope)
		}
		return n
	}
	c.used[name] = true
	info.Rule, info.Index = &c.plan.Mapping.Rules[i], i
	c.rule(n, scope)
	return n
}

func (c *compiler) missing(info *Field, name string) {
	if !info.Field.Required() {
		return
	}
	info.Missing = true
	f := fault.New(fault.Required, "the required field has no rule").In(name)
	c.plan.note(c.plan.Mapping.At, f)
}

func (c *compiler) rule(n *node, scope *formula.Scope) {
	r := n.info.Rule
	switch {
	case r.Kind == Constant:
		c.constant(n)
	case (r.Kind == Each) != (n.field.Kind == value.RecordKind && n.field.List()):
		c.wrong(n, fault.Expect(fault.Setting, ruleFor(n.field), string(r.Kind)))
	case r.Kind == Each:
		c.each(n, scope)
	default:
		c.formula(n, scope)
	}
}

func ruleFor(f *schema.Field) string {
	switch {
	case f.Kind == value.RecordKind && f.List():
		return "each with a list, for a list of records"
	case f.Kind == value.RecordKind:
		return "rules for the record's fields"
	}
	return "a formula or a constant"
}

func (c *compiler) constant(n *node) {
	v, ok := schema.ParseScalar(n.field.Kind, n.info.Rule.Text.Value)
	if !ok || n.field.List() {
		c.wrong(n, fault.Expect(fault.Type, n.field.Kind.String(), fault.Quote(n.info.Rule.Text.Value)))
		return
	}
	n.constant = v
	n.field.CheckField(v, func(f *fault.Fault) { c.wrong(n, f) })
}

func (c *compiler) formula(n *node, scope *formula.Scope) {
	if n.field.Kind == value.RecordKind {
		c.wrong(n, fault.Expect(fault.Setting, ruleFor(n.field), "a formula"))
		return
	}
	prog, faults := formula.Compile(n.info.Rule.Text.Value, scope)
	for _, f := range faults {
		c.wrong(n, f)
	}
	if prog == nil {
		return
	}
	n.info.Program = prog
	c.reads(n, prog)
	if want := wanted(n.field); !prog.Type.Fits(want) {
		f := fault.Expect(fault.Type, formula.Of(n.field).String(), prog.Type.String())
		if n.field.Kind == value.Text {
			f.Mended("Use text(…) to make it a text")
		}
		c.wrong(n, f)
		return
	}
	n.program = prog
	if prog.Type.Kind == n.field.Kind {
		n.direct = prog.Direct()
	}
}

// reads keeps what the rule of a node reads, as paths from the sources.
func (c *compiler) reads(n *node, prog *formula.Program) {
	if prog == nil {
		return
	}
	for _, path := range prog.Reads {
		n.info.Reads = append(n.info.Reads, c.resolved(path))
	}
}

// resolved is a path from the item of a list as one from the source that the list stands in.
func (c *compiler) resolved(path []string) []string {
	base, item := c.items[path[0]]
	if !item {
		return path
	}
	return append(base[:len(base):len(base)], path[1:]...)
}

func wanted(f *schema.Field) value.Kind {
	if f.List() {
		return value.ListKind
	}
	return f.Kind
}

func (c *compiler) each(n *node, scope *formula.Scope) {
	prog, faults := formula.Compile(n.info.Rule.Text.Value, scope)
	for _, f := range faults {
		c.wrong(n, f)
	}
	c.reads(n, prog)
	inner := scope.Inner()
	item := formula.Type{}
	if prog != nil {
		n.info.Program = prog
		if !prog.Type.Fits(value.ListKind) {
			c.wrong(n, fault.Expect(fault.Type, "a list", prog.Type.String()))
		} else {
			n.program = prog
		}
		if prog.Type.Item != nil {
			item = *prog.Type.Item
		}
	}
	n.item = inner.Define(n.info.Rule.As, item)
	inner.Open(n.info.Rule.As)
	n.scope, n.opened = inner, n.info.Rule.As
	outer := c.items
	c.items = maps.Clone(outer)
	if prog != nil && len(prog.Reads) > 0 {
		c.items[n.info.Rule.As] = c.resolved(prog.Reads[0])
	}
	c.children(n, n.info.Path, inner)
	c.items = outer
}

// wrong notes a fault of the node's rule.
func (c *compiler) wrong(n *node, f *fault.Fault) {
	f.In(n.info.Name())
	n.info.Faults = append(n.info.Faults, f)
	c.plan.note(n.info.Rule.Text, f)
}

// unused reports rules for fields that the target does not have.
func (c *compiler) unused() {
	for name, i := range c.rules {
		if !c.used[name] {
			r := c.plan.Mapping.Rules[i]
			c.plan.note(r.Field, fault.New(fault.Unknown, "the target %s has no field %q", c.plan.Target.ID, name).
				Mended("It has %s", strings.Join(c.plan.Target.Root.Shape().Names, ", ")))
		}
	}
}
