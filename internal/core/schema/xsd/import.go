package xsd

import (
	"cmp"
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
	maxFields    = 10_000
	maxBranched  = 2_000 // behind so many fields a type whose place others take does not stand inside of itself again
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
	m := &importer{set: s, noted: map[string]bool{}}
	spaces := m.bind(e, prefixes)
	out := &schema.Schema{ID: id, Title: e.Name.Local, Notation: xml.Kind.Notation, Settings: schema.Settings{RootName: m.name(e.Name), Namespaces: spaces, Others: schema.FaultOthers, Ordered: true}}
	m.out = out
	for _, n := range s.Notes {
		m.say(n.Error())
	}
	f := &schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	if e.Type.Simple != nil && !e.Type.Complex {
		f.Fields = []*schema.Field{m.content(e.Type.Simple, "text", e.place)}
	} else {
		m.shaped(e, f)
		m.levels()
	}
	m.restrict(e, f)
	m.keys()
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
	noted  map[string]bool
	fields int
	queue  []pending
	at     *chain
	cut    int // elements that are not looked into any more

	restricted []restricted
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
		f.Fields = append(f.Fields, c)
	}
	if t.AnyAttr != nil {
		m.others(f, t.AnyAttr, t.place).WireFormat.AnyAttribute = m.spaces(t.AnyAttr)
	}
	switch {
	case t.Simple != nil:
		f.Fields = append(f.Fields, m.content(t.Simple, unused(f, "text"), t.place))
	case t.Mixed && (t.Content == nil || mixable(t.Content)):
		m.mixed(t, f)
		return
	case t.Mixed:
		m.note(t.place, "text between elements is taken together, without its places")
		f.Fields = append(f.Fields, textOf(unused(f, "text"), 0))
	}
	if t.Content != nil {
		m.modelled(t.Content, f, t.place)
	}
}

func newField(name string) *schema.Field {
	return &schema.Field{Name: name, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
}

// textOf is a field for the text of an element.
func textOf(name string, least int) *schema.Field {
	f := newField(name)
	f.Kind, f.Min, f.WireFormat.Content = value.Text, least, true
	return f
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

// others gives a record a map for attributes or elements of any name; it holds neither yet.
func (m *importer) others(f *schema.Field, w *wildcard, p fault.Place) *schema.Field {
	if w.process == "strict" || w.process != "skip" && m.set.declares(w) {
		m.note(p, "what elements and attributes of any name hold is kept, and not checked")
	}
	if i := slices.IndexFunc(f.Fields, func(c *schema.Field) bool { return c.HoldsOthers }); i >= 0 {
		return f.Fields[i]
	}
	each := newField("value")
	each.Kind = value.AnyKind
	held := newField(unused(f, "others"))
	held.Kind, held.Min, held.HoldsOthers, held.Fields = value.MapKind, 0, true, []*schema.Field{each}
	held.WireFormat.Wildcard, held.WireFormat.AnyAttribute = noNames, noNames
	f.Fields = append(f.Fields, held)
	return held
}

// declares says whether the set declares an element or an attribute that a wildcard lets in, and that would be checked there.
func (s *Set) declares(w *wildcard) bool {
	for name := range s.elements {
		if w.accepts(name.Space) {
			return true
		}
	}
	for name := range s.attrs {
		if w.accepts(name.Space) {
			return true
		}
	}
	return false
}

// noNames are the namespaces of a map that takes no names of a kind.
const noNames = "##none"

// widened are the namespaces of two wildcards, of which a record has one map.
func (m *importer) widened(was string, w *wildcard, p fault.Place) string {
	now := m.spaces(w)
	switch {
	case was == noNames || was == now:
		return now
	case was == "" || now == "":
		return ""
	case was == "##other" || now == "##other":
		m.note(p, "of which namespaces elements of any name are is not checked")
		return ""
	}
	list := append(strings.Fields(was), strings.Fields(now)...)
	slices.Sort(list)
	return strings.Join(slices.Compact(list), " ")
}

// spaces are the namespaces of a wildcard, as a part has them.
func (m *importer) spaces(w *wildcard) string {
	switch {
	case w.any:
		return ""
	case w.in == nil:
		return "##other"
	}
	var list []string
	for space := range w.in {
		list = append(list, cmp.Or(space, "##local"))
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

func (m *importer) fixed(c *schema.Field, fixed, def *string, p fault.Place) {
	if fixed != nil && c.Scalar() {
		c.Constraints.Codes = []schema.Code{{Value: *fixed}}
	} else if fixed != nil {
		m.note(p, "%s: its fixed value is not checked", c.Name)
	}
	if def != nil {
		c.Notes = "Default: " + *def
	}
}

// given gives an element what it says when it is empty, and the only value that it may have.
func (m *importer) given(c *schema.Field, e *Element) {
	for _, inner := range c.Fields {
		if c.Kind == value.RecordKind && inner.WireFormat.Content {
			c = inner
		}
	}
	switch {
	case e.Fixed == nil && e.Default == nil:
	case !c.Scalar():
		m.note(e.place, "%s: what it is when it is empty, and its fixed value, is not known here", c.Name)
	case e.Fixed != nil:
		c.Constraints.Codes, c.WireFormat.WhenEmpty = []schema.Code{{Value: *e.Fixed}}, *e.Fixed
	default:
		c.WireFormat.WhenEmpty = *e.Default
	}
}

// kindOf are the types by primitive; all others are texts.
var kindOf = map[string]value.Kind{
	"decimal": value.Decimal, "float": value.Decimal, "double": value.Decimal, "boolean": value.Boolean, "date": value.Date,
	"time": value.Time, "dateTime": value.Timestamp, "base64Binary": value.Binary, "hexBinary": value.Binary,
	"duration": value.Duration, "gYearMonth": value.YearMonth,
}

// simple gives a field the type and constraints of a simple type.
func (m *importer) simple(s *Simple, c *schema.Field, p fault.Place) {
	c.Kind = value.Text
	switch {
	case s.item != nil:
		m.list(s, c, p)
		return
	case s.members != nil:
		m.union(s, c, p)
		return
	}
	if k, ok := kindOf[s.primitive]; ok {
		c.Kind = k
	}
	if c.Kind == value.Text && s.space != "preserve" {
		c.WireFormat.WhiteSpace = s.space
	}
	if s.primitive == "float" || s.primitive == "double" {
		m.note(p, "%s: INF and NaN are no decimals", c.Name)
	}
	c.WireFormat.Exponent = s.primitive == "float" || s.primitive == "double"
	if c.Kind == value.Text {
		m.form(s.primitive, c)
	}
	c.WireFormat.Hex = s.primitive == "hexBinary"
	c.WireFormat.ZoneOptional = s.primitive == "dateTime" || s.primitive == "time"
	whole := false
	for t := s; t != nil; t = t.base {
		if whole = whole || t == builtins["integer"]; whole {
			c.Kind = value.Integer
		}
	}
	before := c.Kind
	for t := s; t != nil; t = t.base {
		m.facets(t, c, p)
	}
	if (before == value.Date || before == value.YearMonth) && !slices.ContainsFunc(allPatterns(s), func(t string) bool { return t == writtenForms[before][0] }) {
		m.note(p, "%s: a %s has no zone here", c.Name, before)
	}
}

// list gives a field the type of a list whose values stand in one text.
func (m *importer) list(s *Simple, c *schema.Field, p fault.Place) {
	item := newField("item")
	m.simple(s.item, item, p)
	if !item.Scalar() {
		m.note(p, "%s is a list of values of several types in one text; it is taken as text", c.Name)
		return
	}
	if item.Kind == value.Text {
		item.WireFormat.WhiteSpace = ""
		if must := &item.Constraints; must.Pattern == nil && must.Codes == nil {
			must.Pattern = unspaced
		}
	}
	c.Kind, c.WireFormat.InText, c.Fields = value.ListKind, true, []*schema.Field{item}
	item.Min, item.Max = 0, schema.Many
	restricted := false
	for t := s; t != nil; t = t.base {
		f := &t.facets
		restricted = restricted || f.enum != nil || len(f.patterns) > 0
		if f.length != nil && item.Constraints.MinEntries == 0 {
			item.Constraints.MinEntries, item.Constraints.MaxEntries = *f.length, *f.length
		}
		if f.minLength != nil && item.Constraints.MinEntries == 0 {
			item.Constraints.MinEntries = *f.minLength
		}
		if f.maxLength != nil && item.Constraints.MaxEntries == 0 {
			item.Constraints.MaxEntries = *f.maxLength
		}
	}
	if restricted {
		m.note(p, "%s: what a list of values is restricted to as a whole is not checked", c.Name)
	}
}

// unspaced is what a text in a list of texts must be.
var unspaced = regexp.MustCompile(`^(?:\S+)$`)

// allPatterns are the patterns of a type and of those that it is derived from.
func allPatterns(s *Simple) (texts []string) {
	for t := s; t != nil; t = t.base {
		texts = append(texts, t.facets.patternText...)
	}
	return texts
}

// ofForm gives a date or time the type whose form a pattern is; ok is false for any other pattern.
func ofForm(c *schema.Field, patterns []string) (ok bool) {
	for kind, forms := range writtenForms {
		for i, form := range forms {
			if form != "" && len(patterns) == 1 && patterns[0] == form && (kind == c.Kind || unzoned[c.Kind] == kind) {
				c.Kind, c.WireFormat.ZoneOptional = kind, i == 1
				return true
			}
		}
	}
	return false
}

// unzoned are the types that XML Schema's types with an optional zone can be without it, or with it.
var unzoned = map[value.Kind]value.Kind{value.Timestamp: value.LocalTimestamp, value.Time: value.ZonedTime}

func (m *importer) facets(s *Simple, c *schema.Field, p fault.Place) {
	f := &s.facets
	m.lengths(f, c)
	m.bounds(f, c, p)
	if c.Kind != value.Text {
		if len(f.patterns) > 0 && s.base != nil && builtins[s.Name] != s && !ofForm(c, f.patternText) {
			m.note(p, "%s: the pattern is not checked", c.Name)
		}
		m.values(s, c)
		return
	}
	if len(f.patterns) > 0 && c.Constraints.Codes == nil {
		var parts []string
		for _, re := range f.patterns {
			parts = append(parts, patternEnds.Replace(re.String()))
		}
		if re, err := regexp.Compile(`^(?:` + strings.Join(parts, "|") + `)$`); err == nil {
			c.Constraints.Like(re)
		}
	}
	m.values(s, c)
}

// patternEnds takes from a pattern what makes it match the whole text.
var patternEnds = strings.NewReplacer("^(?s:", "", "^(?:", "", ")$", "")

// forms are the primitive types that are texts of a form.
var forms = map[string]*regexp.Regexp{
	"gYear":     regexp.MustCompile(`^(?:-?([1-9][0-9]{3,}|0[0-9][0-9][1-9]|0[0-9][1-9][0-9]|0[1-9][0-9][0-9])` + zone + `)$`),
	"gMonth":    regexp.MustCompile(`^(?:--(0[1-9]|1[0-2])` + zone + `)$`),
	"gDay":      regexp.MustCompile(`^(?:---(0[1-9]|[12][0-9]|3[01])` + zone + `)$`),
	"gMonthDay": regexp.MustCompile(`^(?:--((0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])|(0[469]|11)-(0[1-9]|[12][0-9]|30)|02-(0[1-9]|[12][0-9]))` + zone + `)$`),
	"QName":     regexp.MustCompile(`^(?:` + ncName + `(:` + ncName + `)?)$`),
	"NOTATION":  regexp.MustCompile(`^(?:` + ncName + `(:` + ncName + `)?)$`),
}

// form gives a text the form that its primitive type has.
func (m *importer) form(primitive string, c *schema.Field) {
	if p := forms[primitive]; p != nil {
		c.Constraints.Like(p)
	}
	if primitive == "anyURI" {
		c.Constraints.Format = "uri-reference"
	}
}

// values are those that a simple type lists.
func (m *importer) values(s *Simple, c *schema.Field) {
	if c.Constraints.Codes != nil {
		return
	}
	m.fields += len(s.facets.enum) / 3 // codes take room in a part, too
	for _, e := range s.facets.enum {
		c.Constraints.Codes = append(c.Constraints.Codes, schema.Code{Value: s.normal(e)})
	}
}

// union makes a variant of a simple type that is one of several.
func (m *importer) union(s *Simple, c *schema.Field, p fault.Place) {
	if len(s.members) == 1 {
		m.simple(s.members[0], c, p)
		return
	}
	c.Kind = value.VariantKind
	for _, member := range s.members {
		b := newField("")
		m.simple(member, b, p)
		b.Name = unused(c, b.Kind.String())
		c.Fields = append(c.Fields, b)
	}
	if s.facets.enum != nil || len(s.facets.patterns) > 0 {
		m.note(p, "%s: what a union of types restricts is not checked", c.Name)
	}
}

func (m *importer) lengths(f *facets, c *schema.Field) {
	if c.Kind != value.Text && c.Kind != value.Binary {
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
	}{
		{f.hasMinIn, f.minIn, &c.Constraints.Minimum},
		{f.hasMaxIn, f.maxIn, &c.Constraints.Maximum},
		{f.hasMinEx, f.minEx, &c.Constraints.Above},
		{f.hasMaxEx, f.maxEx, &c.Constraints.Below},
	} {
		if !b.has || b.to.Kind() != value.Absent {
			continue
		}
		if v, ok := c.Read(b.text); ok && c.Kind != value.Text {
			*b.to = v
		} else {
			m.note(p, "%s: the bound %s is not checked", c.Name, b.text)
		}
	}
}
