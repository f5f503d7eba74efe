package mapping

import (
	"iter"
	"maps"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// each compiles the list of an each, what its items pass, and the rules inside.
func (c *compiler) each(n *node, scope *formula.Scope) {
	r, outer, vars := n.info.Rule, c.bases, c.vars
	c.bases, c.vars = maps.Clone(outer), maps.Clone(vars)
	n.list = &listing{}
	prog := c.listOf(n, scope)
	n.program, n.info.Program = prog, prog
	inner := scope.Inner()
	item := c.item(n, prog, r.As, inner)
	n.list.item = inner.Size() - 1
	for _, in := range r.Nested {
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
	if r.Index != "" {
		n.list.position = inner.Define(r.Index, formula.Type{Kind: value.Integer})
		c.bases[r.Index] = func([]string) [][]string { return nil }
	}
	c.key(n, inner)
	n.let = c.variables(r.Variables, inner)
	n.list.size = inner.Size()
	n.scope, n.opened = inner, r.As
	c.children(n, n.info.Path, inner)
	c.bases, c.vars = outer, vars
}

// listOf compiles the list of an each; a map stands for the list of its entries, each with key and value.
func (c *compiler) listOf(n *node, scope *formula.Scope) *formula.Program {
	text := n.info.Rule.Text
	if prog, faults := formula.Compile(text.Value, scope); len(faults) == 0 && prog.Type.Kind == value.MapKind {
		text.Value = "entries(" + text.Value + ")"
		n.list.entries = true
	}
	return c.program(n.info, text, scope, value.ListKind)
}

// key compiles what names the entries of a map.
func (c *compiler) key(n *node, scope *formula.Scope) {
	key := n.info.Rule.Key
	isMap := n.field.Kind == value.MapKind && !n.field.List()
	switch {
	case isMap && key.Line == 0 && n.list.entries:
		n.list.key = c.program(n.info, partfile.Text{Value: n.info.Rule.As + ".key", Line: n.info.Rule.Text.Line}, scope, value.Text)
	case isMap && key.Line == 0:
		c.wrong(n.info, n.info.Rule.Text, fault.New(fault.Required, "nothing says at which name an entry of the map stands").WithFix("Give the rule a key: a formula whose result is a text"))
	case !isMap && key.Line > 0:
		c.wrong(n.info, key, fault.New(fault.Setting, "only the entries of a map have a key"))
	case isMap:
		n.list.key = c.program(n.info, key, scope, value.Text)
	}
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
		c.wrong(n.info, n.info.Rule.Text, fault.New(fault.Setting, "an item cannot be called %q", name).WithFix("Use letters, digits and _"))
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
	text       partfile.Text
	descending bool
}

// sortKeys are the keys of a sort with their places; none where it is not said.
func sortKeys(t partfile.Text) []writtenKey {
	if t.Line == 0 {
		return nil
	}
	var keys []writtenKey
	for key := range SortKeys(t.Value) {
		keys = append(keys, writtenKey{partfile.Text{Value: key.Formula, Line: t.Line, Column: t.Column + key.At}, key.Descending})
	}
	return keys
}

// SortKey is one of the formulas by which entries are sorted, and the byte of the text at which it begins.
type SortKey struct {
	Formula    string
	At         int
	Descending bool
}

// SortKeys takes the text of a sort apart: formulas with ; between, each may end in descending.
func SortKeys(text string) iter.Seq[SortKey] {
	return func(yield func(SortKey) bool) {
		at := 0
		for part := range strings.SplitSeq(text, ";") {
			rest, descending := strings.CutSuffix(strings.TrimRight(part, " "), " descending")
			if !descending {
				rest = part
			}
			if !yield(SortKey{rest, at, descending}) {
				return
			}
			at += len(part) + 1
		}
	}
}
