package jsonschema

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// alternatives makes a variant of what anyOf and oneOf allow. Null among them makes the field nullable, constants are codes,
// a list beside one of its items is a list that may be written so, and a single alternative is joined to the schema around it.
func (m *importer) alternatives(c context, f *schema.Field) context {
	for joins := 0; ; joins++ {
		keyword := "oneOf"
		if !c.get(keyword).there() {
			keyword = "anyOf"
		}
		list := c.get(keyword)
		if !list.there() {
			return c
		}
		if joins > maxRecursion*10 {
			m.note(list, "%s goes round in a circle", keyword)
			return c
		}
		branches := m.branches(list, f)
		single := m.oneOrMany(branches)
		switch codes := constants(branches); {
		case len(branches) == 0:
			c = m.joined(c, context{c.doc, &node{kind: '{'}}, keyword)
		case single != nil:
			f.Single = true
			c = m.joined(c, *single, keyword)
		case len(branches) == 1:
			c = m.joined(c, branches[0].context, keyword)
		case codes != nil:
			c = m.joined(c, context{c.doc, codes}, keyword)
			for _, b := range branches {
				f.Notes = strings.TrimSpace(f.Notes + "\n" + meaning(b.context))
			}
		case onlyRequired(branches):
			m.note(list, "%s: which of the fields stand together is not checked", keyword)
			c = m.joined(c, context{c.doc, &node{kind: '{'}}, keyword)
		default:
			if other := c.get("anyOf"); keyword == "oneOf" && other.there() {
				m.note(other, "anyOf: beside oneOf, it is not checked")
			}
			m.variant(c, f, keyword, branches)
			return c
		}
	}
}

// meaning tells what a constant stands for.
func meaning(c context) string {
	if t := c.text("title"); t != "" {
		return fmt.Sprintf("%v: %s", c.node.get("const").value, t)
	}
	return ""
}

// branch is one alternative, with what it is called.
type branch struct {
	context
	name string
}

// branches are the alternatives, without null.
func (m *importer) branches(list context, f *schema.Field) (out []branch) {
	for _, b := range list.items {
		at := list.of(b)
		name := path.Base(at.text("$ref"))
		r := m.merged(m.resolved(at))
		switch {
		case r.text("type") == "null":
			f.Nullable = true
			continue
		case name == "." || name == "/":
			name = r.text("title")
		}
		out = append(out, branch{r, name})
	}
	return out
}

// oneOrMany is the list of two alternatives of which the other is a single one of its items; nil where they are not so.
func (m *importer) oneOrMany(branches []branch) *context {
	if len(branches) != 2 {
		return nil
	}
	for i := range branches {
		list, one := branches[i].context, branches[1-i].context
		items := list.get("items")
		if list.text("type") != "array" || !items.there() || one.text("type") == "array" {
			continue
		}
		if of := m.merged(m.resolved(items)); of.node == one.node || of.text("type") == one.text("type") && of.text("type") != "" {
			return &list
		}
	}
	return nil
}

// constants joins alternatives that are all constant texts to one list of values; nil where they are not.
func constants(branches []branch) *node {
	list := &node{kind: '['}
	for _, b := range branches {
		one := b.node.get("const")
		if one == nil || one.kind != '"' {
			return nil
		}
		list.items = append(list.items, one)
	}
	if len(list.items) == 0 {
		return nil
	}
	return &node{kind: '{', names: []string{"enum"}, members: map[string]*node{"enum": list}, off: branches[0].off, line: branches[0].line, column: branches[0].column}
}

// onlyRequired says whether alternatives tell nothing but which of the fields around them must be there.
func onlyRequired(branches []branch) bool {
	return !slices.ContainsFunc(branches, func(b branch) bool {
		return slices.ContainsFunc(b.names, func(n string) bool {
			return n != "required" && n != "not" && n != "title" && n != "description"
		})
	})
}

// joined is a schema with one that must hold, too, in place of the keyword that said so.
func (m *importer) joined(c, with context, keyword string) context {
	out := &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}
	both := []context{c, with}
	for _, from := range both {
		if from.kind == 'f' {
			return from
		}
		m.noteClosed(from, both)
		for _, name := range from.names {
			if (name != keyword || from.node != c.node) && !out.add(name, from.node.get(name)) {
				m.note(from.get(name), "%s: what stands around it says something else of it; that is taken", name)
			}
		}
	}
	return context{c.doc, out}
}

// variant makes a field that is one of several.
func (m *importer) variant(c context, f *schema.Field, keyword string, branches []branch) {
	f.Kind = value.VariantKind
	if u := c.get("unevaluatedProperties"); u.there() && u.kind != 't' && keyword == "anyOf" {
		m.note(u, "unevaluatedProperties: fields of several alternatives together are not allowed")
	}
	around := m.without(c)
	for i, b := range branches {
		child := newField("")
		child.Min = 1
		m.field(m.joined(around, b.context, keyword), child)
		if child.Name = branchName(f, child, b.name); child.Kind == value.VariantKind && !child.List() && child.ToldBy == "" {
			f.Fields = append(f.Fields, child.Fields...) // a choice of choices is one
			f.Nullable = f.Nullable || child.Nullable
			continue
		}
		child.Notes = strings.TrimSpace(strings.TrimPrefix(child.Notes, f.Notes))
		f.Fields = append(f.Fields, child)
		m.discriminated(c, f, i, b)
	}
	for i, b := range f.Fields { // names of choices that were taken apart may be there twice
		rest := &schema.Field{Fields: f.Fields[:i]}
		b.Name = branchName(rest, b, b.Name)
	}
	f.ToldBy = tellingField(f, c)
	if keyword == "oneOf" && f.ToldBy == "" && !disjoint(f.Fields) {
		f.ToldBy = schema.OnlyOne
	}
}

// without is a schema without its alternatives and what only describes it.
func (m *importer) without(c context) context {
	out := &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}
	for _, name := range c.names {
		if !slices.Contains([]string{"oneOf", "anyOf", "discriminator", "title", "description", "$defs", "definitions", "$schema", "$id", "default", "examples"}, name) {
			out.add(name, c.node.get(name))
		}
	}
	return context{c.doc, out}
}

// branchName is a name that no branch has yet: the one given, or that of its type.
func branchName(f, b *schema.Field, name string) string {
	if name == "" {
		name = b.Kind.String()
		if b.List() {
			name = "list"
		}
	}
	base := name
	for n := 2; slices.ContainsFunc(f.Fields, func(o *schema.Field) bool { return o.Name == name }); n++ {
		name = fmt.Sprintf("%s_%d", base, n)
	}
	return name
}

// discriminated gives a branch the value that tells it, as OpenAPI 3.1 says (section 4.8.25): that of the mapping, or the name
// of its schema.
func (m *importer) discriminated(c context, f *schema.Field, i int, b branch) {
	by := c.get("discriminator").text("propertyName")
	child := f.Fields[len(f.Fields)-1]
	if by == "" || child.Kind != value.RecordKind {
		return
	}
	at := slices.IndexFunc(child.Fields, func(g *schema.Field) bool { return g.Name == by })
	if at < 0 || len(child.Fields[at].Constraints.Codes) > 0 || child.Fields[at].Kind != value.Text {
		return
	}
	mapping := c.get("discriminator").get("mapping")
	var codes []schema.Code
	if mapping.there() {
		for _, key := range mapping.names {
			if path.Base(fmt.Sprint(mapping.node.get(key).value)) == b.name {
				codes = append(codes, schema.Code{Value: key})
			}
		}
	}
	if codes == nil && b.name != "" {
		codes = []schema.Code{{Value: b.name}}
	}
	child.Fields[at].Constraints.Codes = codes
}

// tellingField is the name of a field whose codes tell the branches of a variant apart; empty when there is none.
func tellingField(f *schema.Field, c context) string {
	var names []string
	if by := c.get("discriminator").text("propertyName"); by != "" {
		names = append(names, by)
	}
	for _, b := range f.Fields {
		if b.Kind != value.RecordKind || b.List() {
			return ""
		}
		for _, g := range b.Fields {
			names = append(names, g.Name)
		}
	}
	for _, name := range names {
		if tells(f.Fields, name) {
			return name
		}
	}
	return ""
}

func tells(branches []*schema.Field, name string) bool {
	seen := map[string]bool{}
	for _, b := range branches {
		i := slices.IndexFunc(b.Fields, func(g *schema.Field) bool { return g.Name == name && g.Required() && !g.List() })
		if i < 0 || len(b.Fields[i].Constraints.Codes) == 0 {
			return false
		}
		for _, code := range b.Fields[i].Constraints.Codes {
			if seen[code.Value] {
				return false
			}
			seen[code.Value] = true
		}
	}
	return true
}

// disjoint says whether no value can be of two branches.
func disjoint(branches []*schema.Field) bool {
	for i, a := range branches {
		for _, b := range branches[:i] {
			if !apart(a, b) && !apart(b, a) {
				return false
			}
		}
	}
	return true
}

// apart says whether two branches differ in kind, or one must have a field that the other must not.
func apart(a, b *schema.Field) bool {
	ka, kb := tokenOf(a), tokenOf(b)
	if ka != kb {
		return ka != ' ' && kb != ' '
	}
	if a.Kind != value.RecordKind || b.Kind != value.RecordKind || a.List() || b.Others != schema.FaultOthers {
		return false
	}
	return slices.ContainsFunc(a.Fields, func(g *schema.Field) bool {
		return g.Required() && !slices.ContainsFunc(b.Fields, func(o *schema.Field) bool { return o.Name == g.Name })
	})
}

// tokenOf is what values of a branch begin with in JSON; a blank where they may begin with anything.
func tokenOf(b *schema.Field) byte {
	switch {
	case b.Kind == value.AnyKind || b.Kind == value.VariantKind || b.Single:
		return ' '
	case b.List() || b.Kind == value.ListKind:
		return '['
	case b.Kind == value.RecordKind || b.Kind == value.MapKind:
		return '{'
	case b.Kind.Numeric():
		return '0'
	case b.Kind == value.Boolean:
		return 't'
	case b.Kind == value.Null:
		return 'n'
	}
	return '"'
}
