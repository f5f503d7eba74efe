// Package edit changes schema parts in place: fields added, moved and taken away, and the columns of
// fixed-width fields cut on the ruler. Every change is one of the part's text, which keeps its
// order and comments.
package edit

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Path is the place of a field in its schema: positions from 0, outermost first.
type Path []int

// ParsePath reads what String writes.
func ParsePath(s string) (Path, bool) {
	if s == "" {
		return nil, false
	}
	var p Path
	for _, part := range strings.Split(s, ".") {
		n, err := strconv.Atoi(part)
		if err != nil || n < 0 {
			return nil, false
		}
		p = append(p, n)
	}
	return p, true
}

// String writes the path as 0.2.1.
func (p Path) String() string {
	parts := make([]string, len(p))
	for i, n := range p {
		parts[i] = strconv.Itoa(n)
	}
	return strings.Join(parts, ".")
}

// Field finds the field at a path; nil when there is none.
func Field(s *schema.Schema, p Path) *schema.Field {
	f := s.Root
	for _, i := range p {
		if i >= len(f.Fields) {
			return nil
		}
		f = f.Fields[i]
	}
	return f
}

// Named is the path of the field of that name: the one given, or where the field has moved to since then. It is false where no
// field is called so, or more than one.
func Named(s *schema.Schema, p Path, name string) (Path, bool) {
	if f := Field(s, p); f != nil && f.Name == name {
		return p, true
	}
	var found []Path
	var look func(f *schema.Field, at Path)
	look = func(f *schema.Field, at Path) {
		for i, child := range f.Fields {
			if child.Name == name {
				found = append(found, at.with(i))
			}
			look(child, at.with(i))
		}
	}
	look(s.Root, nil)
	if len(found) != 1 {
		return nil, false
	}
	return found[0], true
}

// parent is the path of the record around a field, with the field's position in it.
func (p Path) parent() (Path, int) { return p[: len(p)-1 : len(p)-1], p[len(p)-1] }

func (p Path) with(i int) Path { return append(p[:len(p):len(p)], i) }

// Record is the path of the record that a field is, or else the one that it stands in.
func Record(s *schema.Schema, p Path) Path {
	if len(p) == 0 {
		return p
	}
	if f := Field(s, p); f != nil && f.Kind == value.RecordKind {
		return p
	}
	parent, _ := p.parent()
	return parent
}

// list is the path of the fields of the record at p, in the part's text.
func (p Path) list() []any {
	steps := []any{"fields"}
	for _, i := range p {
		steps = append(steps, i, "fields")
	}
	return steps
}

// node is the path of the field at p, in the part's text.
func (p Path) node(below ...any) []any {
	parent, at := p.parent()
	return append(append(parent.list(), at), below...)
}

// Result is a part's text after a change, and the field that is to be selected then.
type Result struct {
	Text     []byte
	Selected Path
}

// Change is one way of changing the tree of fields.
type Change func(text []byte, s *schema.Schema, at Path) (Result, error)

// changes are the ways by name.
var changes = map[string]Change{
	"after": addAfter, "inside": addInside, "copy": duplicate, "remove": remove,
	"up": up, "down": down, "in": indent, "out": outdent,
}

// Apply changes the tree at a field, in one of the ways by name.
func Apply(name string, text []byte, s *schema.Schema, at Path) (Result, error) {
	change, f := changes[name], Field(s, at)
	if change == nil || f == nil || len(at) == 0 {
		return Result{}, fault.New(fault.Unknown, "there is no change %s at %s", fault.Quote(name), at)
	}
	if err := owned(s, at); err != nil {
		return Result{}, err
	}
	if into := f; name == "inside" && into.Of != "" {
		return Result{}, notOwned(into.Of)
	}
	around := f
	if parent, _ := at.parent(); name != "inside" {
		around = Field(s, parent)
	}
	if around.Kind == value.MapKind || around.Kind == value.ListKind {
		return Result{}, fault.New(fault.Setting, "a %s has one field, which stands for all of its entries", around.Kind).WithFix("Give it fields inside, or make %s a record", around.Name)
	}
	return change(text, s, at)
}

// owned refuses a field that another schema describes.
func owned(s *schema.Schema, at Path) error {
	for i := range at {
		if f := Field(s, at[:i]); f != nil && f.Of != "" {
			return notOwned(f.Of)
		}
	}
	return nil
}

func notOwned(of string) *fault.Fault {
	return fault.New(fault.Setting, "this field is described by the schema %s", fault.Quote(of)).WithFix("Change it there, for all that take it, or give the record fields of its own")
}

var errNowhere = fault.New(fault.Setting, "there is nowhere to move this field")

// fresh is a name that no field of a record has.
func fresh(record *schema.Field, base string) string {
	name := base
	for i := 2; record.Field(name) != nil; i++ {
		name = fmt.Sprintf("%s_%d", base, i)
	}
	return name
}

func newField(name string) partfile.Ordered {
	return partfile.Ordered{{Key: "name", Value: name}, {Key: "type", Value: "text"}}
}

func addAfter(text []byte, s *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	record := Field(s, parent)
	if s.Notation.Columns {
		return Result{}, fault.New(fault.Setting, "a fixed-width field begins where its column is cut on the ruler")
	}
	out, err := partfile.Insert(text, parent.list(), i+1, newField(fresh(record, "field")))
	return Result{out, parent.with(i + 1)}, err
}

// addInside makes the first field inside of a field, which becomes a record when it is none.
func addInside(text []byte, s *schema.Schema, at Path) (Result, error) {
	f := Field(s, at)
	if !s.Notation.Bytes {
		return Result{}, fault.New(fault.Setting, "records inside of records cannot be written in this notation")
	}
	if s.Notation.Columns {
		return Result{}, fault.New(fault.Setting, "a fixed-width field begins where its column is cut on the ruler")
	}
	if f.Kind != value.RecordKind {
		var err error
		if text, err = partfile.Set(text, at.node("type"), "record"); err != nil {
			return Result{}, err
		}
		if text, err = partfile.Set(text, at.node("constraints"), ""); err != nil {
			return Result{}, err
		}
	}
	out, err := partfile.Insert(text, at.list(), -1, newField(fresh(f, "field")))
	return Result{out, at.with(len(f.Fields))}, err
}

func duplicate(text []byte, s *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	if s.Notation.Columns && Field(s, at).Kind != value.RecordKind {
		return Result{}, fault.New(fault.Setting, "two fields cannot have the same columns")
	}
	twin := *Field(s, at)
	twin.Name = fresh(Field(s, parent), twin.Name+"_copy")
	out, err := partfile.Insert(text, parent.list(), i+1, twin.Out())
	return Result{out, parent.with(i + 1)}, err
}

func remove(text []byte, s *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	n := len(Field(s, parent).Fields)
	if n == 1 && len(parent) == 0 {
		return Result{}, fault.New(fault.Setting, "a schema has at least one field")
	}
	out, err := partfile.Remove(text, parent.list(), i)
	switch {
	case n == 1:
		return Result{out, parent}, err
	case i == n-1:
		i--
	}
	return Result{out, parent.with(i)}, err
}

func up(text []byte, _ *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	if i == 0 {
		return Result{}, errNowhere
	}
	out, err := partfile.Move(text, parent.list(), i, parent.list(), i-1)
	return Result{out, parent.with(i - 1)}, err
}

func down(text []byte, s *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	if i+1 >= len(Field(s, parent).Fields) {
		return Result{}, errNowhere
	}
	out, err := partfile.Move(text, parent.list(), i, parent.list(), i+1)
	return Result{out, parent.with(i + 1)}, err
}

// indent makes the field the last one inside of the record before it.
func indent(text []byte, s *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	if i == 0 || Field(s, parent.with(i-1)).Kind != value.RecordKind {
		return Result{}, fault.New(fault.Setting, "there is no record before this field for it to move into")
	}
	into := parent.with(i - 1)
	if of := Field(s, into).Of; of != "" {
		return Result{}, notOwned(of)
	}
	n := len(Field(s, into).Fields)
	out, err := partfile.Move(text, parent.list(), i, into.list(), n)
	return Result{out, into.with(n)}, err
}

// outdent puts the field behind the record that it stands in.
func outdent(text []byte, _ *schema.Schema, at Path) (Result, error) {
	parent, i := at.parent()
	if len(parent) == 0 {
		return Result{}, errNowhere
	}
	outer, j := parent.parent()
	out, err := partfile.Move(text, parent.list(), i, outer.list(), j+1)
	return Result{out, outer.with(j + 1)}, err
}

// Settings are the settings of one field as a person writes them, by the names of part files; those
// of must: and written: stand beside the others.
type Settings map[string]string

// keys are the settings of a field that can be written, with their place below it.
var keys = []struct {
	name string
	path []any
}{
	{"name", []any{"name"}},
	{"type", []any{"type"}},
	{"occurs", []any{"occurs"}},
	{"nullable", []any{"nullable"}},
	{"single", []any{"single"}},
	{"present", []any{"present"}},
	{"others", []any{"others"}},
	{"other fields", []any{"other fields"}},
	{"told by", []any{"told by"}},
	{"content model", []any{"content model"}},
	{"group", []any{"group"}},
	{"in one text", []any{"in one text"}},
	{"exponent", []any{"exponent"}},
	{"xml name", []any{"xml name"}},
	{"white space", []any{"white space"}},
	{"when empty", []any{"when empty"}},
	{"wildcard", []any{"wildcard"}},
	{"any attribute", []any{"any attribute"}},
	{"columns", []any{"columns"}},
	{"align", []any{"align"}},
	{"padding", []any{"padding"}},
	{"implied decimals", []any{"implied decimals"}},
	{"decimal mark", []any{"decimal mark"}},
	{"grouping", []any{"grouping"}},
	{"starts with", []any{"starts with"}},
	{"discriminator", []any{"discriminator"}},
	{"date pattern", []any{"pattern"}},
	{"encoding", []any{"encoding"}},
	{"zone", []any{"zone"}},
	{"format", []any{"constraints", "format"}},
	{"attribute", []any{"attribute"}},
	{"content", []any{"content"}},
	{"minimum", []any{"constraints", "minimum"}},
	{"maximum", []any{"constraints", "maximum"}},
	{"exclusive minimum", []any{"constraints", "exclusive minimum"}},
	{"exclusive maximum", []any{"constraints", "exclusive maximum"}},
	{"multiple of", []any{"constraints", "multiple of"}},
	{"unique items", []any{"constraints", "unique items"}},
	{"min entries", []any{"constraints", "min entries"}},
	{"max entries", []any{"constraints", "max entries"}},
	{"min length", []any{"constraints", "min length"}},
	{"max length", []any{"constraints", "max length"}},
	{"total digits", []any{"constraints", "total digits"}},
	{"fraction digits", []any{"constraints", "fraction digits"}},
	{"pattern", []any{"constraints", "pattern"}},
	{"notes", []any{"notes"}},
	{"of", []any{"of"}},
}

// Write changes the settings of a field that are named; an empty one takes what holds anyway. Codes
// are one a line, each with its meaning behind it.
func Write(text []byte, s *schema.Schema, at Path, to Settings) ([]byte, error) {
	f := Field(s, at)
	if f == nil {
		return nil, fault.New(fault.Unknown, "there is no field at %s", at)
	}
	if err := owned(s, at); err != nil {
		return nil, err
	}
	now := Read(f)
	text, err := group(text, f, at, to)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		v, named := to[k.name]
		if !named || v == now[k.name] {
			continue
		}
		if text, err = partfile.Set(text, at.node(k.path...), v); err != nil {
			return nil, err
		}
	}
	if codes, named := to["codes"]; named && codes != now["codes"] {
		if text, err = partfile.Set(text, at.node("constraints", "codes"), codesOut(codes)); err != nil {
			return nil, err
		}
	}
	if lines, named := to["also pattern"]; named && lines != now["also pattern"] {
		if text, err = partfile.Set(text, at.node("constraints", "also pattern"), linesOut(lines)); err != nil {
			return nil, err
		}
	}
	if lines, named := to["keys"]; named && lines != now["keys"] {
		if text, err = partfile.Set(text, at.node("keys"), codesOut(lines)); err != nil {
			return nil, err
		}
	}
	if kind, ok := value.KindNamed(to["type"]); ok && kind != f.Kind {
		return nest(text, f, at, kind)
	}
	return text, nil
}

// nest gives a field that others stand below from now on what stands below it: of a single value, that value; and takes away
// what does not belong to its new type.
func nest(text []byte, f *schema.Field, at Path, kind value.Kind) ([]byte, error) {
	changed := &schema.Field{Kind: kind}
	if !changed.Nests() {
		return partfile.Set(text, at.node("fields"), "")
	}
	text, err := partfile.Set(text, at.node("constraints"), "")
	if err != nil || f.Nests() || kind == value.RecordKind {
		return text, err
	}
	one := func(name string, kind value.Kind) *schema.Field {
		return &schema.Field{Name: name, Kind: kind, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	}
	inner := []*schema.Field{one("value", f.Kind)}
	switch kind {
	case value.ListKind:
		inner = []*schema.Field{one("item", f.Kind)}
		inner[0].Min, inner[0].Max = 0, schema.Many
	case value.VariantKind:
		inner = []*schema.Field{one(f.Kind.String(), f.Kind), one("number", value.Decimal)}
		if f.Kind.Numeric() {
			inner = []*schema.Field{one("text", value.Text), one("number", f.Kind)}
		}
	}
	return partfile.Set(text, at.node("fields"), schema.Encode(inner))
}

// group gives a record that is no longer of another schema fields of its own, as they are there; and
// takes its own fields from one that is to be.
func group(text []byte, f *schema.Field, at Path, to Settings) ([]byte, error) {
	of, named := to["of"]
	switch {
	case !named || of == f.Of || f.Kind != value.RecordKind:
		return text, nil
	case of == "":
		return partfile.Set(text, at.node("fields"), schema.Encode(f.Fields))
	case f.Of == "":
		return partfile.Set(text, at.node("fields"), "")
	}
	return text, nil
}

// Share makes a schema of a record's fields, which the record then takes from it: the changed part,
// and the part of the new schema.
func Share(text []byte, s *schema.Schema, at Path, id, title string) (changed, shared []byte, err error) {
	f := Field(s, at)
	switch {
	case f == nil || len(at) == 0 || f.Kind != value.RecordKind:
		return nil, nil, fault.New(fault.Setting, "only a record's fields can be shared")
	case f.Of != "":
		return nil, nil, notOwned(f.Of)
	case s.Notation.Lines:
		return nil, nil, fault.New(fault.Setting, "the fields of a line have columns of their own, and are not shared")
	}
	if err := owned(s, at); err != nil {
		return nil, nil, err
	}
	group := &schema.Schema{ID: id, Title: title, Notation: s.Notation, Root: f}
	if changed, err = partfile.Set(text, at.node("fields"), ""); err == nil {
		changed, err = partfile.Set(changed, at.node("of"), id)
	}
	return changed, schema.Write(group), err
}

// schemaKeys are the settings of a schema as a whole, with their place in the part.
var schemaKeys = []struct {
	name string
	path []any
}{
	{"title", []any{"schema"}},
	{"notation", []any{"notation"}},
	{"encoding", []any{"notation settings", "encoding"}},
	{"line end", []any{"notation settings", "line end"}},
	{"count", []any{"notation settings", "count"}},
	{"delimiter", []any{"notation settings", "delimiter"}},
	{"quote", []any{"notation settings", "quote"}},
	{"escape", []any{"notation settings", "escape"}},
	{"header", []any{"notation settings", "header"}},
	{"blank lines", []any{"notation settings", "blank lines"}},
	{"stray quotes", []any{"notation settings", "stray quotes"}},
	{"root", []any{"notation settings", "root"}},
	{"record", []any{"notation settings", "record"}},
	{"skip first", []any{"notation settings", "skip first"}},
	{"skip last", []any{"notation settings", "skip last"}},
	{"comment", []any{"notation settings", "comment"}},
	{"starts with", []any{"notation settings", "starts with"}},
	{"max record bytes", []any{"notation settings", "max record bytes"}},
	{"values as", []any{"notation settings", "values as"}},
	{"null as", []any{"notation settings", "null as"}},
	{"empty as", []any{"notation settings", "empty as"}},
	{"absent as", []any{"notation settings", "absent as"}},
	{"other fields", []any{"notation settings", "other fields"}},
	{"element order", []any{"notation settings", "element order"}},
	{"document type", []any{"notation settings", "document type"}},
	{"other names", []any{"notation settings", "other names"}},
}

// WriteSchema changes the settings of the schema as a whole that are named.
func WriteSchema(text []byte, s *schema.Schema, to Settings) ([]byte, error) {
	now := ReadSchema(s)
	var err error
	for _, k := range schemaKeys {
		v, named := to[k.name]
		if !named || v == now[k.name] {
			continue
		}
		if text, err = partfile.Set(text, k.path, v); err != nil {
			return nil, err
		}
	}
	if lines, named := to["message keys"]; named && lines != now["message keys"] {
		if text, err = partfile.Set(text, []any{"keys"}, codesOut(lines)); err != nil {
			return nil, err
		}
	}
	if v, named := to["namespaces"]; named && v != now["namespaces"] {
		return setNamespaces(text, v)
	}
	return text, nil
}

// setNamespaces writes namespaces, one a line: a prefix and what it stands for, or that alone for
// names without a prefix.
func setNamespaces(text []byte, lines string) ([]byte, error) {
	bare, prefixed := "", partfile.Ordered(nil)
	for _, ns := range Namespaces(lines) {
		if ns.Prefix == "" {
			bare = ns.URI
			continue
		}
		prefixed = append(prefixed, partfile.Entry{Key: ns.Prefix, Value: partfile.Text{Value: ns.URI}})
	}
	text, err := partfile.Set(text, []any{"notation settings", "namespace"}, bare)
	if err != nil {
		return nil, err
	}
	if prefixed == nil {
		return partfile.Set(text, []any{"notation settings", "namespaces"}, "")
	}
	return partfile.Set(text, []any{"notation settings", "namespaces"}, prefixed)
}

// Namespaces reads namespaces that stand one a line.
func Namespaces(lines string) []schema.Namespace {
	var list []schema.Namespace
	for _, l := range strings.Split(lines, "\n") {
		words := strings.Fields(l)
		switch len(words) {
		case 0:
		case 1:
			list = append(list, schema.Namespace{URI: words[0]})
		default:
			list = append(list, schema.Namespace{Prefix: words[0], URI: words[1]})
		}
	}
	return list
}

// ReadSchema gives the settings of the schema as a whole, as WriteSchema takes them.
func ReadSchema(s *schema.Schema) Settings {
	w := s.Settings
	to := Settings{
		"title": s.Title, "notation": s.Notation.Name, "encoding": w.Encoding, "line end": w.LineEnd, "count": "bytes",
		"delimiter": tabbed(w.Delimiter), "quote": tabbed(w.Quote), "header": strconv.FormatBool(w.Header), "root": w.RootName, "record": w.RecordName,
		"skip first": some(w.Lines.First), "skip last": some(w.Lines.Last), "comment": w.Lines.Comment, "starts with": w.Lines.StartsWith,
	}
	if w.Characters {
		to["count"] = "characters"
	}
	to["escape"] = w.Escape
	to["max record bytes"] = some(w.MaxRecord)
	to["values as"] = map[bool]string{true: "attributes", false: "elements"}[w.Attributes]
	to["blank lines"] = map[bool]string{true: "faults", false: "skipped"}[w.BlankFaults]
	to["stray quotes"] = map[bool]string{true: "kept", false: "faults"}[w.StrayQuotes]
	to["other fields"] = cmp.Or(string(w.Others), string(schema.IgnoreOthers))
	to["element order"] = map[bool]string{true: "as listed", false: "in any order"}[w.Ordered]
	to["document type"] = map[bool]string{true: "refused", false: "accepted"}[w.NoDoctype]
	to["other names"] = map[bool]string{true: "escaped", false: "faults"}[w.EscapeNames]
	to["null as"], to["empty as"], to["absent as"] = w.Missing.Null, w.Missing.Empty, w.Missing.Absent
	var lines []string
	for _, ns := range w.Namespaces {
		lines = append(lines, strings.TrimSpace(ns.Prefix+" "+ns.URI))
	}
	to["namespaces"] = strings.Join(lines, "\n")
	to["message keys"] = keyLines(s.Root)
	return to
}

// some writes a count; nothing for none.
func some(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func tabbed(s string) string {
	if s == "\t" {
		return "tab"
	}
	return s
}

// linesOut are the lines of a text that are not blank, as a list; nothing where there are none.
func linesOut(text string) any {
	var list []string
	for _, l := range strings.Split(text, "\n") {
		if l = strings.TrimSpace(l); l != "" {
			list = append(list, l)
		}
	}
	if list == nil {
		return ""
	}
	return list
}

// keyLines are the keys of a record, one a line.
func keyLines(f *schema.Field) string {
	var lines []string
	for _, e := range f.KeyTexts() {
		lines = append(lines, e.Key+" "+e.Value.(partfile.Text).Value)
	}
	return strings.Join(lines, "\n")
}

func codesOut(lines string) partfile.Ordered {
	var out partfile.Ordered
	for _, l := range strings.Split(lines, "\n") {
		code, meaning, _ := strings.Cut(strings.TrimSpace(l), " ")
		if code != "" {
			out = append(out, partfile.Entry{Key: code, Value: partfile.Text{Value: strings.TrimSpace(meaning)}})
		}
	}
	return out
}

// Read gives the settings of a field, as Write takes them.
func Read(f *schema.Field) Settings {
	to := Settings{}
	flatten(f.Out(), "", to)
	var codes []string
	for _, c := range f.Constraints.Codes {
		codes = append(codes, strings.TrimSpace(c.Value+" "+c.Meaning))
	}
	to["codes"] = strings.Join(codes, "\n")
	if also := f.Constraints.AlsoTexts(); also != nil {
		to["also pattern"] = strings.Join(also, "\n")
	}
	if lines := keyLines(f); lines != "" {
		to["keys"] = lines
	}
	return to
}

func flatten(o partfile.Ordered, inside string, to Settings) {
	for _, e := range o {
		name := e.Key
		if inside == "" && name == "pattern" {
			name = "date pattern"
		}
		switch v := e.Value.(type) {
		case string:
			if v != "" {
				to[name] = v
			}
		case partfile.Ordered:
			if name == "constraints" {
				flatten(v, "constraints", to)
			}
		}
	}
}
