package schema

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/fault"
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

// modelParser reads the text of a model.
type modelParser struct {
	record *Field
	text   string
	at     int
	depth  int
}

// parseModel reads the content model of a record whose fields are known.
func parseModel(record *Field, text string) (*Model, *fault.Fault) {
	p := &modelParser{record: record, text: text}
	m, ft := p.parts()
	if ft == nil && p.next() != 0 {
		ft = p.fault("the end", string(p.next()))
	}
	if ft != nil {
		return nil, ft
	}
	if m.Join == 0 {
		m = &Model{Join: ',', Parts: []*Model{m}, Min: 1, Max: 1}
	}
	seen := map[int]bool{}
	m.Fields(func(l *Model) { seen[l.Slot] = true })
	for i, f := range record.Fields {
		if !f.WireFormat.Attribute && f.WireFormat.Wildcard != noWildcard && !seen[i] && !(f.WireFormat.Content && !record.WireFormat.Group) {
			return nil, fault.New(fault.Required, "the content model does not say where %s stands", f.Name)
		}
	}
	return m, nil
}

func (p *modelParser) fault(expected, found string) *fault.Fault {
	f := fault.Expect(fault.Syntax, expected+" in the content model", fault.Quote(found))
	f.Place.Column = p.at + 1
	return f
}

// next is the next character that is no blank; 0 at the end.
func (p *modelParser) next() rune {
	for _, r := range p.text[p.at:] {
		if !unicode.IsSpace(r) {
			return r
		}
		p.at += len(string(r))
	}
	return 0
}

func (p *modelParser) parts() (*Model, *fault.Fault) {
	if p.depth++; p.depth > MaxDepth {
		return nil, fault.New(fault.Limit, "the content model nests deeper than %d", MaxDepth)
	}
	defer func() { p.depth-- }()
	m := &Model{Min: 1, Max: 1}
	for {
		part, ft := p.part()
		if ft != nil {
			return nil, ft
		}
		m.Parts = append(m.Parts, part)
		join := p.next()
		if join != ',' && join != '|' && join != '&' {
			break
		}
		if m.Join != 0 && m.Join != byte(join) {
			return nil, p.fault("parentheses around what "+string(rune(m.Join))+" joins", string(join))
		}
		m.Join = byte(join)
		p.at++
	}
	if m.Join == 0 {
		return m.Parts[0], nil
	}
	return m, nil
}

func (p *modelParser) part() (*Model, *fault.Fault) {
	r := p.next()
	if r == '(' {
		p.at++
		m, ft := p.parts()
		if ft != nil {
			return nil, ft
		}
		if p.next() != ')' {
			return nil, p.fault(")", string(p.next()))
		}
		p.at++
		return p.repeated(m)
	}
	name, ft := p.name()
	if ft != nil {
		return nil, ft
	}
	f := p.record.Field(name)
	if f == nil {
		return nil, fault.New(fault.Unknown, "the content model names %s, which is no field of the record", fault.Quote(name))
	}
	return p.repeated(&Model{Slot: f.slot, Min: 1, Max: 1})
}

func (p *modelParser) name() (string, *fault.Fault) {
	if p.next() == '"' {
		quoted, err := strconv.QuotedPrefix(p.text[p.at:])
		if err != nil {
			return "", p.fault("a closing quote", p.text[p.at:])
		}
		p.at += len(quoted)
		name, _ := strconv.Unquote(quoted) // it was quoted well
		return name, nil
	}
	end := p.at
	for _, r := range p.text[p.at:] {
		if !plainRune(r) {
			break
		}
		end += len(string(r))
	}
	if end == p.at {
		return "", p.fault("the name of a field", p.text[p.at:])
	}
	name := p.text[p.at:end]
	p.at = end
	return name, nil
}

// repeated reads how often a part stands.
func (p *modelParser) repeated(m *Model) (*Model, *fault.Fault) {
	low, high := 1, 1
	switch p.next() {
	case '?':
		low = 0
	case '*':
		low, high = 0, Many
	case '+':
		high = Many
	case '{':
		end := strings.IndexByte(p.text[p.at:], '}')
		if end < 0 {
			return nil, p.fault("}", p.text[p.at:])
		}
		var ok bool
		if low, high, ok = bounds(p.text[p.at+1 : p.at+end]); !ok {
			return nil, p.fault("how often, as {2}, {2,} or {2,5}", p.text[p.at:p.at+end+1])
		}
		p.at += end
	default:
		return m, nil
	}
	p.at++
	if m.Join != 0 && (high == Many || high > 1) {
		return nil, fault.New(fault.Setting, "fields that repeat together (%s) are a list of records", m.inside(p.record)).
			WithFix(`Put them into a record with "group: true", which has no element of its own`)
	}
	m.Min, m.Max = min(low, m.Min), high
	if m.Join == 0 {
		m.Min = low
	}
	return m, nil
}

func bounds(text string) (low, high int, ok bool) {
	a, b, both := strings.Cut(text, ",")
	low, err := strconv.Atoi(strings.TrimSpace(a))
	high = low
	switch b = strings.TrimSpace(b); {
	case both && b == "":
		high = Many
	case both && err == nil:
		high, err = strconv.Atoi(b)
	}
	return low, high, err == nil && low >= 0 && (high == Many || high >= max(low, 1))
}

// noWildcard says that a map of other fields holds no elements, or no attributes.
const noWildcard = "##none"

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

// Piece is a run of occurrences of one field, in the order in which they are written.
type Piece struct {
	Field    *Field
	From, To int // of the items, where the field is a list
}

// Arrange puts the elements of a record into the order of its model. It is a fault where they do not go together.
func (f *Field) Arrange(r *value.Record) ([]Piece, *fault.Fault) {
	m := f.model
	a := arranger{record: f, left: make([]int, len(f.Fields)), used: make([]int, len(f.Fields))}
	for i, c := range f.Fields {
		if c.WireFormat.Attribute || i >= len(r.Fields) {
			continue
		}
		switch v := r.Fields[i]; {
		case v.Kind() == value.Absent, c.WireFormat.Content && !f.WireFormat.Group:
		case c.HoldsOthers:
			a.left[i] = otherElements(v)
		case c.List():
			a.left[i] = len(v.Items())
		default:
			a.left[i] = 1
		}
	}
	missing := a.take(m)
	for i, n := range a.left {
		if n > 0 {
			c := f.Fields[i]
			return a.out, c.fault(fault.Unknown, "/"+Escape(c.Name), "what the content model allows together ("+m.inside(f)+")", count(a.used[i]+n, "time")+" "+c.Name)
		}
	}
	if missing != nil {
		return a.out, f.Asking(fault.Expect(fault.Required, f.NextText(missing), "none of it"))
	}
	return a.out, nil
}

func otherElements(v value.Value) (n int) {
	r := v.Record()
	if r == nil {
		return 0
	}
	for i, f := range r.Fields {
		if strings.HasPrefix(r.Layout.Names[i], "@") {
			continue
		}
		if f.Kind() == value.ListKind {
			n += len(f.Items())
		} else if f.Kind() != value.Absent {
			n++
		}
	}
	return n
}

// arranger goes through a model with how often each field is there.
type arranger struct {
	record     *Field
	left, used []int // by slot
	out        []Piece
}

// take takes what a model can have; it gives the part that is missing.
func (a *arranger) take(m *Model) (missing *Model) {
	switch {
	case m == nil:
		return nil
	case m.Join == 0:
		return a.field(m)
	case m.Min == 0 && !a.some(m):
		return nil
	case m.Join == '|':
		return a.choice(m)
	}
	for _, p := range m.Parts {
		if lack := a.take(p); lack != nil && missing == nil {
			missing = lack
		}
	}
	return missing
}

func (a *arranger) field(m *Model) *Model {
	i := m.Slot
	n := a.left[i]
	if m.Max != Many {
		n = min(n, m.Max)
	}
	if n > 0 {
		a.out = append(a.out, Piece{Field: a.record.Fields[i], From: a.used[i], To: a.used[i] + n})
		a.left[i], a.used[i] = a.left[i]-n, a.used[i]+n
	}
	if n < m.Min {
		return m
	}
	return nil
}

// choice takes the part of which the most is there.
func (a *arranger) choice(m *Model) *Model {
	var best *Model
	most := 0
	for _, p := range m.Parts {
		n := 0
		p.Fields(func(l *Model) {
			if a.left[l.Slot] > 0 {
				n++
			}
		})
		if n > most {
			best, most = p, n
		}
	}
	switch {
	case best != nil:
		return a.take(best)
	case m.Nullable():
		return nil
	}
	return m
}

func (a *arranger) some(m *Model) (some bool) {
	m.Fields(func(l *Model) { some = some || a.left[l.Slot] > 0 })
	return some
}

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

// wiring says which fields an element or an attribute of a name may be.
type wiring struct {
	elements, attributes map[string][]*Field
}

// wire makes the wiring of a record; most do without, as their fields are called as their elements are.
func (f *Field) wire() {
	f.wired = nil
	if f.Kind != value.RecordKind || !slices.ContainsFunc(f.Fields, func(c *Field) bool { return c.WireFormat.Name != "" || c.WireFormat.Group }) {
		return
	}
	w := &wiring{elements: map[string][]*Field{}, attributes: map[string][]*Field{}}
	for _, c := range f.Fields {
		switch {
		case c.WireFormat.Attribute:
			w.attributes[c.WireName()] = append(w.attributes[c.WireName()], c)
		case c.WireFormat.Group:
			for _, name := range c.elementNames() {
				w.elements[name] = append(w.elements[name], c)
			}
		case !c.HoldsOthers:
			w.elements[c.WireName()] = append([]*Field{c}, w.elements[c.WireName()]...)
		}
	}
	f.wired = w
}

// elementNames are the names of the elements that a group can have.
func (f *Field) elementNames() (names []string) {
	for _, c := range f.Fields {
		switch {
		case c.WireFormat.Attribute || c.WireFormat.Content || c.HoldsOthers:
		case c.WireFormat.Group:
			names = append(names, c.elementNames()...)
		default:
			names = append(names, c.WireName())
		}
	}
	return names
}

// WireName is what the field is called in XML.
func (f *Field) WireName() string { return cmp.Or(f.WireFormat.Name, f.Name) }

// Elements are the fields of a record that an element of a name may be: one of that name, or a group that has such an element.
func (f *Field) Elements(name string) []*Field {
	if f.wired != nil {
		return f.wired.elements[name]
	}
	if c := f.Named(name); c != nil && !c.WireFormat.Attribute {
		return []*Field{c}
	}
	return nil
}

// Attribute is the field of a record that an attribute of a name is; nil when there is none.
func (f *Field) Attribute(name string) *Field {
	if f.wired != nil {
		for _, c := range f.wired.attributes[name] {
			return c
		}
		return nil
	}
	if c := f.Named(name); c != nil && c.WireFormat.Attribute {
		return c
	}
	return nil
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
