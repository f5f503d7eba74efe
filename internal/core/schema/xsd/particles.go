package xsd

import (
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// modelled gives a record the elements of a content model, and the model where it is more than their order.
func (m *importer) modelled(e expr, f *schema.Field, p fault.Place) {
	model := m.model(e, f, p)
	if model == nil {
		return
	}
	if model.Join == 0 || model.Min == 0 {
		model = &schema.Model{Join: ',', Parts: []*schema.Model{model}, Min: 1, Max: 1}
	}
	for i, c := range f.Fields {
		if inModel(model, i) && !c.HoldsOthers {
			c.Min, c.Max = span(model, i)
		}
	}
	if !f.Listed(model) {
		f.SetModel(model)
	}
}

func inModel(m *schema.Model, slot int) (in bool) {
	m.Fields(func(l *schema.Model) { in = in || l.Slot == slot })
	return in
}

// span is how often a field can stand at least and at most.
func span(m *schema.Model, slot int) (low, high int) {
	if m.Join == 0 {
		if m.Slot == slot {
			return m.Min, m.Max
		}
		return 0, 0
	}
	low = -1
	for _, p := range m.Parts {
		l, h := span(p, slot)
		switch {
		case m.Join == '|' && low < 0:
			low, high = l, h
		case m.Join == '|':
			low = min(low, l)
			if high != schema.Many && (h == schema.Many || h > high) {
				high = h
			}
		default:
			low = max(low, 0) + l
			high = plus(high, h)
		}
	}
	if m.Min == 0 {
		low = 0
	}
	return max(low, 0), high
}

func plus(a, b int) int {
	if a == schema.Many || b == schema.Many {
		return schema.Many
	}
	return a + b
}

// model adds the elements of a particle to a record; nil where it allows none.
func (m *importer) model(e expr, f *schema.Field, p fault.Place) *schema.Model {
	switch e := e.(type) {
	case oneOf:
		return m.element(e.decl, f)
	case *wildcard:
		held := m.others(f, e, p)
		held.WireFormat.Wildcard = m.widened(held.WireFormat.Wildcard, e, p)
		at := slices.IndexFunc(f.Fields, func(c *schema.Field) bool { return c.HoldsOthers })
		return &schema.Model{Slot: at, Min: 1, Max: 1}
	case sequence:
		return m.joined(',', e, f, p)
	case everyOne:
		return m.joined('&', e, f, p)
	case choice:
		return m.joined('|', e, f, p)
	case repeat:
		return m.repeated(e, f, p)
	}
	return nil
}

func (m *importer) joined(join byte, list []expr, f *schema.Field, p fault.Place) *schema.Model {
	out := &schema.Model{Join: join, Min: 1, Max: 1}
	for _, e := range list {
		part := m.model(e, f, p)
		switch {
		case part != nil && part.Join == join && part.Min == 1 && join != '&':
			out.Parts = append(out.Parts, part.Parts...)
		case part != nil:
			out.Parts = append(out.Parts, part)
		case join == '|': // nothing at all is a choice, too
			out.Min = 0
		}
	}
	switch len(out.Parts) {
	case 0:
		return nil
	case 1:
		one := *out.Parts[0]
		one.Min *= out.Min
		return &one
	}
	return out
}

// repeated makes a list of an element that repeats, and of elements that repeat together a list of records that have no element of
// their own.
func (m *importer) repeated(e repeat, f *schema.Field, p fault.Place) *schema.Model {
	if e.max == 0 {
		return nil
	}
	if e.max != 1 && m.grouped(e.inner) {
		return m.group(e, f, p)
	}
	inner := m.model(e.inner, f, p)
	if inner == nil {
		return nil
	}
	one := *inner
	if one.Min = min(one.Min, e.min); one.Join == 0 {
		one.Min, one.Max = inner.Min*e.min, times(inner.Max, e.max)
	}
	return &one
}

// grouped says whether a particle is more than one element or wildcard.
func (m *importer) grouped(e expr) bool {
	switch e := e.(type) {
	case oneOf:
		return e.decl.global && len(m.set.standFor[e.decl.Name]) > 0
	case sequence:
		return len(e) > 1 || len(e) == 1 && m.grouped(e[0])
	case choice:
		return len(e) > 1 || len(e) == 1 && m.grouped(e[0])
	case everyOne:
		return len(e) > 1 || len(e) == 1 && m.grouped(e[0])
	case repeat:
		return m.grouped(e.inner) || e.max != 1
	}
	return false
}

func (m *importer) group(e repeat, f *schema.Field, p fault.Place) *schema.Model {
	g := newField(unused(f, "group"))
	g.Kind, g.WireFormat.Group = value.RecordKind, true
	g.Min, g.Max = e.min, e.max
	m.modelled(e.inner, g, p)
	if len(g.Fields) == 0 {
		return nil
	}
	if e.inner.nullable() {
		g.Min = 0
	}
	f.Fields = append(f.Fields, g)
	return &schema.Model{Slot: len(f.Fields) - 1, Min: g.Min, Max: g.Max}
}

// mixable says whether text may stand anywhere between elements that are of any order and number: then each of them, and each
// text, is one record of a group.
func mixable(e expr) bool {
	inner, ok := repeatedChoice(e)
	return ok && !slices.ContainsFunc(inner, func(e expr) bool {
		_, plain := e.(oneOf)
		return !plain
	})
}

// repeatedChoice are the alternatives of which any number may stand.
func repeatedChoice(e expr) (choice, bool) {
	switch e := e.(type) {
	case sequence:
		if len(e) == 1 {
			return repeatedChoice(e[0])
		}
	case repeat:
		if c, ok := e.inner.(choice); ok && e.min == 0 && e.max == -1 {
			return c, true
		}
	}
	return nil, false
}

// mixed makes a list of what stands in an element: texts and elements, in their order.
func (m *importer) mixed(t *Type, f *schema.Field) {
	g := newField(unused(f, "group"))
	g.Kind, g.WireFormat.Group, g.Min, g.Max = value.RecordKind, true, 0, schema.Many
	g.Fields = []*schema.Field{textOf("text", 0)}
	parts := []*schema.Model{{Slot: 0, Min: 1, Max: 1}}
	inner, _ := repeatedChoice(t.Content)
	for _, e := range inner {
		part := m.model(e, g, t.place)
		switch {
		case part != nil && part.Join == '|':
			parts = append(parts, part.Parts...)
		case part != nil:
			parts = append(parts, part)
		}
	}
	for _, c := range g.Fields {
		c.Min = 0
	}
	g.SetModel(&schema.Model{Join: '|', Parts: parts, Min: 1, Max: 1})
	f.Fields = append(f.Fields, g)
}

func times(a, b int) int {
	if a == schema.Many || b == -1 {
		return schema.Many
	}
	return a * b
}

// element adds an element, or those that stand for it; nil where there is none.
func (m *importer) element(e *Element, f *schema.Field) *schema.Model {
	members := m.set.standFor[e.Name]
	if !e.global || len(members) == 0 {
		return m.single(e, f)
	}
	out := &schema.Model{Join: '|', Min: 1, Max: 1}
	for _, one := range append([]*Element{e}, members...) {
		if part := m.single(one, f); part != nil {
			out.Parts = append(out.Parts, part)
		}
	}
	switch len(out.Parts) {
	case 0:
		return nil
	case 1:
		return out.Parts[0]
	}
	return out
}

func (m *importer) single(e *Element, f *schema.Field) *schema.Model {
	if e.Abstract {
		return nil
	}
	name := m.name(e.Name)
	for i, old := range f.Fields {
		if old.WireName() == name && !old.WireFormat.Attribute && !old.WireFormat.Content {
			return &schema.Model{Slot: i, Min: 1, Max: 1}
		}
	}
	m.fields++
	c := newField(unused(f, name))
	if c.Nullable = e.Nillable; c.Name != name {
		c.WireFormat.Name = name
	}
	m.restrict(e, c)
	f.Fields = append(f.Fields, c)
	slot := len(f.Fields) - 1
	if t := e.Type; t.Complex {
		m.later(c, t, e)
	} else {
		m.simple(t.Simple, c, e.place)
		m.given(c, e)
	}
	return &schema.Model{Slot: slot, Min: 1, Max: 1}
}
