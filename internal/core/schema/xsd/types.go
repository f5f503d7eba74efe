package xsd

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// pending is a field whose element is not looked into yet. Elements are looked into level by level, so that where a schema has no end
// it is the depth that is cut.
type pending struct {
	field *schema.Field
	typ   *Type
	decl  *Element // whose field it is; nil of a branch
	in    *chain
}

// chain are the types around a place, the innermost first.
type chain struct {
	typ  *Type
	next *chain
}

// times is how often a type stands around a place.
func (c *chain) times(t *Type) (n int) {
	for ; c != nil; c = c.next {
		if c.typ == t {
			n++
		}
	}
	return n
}

// later looks into an element once those above it are looked into.
func (m *importer) later(f *schema.Field, t *Type, e *Element) {
	f.Kind = value.RecordKind
	m.queue = append(m.queue, pending{f, t, e, m.at})
}

// levels looks into all elements, level by level.
func (m *importer) levels() {
	for ; len(m.queue) > 0; m.queue = m.queue[1:] {
		p := m.queue[0]
		m.at = p.in
		switch {
		case p.in.times(p.typ) >= maxRecursion, p.in.times(p.typ) > 0 && m.fields > maxBranched:
			m.note(p.place(), "%s stands inside of itself; from there on it is taken as it is", p.field.WireName())
			p.field.Kind = value.AnyKind
		case m.fields > maxFields:
			m.cut++
			p.field.Kind = value.AnyKind
		case p.decl != nil:
			m.shaped(p.decl, p.field)
			m.given(p.field, p.decl)
		default:
			m.record(p.typ, p.field)
		}
		if f := p.field; p.decl != nil && f.Kind == value.RecordKind && len(f.Fields) == 0 {
			f.Kind, f.Constraints.Codes = value.Text, []schema.Code{{Meaning: "always empty"}}
		}
	}
	if m.cut > 0 {
		m.say(fmt.Sprintf("behind %d fields %d elements are taken as they are: the schema has no end, or is too large", maxFields, m.cut))
	}
}

func (p pending) place() fault.Place {
	if p.decl != nil {
		return p.decl.place
	}
	return p.typ.place
}

// shaped gives a field the fields of an element's complex type; where other types may take its place, a branch for each of them.
func (m *importer) shaped(e *Element, f *schema.Field) {
	t := e.Type
	others := m.set.standIns(e)
	if len(others) == 0 {
		if t.Abstract {
			m.note(e.place, "%s: its type is abstract, and no other is derived from it", e.Name.Local)
		}
		m.record(t, f)
		return
	}
	f.Kind = value.VariantKind
	if t.Abstract {
		f.ToldBy = schema.TypeAttribute
	} else {
		others = append([]*Type{t}, others...)
	}
	for _, o := range others {
		b := newField("")
		name := m.name(o.Name)
		if b.Name = unused(f, name); b.Name != name {
			b.WireFormat.Name = name
		}
		m.later(b, o, nil)
		f.Fields = append(f.Fields, b)
	}
}

// record gives a field the fields of one complex type.
func (m *importer) record(t *Type, f *schema.Field) {
	around := m.at
	m.at = &chain{t, around}
	f.Kind = value.RecordKind
	m.inside(t, f)
	m.at = around
}

// standIns are the complex types, other than its own, that an element may say that it has (XML Schema 1.0, part 1, section 2.6.1).
func (s *Set) standIns(e *Element) (types []*Type) {
	if e.Type == nil {
		return nil
	}
	for _, t := range s.derived[e.Type] {
		if !t.Abstract && !refuses(e.Type.block, t, e.Type) && !refuses(e.block, t, e.Type) {
			types = append(types, t)
		}
	}
	return types
}

// derive notes of each type those that are derived from it.
func (s *Set) derive() {
	s.derived = map[*Type][]*Type{}
	for _, t := range s.types {
		for base := t.Base; t.Complex && base != nil && base != anyType && base != t; base = base.Base {
			if base.Name.Local != "" && base.Complex {
				s.derived[base] = append(s.derived[base], t)
			}
		}
	}
	for _, list := range s.derived {
		slices.SortFunc(list, func(a, b *Type) int {
			return cmp.Or(cmp.Compare(a.place.Source, b.place.Source), cmp.Compare(a.place.Line, b.place.Line), cmp.Compare(a.place.Column, b.place.Column))
		})
	}
}

// substitutions notes of each head those that may take its place, by way of others, too (XML Schema 1.0, part 1, section 3.3.6).
func (s *Set) substitutions() {
	s.standFor = map[xml.Name][]*Element{}
	for name, head := range s.elements {
		if head.block == "#all" || slices.Contains(strings.Fields(head.block), "substitution") {
			continue
		}
		list := slices.Clone(s.members[name])
		for i := 0; i < len(list) && len(list) <= len(s.elements); i++ {
			list = append(list, s.members[list[i].Name]...)
		}
		s.standFor[name] = slices.DeleteFunc(list, func(m *Element) bool {
			return refuses(head.block, m.Type, head.Type) || head.Type != nil && refuses(head.Type.block, m.Type, head.Type)
		})
	}
}
