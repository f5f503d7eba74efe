package xsd

import (
	"encoding/xml"
	"regexp"
	"strings"

	"hollowreed/internal/core/fault"
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
func (s *Set) Import(id, root string) (*schema.Schema, error) {
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
	out := &schema.Schema{ID: id, Title: e.Name.Local, Notation: "xml", Settings: schema.Settings{RootName: e.Name.Local}}
	m := &importer{set: s, out: out, depth: map[*Type]int{}, noted: map[string]bool{}}
	for _, n := range s.Notes {
		m.say(n.Error())
	}
	if e.Name.Space != "" {
		m.note(e.place, "names are compared as they are written; the namespace %s is not", e.Name.Space)
	}
	for _, c := range e.constraints {
		m.note(c.place, "the %s %s is not checked", c.kind, c.name.Local)
	}
	f := &schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Must: schema.Must{Places: -1}}
	if e.Type.Simple != nil && !e.Type.Complex {
		f.Fields = []*schema.Field{m.content(e.Type.Simple, "text", e.place)}
	} else {
		m.inside(e.Type, f)
	}
	if len(f.Fields) == 0 {
		return nil, fault.New(fault.Setting, "the element %s holds nothing that could be a field", e.Name.Local).At(e.place)
	}
	out.Root = f.Sealed()
	return out, nil
}

type importer struct {
	set    *Set
	out    *schema.Schema
	depth  map[*Type]int
	noted  map[string]bool
	fields int
}

func (m *importer) say(text string) {
	if !m.noted[text] {
		m.noted[text] = true
		m.out.LeftOut = append(m.out.LeftOut, text)
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
		c := &schema.Field{Name: a.Name.Local, Max: 1, Must: schema.Must{Places: -1}, Written: schema.Written{Attribute: true}}
		if a.Required {
			c.Min = 1
		}
		m.simple(a.Type, c, a.place)
		m.fixed(c, a.Fixed, a.Default, a.place)
		m.add(f, c)
	}
	if t.AnyAttr != nil {
		m.note(t.place, "attributes of any name are allowed there, and a fault here")
	}
	switch {
	case t.Simple != nil:
		m.add(f, m.content(t.Simple, unused(f, "text"), t.place))
	case t.Mixed:
		m.note(t.place, "text between elements is taken together, without its places")
		m.add(f, &schema.Field{Name: unused(f, "text"), Kind: value.Text, Max: 1, Must: schema.Must{Places: -1}, Written: schema.Written{Content: true}})
	}
	if t.Content != nil {
		m.particle(t.Content, f, 1, 1, t.place)
	}
}

func (m *importer) content(s *Simple, name string, p fault.Place) *schema.Field {
	c := &schema.Field{Name: name, Min: 1, Max: 1, Must: schema.Must{Places: -1}, Written: schema.Written{Content: true}}
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
		if old.Written.Attribute != c.Written.Attribute {
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
		m.note(p, "elements of any name are allowed there, and a fault here")
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
	c := &schema.Field{Name: e.Name.Local, Min: low, Max: high, Nullable: e.Nillable, Must: schema.Must{Places: -1}}
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
		c.Must.Codes = []schema.Code{{Value: *fixed}}
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
	case c.Must.Pattern != nil:
		m.note(p, "%s: only the first of its patterns is checked", c.Name)
	default:
		var parts []string
		for _, re := range f.patterns {
			parts = append(parts, strings.TrimSuffix(strings.TrimPrefix(re.String(), "^(?s:"), ")$"))
		}
		if re, err := regexp.Compile(`^(?:` + strings.Join(parts, "|") + `)$`); err == nil {
			c.Must.Pattern = re
		}
	}
	if c.Must.Codes == nil {
		for _, e := range f.enum {
			c.Must.Codes = append(c.Must.Codes, schema.Code{Value: s.normal(e)})
		}
	}
}

func (m *importer) lengths(f *facets, c *schema.Field) {
	if c.Kind != value.Text {
		return
	}
	if f.length != nil && c.Must.MinLength == 0 {
		c.Must.MinLength, c.Must.MaxLength = *f.length, *f.length
	}
	if f.minLength != nil && c.Must.MinLength == 0 {
		c.Must.MinLength = *f.minLength
	}
	if f.maxLength != nil && c.Must.MaxLength == 0 {
		c.Must.MaxLength = *f.maxLength
	}
}

func (m *importer) bounds(f *facets, c *schema.Field, p fault.Place) {
	if f.totalDigits != nil && c.Must.Digits == 0 && c.Kind.Numeric() {
		c.Must.Digits = *f.totalDigits
	}
	if f.fractionDigits != nil && c.Must.Places < 0 && c.Kind == value.Decimal {
		c.Must.Places = *f.fractionDigits
	}
	for _, b := range []struct {
		has  bool
		text string
		to   *value.Value
	}{{f.hasMinIn, f.minIn, &c.Must.Least}, {f.hasMaxIn, f.maxIn, &c.Must.Greatest}} {
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

// Export writes a schema as an XML Schema for its messages in XML.
func Export(s *schema.Schema) []byte {
	root, record := s.Settings.RootName, s.Settings.RecordName
	if root == "" {
		root = "record"
	}
	w := &writer{}
	w.line(0, `<?xml version="1.0" encoding="UTF-8"?>`)
	w.line(0, `<xs:schema xmlns:xs="%s">`, nsXS)
	w.line(1, `<xs:element name="%s">`, root)
	if record == "" {
		w.complex(2, s.Root)
	} else {
		w.line(2, `<xs:complexType>`)
		w.line(3, `<xs:sequence>`)
		w.line(4, `<xs:element name="%s" minOccurs="0" maxOccurs="unbounded">`, record)
		w.complex(5, s.Root)
		w.line(4, `</xs:element>`)
		w.line(3, `</xs:sequence>`)
		w.line(2, `</xs:complexType>`)
	}
	w.line(1, `</xs:element>`)
	w.line(0, `</xs:schema>`)
	return []byte(w.b.String())
}

type writer struct{ b strings.Builder }

// line writes a line; its texts are escaped.
func (w *writer) line(depth int, format string, texts ...string) {
	w.b.WriteString(strings.Repeat("  ", depth))
	for _, t := range texts {
		var e strings.Builder
		xml.EscapeText(&e, []byte(t)) // writing to a Builder cannot fail
		format = strings.Replace(format, "%s", e.String(), 1)
	}
	w.b.WriteString(format + "\n")
}

// complex writes the type of a record, its elements in the order of the schema.
func (w *writer) complex(depth int, f *schema.Field) {
	var elements, attrs []*schema.Field
	var content *schema.Field
	for _, c := range f.Fields {
		switch {
		case c.Written.Attribute:
			attrs = append(attrs, c)
		case c.Written.Content:
			content = c
		default:
			elements = append(elements, c)
		}
	}
	w.line(depth, `<xs:complexType>`)
	switch {
	case content != nil && len(elements) == 0:
		w.line(depth+1, `<xs:simpleContent>`)
		w.line(depth+2, `<xs:extension base="%s">`, xsType(content))
		w.attributes(depth+3, attrs)
		w.line(depth+2, `</xs:extension>`)
		w.line(depth+1, `</xs:simpleContent>`)
	default:
		w.line(depth+1, `<xs:sequence>`)
		for _, c := range elements {
			w.element(depth+2, c)
		}
		w.line(depth+1, `</xs:sequence>`)
		w.attributes(depth+1, attrs)
	}
	w.line(depth, `</xs:complexType>`)
}

func (w *writer) element(depth int, c *schema.Field) {
	open := `<xs:element name="%s"`
	low, high, _ := strings.Cut(c.Occurs(), "..")
	if high == "" {
		high = low
	}
	if low != "1" {
		open += ` minOccurs="` + low + `"`
	}
	if high != "1" {
		open += ` maxOccurs="` + strings.Replace(high, "n", "unbounded", 1) + `"`
	}
	if c.Nullable {
		open += ` nillable="true"`
	}
	w.line(depth, open+">", c.Name)
	if c.Kind == value.RecordKind {
		w.complex(depth+1, c)
	} else {
		w.simple(depth+1, c)
	}
	w.line(depth, `</xs:element>`)
}

func (w *writer) attributes(depth int, attrs []*schema.Field) {
	for _, a := range attrs {
		use := ""
		if a.Required() {
			use = ` use="required"`
		}
		w.line(depth, `<xs:attribute name="%s"`+use+`>`, a.Name)
		w.simple(depth+1, a)
		w.line(depth, `</xs:attribute>`)
	}
}

var xsTypes = map[value.Kind]string{
	value.Text: "xs:string", value.Integer: "xs:integer", value.Decimal: "xs:decimal", value.Boolean: "xs:boolean", value.Date: "xs:date",
	value.Time: "xs:time", value.Timestamp: "xs:dateTime", value.Binary: "xs:base64Binary",
}

// xsType is the type as a field is written: a date by a pattern of its own is a text.
func xsType(f *schema.Field) string {
	if f.Written.Pattern != "" {
		return "xs:string"
	}
	return xsTypes[f.Kind]
}

// symbol is a digit of a date pattern; literal what a regular expression would not take as it stands.
var (
	symbol  = regexp.MustCompile(`[yMdHms]`)
	literal = regexp.MustCompile(`[.?*+()\[\]{}|\\-]`)
)

func (w *writer) simple(depth int, f *schema.Field) {
	m := &f.Must
	w.line(depth, `<xs:simpleType>`)
	w.line(depth+1, `<xs:restriction base="%s">`, xsType(f))
	facet := func(name, v string) {
		if v != "" {
			w.line(depth+2, `<xs:`+name+` value="%s"/>`, v)
		}
	}
	positive := func(n int) string {
		if n > 0 {
			return value.Int(int64(n)).String()
		}
		return ""
	}
	if f.Written.Pattern == "" {
		facet("minInclusive", m.Least.String())
		facet("maxInclusive", m.Greatest.String())
	}
	if f.Kind.Numeric() {
		facet("totalDigits", positive(m.Digits))
	}
	if f.Kind == value.Decimal && m.Places >= 0 {
		facet("fractionDigits", value.Int(int64(m.Places)).String())
	}
	if f.Written.Pattern != "" {
		facet("pattern", symbol.ReplaceAllString(literal.ReplaceAllString(f.Written.Pattern, `\$0`), `[0-9]`))
	}
	if f.Kind == value.Text {
		facet("minLength", positive(m.MinLength))
		facet("maxLength", positive(m.MaxLength))
		facet("pattern", strings.NewReplacer("(?:", "(", "(?s:", "(").Replace(m.PatternText()))
		for _, c := range m.Codes {
			facet("enumeration", c.Value)
		}
	}
	w.line(depth+1, `</xs:restriction>`)
	w.line(depth, `</xs:simpleType>`)
}
