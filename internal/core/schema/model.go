package schema

import (
	"slices"
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// Model is the content model of a record: in which order its elements stand, and which of them exclude each other. It is written
// as in a document type definition (XML 1.0, section 3.2.1), with & between what may stand in any order, and {2,5} for how often.
// Models are immutable.
type Model struct {
	Join     byte // of the parts: ',' in this order, '|' one of them, '&' in any order; 0 for a field
	Slot     int  // of a field, in the record
	Parts    []*Model
	Min, Max int // how often; of parts at most once
}

// Fields calls visit for every field of the model, in order.
func (m *Model) Fields(visit func(*Model)) {
	if m.Join == 0 {
		visit(m)
	}
	for _, p := range m.Parts {
		p.Fields(visit)
	}
}

// ModelText is the record's content model as parts have it; empty when it has none.
func (f *Field) ModelText() string {
	if f.model == nil {
		return ""
	}
	return f.model.text(f)
}

// ModelSaid is the content model as the part says it; empty where it says none.
func (f *Field) ModelSaid() string { return f.modelText.Value }

func (m *Model) text(f *Field) string {
	if m.Join == 0 {
		return modelName(f.Fields[m.Slot].Name) + m.often()
	}
	s := m.inside(f)
	if m.Min == 0 {
		return "(" + s + ")?"
	}
	return s
}

func (m *Model) inside(f *Field) string {
	parts := make([]string, len(m.Parts))
	for i, p := range m.Parts {
		if parts[i] = p.text(f); p.Join != 0 && p.Min > 0 {
			parts[i] = "(" + parts[i] + ")"
		}
	}
	return strings.Join(parts, map[byte]string{',': ", ", '|': " | ", '&': " & "}[m.Join])
}

func (m *Model) often() string {
	switch {
	case m.Min == 1 && m.Max == 1:
		return ""
	case m.Min == 0 && m.Max == 1:
		return "?"
	case m.Min == 0 && m.Max == Many:
		return "*"
	case m.Min == 1 && m.Max == Many:
		return "+"
	case m.Max == Many:
		return "{" + strconv.Itoa(m.Min) + ",}"
	case m.Min == m.Max:
		return "{" + strconv.Itoa(m.Min) + "}"
	}
	return "{" + strconv.Itoa(m.Min) + "," + strconv.Itoa(m.Max) + "}"
}

func plainRune(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("_-.:", r)
}

func modelName(name string) string {
	if name != "" && strings.IndexFunc(name, func(r rune) bool { return !plainRune(r) }) < 0 {
		return name
	}
	return strconv.Quote(name)
}

// listed is the model of a record whose elements stand in the order of its fields.
func (f *Field) listed() *Model {
	m := &Model{Join: ',', Min: 1, Max: 1}
	for _, c := range f.Fields {
		switch {
		case c.HoldsOthers && c.WireFormat.Wildcard == noWildcard:
		case c.HoldsOthers:
			m.Parts = append(m.Parts, &Model{Slot: c.slot, Max: Many})
		case !c.WireFormat.Attribute && !c.WireFormat.Content:
			m.Parts = append(m.Parts, &Model{Slot: c.slot, Min: c.Min, Max: c.Max})
		}
	}
	return m
}

// Nullable says whether nothing need stand.
func (m *Model) Nullable() bool {
	if m == nil || m.Min == 0 {
		return true
	}
	switch m.Join {
	case 0:
		return false
	case '|':
		return slices.ContainsFunc(m.Parts, (*Model).Nullable)
	}
	return !slices.ContainsFunc(m.Parts, func(p *Model) bool { return !p.Nullable() })
}

// Take is what is left of the model behind one occurrence of a field; nil when nothing is left. ok is false where the field cannot
// stand there.
func (m *Model) Take(slot int) (rest *Model, ok bool) {
	switch {
	case m == nil:
		return nil, false
	case m.Join == 0 && m.Slot != slot:
		return nil, false
	case m.Join == 0 && m.Max == 1:
		return nil, true
	case m.Join == 0 && m.Max == Many && m.Min == 0:
		return m, true
	case m.Join == 0:
		most := m.Max
		if most != Many {
			most--
		}
		return &Model{Slot: slot, Min: max(m.Min-1, 0), Max: most}, true
	case m.Join == '|':
		for _, p := range m.Parts {
			if rest, ok = p.Take(slot); ok {
				return rest, true
			}
		}
		return nil, false
	}
	return m.takePart(slot)
}

func (m *Model) takePart(slot int) (*Model, bool) {
	for i, p := range m.Parts {
		rest, ok := p.Take(slot)
		switch {
		case ok && m.Join == ',':
			return joined(',', rest, m.Parts[i+1:]), true
		case ok: // any order: what is begun is ended first
			others := slices.Delete(slices.Clone(m.Parts), i, i+1)
			if rest == nil {
				return joined('&', nil, others), true
			}
			return &Model{Join: ',', Parts: []*Model{rest, joined('&', nil, others)}, Min: 1, Max: 1}, true
		case m.Join == ',' && !p.Nullable():
			return nil, false
		}
	}
	return nil, false
}

func joined(join byte, first *Model, rest []*Model) *Model {
	parts := make([]*Model, 0, len(rest)+1)
	if first != nil {
		parts = append(parts, first)
	}
	parts = append(parts, rest...)
	parts = slices.DeleteFunc(parts, func(p *Model) bool { return p == nil })
	switch len(parts) {
	case 0:
		return nil
	case 1:
		return parts[0]
	}
	return &Model{Join: join, Parts: parts, Min: 1, Max: 1}
}

// Next are the names of what may come next in the record, when a model is left.
func (f *Field) Next(m *Model) (names []string) {
	add := func(name string) {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	m.next(f, add)
	return names
}

func (m *Model) next(f *Field, add func(string)) {
	if m == nil {
		return
	}
	if m.Join == 0 {
		if g := f.Fields[m.Slot]; g.WireFormat.Group {
			g.model.next(g, add)
		} else {
			add(g.WireName())
		}
		return
	}
	for _, p := range m.Parts {
		p.next(f, add)
		if m.Join == ',' && !p.Nullable() {
			return
		}
	}
}

// NextText tells what may come next in the record, when a model is left.
func (f *Field) NextText(m *Model) string {
	names := f.Next(m)
	switch {
	case len(names) == 0:
		return "the end of the element"
	case len(names) > maxNext:
		names = append(names[:maxNext:maxNext], "…")
	}
	text := strings.Join(names, ", ")
	if m.Nullable() {
		text += " or the end of the element"
	}
	return text
}

// maxNext bounds the names that a fault lists.
const maxNext = 8

// Model is the content model of a record; nil where its elements may stand in any order.
func (f *Field) Model() *Model { return f.model }

// SetModel gives a record that is made by hand its content model.
func (f *Field) SetModel(m *Model) { f.model, f.modelText = m, partfile.Text{Value: m.text(f)} }

// Listed says whether a content model is the order of the record's fields, each as often as it occurs.
func (f *Field) Listed(m *Model) bool {
	f.number()
	return m.text(f) == f.listed().text(f)
}

// number gives the fields of a record that is made by hand their slots.
func (f *Field) number() {
	for i, c := range f.Fields {
		c.slot = i
	}
}

// models reads the content models of a record and of those inside.
func (p parser) models(d *partfile.Doc, f *Field) {
	if f.modelText.Value != "" {
		m, ft := parseModel(f, f.modelText.Value)
		if f.model = m; ft != nil {
			d.Fault(f.modelText, ft.InField(f.Name))
		}
	}
	for _, c := range f.Fields {
		p.models(d, c)
	}
}

// order gives records that have no content model of their own the order of their fields, where the schema says so.
func (f *Field) order(listed bool) {
	if f.Kind == value.RecordKind && f.model == nil && (listed || f.hasGroups()) {
		f.model = f.listed()
	}
	for _, c := range f.Fields {
		c.order(listed)
	}
}

func (f *Field) hasGroups() bool {
	return f.WireFormat.Group || slices.ContainsFunc(f.Fields, func(c *Field) bool { return c.WireFormat.Group })
}
