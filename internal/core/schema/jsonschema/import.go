package jsonschema

import (
	"fmt"
	"maps"
	"strconv"
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
	maxFields    = 50_000
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
	m := &importer{files: d.files, depth: map[*node]int{}, merges: map[*node]*node{}}
	n, whole := d.first.root.find(tokens(at))
	if !whole {
		return nil, fault.Expect(fault.Unknown, "a schema at "+at, "none").At(fault.Place{Source: d.first.name})
	}
	s := &schema.Schema{ID: id, Title: id, Notation: json.Kind.Notation}
	c := m.resolved(context{d.first, n})
	if t := m.merged(c).text("title"); t != "" {
		s.Title = t
	}
	root := &schema.Field{Name: id, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	m.field(c, root)
	switch {
	case root.Kind != value.RecordKind:
		return nil, fault.Expect(fault.Setting, "a schema of objects, or of a list of them", root.Kind.String()).At(d.first.at(n))
	case root.List():
		root.Min, root.Max = 1, 1 // the message is a list of these records
	}
	s.Root = root.Compiled()
	for _, n := range m.notes {
		s.NotImported = append(s.NotImported, n.Error())
	}
	return &Imported{Schema: s, Notes: m.notes}, nil
}

// context is a node in its document.
type context struct {
	doc *document
	*node
}

func (c context) get(name string) context { return context{c.doc, c.node.get(name)} }
func (c context) there() bool             { return c.node != nil }

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

// field makes a field of a schema.
func (m *importer) field(c context, f *schema.Field) {
	if m.fields++; m.fields > maxFields {
		f.Kind = value.Text
		m.note(c, "there are more than %d fields; the rest is left out", maxFields)
		return
	}
	if m.level++; m.level > schema.MaxDepth {
		m.note(c, "%s stands deeper than %d; it is cut off there", f.Name, schema.MaxDepth)
		f.Kind = value.Text
		m.level--
		return
	}
	defer func() { m.level-- }()
	c = m.merged(m.resolved(c))
	f.Notes = c.text("description")
	c = m.alternatives(c, f)
	m.ignored(c)
	kinds := m.types(c, f)
	switch {
	case len(kinds) == 0:
		m.note(c, "%s may be of any type; it is taken as text", f.Name)
		f.Kind = value.Text
	case len(kinds) > 1:
		m.note(c, "%s may be %s; it is taken as text", f.Name, strings.Join(kinds, " or "))
		f.Kind = value.Text
	default:
		makers[kinds[0]](m, c, f)
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
		kinds = implied(c)
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

func implied(c context) []string {
	for _, by := range []struct{ keyword, kind string }{
		{"properties", "object"},
		{"patternProperties", "object"},
		{"items", "array"},
		{"pattern", "string"},
		{"maxLength", "string"},
		{"minLength", "string"},
		{"format", "string"},
		{"minimum", "number"},
		{"maximum", "number"},
		{"multipleOf", "number"},
	} {
		if c.get(by.keyword).there() {
			return []string{by.kind}
		}
	}
	values := c.get("enum")
	if one := c.get("const"); one.there() {
		values = context{c.doc, &node{kind: '[', items: []*node{one.node}}}
	}
	seen := map[string]bool{}
	var kinds []string
	if values.there() {
		for _, v := range values.items {
			k := map[byte]string{'"': "string", '0': "number", 't': "boolean", 'f': "boolean", 'n': "null", '{': "object", '[': "array"}[v.kind]
			if !seen[k] {
				seen[k] = true
				kinds = append(kinds, k)
			}
		}
	}
	return kinds
}

// alternatives joins what anyOf and oneOf allow: null makes the field nullable; of several objects
// every field is taken, and those that not all have are optional.
func (m *importer) alternatives(c context, f *schema.Field) context {
	for _, keyword := range []string{"oneOf", "anyOf"} {
		list := c.get(keyword)
		if !list.there() {
			continue
		}
		var branches []context
		for _, b := range list.items {
			r := m.merged(m.resolved(context{c.doc, b}))
			if r.text("type") == "null" {
				f.Nullable = true
				continue
			}
			branches = append(branches, r)
		}
		if list := m.oneOrMany(branches); list != nil {
			f.Single, branches = true, []context{*list}
		}
		if len(branches) > 1 {
			m.note(list, "%s: all of its %d alternatives are taken together; which of them stand together is not checked", keyword, len(branches))
		}
		c = m.united(c, branches)
	}
	return c
}

// oneOrMany is the list of two alternatives of which the other is a single one of its items; nil where they are not so.
func (m *importer) oneOrMany(branches []context) *context {
	if len(branches) != 2 {
		return nil
	}
	for i := range branches {
		list, one := branches[i], branches[1-i]
		items := list.get("items")
		if list.text("type") != "array" || !items.there() || one.text("type") == "array" {
			continue
		}
		if of := m.merged(m.resolved(items)); of.text("type") == one.text("type") {
			return &list
		}
	}
	return nil
}

func (m *importer) united(c context, branches []context) context {
	out := &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}
	for _, name := range c.names {
		out.add(name, c.node.get(name))
	}
	times := map[string]int{}
	for _, b := range branches {
		for _, name := range b.names {
			switch {
			case name == "type" && out.members["type"] != nil:
				out.members["type"] = bothTypes(out.members["type"], b.node.get("type"))
			case name == "enum" && out.members["enum"] != nil:
				old := out.members["enum"]
				out.members["enum"] = &node{kind: '[', items: append(append([]*node(nil), old.items...), b.node.get("enum").items...), off: old.off}
			case name == "required":
				for _, r := range b.get("required").items {
					times[fmt.Sprint(r.value)]++
				}
			case len(branches) > 1 && name != "properties" && name != "type" && name != "enum" && name != "description":
				// a bound of one alternative does not hold for the others
			default:
				out.add(name, b.node.get(name))
			}
		}
	}
	var always []*node
	for name, n := range times {
		if n == len(branches) {
			always = append(always, &node{kind: '"', value: name})
		}
	}
	if len(always) > 0 {
		out.add("required", &node{kind: '[', items: always})
	}
	return context{c.doc, out}
}

func bothTypes(a, b *node) *node {
	out := &node{kind: '[', off: a.off, line: a.line, column: a.column}
	seen := map[any]bool{}
	for _, t := range []*node{a, b} {
		items := t.items
		if t.kind == '"' {
			items = []*node{t}
		}
		for _, k := range items {
			if !seen[k.value] {
				seen[k.value] = true
				out.items = append(out.items, k)
			}
		}
	}
	return out
}

// ignored notes the keywords that a schema of ours cannot hold.
func (m *importer) ignored(c context) {
	for _, name := range c.names {
		if why, ok := unheld[name]; ok {
			m.note(c.get(name), "%s: %s", name, why)
		}
	}
}

const notChecked = "it is not checked"

var unheld = map[string]string{
	"patternProperties": "properties named by a pattern are left out", "propertyNames": notChecked, "minProperties": notChecked,
	"maxProperties": notChecked, "dependentRequired": notChecked, "dependentSchemas": notChecked, "dependencies": notChecked,
	"if": "conditions are not checked", "not": notChecked, "contains": notChecked, "uniqueItems": notChecked,
	"prefixItems": "the items of a list are all alike here", "additionalItems": notChecked, "unevaluatedProperties": notChecked,
	"unevaluatedItems": notChecked, "default": "no value is filled in", "$dynamicRef": "it is not followed",
	"discriminator": notChecked, "contentMediaType": notChecked, "contentSchema": notChecked,
}

func (m *importer) object(c context, f *schema.Field) {
	f.Kind = value.RecordKind
	if m.depth[c.get("properties").node] >= maxRecursion {
		m.note(c, "%s stands inside of itself; it is cut off there", f.Name)
		f.Kind = value.Text
		return
	}
	if more := c.get("additionalProperties"); !more.there() || more.value == true {
		m.note(c, "properties that are not named are allowed there, and a fault here")
	} else if more.kind == '{' {
		m.note(more, "properties of any name are left out")
	}
	required := map[string]bool{}
	if r := c.get("required"); r.there() {
		for _, name := range r.items {
			required[fmt.Sprint(name.value)] = true
		}
	}
	properties := c.get("properties")
	if !properties.there() {
		return
	}
	m.depth[properties.node]++
	for _, name := range properties.names {
		child := &schema.Field{Name: name, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
		if required[name] {
			child.Min = 1
		}
		m.field(properties.get(name), child)
		f.Fields = append(f.Fields, child)
	}
	m.depth[properties.node]--
}

func (m *importer) array(c context, f *schema.Field) {
	least, most := m.count(c, "minItems", 0), m.count(c, "maxItems", schema.Many)
	required := f.Min > 0
	items := c.get("items")
	if !items.there() {
		items = context{c.doc, &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}}
	}
	inner := &schema.Field{Name: f.Name, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	m.field(items, inner)
	if inner.List() {
		m.note(items, "%s is a list of lists; the inner ones are taken as text", f.Name)
		inner = &schema.Field{Name: f.Name, Kind: value.Text, Constraints: schema.Constraints{FractionDigits: -1}}
	}
	notes := f.Notes
	nullable, single := f.Nullable, f.Single
	*f = *inner
	f.Nullable, f.Single = nullable, single
	if notes != "" {
		f.Notes = notes
	}
	f.Min, f.Max = least, most
	if !required {
		f.Min = 0
	}
	if most == 1 || most == 0 {
		m.note(c, "%s is a list of at most one; it is taken as a list of any length", f.Name)
		f.Max = schema.Many
	}
}

func (m *importer) count(c context, keyword string, def int) int {
	n := c.get(keyword)
	if !n.there() {
		return def
	}
	i, err := strconv.Atoi(fmt.Sprint(n.value))
	if err != nil || i < 0 {
		m.note(n, "%s is not used: %v", keyword, n.value)
		return def
	}
	return i
}
