package xsd

import (
	"cmp"
	"encoding/xml"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

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
		if m.depth[o] >= maxRecursion || m.depth[o] > 0 && m.fields > maxBranched {
			m.note(e.place, "%s stands inside of itself; from there on it is taken as it is", o.Name.Local)
			b.Kind = value.AnyKind
		} else {
			m.record(o, b)
		}
		f.Fields = append(f.Fields, b)
	}
}

// record gives a field the fields of one complex type.
func (m *importer) record(t *Type, f *schema.Field) {
	m.depth[t]++
	f.Kind = value.RecordKind
	m.inside(t, f)
	m.depth[t]--
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
