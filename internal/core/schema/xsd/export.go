package xsd

import (
	"encoding/xml"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Export writes a schema as an XML Schema for its messages in XML. One document has one target
// namespace, that of the root element; elements of others are let through unchecked.
func Export(s *schema.Schema) []byte {
	root, record := s.Settings.RootName, s.Settings.RecordName
	if root == "" {
		root = "record"
	}
	w := &writer{spaces: map[string]string{}}
	for _, ns := range s.Settings.Namespaces {
		w.spaces[ns.Prefix] = ns.URI
	}
	w.target = w.space(root)
	w.line(0, `<?xml version="1.0" encoding="UTF-8"?>`)
	if w.target == "" {
		w.line(0, `<xs:schema xmlns:xs="%s">`, nsXS)
	} else {
		w.line(0, `<xs:schema xmlns:xs="%s" targetNamespace="%s" elementFormDefault="qualified">`, nsXS, w.target)
	}
	w.line(1, `<xs:element name="%s">`, local(root))
	if record == "" {
		w.complex(2, s.Root)
	} else {
		w.line(2, `<xs:complexType>`)
		w.line(3, `<xs:sequence>`)
		w.line(4, `<xs:element name="%s"`+w.form(record)+` minOccurs="0" maxOccurs="unbounded">`, local(record))
		w.complex(5, s.Root)
		w.line(4, `</xs:element>`)
		w.line(3, `</xs:sequence>`)
		w.line(2, `</xs:complexType>`)
	}
	w.line(1, `</xs:element>`)
	w.line(0, `</xs:schema>`)
	return []byte(w.b.String())
}

type writer struct {
	b      strings.Builder
	spaces map[string]string // by prefix
	target string
}

// space is the namespace of an element's name.
func (w *writer) space(name string) string {
	prefix, _, ok := strings.Cut(name, ":")
	if !ok {
		prefix = ""
	}
	return w.spaces[prefix]
}

// local is a name without its prefix.
func local(name string) string { return name[strings.IndexByte(name, ':')+1:] }

// form says of an element that it has no namespace, where the schema has one.
func (w *writer) form(name string) string {
	if w.target != "" && w.space(name) == "" {
		return ` form="unqualified"`
	}
	return ""
}

// foreign says whether an element is of a namespace that this document cannot describe.
func (w *writer) foreign(name string) bool {
	space := w.space(name)
	return space != "" && space != w.target
}

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
		case c.WireFormat.Attribute:
			attrs = append(attrs, c)
		case c.WireFormat.Content:
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
	low, high, _ := strings.Cut(c.Occurs(), "..")
	if high == "" {
		high = low
	}
	open := ""
	if low != "1" {
		open += ` minOccurs="` + low + `"`
	}
	if high != "1" {
		open += ` maxOccurs="` + strings.Replace(high, "n", "unbounded", 1) + `"`
	}
	if w.foreign(c.Name) {
		w.line(depth, `<xs:any namespace="%s" processContents="skip"`+open+`/>`, w.space(c.Name))
		return
	}
	if c.Nullable {
		open += ` nillable="true"`
	}
	w.line(depth, `<xs:element name="%s"`+w.form(c.Name)+open+">", local(c.Name))
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
		if strings.Contains(a.Name, ":") {
			if w.space(a.Name) != w.target || w.target == "" {
				continue // let through by the wildcard below
			}
			use += ` form="qualified"`
		}
		w.line(depth, `<xs:attribute name="%s"`+use+`>`, local(a.Name))
		w.simple(depth+1, a)
		w.line(depth, `</xs:attribute>`)
	}
	if slices.ContainsFunc(attrs, func(a *schema.Field) bool {
		return strings.Contains(a.Name, ":") && (w.target == "" || w.space(a.Name) != w.target)
	}) {
		w.line(depth, `<xs:anyAttribute namespace="##other" processContents="skip"/>`)
	}
}

var xsTypes = map[value.Kind]string{
	value.Text: "xs:string", value.Integer: "xs:integer", value.Decimal: "xs:decimal", value.Boolean: "xs:boolean", value.Date: "xs:date",
	value.Time: "xs:time", value.Timestamp: "xs:dateTime", value.Binary: "xs:base64Binary",
}

// xsType is the type as a field is written: a date by a pattern of its own is a text.
func xsType(f *schema.Field) string {
	if textual(f) {
		return "xs:string"
	}
	return xsTypes[f.Kind]
}

// textual says whether a field is written as a text that is none of its type for XML Schema.
func textual(f *schema.Field) bool {
	return f.WireFormat.Pattern != "" || f.WireFormat.Mark != "" || f.WireFormat.Grouping != ""
}

// symbol is a digit of a date pattern; literal what a regular expression would not take as it stands.
var (
	symbol  = regexp.MustCompile(`[yMdHms]`)
	literal = regexp.MustCompile(`[.?*+()\[\]{}|\\-]`)
)

func (w *writer) simple(depth int, f *schema.Field) {
	m := &f.Constraints
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
	if !textual(f) {
		facet("minInclusive", m.Minimum.String())
		facet("maxInclusive", m.Maximum.String())
	}
	if f.Kind.Numeric() && !textual(f) {
		facet("totalDigits", positive(m.TotalDigits))
	}
	if f.Kind == value.Decimal && m.FractionDigits >= 0 && !textual(f) {
		facet("fractionDigits", value.Int(int64(m.FractionDigits)).String())
	}
	if f.WireFormat.Pattern != "" {
		facet("pattern", symbol.ReplaceAllString(literal.ReplaceAllString(f.WireFormat.Pattern, `\$0`), `[0-9]`))
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
