// Package infer finds the schema of messages from samples of them: types widened over all records,
// what is optional, lists, dates and decimals, code lists, each with the evidence for it.
package infer

import (
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

// Bounds on what is remembered of the messages.
const (
	MaxFields   = 20_000 // of all records together
	maxDistinct = 40     // different values of a field
	codeLength  = 16     // of a value that can be a code
	codeRepeats = 4      // how often a code must stand on average
	codeSeen    = 12     // how often a field of codes must at least stand
)

// Evidence is what the samples say of one field.
type Evidence struct {
	Seen, Of          int // in how many of the records around it that there were
	Empty, Nulls      int // of those, how often empty or null
	Fewest, Most      int // occurrences in one record in which it was seen
	List              bool
	Single            bool // and by itself, too
	Shortest, Longest int  // characters, of texts
	Values            int  // single values seen
	Least, Greatest   value.Value
	Scale             int            // most decimal places
	Codes             map[string]int // different values and how often; nil when there were too many
	Unfit, Unfits     int            // how many texts are not of the proposed type, and the record of the first, from 1
	Mixed             []string       // the types that do not go together, when the field became text for that
}

// Observer gathers evidence from messages. It belongs to one goroutine.
type Observer struct {
	root   *node
	fields int
	as     *schema.Notation
	splits map[string]string // by the path of records that may be of several shapes: the field that may tell them

	messages   int
	lists      bool // there was a document that is a list of messages
	alone      bool // and one that is a message by itself
	whole      bool // a document that is a list is one message
	namespaces []schema.Namespace
}

type node struct {
	name     string
	ev       Evidence
	could    fitting
	kinds    [16]int // values by kind, as they were read
	nulls    int     // of those, null items of a list
	blank    bool    // one was of white space alone
	items    *node   // of the lists among the values
	children []*node
	index    map[string]*node
	records  int
	split    *telling // of records that may be of several shapes
	path     string   // where they may be
}

// New makes an observer of messages in a notation.
func New(as *schema.Notation) *Observer {
	return &Observer{root: newNode(""), as: as}
}

func newNode(name string) *node {
	return &node{name: name, ev: NewEvidence()}
}

// Add observes one message. The messages must have been read without a schema.
func (o *Observer) Add(v value.Value) {
	if o.as.Elements {
		v = o.declared(v)
	}
	o.messages++
	switch {
	case v.Kind() == value.RecordKind:
		o.root.kinds[value.RecordKind]++
		o.record(o.root, v)
	case o.as.Types:
		o.root.records++
		o.one(o.root, v)
	default:
		o.root.records++
		o.field(o.root, "value", v)
	}
}

// Messages is how many messages were observed.
func (o *Observer) Messages() int { return o.root.records }

func (o *Observer) record(n *node, v value.Value) {
	n.records++
	r := v.Record()
	for i, name := range r.Layout.Names {
		if r.Fields[i].Kind() != value.Absent {
			o.field(n, name, r.Fields[i])
		}
		if o.as.Elements && name == "#text" { // as where an element has nothing but its text
			n.text(r.Fields[i].Text(), o.messages)
		}
	}
	if n.split != nil {
		o.record(n.split.branch(v), v)
	}
}

func (o *Observer) field(parent *node, name string, v value.Value) {
	c := parent.index[name]
	if c == nil {
		if o.fields >= MaxFields {
			return
		}
		o.fields++
		c = newNode(name)
		o.splitAt(parent, c)
		if parent.index == nil {
			parent.index = map[string]*node{}
		}
		parent.index[name] = c
		parent.children = append(parent.children, c)
	}
	if v.Kind() != value.ListKind {
		c.ev.Single = c.ev.Single || v.Kind() != value.Null
		c.saw(1)
		o.one(c, v)
		return
	}
	c.ev.List = true
	c.saw(len(v.Items()))
	for _, item := range v.Items() {
		if item.Kind() == value.Null {
			c.nulls++
		}
		o.one(c, item)
	}
}

// saw notes how often a field occurred in one record.
func (c *node) saw(n int) {
	if c.ev.Seen == 0 || n < c.ev.Fewest {
		c.ev.Fewest = n
	}
	c.ev.Seen++
	c.ev.Most = max(c.ev.Most, n)
}

func (o *Observer) one(c *node, v value.Value) {
	c.kinds[v.Kind()]++
	switch v.Kind() {
	case value.Null:
		c.ev.Nulls++
	case value.RecordKind:
		o.record(c, v)
	case value.ListKind:
		if c.items == nil {
			c.items = newNode("item")
			c.items.ev.List = true
		}
		c.items.records++
		c.items.saw(len(v.Items()))
		for _, item := range v.Items() {
			if item.Kind() == value.Null {
				c.items.nulls++
			}
			o.one(c.items, item)
		}
	case value.Text:
		c.text(v.Text(), o.messages)
	default:
		c.ev.Values++
		c.number(v)
	}
}

func (c *node) text(s string, message int) {
	if strings.TrimSpace(s) == "" {
		c.ev.Empty++
		c.blank = c.blank || s != ""
		return
	}
	c.ev.Values++
	c.could.add(s, message)
	n := utf8.RuneCountInString(s)
	if c.ev.Shortest == 0 || n < c.ev.Shortest {
		c.ev.Shortest = n
	}
	c.ev.Longest = max(c.ev.Longest, n)
	c.ev.Scale = max(c.ev.Scale, places(s))
	c.ev.code(s, n)
}

// NewEvidence is that of a field of which nothing was seen yet.
func NewEvidence() Evidence { return Evidence{Codes: map[string]int{}} }

// Value notes a single text for the code list that may be proposed.
func (e *Evidence) Value(s string) {
	e.Values++
	e.code(s, utf8.RuneCountInString(s))
}

// code counts a value while there are few, and short ones.
func (e *Evidence) code(s string, characters int) {
	if e.Codes == nil {
		return
	}
	if e.Codes[s]++; len(e.Codes) > maxDistinct || characters > codeLength {
		e.Codes = nil
	}
}

func places(s string) int {
	if dot := strings.IndexByte(s, '.'); dot >= 0 {
		return len(s) - dot - 1
	}
	return 0
}

func (c *node) number(v value.Value) {
	if !v.Kind().Numeric() {
		return
	}
	c.ev.Scale = max(c.ev.Scale, value.Scale(v))
	if less(v, c.ev.Least) {
		c.ev.Least = v
	}
	if less(c.ev.Greatest, v) {
		c.ev.Greatest = v
	}
}

// less says whether a bound is passed; an absent one always is.
func less(a, b value.Value) bool {
	if a.Kind() == value.Absent || b.Kind() == value.Absent {
		return true
	}
	c, err := value.Compare(a, b)
	return err == nil && c < 0
}

// Field is a field of an inferred schema with its evidence.
type Field struct {
	Path     []string
	Evidence Evidence
}

// Result is an inferred schema and the evidence for each of its fields, in the same order as
// schema.Field.Walk meets them.
type Result struct {
	Schema *schema.Schema
	Fields []Field
}

// Schema makes the schema of all messages so far.
func (o *Observer) Schema(id, title string) *Result {
	s := &schema.Schema{ID: id, Title: title, Notation: o.as}
	r := &Result{Schema: s}
	top := o.root
	if o.as.Elements {
		s.Settings.Namespaces = o.namespaces
		top = o.unwrap(s)
	}
	b := builder{result: r, delimited: o.as.Cells, xml: o.as.Elements, json: o.as.Types}
	root := newField(id)
	root.Kind = value.RecordKind
	if o.as.Types && !o.as.Cells && !o.as.Columns {
		root.Nullable = top.ev.Nulls > 0
		top.could.json = true
		b.shape(top, root)
	}
	b.below(top, root, nil)
	if b.xml && len(root.Fields) == 0 { // an element that was always empty
		root.Fields = []*schema.Field{{Name: "text", Kind: value.Text, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, WireFormat: schema.WireFormat{Content: true}}}
	}
	s.Settings.EscapeNames = b.xml && oddNames(s.Settings, root)
	s.Root = root.Compiled()
	return r
}

// unwrap takes the outermost element off: the fields are those below it, or below the elements
// that it repeats and nothing else.
func (o *Observer) unwrap(s *schema.Schema) *node {
	if len(o.root.children) != 1 {
		return o.root
	}
	top := o.root.children[0]
	s.Settings.RootName = top.name
	if len(top.children) == 1 && top.children[0].ev.List && len(top.children[0].children) > 0 && top.ev.Values == 0 {
		s.Settings.RecordName = top.children[0].name
		return top.children[0]
	}
	return top
}

type builder struct {
	result    *Result
	delimited bool
	xml       bool
	json      bool
}

func (b *builder) fields(parent *node, path []string) []*schema.Field {
	var out []*schema.Field
	for _, c := range parent.children {
		f := b.field(parent, c)
		at := append(path[:len(path):len(path)], f.Name)
		c.ev.Of = b.of(parent)
		b.result.Fields = append(b.result.Fields, Field{Path: at, Evidence: c.ev})
		b.below(c, f, at)
		out = append(out, f)
	}
	return out
}

// of is how many records a field could stand in; in XML also elements with mere text, or with nothing, are some.
func (b *builder) of(parent *node) int {
	if b.xml {
		return parent.records + parent.kinds[value.Text]
	}
	return parent.records
}

// oddNames says whether there is a name that XML does not allow.
func oddNames(of schema.Settings, root *schema.Field) bool {
	odd := of.RootName != "" && !xmltext.ValidName(of.RootName) || of.RecordName != "" && !xmltext.ValidName(of.RecordName)
	root.Walk(func(path []string, f *schema.Field) { odd = odd || len(path) > 0 && !xmltext.ValidName(f.WireName()) })
	return odd
}

// content gives an element that has attributes or children in some places and mere text in others
// a field for its text.
func (b *builder) content(c *node, f *schema.Field, path []string) {
	if !b.xml || c.kinds[value.Text] == 0 || c.index["#text"] != nil || c.ev.Values == 0 {
		return
	}
	text := &schema.Field{Name: "text", Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, WireFormat: schema.WireFormat{Content: true}}
	text.Kind = c.textForm(text)
	f.Fields = append(f.Fields, text)
	b.result.Fields = append(b.result.Fields, Field{Path: append(path[:len(path):len(path)], "text"), Evidence: c.ev})
}

func (b *builder) field(parent, c *node) *schema.Field {
	f := &schema.Field{Name: c.name, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	if b.xml {
		if name, ok := strings.CutPrefix(c.name, "@"); ok {
			f.Name, f.WireFormat.Attribute = name, true
		}
		if c.name == "#text" {
			f.Name, f.WireFormat.Content = "text", true
		}
		for f.Name != c.name && parent.index[f.Name] != nil {
			f.Name += "_"
		}
	}
	if c.ev.Seen < b.of(parent) || b.delimited && c.ev.Empty > 0 {
		f.Min = 0
	}
	if c.ev.List {
		f.Max = schema.Many
		f.Min = min(f.Min, c.ev.Fewest)
		f.Single = b.json && c.ev.Single
	}
	f.Nullable = c.ev.Nulls > c.nulls
	c.could.json = b.json
	if b.json {
		b.shape(c, f)
		return f
	}
	switch f.Kind = c.kind(f); {
	case b.xml && c.name == "#text":
		f.Kind = parent.textForm(f)
	case (b.xml && c.ev.Empty > 0 || b.delimited && c.blank) && f.Scalar() && f.Kind != value.Text: // of no other type is that a value
		c.mixed(f.Kind.String(), "blank")
		f.Kind = value.Text
		f.WireFormat.Pattern, f.WireFormat.Mark, f.WireFormat.Grouping = "", "", ""
	}
	return f
}

// textForm is the type that the texts of a field are of, and how they are written.
func (c *node) textForm(f *schema.Field) value.Kind {
	at, ok := c.could.best()
	if !ok {
		return value.Text
	}
	if c.ev.Unfit = c.could.misses[at]; c.ev.Unfit > 0 {
		c.ev.Unfits = c.could.first[at]
	}
	if f != nil {
		f.WireFormat.Pattern, f.WireFormat.Mark, f.WireFormat.Grouping = forms[at].pattern, forms[at].mark, forms[at].grouping
	}
	return forms[at].kind
}

// kind is the narrowest type that all values of a field fit.
func (c *node) kind(f *schema.Field) value.Kind {
	texts, numbers := c.kinds[value.Text], c.kinds[value.Integer]+c.kinds[value.Decimal]
	booleans, records := c.kinds[value.Boolean], c.kinds[value.RecordKind]
	switch {
	case records > 0:
		if numbers+booleans > 0 {
			c.mixed("record", "single values")
		}
		return value.RecordKind
	case numbers > 0 && texts-c.ev.Empty+booleans > 0, booleans > 0 && texts-c.ev.Empty > 0:
		c.mixed("number", "text")
		return value.Text
	case booleans > 0:
		return value.Boolean
	case c.kinds[value.Decimal] > 0:
		return value.Decimal
	case numbers > 0:
		return value.Integer
	case c.ev.Values == 0:
		return value.Text
	}
	return c.textForm(f)
}

func (c *node) mixed(kinds ...string) { c.ev.Mixed = kinds }

// Proposed is the code list that the values of a field may be of: few short values, each of them often. It is nil where they
// are none. A person takes it over, or not.
func (e *Evidence) Proposed() []schema.Code {
	if e.Codes == nil || e.Values < codeSeen || len(e.Codes)*codeRepeats > e.Values || len(e.Codes) < 2 {
		return nil
	}
	var codes []schema.Code
	for _, code := range slices.Sorted(maps.Keys(e.Codes)) {
		codes = append(codes, schema.Code{Value: code})
	}
	return codes
}
