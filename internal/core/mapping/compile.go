package mapping

import (
	"cmp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Compile checks every rule against the schemas, the tables and the libraries and makes a plan. The plan is always usable: a
// field whose rule has a fault reports that fault when it runs.
func (m *Mapping) Compile(schemas Schemas, env formula.Env) *Plan {
	p := &Plan{Mapping: m}
	scope := env.Scope()
	scope.Define("run", formula.Type{Kind: value.RecordKind, Fields: Run})
	for i, src := range m.From {
		s := schemas(src.Schema.Value)
		if s == nil {
			p.note(src.Schema, fault.New(fault.Unknown, "there is no schema %q", src.Schema.Value))
			s = &schema.Schema{Notation: json.Kind.Notation, Root: schema.Record(src.Name.Value)}
		}
		p.Sources = append(p.Sources, s)
		scope.Define(src.Name.Value, src.typeOf(s))
		if i == 0 && !src.List {
			scope.Open(src.Name.Value)
		}
	}
	if p.Target = schemas(m.To.Value); p.Target == nil {
		p.note(m.To, fault.New(fault.Unknown, "there is no schema %q", m.To.Value))
		p.Target = &schema.Schema{Notation: json.Kind.Notation, Root: schema.Record("target")}
	}
	c := &compiler{bases: map[string]base{}, vars: map[string]*Field{}, plan: p, rules: map[string]int{}, feeds: map[string][]string{}, used: map[string]bool{}, begun: map[string]bool{}}
	c.order()
	p.root = &node{field: p.Target.Root, info: &Field{Field: p.Target.Root}, scope: scope}
	p.root.let = c.variables(m.Variables, scope)
	for _, v := range p.root.let {
		p.Variables = append(p.Variables, v.info)
	}
	slices.SortFunc(p.Variables, func(a, b *Field) int { return cmp.Compare(a.Index, b.Index) })
	p.slots = scope.Size()
	for _, k := range m.Conditions {
		p.keep = append(p.keep, c.program(nil, k.When, scope, value.Boolean))
	}
	c.idle = m.Script.Line > 0
	c.message(scope)
	c.unused()
	if c.idle {
		p.compileScript()
	}
	return p
}

func (src *Source) typeOf(s *schema.Schema) formula.Type {
	t := formula.Of(s.Root)
	if src.List {
		return formula.Type{Kind: value.ListKind, Item: &t}
	}
	return t
}

// note keeps a fault with its place in the part file. A fault in a formula keeps the column that
// it has there as its own.
func (p *Plan) note(at partfile.Text, f *fault.Fault) {
	noted := *f
	noted.Place = p.Mapping.doc.Place(at)
	if f.Place.Column > 1 {
		noted.Place.Column += f.Place.Column - 1
	}
	p.Faults = append(p.Faults, &noted)
}

type compiler struct {
	bases  map[string]base   // by the names that stand for something in the sources
	vars   map[string]*Field // the variables in scope
	plan   *Plan
	rules  map[string]int
	feeds  map[string][]string // of lists with several feeds or a named one: the labels, in order
	used   map[string]bool
	begun  map[string]bool // the paths that have a rule below
	parent *node           // of the field at hand
	aside  bool            // inside of a branch that is not made
	idle   bool            // inside of a branch that need not be there and has no rule
}

// order finds the rule of each field, and the feeds of lists. Feeds follow each other by their
// labels, so that the order of rules does not matter.
func (c *compiler) order() {
	for i, r := range c.plan.Mapping.Rules {
		name := r.Field.Value
		if _, twice := c.rules[name]; twice {
			f := fault.New(fault.Setting, "%s has a rule already", name)
			if r.Kind == Each {
				f.WithFix("A list is fed once more by %s[more]", name)
			}
			c.plan.note(r.Field, f)
			continue
		}
		c.rules[name] = i
		for at := range name {
			if name[at] == '/' {
				c.begun[name[:at]] = true
			}
		}
		if list, label, ok := labelled(name); ok {
			c.feeds[list] = append(c.feeds[list], label)
		}
	}
	for _, labels := range c.feeds {
		slices.Sort(labels)
	}
}

// labelled takes a path apart that ends in the label of a feed: line[extras].
func labelled(path string) (list, label string, ok bool) {
	rest, found := strings.CutSuffix(path, "]")
	at := strings.LastIndexByte(rest, '[')
	if !found || at <= strings.LastIndexByte(rest, '/')+1 || at == len(rest)-1 {
		return "", "", false
	}
	return rest[:at], rest[at+1:], true
}

func (c *compiler) children(n *node, path []string, scope *formula.Scope) {
	outer := c.parent
	for _, f := range n.field.Fields {
		c.parent = n
		n.children = append(n.children, c.field(f, path, f.Name, scope))
	}
	c.parent = outer
}

// message compiles the rules for the target: those of its fields, or of the message as a whole, which is called . where it is no
// record.
func (c *compiler) message(scope *formula.Scope) {
	root := c.plan.root
	if root.field.Kind == value.RecordKind {
		c.children(root, nil, scope)
		return
	}
	root.children = []*node{c.field(root.field, nil, whole, scope)}
}

// whole is the name of a message that is no record, in the rules for it.
const whole = "."

// Below is the path of a field below the message: without the name of one that is no record.
func Below(path []string) []string {
	if len(path) > 0 && path[0] == whole {
		return path[1:]
	}
	return path
}

// isBranch says whether what stands below a node are the branches of a variant.
func isBranch(parent *node) bool { return parent != nil && parent.field.Kind == value.VariantKind }

func (c *compiler) field(f *schema.Field, path []string, name string, scope *formula.Scope) *node {
	at := append(path[:len(path):len(path)], name)
	full := strings.Join(at, "/")
	labels := c.feeds[full]
	if labels == nil || f.Kind != value.RecordKind || !f.List() {
		return c.single(f, at, scope)
	}
	n := &node{field: f, info: &Field{Path: at, Field: f, Index: -1}}
	if _, first := c.rules[full]; first {
		n.feeds = append(n.feeds, c.single(f, at, scope))
		n.info = n.feeds[0].info
	} else {
		c.plan.Fields = append(c.plan.Fields, n.info)
	}
	for _, label := range labels {
		at := append(path[:len(path):len(path)], name+"["+label+"]")
		n.feeds = append(n.feeds, c.single(f, at, scope))
	}
	n.info.Feeds = len(n.feeds)
	return n
}

func (c *compiler) single(f *schema.Field, path []string, scope *formula.Scope) *node {
	info := &Field{Path: path, Field: f, Index: -1}
	c.plan.Fields = append(c.plan.Fields, info)
	n := &node{field: f, info: info, begun: c.begun[info.Name()]}
	i, ok := c.rules[info.Name()]
	if info.Aside = isBranch(c.parent) && !ok && !n.begun || c.aside; info.Aside && !c.aside {
		c.aside = true
		defer func() { c.aside = false }()
	}
	if !ok {
		c.unruled(n, f.Nests(), scope)
		return n
	}
	c.used[info.Name()] = true
	info.Rule, info.Index = &c.plan.Mapping.Rules[i], i
	c.rule(n, scope)
	return n
}

// unruled goes on below a field without a rule. Below a list, and below a record that need not be there
// and has no rule inside, nothing is missing; of a variant one branch is made, and nothing is missing in the others.
func (c *compiler) unruled(n *node, nests bool, scope *formula.Scope) {
	outer := c.idle
	begun := c.begun[n.info.Name()]
	branching := n.field.Kind == value.VariantKind && !n.field.List() && begun
	n.info.Branches = branching
	if !branching && (n.field.Kind != value.RecordKind || n.field.List()) {
		c.missing(n.info)
		c.idle = true
	}
	if nests {
		c.idle = c.idle || !begun && (!n.field.Required() || isBranch(c.parent))
		c.children(n, n.info.Path, scope)
	}
	c.idle = outer
}

func (c *compiler) missing(info *Field) {
	if !info.Field.Required() || c.idle || isBranch(c.parent) {
		return
	}
	info.Missing = true
	f := fault.New(fault.Required, "the required field has no rule").InField(info.Name())
	c.plan.note(c.plan.Mapping.At, f)
}

// KindsFor are the kinds of rule that a field can have.
func KindsFor(f *schema.Field) []RuleKind {
	switch {
	case f.Kind == value.RecordKind && f.List():
		return []RuleKind{Each, Record, Script}
	case f.Kind == value.RecordKind:
		return []RuleKind{Record, Script}
	case f.Nests() && f.List(), f.Kind == value.MapKind, f.Kind == value.ListKind:
		return []RuleKind{Each, Formula, Script}
	case f.Kind == value.VariantKind:
		return []RuleKind{Record, Formula, Constant, Script}
	case f.Kind == value.AnyKind:
		return []RuleKind{Formula, Script}
	}
	return []RuleKind{Formula, Constant, Script}
}

// expected tells in words what rule a field wants, by the first of its kinds.
var expected = map[RuleKind]string{
	Each: "each with a list, for a list of records", Record: "rules for the record's fields", Formula: "a formula or a constant",
}

func (c *compiler) rule(n *node, scope *formula.Scope) {
	r := n.info.Rule
	n.when = c.program(n.info, r.When, scope, value.Boolean)
	switch kinds := KindsFor(n.field); {
	case !slices.Contains(kinds, r.Kind) && r.Kind == Record:
		c.wrong(n.info, r.Field, fault.New(fault.Required, "the rule has neither formula nor constant nor each"))
	case !slices.Contains(kinds, r.Kind):
		c.wrong(n.info, r.Text, fault.Expect(fault.Setting, expected[kinds[0]], string(r.Kind)))
	case r.Kind == Constant && n.field.Kind == value.VariantKind:
		c.branchConstant(n)
	case r.Kind == Constant:
		c.constant(n)
	case r.Kind == Each:
		c.each(n, scope)
	case r.Kind == Record:
		c.children(n, n.info.Path, scope)
	case r.Kind == Script:
		c.script(n, scope)
	default:
		c.formula(n, scope)
	}
}

func (c *compiler) constant(n *node) {
	text := n.info.Rule.Text
	v, ok := schema.ParseScalar(n.field.Kind, text.Value)
	if !ok || n.field.List() {
		c.wrong(n.info, text, fault.Expect(fault.Type, n.field.Kind.String(), fault.Quote(text.Value)))
		return
	}
	n.constant = v
	n.field.CheckField(v, func(f *fault.Fault) { c.wrong(n.info, text, f) })
}

// branchConstant is a constant of the first branch of a variant that can have it.
func (c *compiler) branchConstant(n *node) {
	text := n.info.Rule.Text
	for _, b := range n.field.Fields {
		if v, ok := schema.ParseScalar(b.Kind, text.Value); ok && b.CheckOne(v) == nil && b.Scalar() {
			n.constant = v
			return
		}
	}
	c.wrong(n.info, text, fault.Expect(fault.Type, formula.Of(n.field).String(), fault.Quote(text.Value)))
}

func (c *compiler) formula(n *node, scope *formula.Scope) {
	r := n.info.Rule
	prog := c.typed(n.info, r.Text, scope, n.field)
	n.other = c.typed(n.info, r.Default, scope, n.field)
	n.program, n.info.Program = prog, prog
	if len(n.info.Faults) > 0 {
		return
	}
	if n.plain = n.when == nil && n.other == nil && r.Empty == asItIs; n.plain && prog.Type.Kind == n.field.Kind {
		n.direct = prog.FieldAccess()
	}
}

func fits(prog *formula.Program, f *schema.Field) bool {
	if f.Kind == value.VariantKind && !f.List() {
		return prog.Type.Kind == value.VariantKind || slices.ContainsFunc(f.Fields, func(b *schema.Field) bool { return fits(prog, b) })
	}
	return prog.Type.Fits(wanted(f))
}

// typed compiles a formula whose result must fit a field.
func (c *compiler) typed(info *Field, at partfile.Text, scope *formula.Scope, field *schema.Field) *formula.Program {
	prog := c.program(info, at, scope, value.Absent)
	if prog != nil && !fits(prog, field) {
		f := fault.Expect(fault.Type, formula.Of(field).String(), prog.Type.String())
		if now := converted(at.Value, scope, field); now != "" {
			f.WithFix("Write %s", now)
		}
		c.wrong(info, at, f)
	}
	return prog
}

// conversions are the functions that make a value of a kind.
var conversions = map[value.Kind]string{
	value.Text: "text", value.Integer: "integer", value.Decimal: "decimal", value.Boolean: "boolean", value.Date: "date", value.Time: "time", value.Timestamp: "timestamp",
	value.LocalTimestamp: "localTimestamp", value.Duration: "duration", value.YearMonth: "yearMonth", value.ZonedTime: "zonedTime",
}

// converted is a formula with its result made one of a field, where that compiles and fits; empty where it does not.
func converted(source string, scope *formula.Scope, field *schema.Field) string {
	fn := conversions[field.Kind]
	if fn == "" || field.List() {
		return ""
	}
	now := fn + "(" + source + ")"
	prog, faults := formula.Compile(now, scope)
	if len(faults) > 0 || prog == nil || !fits(prog, field) {
		return ""
	}
	return now
}

// program compiles a formula of a rule, or of the mapping where info is nil, whose result must be of a
// kind; Absent stands for any. It is nil for an empty text, and for a formula with a fault that leaves
// nothing to run.
func (c *compiler) program(info *Field, at partfile.Text, scope *formula.Scope, want value.Kind) *formula.Program {
	if at.Line == 0 {
		return nil
	}
	prog, faults := formula.Compile(at.Value, scope)
	for _, f := range faults {
		c.wrong(info, at, f)
	}
	if prog == nil {
		return nil
	}
	c.plan.Tables, c.plan.Functions = union(c.plan.Tables, prog.Tables), union(c.plan.Functions, prog.Libraries)
	if info != nil {
		c.reads(info, prog)
		info.Tables, info.Functions = union(info.Tables, prog.Tables), union(info.Functions, prog.Libraries)
	}
	if want != value.Absent && !prog.Type.Fits(want) {
		expected := want.String()
		switch want {
		case value.ListKind:
			expected = "a list"
		case value.Boolean:
			expected = "true or false"
		}
		c.wrong(info, at, fault.Expect(fault.Type, expected, prog.Type.String()))
		return nil
	}
	return prog
}

func wanted(f *schema.Field) value.Kind {
	switch {
	case f.List():
		return value.ListKind
	case f.Kind == value.ListKind:
		return wanted(f.Each())
	}
	return f.Kind
}

// wrong notes a fault of a field's rule, at the text that has it.
func (c *compiler) wrong(info *Field, at partfile.Text, f *fault.Fault) {
	if info != nil {
		f.InField(info.Name())
		info.Faults = append(info.Faults, f)
	}
	c.plan.note(at, f)
}

// unused reports rules for fields that the target does not have.
func (c *compiler) unused() {
	for i, r := range c.plan.Mapping.Rules {
		name := r.Field.Value
		if c.rules[name] != i || c.used[name] {
			continue
		}
		c.plan.Orphans = append(c.plan.Orphans, i)
		if list, label, ok := openFeed(name, c.rules); ok {
			c.plan.note(r.Field, fault.New(fault.Required, "%s[%s] has no rule that makes its entries", list, label).WithFix("Add one with each, or an empty one for a single entry"))
			continue
		}
		c.plan.note(r.Field, fault.New(fault.Unknown, "the target %s has no field %q", c.plan.Target.ID, name).
			WithFix("It has %s", strings.Join(c.plan.Target.Root.Layout().Names, ", ")))
	}
}

// openFeed finds a feed above a path that no rule makes.
func openFeed(path string, rules map[string]int) (list, label string, ok bool) {
	for i := range path {
		if path[i] != '/' {
			continue
		}
		if list, label, ok = labelled(path[:i]); ok {
			if _, made := rules[path[:i]]; !made {
				return list, label, true
			}
		}
	}
	return "", "", false
}
