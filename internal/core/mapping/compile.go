package mapping

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/script"
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
			s = &schema.Schema{Root: schema.Record(src.Name.Value)}
		}
		p.Sources = append(p.Sources, s)
		scope.Define(src.Name.Value, src.typeOf(s))
		if i == 0 && !src.List {
			scope.Open(src.Name.Value)
		}
	}
	if p.Target = schemas(m.To.Value); p.Target == nil {
		p.note(m.To, fault.New(fault.Unknown, "there is no schema %q", m.To.Value))
		p.Target = &schema.Schema{Root: schema.Record("target")}
	}
	c := &compiler{bases: map[string]base{}, vars: map[string]*Field{}, plan: p, rules: map[string]int{}, feeds: map[string][]string{}, used: map[string]bool{}, begun: map[string]bool{}}
	c.order()
	p.root = &node{field: p.Target.Root, info: &Field{Field: p.Target.Root}, scope: scope}
	p.root.let = c.variables(m.Let, scope)
	for _, v := range p.root.let {
		p.Variables = append(p.Variables, v.info)
	}
	slices.SortFunc(p.Variables, func(a, b *Field) int { return cmp.Compare(a.Index, b.Index) })
	p.slots = scope.Size()
	for _, k := range m.Keep {
		p.keep = append(p.keep, c.program(nil, k.When, scope, value.Boolean))
	}
	c.idle = m.Script.Line > 0
	c.children(p.root, nil, scope)
	c.unused()
	if c.idle {
		p.compileScript()
	}
	return p
}

// compileScript compiles the script that stands in place of rules: the body of a function of the
// sources, by their names, and the run's facts.
func (p *Plan) compileScript() {
	var params []string
	for _, s := range p.Mapping.From {
		params = append(params, s.Name.Value)
	}
	f, ft := script.New(p.Mapping.Script.Value, append(params, "run"), p.Target.Root)
	if ft != nil {
		at := p.Mapping.Script
		if ft.Place.Line > 0 {
			at.Line += ft.Place.Line
			ft = fault.New(ft.Code, "%s", ft.What())
		}
		p.note(at, ft)
		return
	}
	p.script = f
}

func (src *Source) typeOf(s *schema.Schema) formula.Type {
	t := formula.Type{Kind: value.RecordKind, Fields: s.Root}
	if src.List {
		return formula.Type{Kind: value.ListKind, Item: &t}
	}
	return t
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
	bases map[string]base   // by the names that stand for something in the sources
	vars  map[string]*Field // the variables in scope
	plan  *Plan
	rules map[string]int
	feeds map[string][]string // of lists with several feeds or a named one: the labels, in order
	used  map[string]bool
	begun map[string]bool // the paths that have a rule below
	idle  bool            // inside of a branch that need not be there and has no rule
}

// base says what a path below a name reads of the sources.
type base func(rest []string) [][]string

// order finds the rule of each field, and the feeds of lists. Feeds follow each other by their
// labels, so that the order of rules does not matter.
func (c *compiler) order() {
	for i, r := range c.plan.Mapping.Rules {
		name := r.Field.Value
		if _, twice := c.rules[name]; twice {
			f := fault.New(fault.Setting, "%s has a rule already", name)
			if r.Kind == Each {
				f.Mended("A list is fed once more by %s[more]", name)
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
	for _, f := range n.field.Fields {
		n.children = append(n.children, c.field(f, path, f.Name, scope))
	}
}

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
	n := &node{field: f, info: info}
	i, ok := c.rules[info.Name()]
	record := f.Kind == value.RecordKind
	if !ok {
		c.unruled(n, record, scope)
		return n
	}
	c.used[info.Name()] = true
	info.Rule, info.Index = &c.plan.Mapping.Rules[i], i
	c.rule(n, scope)
	return n
}

// unruled goes on below a field without a rule. Below a list, and below a record that need not be there
// and has no rule inside, nothing is missing.
func (c *compiler) unruled(n *node, record bool, scope *formula.Scope) {
	outer := c.idle
	if !record || n.field.List() {
		c.missing(n.info)
		c.idle = true
	}
	if record {
		c.idle = c.idle || !n.field.Required() && !c.begun[n.info.Name()]
		c.children(n, n.info.Path, scope)
	}
	c.idle = outer
}

func (c *compiler) missing(info *Field) {
	if !info.Field.Required() || c.idle {
		return
	}
	info.Missing = true
	f := fault.New(fault.Required, "the required field has no rule").In(info.Name())
	c.plan.note(c.plan.Mapping.At, f)
}

// KindsFor are the kinds of rule that a field can have.
func KindsFor(f *schema.Field) []RuleKind {
	switch {
	case f.Kind == value.RecordKind && f.List():
		return []RuleKind{Each, Record}
	case f.Kind == value.RecordKind:
		return []RuleKind{Record}
	}
	return []RuleKind{Formula, Constant}
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
	case r.Kind == Constant:
		c.constant(n)
	case r.Kind == Each:
		c.each(n, scope)
	case r.Kind == Record:
		c.children(n, n.info.Path, scope)
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

func (c *compiler) formula(n *node, scope *formula.Scope) {
	r := n.info.Rule
	prog := c.typed(n.info, r.Text, scope, n.field)
	n.other = c.typed(n.info, r.Default, scope, n.field)
	n.program, n.info.Program = prog, prog
	if len(n.info.Faults) > 0 {
		return
	}
	if n.plain = n.when == nil && n.other == nil && r.Empty == asItIs; n.plain && prog.Type.Kind == n.field.Kind {
		n.direct = prog.Direct()
	}
}

func fits(prog *formula.Program, f *schema.Field) bool { return prog.Type.Fits(wanted(f)) }

// typed compiles a formula whose result must fit a field.
func (c *compiler) typed(info *Field, at doc.Text, scope *formula.Scope, field *schema.Field) *formula.Program {
	prog := c.program(info, at, scope, value.Absent)
	if prog != nil && !fits(prog, field) {
		f := fault.Expect(fault.Type, formula.Of(field).String(), prog.Type.String())
		if field.Kind == value.Text {
			f.Mended("Use text(…) to make it a text")
		}
		c.wrong(info, at, f)
	}
	return prog
}

// program compiles a formula of a rule, or of the mapping where info is nil, whose result must be of a
// kind; Absent stands for any. It is nil for an empty text, and for a formula with a fault that leaves
// nothing to run.
func (c *compiler) program(info *Field, at doc.Text, scope *formula.Scope, want value.Kind) *formula.Program {
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

// union adds to a list what it does not have.
func union(list, more []string) []string {
	for _, s := range more {
		if !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	return list
}

// reads keeps what a formula reads, as paths from the sources, each once.
func (c *compiler) reads(info *Field, prog *formula.Program) {
	for _, path := range prog.Reads {
		if v := c.vars[path[0]]; v != nil && !slices.Contains(info.Through, v) {
			info.Through = append(info.Through, v)
		}
	}
	for _, path := range c.resolved(prog) {
		if !slices.ContainsFunc(info.Reads, func(p []string) bool { return slices.Equal(p, path) }) {
			info.Reads = append(info.Reads, path)
		}
	}
}

// resolved is what a formula reads, as paths from the sources.
func (c *compiler) resolved(prog *formula.Program) [][]string {
	var out [][]string
	for _, path := range prog.Reads {
		if below, ok := c.bases[path[0]]; ok {
			out = append(out, below(path[1:])...)
		} else {
			out = append(out, path)
		}
	}
	return out
}

// below is the base of a name for what a formula gives: its first path goes on with what is read below
// the name, where it is a record or a list.
func below(paths [][]string, t formula.Type) base {
	deep := t.Fields != nil || t.Item != nil
	return func(rest []string) [][]string {
		if len(paths) == 0 || len(rest) == 0 || !deep {
			return paths
		}
		first := paths[0]
		return append([][]string{append(first[:len(first):len(first)], rest...)}, paths[1:]...)
	}
}

func wanted(f *schema.Field) value.Kind {
	if f.List() {
		return value.ListKind
	}
	return f.Kind
}

// variables compiles variables into a scope, each after those that it reads.
func (c *compiler) variables(vars []Variable, scope *formula.Scope) []variable {
	var out []variable
	for _, i := range c.sequence(vars) {
		v := &vars[i]
		info := &Field{Path: []string{v.Name}, Index: i, Variable: v}
		prog := c.program(info, v.Formula, scope, value.Absent)
		info.Program = prog
		t := formula.Type{}
		if prog != nil {
			t = prog.Type
		}
		c.bases[v.Name], c.vars[v.Name] = below(info.Reads, t), info
		out = append(out, variable{info: info, program: prog, slot: scope.Define(v.Name, t)})
	}
	return out
}

// sequence puts variables behind those that they read. Those in a circle, and names that are taken, are
// reported and left out.
func (c *compiler) sequence(vars []Variable) []int {
	at := map[string]int{}
	for i, v := range vars {
		_, twice := at[v.Name]
		source := slices.ContainsFunc(c.plan.Mapping.From, func(s Source) bool { return s.Name.Value == v.Name })
		if twice || source || v.Name == "run" {
			c.plan.note(v.Formula, fault.New(fault.Setting, "the name %q is taken", v.Name))
			continue
		}
		at[v.Name] = i
	}
	s := sorter{vars: vars, at: at, state: make([]int, len(vars)), circle: c.circle}
	for i, v := range vars {
		if at[v.Name] == i {
			s.visit(i, nil)
		}
	}
	return s.out
}

func (c *compiler) circle(v *Variable, names []string) {
	c.plan.note(v.Formula, fault.New(fault.Setting, "the variables read each other in a circle: %s", strings.Join(names, " → ")).In(v.Name))
}

// sorter puts variables in the order in which they can be computed.
type sorter struct {
	vars   []Variable
	at     map[string]int
	state  []int // 0 not seen, 1 under way, 2 done
	out    []int
	circle func(v *Variable, names []string)
}

func (s *sorter) visit(i int, way []string) {
	v := &s.vars[i]
	way = append(way, v.Name)
	switch s.state[i] {
	case 2:
		return
	case 1:
		s.circle(v, way[slices.Index(way, v.Name):])
		return
	}
	s.state[i] = 1
	for _, name := range formula.Names(v.Formula.Value) {
		if j, ok := s.at[name]; ok {
			s.visit(j, way)
		}
	}
	s.state[i] = 2
	s.out = append(s.out, i)
}

// each compiles the list of an each, what its items pass, and the rules inside.
func (c *compiler) each(n *node, scope *formula.Scope) {
	r, outer, vars := n.info.Rule, c.bases, c.vars
	c.bases, c.vars = maps.Clone(outer), maps.Clone(vars)
	prog := c.program(n.info, r.Text, scope, value.ListKind)
	n.program, n.info.Program = prog, prog
	n.list = &listing{}
	inner := scope.Inner()
	item := c.item(n, prog, r.As, inner)
	n.list.item = inner.Size() - 1
	for _, in := range r.Inside {
		list := c.program(n.info, in.List, inner, value.ListKind)
		c.item(n, list, in.As, inner)
		n.list.inside = append(n.list.inside, level{program: list, slot: inner.Size() - 1})
	}
	n.list.where = c.program(n.info, r.Where, inner, value.Boolean)
	n.list.distinct = c.program(n.info, r.Distinct, inner, value.Absent)
	if group := c.program(n.info, r.Group, inner, value.Absent); group != nil {
		n.list.group = group
		inner = scope.Inner()
		c.grouped(n, group, item, inner)
	}
	for _, key := range sortKeys(r.Sort) {
		if prog := c.program(n.info, key.text, inner, value.Absent); prog != nil {
			n.list.sort = append(n.list.sort, sortKey{program: prog, descending: key.descending})
		}
	}
	if r.Position != "" {
		n.list.position = inner.Define(r.Position, formula.Type{Kind: value.Integer})
		c.bases[r.Position] = func([]string) [][]string { return nil }
	}
	n.let = c.variables(r.Let, inner)
	n.list.size = inner.Size()
	n.scope, n.opened = inner, r.As
	c.children(n, n.info.Path, inner)
	c.bases, c.vars = outer, vars
}

// item defines the name of a list's item, and what it stands for in the sources.
func (c *compiler) item(n *node, list *formula.Program, name string, scope *formula.Scope) formula.Type {
	t := formula.Type{}
	if list != nil {
		if list.Type.Item != nil {
			t = *list.Type.Item
		}
		of := c.resolved(list) // what else it reads only says which items there are
		c.bases[name] = below(of[:min(1, len(of))], t)
	}
	if !formula.Name(name) {
		c.wrong(n.info, n.info.Rule.Text, fault.New(fault.Setting, "an item cannot be called %q", name).Mended("Use letters, digits and _"))
	}
	scope.Define(name, t)
	scope.Open(name)
	return t
}

// grouped defines the group's name: a record of the key and the items.
func (c *compiler) grouped(n *node, key *formula.Program, item formula.Type, scope *formula.Scope) {
	as := n.info.Rule.As
	items, of := c.bases[as], c.resolved(key)
	group := formula.Group(formula.Type{Kind: value.ListKind, Item: &item}, key.Type)
	scope.Define(as, formula.Type{Kind: value.RecordKind, Fields: group})
	scope.Open(as)
	c.bases[as] = func(rest []string) [][]string {
		if len(rest) > 0 && rest[0] == "items" && items != nil {
			return items(rest[1:])
		}
		return of
	}
}

type writtenKey struct {
	text       doc.Text
	descending bool
}

// sortKeys takes the text of a sort apart: formulas with ; between, each may end in descending.
func sortKeys(t doc.Text) []writtenKey {
	if t.Line == 0 {
		return nil
	}
	var keys []writtenKey
	column := t.Column
	for part := range strings.SplitSeq(t.Value, ";") {
		k := writtenKey{text: doc.Text{Value: part, Line: t.Line, Column: column}}
		column += len(part) + 1
		if rest, ok := strings.CutSuffix(strings.TrimRight(part, " "), " descending"); ok {
			k.text.Value, k.descending = rest, true
		}
		keys = append(keys, k)
	}
	return keys
}

// wrong notes a fault of a field's rule, at the text that has it.
func (c *compiler) wrong(info *Field, at doc.Text, f *fault.Fault) {
	if info != nil {
		f.In(info.Name())
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
			c.plan.note(r.Field, fault.New(fault.Required, "%s[%s] has no rule that makes its entries", list, label).Mended("Add one with each, or an empty one for a single entry"))
			continue
		}
		c.plan.note(r.Field, fault.New(fault.Unknown, "the target %s has no field %q", c.plan.Target.ID, name).
			Mended("It has %s", strings.Join(c.plan.Target.Root.Shape().Names, ", ")))
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
