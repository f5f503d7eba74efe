package xsd

import (
	"cmp"
	"encoding/xml"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Export writes a schema as an XML Schema for its messages in XML. One document has one target
// namespace, that of the root element; elements of others are let through unchecked.
func Export(s *schema.Schema) []byte {
	root, record := s.RootElement(), s.RecordElement()
	w := newWriter(s)
	w.line(0, `<?xml version="1.0" encoding="UTF-8"?>`)
	if w.target == "" {
		w.line(0, `<xs:schema xmlns:xs="%s">`, nsXS)
	} else {
		w.line(0, `<xs:schema xmlns:xs="%s" targetNamespace="%s" xmlns="%s" elementFormDefault="qualified">`, nsXS, w.target, w.target)
	}
	if unsaid := Unsaid(s); len(unsaid) > 0 {
		w.line(1, `<xs:annotation><xs:documentation>%s</xs:documentation></xs:annotation>`, strings.Join(unsaid, " "))
	}
	if record == "" {
		w.element(1, called(s.Root, root), "")
	} else {
		w.line(1, `<xs:element name="%s">`, local(root))
		w.line(2, `<xs:complexType>`)
		w.line(3, `<xs:sequence>`)
		many := ` minOccurs="0" maxOccurs="unbounded"`
		if s.Message.List() {
			many = often(s.Message.Min, s.Message.Max)
		}
		w.element(4, called(s.Root, record), many)
		w.line(3, `</xs:sequence>`)
		w.line(2, `</xs:complexType>`)
		w.line(1, `</xs:element>`)
	}
	for _, name := range w.named {
		w.b.WriteString(w.types[name])
	}
	w.line(0, `</xs:schema>`)
	return []byte(w.b.String())
}

type writer struct {
	b      strings.Builder
	spaces map[string]string // by prefix
	target string
	types  map[string]string // named types by their names, as they are written

	keyNames  map[keyOf]string // of keys and uniques
	keysNamed map[string]bool
	named     []string // their names, in the order in which they came
}

// called is the field of a message, as an element of a name.
func called(root *schema.Field, name string) *schema.Field {
	f := *root
	f.WireFormat.Name = name
	return &f
}

func newWriter(s *schema.Schema) *writer {
	w := &writer{spaces: map[string]string{}, types: map[string]string{}}
	for _, ns := range s.Settings.Namespaces {
		w.spaces[ns.Prefix] = ns.URI
	}
	w.target = w.space(s.RootElement())
	w.nameKeys(s.Root)
	return w
}

// Unsaid are the sentences that tell in what an exported XML Schema is stricter than the schema: XML Schema 1.0 has no word for it.
func Unsaid(s *schema.Schema) (sentences []string) {
	w := newWriter(s)
	anyOrder, open, others, apart, lost, formed := false, false, false, false, false, false
	s.Root.Walk(func(_ []string, f *schema.Field) {
		apart = apart || f.Kind == value.VariantKind && firstNested(f) != nil && !w.related(f)
		if format := f.Constraints.Format; format != "" && !addresses[format] && formPatterns[format] == "" {
			formed = true
		}
		if f.Kind != value.RecordKind {
			return
		}
		for _, k := range f.Keys() {
			lost = lost || k.Among != nil && w.keyNames[among(f, k.Among)] == ""
		}
		elements, lists := 0, false
		for _, c := range f.Fields {
			if !c.WireFormat.Attribute && !c.WireFormat.Content {
				elements++
				lists = lists || c.List()
			}
		}
		anyOrder = anyOrder || f.Model() == nil && elements > 1 && lists
		open = open || !f.Strict() && f.HeldOthers() == nil
		others = others || f.Model() == nil && f.HeldOthers() != nil && !fixedEnd(f)
	})
	if anyOrder {
		sentences = append(sentences, "Where elements repeat, the schema takes them in any order; here they stand in the order of its fields.")
	}
	if open {
		sentences = append(sentences, "Elements and attributes that the schema lacks are passed over; here they are refused.")
	}
	if others {
		sentences = append(sentences, "Where elements of any name are let in behind one that may be absent, they are of another namespace here.")
	}
	if apart {
		sentences = append(sentences, "Of elements of several shapes, of which none is an extension of the first, only what xsi:type names is described here.")
	}
	if formed {
		sentences = append(sentences, "Of which form mail addresses and names of hosts are is not said here.")
	}
	if lost {
		sentences = append(sentences, "That values are those of entries which are no key themselves is not said here.")
	}
	return sentences
}

// fixedEnd says whether the last element of a record occurs a fixed number of times, so that a wildcard behind it is not ambiguous.
func fixedEnd(f *schema.Field) bool {
	for i := len(f.Fields) - 1; i >= 0; i-- {
		if c := f.Fields[i]; !c.HoldsOthers && !c.WireFormat.Attribute && !c.WireFormat.Content {
			return c.Min == c.Max
		}
	}
	return true
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

// naming is what a named type has beside its content.
type naming struct {
	name string        // empty: the type has none
	base string        // the type that it extends
	of   *schema.Field // whose fields are those of the base, and are not written again; nil where it has none
}

// attribute is the name as the type has it.
func (n naming) attribute() string {
	if n.name == "" {
		return ""
	}
	return ` name="` + n.name + `"` // an XML name
}

func (w *writer) record(depth int, f *schema.Field, as naming) {
	var elements, attrs []*schema.Field
	var content *schema.Field
	for _, c := range f.Fields {
		switch {
		case as.of != nil && as.of.Named(c.Name) != nil:
		case c.WireFormat.Attribute:
			attrs = append(attrs, c)
		case c.WireFormat.Content:
			content = c
		default:
			elements = append(elements, c)
		}
	}
	open := "<xs:complexType" + as.attribute()
	if mixed(f) || content != nil && len(elements) > 0 {
		open += ` mixed="true"`
	}
	w.line(depth, open+">")
	if as.base != "" {
		w.line(depth+1, `<xs:complexContent>`)
		w.line(depth+2, `<xs:extension base="%s">`, as.base)
		depth += 2
	}
	switch {
	case content != nil && len(elements) == 0:
		w.line(depth+1, `<xs:simpleContent>`)
		w.line(depth+2, `<xs:extension base="%s">`, w.textType(content))
		w.attributes(depth+3, attrs)
		w.line(depth+2, `</xs:extension>`)
		w.line(depth+1, `</xs:simpleContent>`)
	default:
		w.content(depth+1, f, elements, as.of)
		w.attributes(depth+1, attrs)
	}
	if held := f.HeldOthers(); held != nil && held.WireFormat.AnyAttribute != "##none" {
		w.line(depth+1, `<xs:anyAttribute namespace="%s" processContents="lax"/>`, cmp.Or(held.WireFormat.AnyAttribute, "##any"))
	}
	if as.base != "" {
		depth -= 2
		w.line(depth+2, `</xs:extension>`)
		w.line(depth+1, `</xs:complexContent>`)
	}
	w.line(depth, `</xs:complexType>`)
}

// content writes the content model of a record: its own, or the elements in the order of its fields; where any order is allowed and
// no element repeats, in any order.
func (w *writer) content(depth int, f *schema.Field, elements []*schema.Field, base *schema.Field) {
	if f.Model() != nil {
		w.model(depth, f, behind(f, base), "")
		return
	}
	kind := "all"
	if base != nil {
		kind = "sequence" // xs:all extends nothing
	}
	for _, c := range elements {
		if c.List() || w.foreign(c.WireName()) || c.HoldsOthers {
			kind = "sequence" // xs:all has each element once at most
		}
	}
	w.line(depth, `<xs:`+kind+`>`)
	for i := 0; i < len(elements); i++ {
		c := elements[i]
		if c.HoldsOthers {
			continue
		}
		low, high := c.Min, c.Max
		for w.foreign(c.WireName()) && i+1 < len(elements) && w.foreign(elements[i+1].WireName()) && w.space(elements[i+1].WireName()) == w.space(c.WireName()) {
			i++ // one wildcard for neighbours of a namespace: with two of them it could not be told which an element is of
			low, high = low+elements[i].Min, sum(high, elements[i].Max)
		}
		w.element(depth+1, c, often(low, high))
	}
	w.others(depth+1, f)
	w.line(depth, `</xs:`+kind+`>`)
}

// others writes the wildcard of a record whose elements are in any order, behind them all.
func (w *writer) others(depth int, f *schema.Field) {
	held := f.HeldOthers()
	if held == nil || held.WireFormat.Wildcard == "##none" {
		return
	}
	space := cmp.Or(held.WireFormat.Wildcard, "##any")
	if !fixedEnd(f) {
		space = "##other"
	}
	w.line(depth, `<xs:any namespace="%s" processContents="lax" minOccurs="0" maxOccurs="unbounded"/>`, space)
}

// sum adds how often particles may occur at the most.
func sum(a, b int) int {
	if a == schema.Many || b == schema.Many {
		return schema.Many
	}
	return a + b
}

var joins = map[byte]string{',': "sequence", '|': "choice", '&': "all"}

// model writes a part of a content model.
func (w *writer) model(depth int, f *schema.Field, m *schema.Model, repeated string) {
	if m.Join == 0 {
		w.leaf(depth, f.Fields[m.Slot], often(m.Min, m.Max))
		return
	}
	if m.Min == 0 {
		repeated = ` minOccurs="0"`
	}
	w.line(depth, `<xs:`+joins[m.Join]+repeated+`>`)
	for _, p := range m.Parts {
		w.model(depth+1, f, p, "")
	}
	w.line(depth, `</xs:`+joins[m.Join]+`>`)
}

func (w *writer) leaf(depth int, c *schema.Field, occurs string) {
	switch {
	case c.HoldsOthers:
		w.line(depth, `<xs:any namespace="%s" processContents="lax"`+occurs+`/>`, cmp.Or(c.WireFormat.Wildcard, "##any"))
	case c.WireFormat.Group:
		w.model(depth, c, c.Model(), occurs)
	case !c.WireFormat.Content: // a text between elements is allowed by the type
		w.element(depth, c, occurs)
	}
}

// often are the attributes that say how often a particle occurs.
func often(low, high int) (attrs string) {
	if low != 1 {
		attrs += ` minOccurs="` + strconv.Itoa(low) + `"`
	}
	switch {
	case high == schema.Many:
		attrs += ` maxOccurs="unbounded"`
	case high != 1:
		attrs += ` maxOccurs="` + strconv.Itoa(high) + `"`
	}
	return attrs
}

// mixed says whether text between the elements of a record is kept in its place.
func mixed(f *schema.Field) bool {
	return slices.ContainsFunc(f.Fields, func(c *schema.Field) bool {
		return c.WireFormat.Group && (mixed(c) || slices.ContainsFunc(c.Fields, func(t *schema.Field) bool { return t.WireFormat.Content }))
	})
}

func (w *writer) element(depth int, c *schema.Field, open string) {
	name := c.WireName()
	if w.foreign(name) {
		w.line(depth, `<xs:any namespace="%s" processContents="skip"`+open+`/>`, w.space(name))
		return
	}
	if c.Nullable {
		open += ` nillable="true"`
	}
	if c.Kind == value.VariantKind && firstNested(c) != nil {
		w.line(depth, `<xs:element name="%s"`+w.form(name)+` type="%s"`+open+`/>`, local(name), w.variant(c))
		return
	}
	if empty := whenEmpty(c); empty == "" {
		w.line(depth, `<xs:element name="%s"`+w.form(name)+open+">", local(name))
	} else {
		w.line(depth, `<xs:element name="%s"`+w.form(name)+open+` default="%s">`, local(name), empty)
	}
	w.typ(depth+1, c, naming{})
	w.keys(depth+1, c)
	w.line(depth, `</xs:element>`)
}

// whenEmpty is what an element says that has no content.
func whenEmpty(f *schema.Field) string {
	for _, c := range f.Fields {
		if f.Kind == value.RecordKind && c.WireFormat.Content {
			f = c
		}
	}
	return f.WireFormat.WhenEmpty
}

// typ writes the type of an element.
func (w *writer) typ(depth int, c *schema.Field, as naming) {
	switch {
	case c.Kind == value.RecordKind:
		w.record(depth, c, as)
	case c.Kind == value.ListKind && !c.WireFormat.InText:
		w.items(depth, c.Each(), as)
	case c.Kind == value.AnyKind || c.Kind == value.MapKind:
		w.anything(depth, as)
	default:
		w.simple(depth, c, as)
	}
}

// items writes the type of an element that is a list.
func (w *writer) items(depth int, each *schema.Field, as naming) {
	w.line(depth, `<xs:complexType`+as.attribute()+`>`)
	w.line(depth+1, `<xs:sequence>`)
	w.element(depth+2, each, often(each.Min, each.Max))
	w.line(depth+1, `</xs:sequence>`)
	w.line(depth, `</xs:complexType>`)
}

// anything writes a type that lets everything in.
func (w *writer) anything(depth int, as naming) {
	w.line(depth, `<xs:complexType`+as.attribute()+` mixed="true"><xs:sequence><xs:any processContents="lax" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:anyAttribute processContents="lax"/></xs:complexType>`)
}

func (w *writer) attributes(depth int, attrs []*schema.Field) {
	for _, a := range attrs {
		use := ""
		if a.Required() {
			use = ` use="required"`
		}
		if strings.Contains(a.WireName(), ":") {
			if w.space(a.WireName()) != w.target || w.target == "" {
				continue // let through by the wildcard below
			}
			use += ` form="qualified"`
		}
		w.line(depth, `<xs:attribute name="%s"`+use+`>`, local(a.WireName()))
		w.simple(depth+1, a, naming{})
		w.line(depth, `</xs:attribute>`)
	}
	if slices.ContainsFunc(attrs, func(a *schema.Field) bool {
		return strings.Contains(a.WireName(), ":") && (w.target == "" || w.space(a.WireName()) != w.target)
	}) {
		w.line(depth, `<xs:anyAttribute namespace="##other" processContents="skip"/>`)
	}
}

var xsTypes = map[value.Kind]string{
	value.Text: "xs:string", value.Integer: "xs:integer", value.Decimal: "xs:decimal", value.Boolean: "xs:boolean", value.Date: "xs:date",
	value.Time: "xs:time", value.Timestamp: "xs:dateTime", value.Binary: "xs:base64Binary",
	value.LocalTimestamp: "xs:dateTime", value.ZonedTime: "xs:time", value.Duration: "xs:duration", value.YearMonth: "xs:gYearMonth",
}

// textType names the type of an element's text, which is written where XML Schema has none that says as much.
func (w *writer) textType(f *schema.Field) string {
	if plain := xsType(f); f.Scalar() && f.Constraints.Text() == "" && f.Constraints.TotalDigits == 0 && f.WireFormat.WhiteSpace == "" && f.WireFormat.Pattern == "" && writtenForm(f) == "" {
		return plain
	}
	out := &writer{spaces: w.spaces, target: w.target, types: w.types, named: w.named}
	name := w.unusedType(local(f.WireName()) + "Type")
	out.simple(1, f, naming{name: name})
	for had := range w.types { // one that reads so is there already
		if strings.HasSuffix(had, "Type") && strings.ReplaceAll(w.types[had], `name="`+had+`"`, "") == strings.ReplaceAll(out.b.String(), `name="`+name+`"`, "") {
			return had
		}
	}
	w.keep(name, func(out *writer) { out.simple(1, f, naming{name: name}) })
	return name
}

// xsType is the type as a field is written: a date by a pattern of its own is a text.
func xsType(f *schema.Field) string {
	if textual(f) {
		return "xs:string"
	}
	switch {
	case f.WireFormat.Hex:
		return "xs:hexBinary"
	case f.WireFormat.Exponent:
		return "xs:double"
	case addresses[f.Constraints.Format]:
		return "xs:anyURI"
	}
	return xsTypes[f.Kind]
}

// The forms of dates and times that a part reads: of XML Schema's own types some have a zone or not, end the day with 24:00:00 and
// have years beyond 9999.
const (
	clockForm = `([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\.[0-9]{1,9})?`
	dateForm  = `[0-9]{4}-[0-9]{2}-[0-9]{2}`
	zoneForm  = `(Z|[+\-][0-9]{2}:[0-9]{2})`
)

// writtenForms are the forms by type: with the zone as the type has it, and with one or none.
var writtenForms = map[value.Kind][2]string{
	value.Timestamp:      {dateForm + "T" + clockForm + zoneForm, dateForm + "T" + clockForm + zoneForm + "?"},
	value.LocalTimestamp: {dateForm + "T" + clockForm},
	value.Time:           {clockForm, clockForm + zoneForm + "?"},
	value.ZonedTime:      {clockForm + zoneForm},
	value.Date:           {dateForm},
	value.YearMonth:      {"[0-9]{4}-[0-9]{2}"},
}

// finiteForm is that of a number with an exponent, other than INF and NaN.
const finiteForm = `[+\-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+\-]?[0-9]+)?`

func writtenForm(f *schema.Field) string {
	switch {
	case textual(f):
		return ""
	case f.WireFormat.ZoneOptional:
		return writtenForms[f.Kind][1]
	case f.WireFormat.Exponent:
		return finiteForm
	}
	return writtenForms[f.Kind][0]
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

// values writes the type of a list whose values stand in one text.
func (w *writer) values(depth int, item *schema.Field) {
	w.line(depth, `<xs:restriction>`)
	w.line(depth+1, `<xs:simpleType>`)
	w.line(depth+2, `<xs:list>`)
	w.simple(depth+3, item, naming{})
	w.line(depth+2, `</xs:list>`)
	w.line(depth+1, `</xs:simpleType>`)
	low, high := max(item.Min, item.Constraints.MinEntries), item.Constraints.MaxEntries
	if item.Max != schema.Many && (high == 0 || item.Max < high) {
		high = item.Max
	}
	if low > 0 {
		w.line(depth+1, `<xs:minLength value="%s"/>`, strconv.Itoa(low))
	}
	if high > 0 {
		w.line(depth+1, `<xs:maxLength value="%s"/>`, strconv.Itoa(high))
	}
	w.line(depth, `</xs:restriction>`)
}

func (w *writer) simple(depth int, f *schema.Field, as naming) {
	m := &f.Constraints
	w.line(depth, `<xs:simpleType`+as.attribute()+`>`)
	if f.Kind == value.ListKind {
		w.values(depth+1, f.Each())
		w.line(depth, `</xs:simpleType>`)
		return
	}
	if f.Kind == value.VariantKind {
		w.line(depth+1, `<xs:union>`)
		for _, b := range f.Fields {
			w.simple(depth+2, b, naming{})
		}
		w.line(depth+1, `</xs:union>`)
		w.line(depth, `</xs:simpleType>`)
		return
	}
	deeper := len(m.Also) // one restriction for each further pattern, since several in one are a choice
	if formPatterns[m.Format] != "" {
		deeper++
	}
	for range deeper {
		w.line(depth+1, `<xs:restriction>`)
		w.line(depth+2, `<xs:simpleType>`)
		depth += 2
	}
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
		facet("minExclusive", m.Above.String())
		facet("maxExclusive", m.Below.String())
	}
	if f.Kind.Numeric() && !textual(f) && !f.WireFormat.Exponent {
		facet("totalDigits", positive(m.TotalDigits))
	}
	if f.Kind == value.Decimal && m.FractionDigits >= 0 && !textual(f) && !f.WireFormat.Exponent {
		facet("fractionDigits", value.Int(int64(m.FractionDigits)).String())
	}
	facet("pattern", writtenForm(f))
	if f.WireFormat.Pattern != "" {
		facet("pattern", symbol.ReplaceAllString(literal.ReplaceAllString(f.WireFormat.Pattern, `\$0`), `[0-9]`))
	}
	if f.Kind == value.Text {
		facet("whiteSpace", f.WireFormat.WhiteSpace)
		facet("pattern", plainGroups.Replace(m.PatternText()))
	}
	if f.Kind == value.Text || f.Kind == value.Binary {
		facet("minLength", positive(m.MinLength))
		facet("maxLength", positive(m.MaxLength))
	}
	for _, c := range m.Codes {
		w.line(depth+2, `<xs:enumeration value="%s"/>`, c.Value)
	}
	w.line(depth+1, `</xs:restriction>`)
	for i := range deeper {
		depth -= 2
		w.line(depth+2, `</xs:simpleType>`)
		pattern := formPatterns[m.Format]
		if i < len(m.Also) {
			pattern = plainGroups.Replace(m.AlsoTexts()[i])
		}
		w.line(depth+2, `<xs:pattern value="%s"/>`, pattern)
		w.line(depth+1, `</xs:restriction>`)
	}
	w.line(depth, `</xs:simpleType>`)
}

// plainGroups makes groups that XML Schema has no sign for plain ones.
var plainGroups = strings.NewReplacer("(?:", "(", "(?s:", "(")

// addresses are the formats of texts that are xs:anyURI; formPatterns the forms of those that a pattern can tell.
var (
	addresses    = map[string]bool{"uri": true, "uri-reference": true, "iri": true, "iri-reference": true}
	formPatterns = map[string]string{
		"uuid": `[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}`, // RFC 9562, section 4
		"uri":  `[A-Za-z][A-Za-z0-9+\-.]*:.*`, "iri": `[A-Za-z][A-Za-z0-9+\-.]*:.*`,
		"json-pointer": `(/([^~/]|~[01])*)*`,
	}
)
