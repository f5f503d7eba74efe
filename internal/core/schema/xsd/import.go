package xsd

import (
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Bounds of what one import makes.
const (
	maxRecursion = 3
	maxFields    = 50_000
)

// Import makes a schema of an element of the set; of the first one where no name is given. What it
// cannot hold is listed in its LeftOut, with the line.
func (s *Set) Import(id, root string) (*schema.Schema, error) { return s.ImportAs(id, root, nil) }

// ImportAs is Import with the prefixes that namespaces have already.
func (s *Set) ImportAs(id, root string, prefixes []schema.Namespace) (*schema.Schema, error) {
	if len(s.Roots) == 0 {
		return nil, fault.New(fault.Setting, "the schema declares no element of its own")
	}
	e := s.Roots[0]
	for _, r := range s.Roots {
		if r.Name.Local == root {
			e = r
		}
	}
	if root != "" && e.Name.Local != root {
		return nil, fault.Expect(fault.Unknown, "an element "+s.names(), fault.Quote(root))
	}
	m := &importer{set: s, depth: map[*Type]int{}, noted: map[string]bool{}}
	spaces := m.bind(e, prefixes)
	out := &schema.Schema{ID: id, Title: e.Name.Local, Notation: xml.Kind.Notation, Settings: schema.Settings{RootName: m.name(e.Name), Namespaces: spaces, Others: schema.FaultOthers}}
	m.out = out
	for _, n := range s.Notes {
		m.say(n.Error())
	}
	for _, c := range e.constraints {
		m.note(c.place, "the %s %s is not checked", c.kind, c.name.Local)
	}
	f := &schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	if e.Type.Simple != nil && !e.Type.Complex {
		f.Fields = []*schema.Field{m.content(e.Type.Simple, "text", e.place)}
	} else {
		m.inside(e.Type, f)
	}
	if len(f.Fields) == 0 {
		return nil, fault.New(fault.Setting, "the element %s holds nothing that could be a field", e.Name.Local).At(e.place)
	}
	out.Root = f.Compiled()
	out.Settle()
	return out, nil
}

type importer struct {
	set    *Set
	prefix map[string]string // by namespace
	out    *schema.Schema
	depth  map[*Type]int
	noted  map[string]bool
	fields int
}

func (m *importer) say(text string) {
	if !m.noted[text] {
		m.noted[text] = true
		m.out.NotImported = append(m.out.NotImported, text)
	}
}

func (m *importer) note(p fault.Place, format string, args ...any) {
	m.say(fault.New(fault.Setting, format, args...).At(p).Error())
}

// inside adds the fields of a complex type: attributes, then elements, or its text.
func (m *importer) inside(t *Type, f *schema.Field) {
	for _, a := range t.Attrs {
		if a.prohibited {
			continue
		}
		c := &schema.Field{Name: m.name(a.Name), Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, WireFormat: schema.WireFormat{Attribute: true}}
		if a.Required {
			c.Min = 1
		}
		m.simple(a.Type, c, a.place)
		m.fixed(c, a.Fixed, a.Default, a.place)
		m.add(f, c)
	}
	if t.AnyAttr != nil {
		m.others(f, "attributes", t.place)
	}
	switch {
	case t.Simple != nil:
		m.add(f, m.content(t.Simple, unused(f, "text"), t.place))
	case t.Mixed:
		m.note(t.place, "text between elements is taken together, without its places")
		m.add(f, &schema.Field{Name: unused(f, "text"), Kind: value.Text, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, WireFormat: schema.WireFormat{Content: true}})
	}
	if t.Content != nil {
		m.particle(t.Content, f, 1, 1, t.place)
	}
}

func (m *importer) content(s *Simple, name string, p fault.Place) *schema.Field {
	c := &schema.Field{Name: name, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, WireFormat: schema.WireFormat{Content: true}}
	m.simple(s, c, p)
	return c
}

func unused(f *schema.Field, name string) string {
	for _, c := range f.Fields {
		if c.Name == name {
			return unused(f, name+"_")
		}
	}
	return name
}

// add puts a field into a record. One that stands there already by that name becomes a list.
func (m *importer) add(f, c *schema.Field) {
	for _, old := range f.Fields {
		if old.Name != c.Name {
			continue
		}
		if old.WireFormat.Attribute != c.WireFormat.Attribute {
			c.Name = unused(f, c.Name)
			break
		}
		old.Max, old.Min = schema.Many, min(old.Min, c.Min)
		return
	}
	f.Fields = append(f.Fields, c)
}

// particle adds what a content model allows, each field with how often it can come in all.
func (m *importer) particle(e expr, f *schema.Field, low, high int, p fault.Place) {
	switch e := e.(type) {
	case oneOf:
		m.element(e.decl, f, low, high)
	case *wildcard:
		m.others(f, "elements", p)
	case sequence:
		for _, c := range e {
			m.particle(c, f, low, high, p)
		}
	case everyOne:
		for _, c := range e {
			m.particle(c, f, low, high, p)
		}
	case choice:
		if len(e) > 1 {
			m.note(p, "which of the alternatives stand together is not checked")
			low = 0
		}
		for _, c := range e {
			m.particle(c, f, low, high, p)
		}
	case repeat:
		if _, single := e.inner.(oneOf); !single && e.max != 1 {
			m.note(p, "the order of elements that repeat together is not kept")
		}
		m.particle(e.inner, f, low*e.min, times(high, e.max), p)
	}
}

// others gives a record a map for attributes or elements of any name.
func (m *importer) others(f *schema.Field, what string, p fault.Place) {
	m.note(p, "%s of any name are kept; which of them may stand there is not checked", what)
	if slices.ContainsFunc(f.Fields, func(c *schema.Field) bool { return c.HoldsOthers }) {
		return
	}
	one := func(name string, kind value.Kind, least int) *schema.Field {
		return &schema.Field{Name: name, Kind: kind, Min: least, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	}
	held := one(unused(f, "others"), value.MapKind, 0)
	held.HoldsOthers, held.Fields = true, []*schema.Field{one("value", value.AnyKind, 1)}
	f.Fields = append(f.Fields, held)
}

func times(a, b int) int {
	if a == schema.Many || b == -1 {
		return schema.Many
	}
	return a * b
}

func (m *importer) element(e *Element, f *schema.Field, low, high int) {
	members := m.set.members[e.Name]
	if e.global && len(members) > 0 {
		m.note(e.place, "which of the elements stands for %s is not checked", e.Name.Local)
		for _, s := range members {
			m.element(s, f, 0, high)
		}
		low = 0
	}
	if e.Abstract {
		return
	}
	if m.fields++; m.fields > maxFields {
		m.note(e.place, "there are more than %d fields; the rest is left out", maxFields)
		return
	}
	c := &schema.Field{Name: m.name(e.Name), Min: low, Max: high, Nullable: e.Nillable, Constraints: schema.Constraints{FractionDigits: -1}}
	for _, k := range e.constraints {
		m.note(k.place, "the %s %s is not checked", k.kind, k.name.Local)
	}
	switch t := e.Type; {
	case !t.Complex:
		m.simple(t.Simple, c, e.place)
	case m.depth[t] >= maxRecursion:
		m.note(e.place, "%s stands inside of itself; it is cut off there", e.Name.Local)
		c.Kind = value.Text
	default:
		m.depth[t]++
		c.Kind = value.RecordKind
		m.inside(t, c)
		m.depth[t]--
	}
	if c.Kind == value.RecordKind && len(c.Fields) == 0 {
		c.Kind = value.Text // an element that is always empty
	}
	m.fixed(c, e.Fixed, e.Default, e.place)
	m.add(f, c)
}

func (m *importer) fixed(c *schema.Field, fixed, def *string, p fault.Place) {
	if fixed != nil && c.Kind == value.Text {
		c.Constraints.Codes = []schema.Code{{Value: *fixed}}
	} else if fixed != nil {
		m.note(p, "%s: its fixed value is not checked", c.Name)
	}
	if def != nil {
		m.note(p, "%s: no default is filled in", c.Name)
	}
}

// kindOf are the types by primitive; all others are texts.
var kindOf = map[string]value.Kind{
	"decimal": value.Decimal, "float": value.Decimal, "double": value.Decimal, "boolean": value.Boolean, "date": value.Date,
	"time": value.Time, "dateTime": value.Timestamp, "base64Binary": value.Binary,
}

// simple gives a field the type and constraints of a simple type.
func (m *importer) simple(s *Simple, c *schema.Field, p fault.Place) {
	c.Kind = value.Text
	switch {
	case s.item != nil:
		m.note(p, "%s is a list of values in one text; it is taken as text", c.Name)
		return
	case s.members != nil:
		m.note(p, "%s is of one of several types; it is taken as text", c.Name)
		return
	}
	if k, ok := kindOf[s.primitive]; ok {
		c.Kind = k
	}
	if s.primitive == "float" || s.primitive == "double" {
		m.note(p, "%s: INF and NaN are no decimals", c.Name)
	}
	if s.primitive == "dateTime" || s.primitive == "date" || s.primitive == "time" {
		m.note(p, "%s: a timestamp has a zone here, a date and a time have none", c.Name)
	}
	whole := false
	for t := s; t != nil; t = t.base {
		if whole = whole || t == builtins["integer"]; whole {
			c.Kind = value.Integer
		}
	}
	for t := s; t != nil; t = t.base {
		m.facets(t, c, p)
	}
}

func (m *importer) facets(s *Simple, c *schema.Field, p fault.Place) {
	f := &s.facets
	m.lengths(f, c)
	m.bounds(f, c, p)
	if c.Kind != value.Text {
		if len(f.patterns) > 0 && s.base != nil && builtins[s.Name] != s {
			m.note(p, "%s: the pattern is not checked", c.Name)
		}
		if f.enum != nil {
			m.note(p, "%s: the values it may have are not checked", c.Name)
		}
		return
	}
	switch {
	case len(f.patterns) == 0 || builtins[s.Name] == s:
	case c.Constraints.Pattern != nil:
		m.note(p, "%s: only the first of its patterns is checked", c.Name)
	default:
		var parts []string
		for _, re := range f.patterns {
			parts = append(parts, strings.TrimSuffix(strings.TrimPrefix(re.String(), "^(?s:"), ")$"))
		}
		if re, err := regexp.Compile(`^(?:` + strings.Join(parts, "|") + `)$`); err == nil {
			c.Constraints.Pattern = re
		}
	}
	if c.Constraints.Codes == nil {
		for _, e := range f.enum {
			c.Constraints.Codes = append(c.Constraints.Codes, schema.Code{Value: s.normal(e)})
		}
	}
}

func (m *importer) lengths(f *facets, c *schema.Field) {
	if c.Kind != value.Text {
		return
	}
	if f.length != nil && c.Constraints.MinLength == 0 {
		c.Constraints.MinLength, c.Constraints.MaxLength = *f.length, *f.length
	}
	if f.minLength != nil && c.Constraints.MinLength == 0 {
		c.Constraints.MinLength = *f.minLength
	}
	if f.maxLength != nil && c.Constraints.MaxLength == 0 {
		c.Constraints.MaxLength = *f.maxLength
	}
}

func (m *importer) bounds(f *facets, c *schema.Field, p fault.Place) {
	if f.totalDigits != nil && c.Constraints.TotalDigits == 0 && c.Kind.Numeric() {
		c.Constraints.TotalDigits = *f.totalDigits
	}
	if f.fractionDigits != nil && c.Constraints.FractionDigits < 0 && c.Kind == value.Decimal {
		c.Constraints.FractionDigits = *f.fractionDigits
	}
	for _, b := range []struct {
		has  bool
		text string
		to   *value.Value
	}{{f.hasMinIn, f.minIn, &c.Constraints.Minimum}, {f.hasMaxIn, f.maxIn, &c.Constraints.Maximum}} {
		if !b.has || b.to.Kind() != value.Absent {
			continue
		}
		if v, ok := schema.ParseScalar(c.Kind, b.text); ok && c.Kind != value.Text {
			*b.to = v
		} else {
			m.note(p, "%s: the bound %s is not checked", c.Name, b.text)
		}
	}
	if f.hasMinEx || f.hasMaxEx {
		m.note(p, "%s: bounds that are themselves excluded are not checked", c.Name)
	}
}
