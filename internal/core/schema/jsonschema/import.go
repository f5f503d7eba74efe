package jsonschema

import (
	stdjson "encoding/json"
	"fmt"
	"maps"
	"math"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Imported is a schema made of a JSON Schema, with a note on everything that it cannot hold.
type Imported struct {
	Schema *schema.Schema
	Notes  fault.List
}

// Bounds of what one import makes.
const (
	maxRecursion = 3 // how often a definition may stand inside of itself
	maxFields    = 10_000
	maxBytes     = 2 << 20 // that the part has about
)

// Import makes a schema of a JSON Schema, or of one of an OpenAPI document's, as Document.Import does.
func Import(id, name string, text []byte, at string, others map[string][]byte) (*Imported, error) {
	d, err := Open(name, text, others)
	if err != nil {
		return nil, err
	}
	return d.Import(id, at)
}

// Document is a JSON Schema or an OpenAPI document of which schemas are made. It is read once.
type Document struct {
	files
	first *document
}

// Open reads a document. Other files that it refers to are given by name. The error is a *fault.Fault.
func Open(name string, text []byte, others map[string][]byte) (*Document, error) {
	d := &Document{files: files{read: map[string]*document{}, others: maps.Clone(others)}}
	var err error
	d.first, err = d.load(name, text)
	return d, err
}

// Import makes a schema of what stands at a place, which is given as a JSON Pointer and empty for the whole document. The error
// is a *fault.Fault.
func (d *Document) Import(id, at string) (*Imported, error) {
	n, whole := d.first.root.find(tokens(at))
	if !whole {
		return nil, fault.Expect(fault.Unknown, "a schema at "+at, "none").At(fault.Place{Source: d.first.name})
	}
	made := d.imported(id, n, schema.MaxDepth)
	for deepest := 1; made == nil; deepest++ { // it has no end, or is too large: as deep as there is room for
		next := d.imported(id, n, deepest)
		if next == nil || deepest == schema.MaxDepth {
			made = d.imported(id, n, deepest-1)
			break
		}
	}
	return made, nil
}

// imported makes a schema that is no deeper than so many levels; nil where that is too large.
func (d *Document) imported(id string, n *node, deepest int) *Imported {
	m := &importer{files: d.files, depth: map[*node]int{}, merges: map[*node]*node{}, deepest: deepest}
	s := &schema.Schema{ID: id, Title: id, Notation: json.Kind.Notation}
	c := m.resolved(context{d.first, n})
	if t := m.merged(c).text("title"); t != "" {
		s.Title = t
	}
	root := newField(id)
	root.Min = 1
	m.field(c, root)
	if deepest > 1 && m.full() {
		return nil
	}
	if root.List() {
		s.Message = schema.Occurs{Min: root.Min, Max: root.Max}
		root.Min, root.Max = 1, 1
	}
	s.Root = root.Compiled()
	s.Settings.Others = othersOf(root)
	s.Settle()
	m.noteUntyped()
	if m.cut > 0 {
		m.note(c, "behind the level %d %d values are taken as they are: the schema has no end, or is too large", deepest, m.cut)
	}
	for _, n := range m.notes {
		s.NotImported = append(s.NotImported, n.Error())
	}
	return &Imported{Schema: s, Notes: m.notes}
}

// full says whether there is no room for more fields.
func (m *importer) full() bool { return m.fields > maxFields || m.bytes > maxBytes }

// othersOf is what becomes of fields that nobody named, where all records say the same; what they say is then taken from them.
func othersOf(root *schema.Field) schema.Others {
	all := true
	var strict []*schema.Field
	root.Walk(func(_ []string, f *schema.Field) {
		switch {
		case f.Kind != value.RecordKind || f.HeldOthers() != nil:
		case f.Others == schema.FaultOthers:
			strict = append(strict, f)
		default:
			all = false
		}
	})
	if !all || strict == nil {
		return ""
	}
	for _, f := range strict {
		f.Others = ""
	}
	return schema.FaultOthers
}

func newField(name string) *schema.Field {
	return &schema.Field{Name: name, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
}

// context is a node in its document.
type context struct {
	doc *document
	*node
}

func (c context) get(name string) context { return c.of(c.node.get(name)) }
func (c context) there() bool             { return c.node != nil }

// of is a node below, which stands in another document where schemas of several were joined.
func (c context) of(n *node) context {
	if n != nil && n.doc != nil {
		return context{n.doc, n}
	}
	return context{c.doc, n}
}

// files are the documents that were read, and those that may be.
type files struct {
	read   map[string]*document
	others map[string][]byte
}

type importer struct {
	files
	notes  fault.List
	noted  map[string]bool
	depth  map[*node]int
	fields int
	merges map[*node]*node // what allOf makes of a schema; nil while it is being made
	level  int             // how deep fields and allOf stand inside of each other

	deepest int // how deep they may
	cut     int // fields that would stand deeper
	bytes   int // that the part has about

	untypedAt     *context // the first schema that says no type
	untypedPlaces int      // and how many there are
}

func (m files) load(name string, text []byte) (*document, error) {
	d, err := parse(name, text)
	if err != nil && (strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")) {
		d, err = parseYAML(name, text)
	}
	if err != nil {
		return nil, err
	}
	m.read[name] = d
	return d, nil
}

func (m *importer) note(c context, format string, args ...any) {
	f := fault.New(fault.Setting, format, args...)
	if c.there() {
		f.At(c.doc.at(c.node))
	}
	if m.noted == nil {
		m.noted = map[string]bool{}
	}
	if !m.noted[f.Error()] {
		m.noted[f.Error()] = true
		m.notes = append(m.notes, f)
	}
}

// About how many bytes a field and a code take in a part.
const (
	perField = 120
	perCode  = 40
)

// field makes a field of a schema.
func (m *importer) field(c context, f *schema.Field) {
	m.fields++
	if m.level++; m.level > m.deepest || m.full() {
		f.Kind = value.AnyKind
		m.level--
		m.cut++
		return
	}
	c = m.merged(m.resolved(c))
	if f.Notes == "" {
		f.Notes = described(c)
	}
	defer func() {
		m.level--
		m.bytes += perField + perCode*len(f.Constraints.Codes) + len(f.Notes)
	}()
	c = m.alternatives(c, f)
	if f.Kind == value.VariantKind {
		return
	}
	kinds := m.types(c, f)
	m.unsaid(c, kinds)
	switch len(kinds) {
	case 0:
		m.untyped(c, f)
	case 1:
		makers[kinds[0]](m, c, f)
	default:
		m.kinds(c, f, kinds)
	}
}

// described is what a schema tells a person of a value.
func described(c context) string {
	told := []string{c.text("description")}
	if d := c.get("default"); d.there() {
		b, _ := stdjson.Marshal(d.plain()) // what was read can be written
		told = append(told, "Default: "+string(b))
	}
	if media := c.text("contentMediaType"); media != "" {
		told = append(told, "Content: "+media)
	}
	return strings.TrimSpace(strings.Join(told, "\n"))
}

// untyped makes a field of a schema that says nothing of the type.
func (m *importer) untyped(c context, f *schema.Field) {
	f.Kind = value.AnyKind
	switch {
	case f.Nullable: // only null
		f.Kind, f.Nullable = value.Null, false
	case c.kind == 'f':
		m.note(c, "%s: nothing is allowed there, which is not checked", f.Name)
	}
}

// kindNames are the names of branches that are told by their type.
var kindNames = map[string]string{"string": "text", "integer": "integer", "number": "number", "boolean": "boolean", "object": "object", "array": "list"}

// kinds makes a variant of a schema that allows several types.
func (m *importer) kinds(c context, f *schema.Field, kinds []string) {
	f.Kind = value.VariantKind
	for _, k := range kinds {
		b := newField(kindNames[k])
		b.Min = 1
		one := m.narrowed(c, k)
		makers[k](m, one, b)
		f.Fields = append(f.Fields, b)
	}
	m.nullBranch(f)
}

// narrowed is a schema with one of its types.
func (m *importer) narrowed(c context, kind string) context {
	out := &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}
	out.add("type", &node{kind: '"', value: kind, off: c.off, line: c.line, column: c.column})
	for _, name := range c.names {
		switch {
		case name == "enum":
			list := &node{kind: '[', off: c.off, line: c.line, column: c.column}
			for _, v := range c.node.get(name).items {
				if kindOf(v) == kind || kindOf(v) == "number" && kind == "integer" {
					list.items = append(list.items, v)
				}
			}
			out.add(name, list)
		default:
			out.add(name, c.node.get(name))
		}
	}
	return context{c.doc, out}
}

// nullBranch makes null a branch of a list's items, of which only the list can be nullable.
func (m *importer) nullBranch(f *schema.Field) {
	if f.Nullable {
		f.Nullable = false
		b := newField("null")
		b.Min, b.Kind = 1, value.Null
		f.Fields = append(f.Fields, b)
	}
}

var makers map[string]func(*importer, context, *schema.Field)

func init() {
	makers = map[string]func(*importer, context, *schema.Field){
		"object": (*importer).object, "array": (*importer).array, "string": (*importer).text,
		"integer": (*importer).integer, "number": (*importer).decimal, "boolean": (*importer).boolean,
	}
}

// types are the types that a schema allows, null aside; they are told from other keywords where
// there is no type.
func (m *importer) types(c context, f *schema.Field) []string {
	var kinds []string
	t := c.get("type")
	switch {
	case t.there() && t.kind == '"':
		kinds = []string{t.value.(string)}
	case t.there():
		for _, k := range t.items {
			s, _ := k.value.(string)
			kinds = append(kinds, s)
		}
	default:
		kinds = m.implied(c)
	}
	if n := c.get("nullable"); n.there() && n.value == true { // OpenAPI 3.0
		f.Nullable = true
	}
	var out []string
	for _, k := range kinds {
		switch {
		case k == "null":
			f.Nullable = true
		case makers[k] != nil:
			out = append(out, k)
		}
	}
	if len(out) == 2 && (out[0] == "integer" && out[1] == "number" || out[0] == "number" && out[1] == "integer") {
		return []string{"number"}
	}
	return out
}

func (m *importer) object(c context, f *schema.Field) {
	f.Kind = value.RecordKind
	properties := c.get("properties")
	if m.depth[c.node] >= maxRecursion {
		m.note(c, "%s stands inside of itself; from there on it is taken as it is", f.Name)
		f.Kind = value.AnyKind
		return
	}
	if c.node != nil {
		m.depth[c.node]++
		defer func() { m.depth[c.node]-- }()
	}
	more, pattern := m.otherProperties(c)
	if !properties.there() || len(properties.names) == 0 {
		if more.there() || more.node == nil && !m.closed(c) {
			m.entries(c, f, more, pattern)
			return
		}
	}
	required := map[string]bool{}
	if r := c.get("required"); r.there() {
		for _, name := range r.items {
			required[fmt.Sprint(name.value)] = true
		}
	}
	if properties.there() {
		for _, name := range properties.names {
			f.Fields = append(f.Fields, m.property(properties.get(name), name, required[name]))
			delete(required, name)
		}
	}
	for name := range required {
		m.note(c.get("required"), "%s is required, and not described", fault.Quote(name))
	}
	for _, name := range []string{"minProperties", "maxProperties", "propertyNames"} {
		if v := c.get(name); v.there() && v.kind != 't' {
			m.note(c.get(name), "%s: %s", name, notChecked)
		}
	}
	switch {
	case more.there():
		held := newField(freshName(f, "others"))
		held.HoldsOthers = true
		m.entries(context{}, held, more, pattern)
		f.Fields = append(f.Fields, held)
	case m.closed(c):
		f.Others = schema.FaultOthers
	}
}

// property makes a field of one property.
func (m *importer) property(c context, name string, required bool) *schema.Field {
	child := newField(name)
	if required {
		child.Min = 1
	}
	m.field(c, child)
	return child
}

// freshName is a name that no field of a record has.
func freshName(f *schema.Field, name string) string {
	for i := 0; i < len(f.Fields); i++ {
		if f.Fields[i].Name == name {
			name, i = "other "+name, -1
		}
	}
	return name
}

// closed says whether an object may have no other properties than those that it names.
func (m *importer) closed(c context) bool {
	if more := c.get("additionalProperties"); more.there() {
		return more.kind == 'f'
	}
	unevaluated := c.get("unevaluatedProperties")
	return unevaluated.there() && unevaluated.kind == 'f'
}

// otherProperties is the schema of the properties that have no names, and the pattern of their names; not there where the object
// says nothing of them.
func (m *importer) otherProperties(c context) (more context, pattern string) {
	by, rest := c.get("patternProperties"), c.get("additionalProperties")
	if !by.there() || len(by.names) == 0 {
		if rest.there() && rest.kind == '{' && len(rest.names) > 0 {
			return rest, ""
		}
		return context{}, ""
	}
	if len(by.names) > 1 || rest.there() && rest.kind == '{' {
		m.note(by, "patternProperties: the values of all names that are not listed are taken as they are")
		return context{c.doc, &node{kind: 't', off: by.off, line: by.line, column: by.column}}, ""
	}
	if m.closed(c) {
		pattern = by.names[0]
	} else if v := by.get(by.names[0]); v.kind == 't' || v.kind == '{' && len(v.names) == 0 {
		return context{}, "" // any other name may have any value, too
	} else {
		m.note(by, "patternProperties: names that do not match have values like those that do")
	}
	return by.get(by.names[0]), pattern
}

// entries makes a map: what stands at each name, and what the names must be.
func (m *importer) entries(c context, f *schema.Field, each context, pattern string) {
	f.Kind = value.MapKind
	inner := newField("value")
	inner.Min, inner.Kind = 1, value.AnyKind
	if each.there() {
		m.field(each, inner)
	}
	f.Fields = []*schema.Field{inner}
	if pattern != "" {
		m.pattern(context{}, pattern, f)
	}
	if c.node == nil {
		return
	}
	f.Constraints.MinEntries, f.Constraints.MaxEntries = m.count(c, "minProperties", 0), m.most(c, "maxProperties")
	if names := m.merged(m.resolved(c.get("propertyNames"))); names.there() && names.kind == 'f' {
		m.note(c.get("propertyNames"), "propertyNames: that no name is allowed is not checked")
	} else if names.there() {
		of := newField("name")
		m.text(names, of)
		min, max := f.Constraints.MinEntries, f.Constraints.MaxEntries
		if f.Constraints.Pattern == nil || of.Constraints.Pattern == nil {
			p := f.Constraints.Pattern
			f.Constraints = of.Constraints
			if p != nil {
				f.Constraints.Pattern = p
			}
		}
		f.Constraints.MinEntries, f.Constraints.MaxEntries = min, max
	}
	if r := c.get("required"); r.there() && len(r.items) > 0 {
		m.note(r, "required names of a map: %s", notChecked)
	}
}

func (m *importer) array(c context, f *schema.Field) {
	least, most := m.count(c, "minItems", 0), m.count(c, "maxItems", schema.Many)
	items := c.get("items")
	if items.there() && items.kind == '[' { // of drafts before 2020-12: one for each place
		m.note(items, "items: %s", unheld["prefixItems"])
		items = context{}
	}
	inner := newField(f.Name)
	inner.Min, inner.Kind = 1, value.AnyKind
	if items.there() && !c.get("prefixItems").there() {
		m.field(items, inner)
	}
	switch {
	case inner.List():
		inner.Name, inner.Present = "item", false
		outer := newField(f.Name)
		outer.Kind, outer.Fields = value.ListKind, []*schema.Field{inner}
		inner = outer
	case inner.Nullable && inner.Kind == value.VariantKind:
		m.nullBranch(inner)
	case inner.Nullable:
		one := *inner
		one.Name, one.Nullable = one.Kind.String(), false
		inner = newField(f.Name)
		inner.Kind, inner.Nullable, inner.Fields = value.VariantKind, true, []*schema.Field{&one}
		m.nullBranch(inner)
	}
	required, notes, nullable, single := f.Min > 0, f.Notes, f.Nullable, f.Single
	*f = *inner
	f.Nullable, f.Single = nullable, single
	if notes != "" {
		f.Notes = notes
	}
	m.occurs(c, f, required, least, most)
	if u := c.get("uniqueItems"); u.there() && u.kind == 't' {
		f.Constraints.Unique = true
	}
}

// occurs says how often the items of a list occur.
func (m *importer) occurs(c context, f *schema.Field, required bool, least, most int) {
	f.Min, f.Max = least, most
	if most == 0 {
		m.note(c.get("maxItems"), "maxItems 0: one item is allowed")
	}
	if most == 0 || most == 1 {
		f.Max, f.Constraints.MaxEntries = schema.Many, max(most, 1)
	}
	if required && least == 0 {
		f.Present = true
	}
	if !required && least > 0 {
		f.Min, f.Constraints.MinEntries = 0, least
	}
}

// most is an upper bound; it is not there where there is none, and 0 cannot be held.
func (m *importer) most(c context, keyword string) int {
	n := m.count(c, keyword, 0)
	if n == 0 && c.get(keyword).there() {
		m.note(c.get(keyword), "%s 0: %s", keyword, notChecked)
	}
	return n
}

func (m *importer) count(c context, keyword string, def int) int {
	n := c.get(keyword)
	if !n.there() {
		return def
	}
	v, ok := value.ParseDecimal(fmt.Sprint(n.value))
	whole, is := value.AsInteger(v)
	if i, fits := whole.Int64(); ok && is && fits && i >= 0 && i <= math.MaxInt32 {
		return int(i)
	}
	m.note(n, "%s is not used: %v", keyword, n.value)
	return def
}
