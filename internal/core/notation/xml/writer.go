package xml

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"io"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

type writer struct {
	out      *bufio.Writer
	w        text           // out, or, in a list, the record under way: one that is at fault is not written
	underWay bytes.Buffer   // the record under way
	known    map[string]int // how often a prefix is declared on the elements around
	schema   *schema.Schema
	root     string
	record   string
	many     bool
	n        int
	begun    bool
	shell    *notation.Envelope
	escapes  bool            // characters that a name may not have are escaped
	inline   int             // open elements with text beside children, in which white space would be text, too
	plain    map[string]bool // names without a prefix that are XML names, and are written as they are
	inside   []part          // room for what stands inside of the open elements
	wire     []byte          // room for a text
}

// escapes says whether names that XML does not allow are escaped: where no schema says that they are faults.
func escapes(s *schema.Schema) bool { return s == nil || s.Settings.EscapeNames }

// text is what is written to.
type text interface {
	io.Writer
	io.StringWriter
	io.ByteWriter
}

// NewWriter writes a document. Several records, or records that no schema and no outermost name
// describe, stand as record elements below a root element, named by the schema or "records" and
// "record".
func NewWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	out := bufio.NewWriterSize(struct{ io.Writer }{w}, 64<<10) // a buffer of its own: what is not ended is not written
	x := &writer{out: out, w: out, known: map[string]int{"xml": 1}, plain: map[string]bool{}, schema: o.Schema, many: o.Many, root: "records", record: "record", escapes: escapes(o.Schema)}
	if o.Envelope != nil {
		x.shell, x.root, x.record, x.many = o.Envelope, o.Envelope.Root, o.Envelope.List, true
	}
	if o.Schema != nil {
		if n := o.Schema.Settings.RootName; n != "" {
			x.root = n
		}
		if n := o.Schema.RecordElement(); n != "" {
			x.record, x.many = n, true
		}
	}
	if o.Exact && o.Schema == nil {
		return newExactWriter(x), nil
	}
	return x, nil
}

func (x *writer) begin() *fault.Fault {
	if x.begun {
		return nil
	}
	x.begun = true
	if x.schema != nil {
		for _, ns := range x.schema.Settings.Namespaces {
			x.known[ns.Prefix]++
		}
	}
	x.w.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	if !x.many {
		return nil
	}
	x.w.WriteString("<" + x.root + x.declared())
	if x.shell != nil && x.shell.Attributes.Record() != nil {
		r := x.shell.Attributes.Record()
		x.declares(r, 1)
		for i, name := range r.Layout.Names {
			if ft := x.attribute(strings.TrimPrefix(name, "@"), r.Fields[i], nil); ft != nil {
				return ft
			}
		}
	}
	x.w.WriteString(">\n")
	return nil
}

// Write writes one record. What has no place in XML (a name that is none, a control character)
// is a fault.
func (x *writer) Write(v value.Value) error {
	x.n++
	if ft := x.begin(); ft != nil {
		return ft
	}
	if x.many {
		return x.listed(v)
	}
	if x.n > 1 {
		return fault.New(fault.Setting, "a second record, though the document is not a list")
	}
	name := x.root
	if r := v.Record(); x.schema == nil && r != nil && len(r.Fields) == 1 && r.Fields[0].Kind() != value.ListKind && r.Layout.Names[0][0] != '@' {
		name, v = r.Layout.Names[0], r.Fields[0]
	}
	if ft := x.one(name, v, x.field(), 0); ft != nil {
		return ft
	}
	return nil
}

// listed writes a record of a list; nothing of one that is at fault.
func (x *writer) listed(v value.Value) error {
	x.underWay.Reset()
	x.inline, x.w = 0, &x.underWay
	ft := x.one(x.record, v, x.field(), 1)
	x.w = x.out
	if ft != nil {
		return ft
	}
	_, err := x.out.Write(x.underWay.Bytes())
	return err
}

func (x *writer) field() *schema.Field {
	if x.schema == nil {
		return nil
	}
	return x.schema.Root
}

// element writes what stands for a field: an element, or one for each item of a list.
func (x *writer) element(name string, v value.Value, f *schema.Field, depth int) *fault.Fault {
	if v.Kind() != value.ListKind || f != nil && !f.List() {
		return x.one(name, v, f, depth)
	}
	for _, item := range v.Items() {
		if ft := x.one(name, item, f, depth); ft != nil {
			return ft
		}
	}
	return nil
}

// one writes one element.
func (x *writer) one(name string, v value.Value, f *schema.Field, depth int) *fault.Fault {
	name, ft := x.written(name)
	if ft != nil {
		return ft
	}
	r := v.Record()
	if r != nil {
		x.declares(r, 1)
		defer x.declares(r, -1)
	}
	if !x.plain[name] {
		if ft := x.declaredPrefix(name); ft != nil {
			return ft
		}
	}
	x.indent(depth)
	x.w.WriteByte('<')
	x.w.WriteString(name)
	if depth == 0 {
		x.w.WriteString(x.declared())
	}
	if f != nil && f.Kind == value.VariantKind && !v.IsMissing() {
		b, ft := f.Branch(v)
		if ft != nil {
			return ft.InField(name)
		}
		x.typeName(f, b)
		if b.List() {
			return x.items(name, v, b, depth)
		}
		f = b
	}
	switch {
	case r != nil:
		return x.complex(name, r, f, depth)
	case v.Kind() == value.ListKind && f != nil && f.Kind == value.ListKind && !f.WireFormat.InText:
		return x.items(name, v, f.Each(), depth)
	case v.Kind() == value.ListKind && (f == nil || !f.WireFormat.InText): // a list inside of a list that nothing describes
		return x.items(name, v, nil, depth)
	}
	return x.simple(name, v, f)
}

// items writes what stands inside of an element that is a list: an element for each item.
func (x *writer) items(name string, v value.Value, item *schema.Field, depth int) *fault.Fault {
	if len(v.Items()) == 0 {
		x.w.WriteString("/>")
		x.newline()
		return nil
	}
	x.w.WriteByte('>')
	x.newline()
	called := "item"
	if item != nil {
		called = item.WireName()
	}
	for _, each := range v.Items() {
		if ft := x.one(called, each, item, depth+1); ft != nil {
			return ft
		}
	}
	x.indent(depth)
	x.close(name)
	return nil
}

// typeName writes which branch of a variant an element is, unless it is the one that an element is taken for that says nothing.
func (x *writer) typeName(f, b *schema.Field) {
	switch first := firstBranch(f); {
	case f.ToldBy == schema.TypeAttribute && b.Attribute(schema.TypeAttribute) == nil:
	case f.ToldBy == schema.TypeAttribute, first == b && !b.List(), first == nil && !b.List():
		return
	}
	x.w.WriteString(` xmlns:xsi="` + instance + `" xsi:type="` + b.WireName() + `"`)
}

// declares notes the prefixes that a record's own attributes declare (Namespaces in XML 1.0, section 3), or forgets them.
func (x *writer) declares(r *value.Record, by int) {
	if x.schema != nil {
		return // its namespaces are settings
	}
	for _, name := range r.Layout.Names {
		if prefix, ok := strings.CutPrefix(name, "@xmlns:"); ok {
			x.known[prefix] += by
		}
	}
}

// declaredPrefix says that the prefix of a name stands for a namespace (Namespaces in XML 1.0, section 5).
func (x *writer) declaredPrefix(name string) *fault.Fault {
	prefix, _, ok := strings.Cut(name, ":")
	if !ok || x.known[prefix] > 0 || prefix == "xmlns" {
		return nil
	}
	return fault.Expect(fault.Unknown, "a prefix that a namespace is declared for", fault.Quote(prefix)).InField(name).
		WithFix("Declare it with @xmlns:%s, or among the namespaces of the schema", prefix)
}

// declared are the declarations of the namespaces that the schema's names stand for, for the root
// element.
func (x *writer) declared() string {
	if x.schema == nil {
		return ""
	}
	var b strings.Builder
	for _, ns := range x.schema.Settings.Namespaces {
		b.WriteString(" xmlns")
		if ns.Prefix != "" {
			b.WriteString(":" + ns.Prefix)
		}
		b.WriteString(`="`)
		xml.EscapeText(&b, []byte(ns.URI)) // writing to a Builder cannot fail
		b.WriteString(`"`)
	}
	return b.String()
}

func (x *writer) indent(depth int) {
	for range depth {
		if x.inline == 0 {
			x.w.WriteString("  ")
		}
	}
}

// close ends an element, and its line.
func (x *writer) close(name string) {
	x.w.WriteString("</")
	x.w.WriteString(name)
	x.w.WriteByte('>')
	x.newline()
}

// newline ends the line of an element.
func (x *writer) newline() {
	if x.inline == 0 {
		x.w.WriteByte('\n')
	}
}

// null is how a schema's null is told from an empty element (XML Schema 1.0, part 1, section 2.6.2).
const null = ` xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/>`

func (x *writer) simple(name string, v value.Value, f *schema.Field) *fault.Fault {
	if f != nil && v.Kind() == value.Null {
		x.w.WriteString(null)
		x.newline()
		return nil
	}
	if v.IsMissing() {
		x.w.WriteString("/>")
		x.newline()
		return nil
	}
	x.w.WriteByte('>')
	if ft := x.text(v, f); ft != nil {
		return ft.InField(name)
	}
	x.close(name)
	return nil
}

// part is one thing that stands inside of an element: an element, or a text, which has no name.
type part struct {
	name  string
	value value.Value
	field *schema.Field
	text  bool
}

func (x *writer) complex(name string, r *value.Record, f *schema.Field, depth int) *fault.Fault {
	from := len(x.inside)
	content, ft := x.parts(r, f)
	inside := x.inside[from:]
	defer func() { x.inside = x.inside[:from] }()
	if ft != nil {
		return ft.InField(name)
	}
	if len(inside) == 0 && content.value.IsMissing() {
		x.w.WriteString("/>")
		x.newline()
		return nil
	}
	x.w.WriteByte('>')
	if ft := x.text(content.value, content.field); ft != nil {
		return ft
	}
	if len(inside) > 0 {
		if ft := x.inner(inside, depth, !content.value.IsMissing()); ft != nil {
			return ft
		}
	}
	x.close(name)
	return nil
}

// parts writes the attributes of a record, and puts what stands inside of its element, in order, behind what stands inside of those
// around it. The text of the element is given.
func (x *writer) parts(r *value.Record, f *schema.Field) (content part, ft *fault.Fault) {
	if f != nil && f.Model() != nil && r.Layout == f.Layout() {
		inside, content, ft := x.arranged(r, f)
		x.inside = append(x.inside, inside...)
		return content, ft
	}
	r = spread(r)
	own := f != nil && r.Layout == f.Layout()
	for i, n := range r.Layout.Names {
		var c *schema.Field
		if own {
			c = f.Fields[i]
		} else {
			c = childField(f, n)
		}
		switch {
		case r.Fields[i].Kind() == value.Absent:
		case c != nil && c.WireFormat.Attribute:
			ft = x.attribute(c.WireName(), r.Fields[i], c)
		case c == nil && strings.HasPrefix(n, "@"):
			ft = x.attribute(n[1:], r.Fields[i], nil)
		case c != nil && c.WireFormat.Content, c == nil && n == "#text":
			content = part{value: r.Fields[i], field: c}
		case c != nil:
			x.inside = append(x.inside, part{name: c.WireName(), value: r.Fields[i], field: c})
		default:
			x.inside = append(x.inside, part{name: n, value: r.Fields[i]})
		}
		if ft != nil {
			return content, ft
		}
	}
	return content, nil
}

// arranged is parts of a record that has a content model.
func (x *writer) arranged(r *value.Record, f *schema.Field) (inside []part, content part, ft *fault.Fault) {
	others, ft := x.attributes(r, f)
	if ft != nil {
		return nil, content, ft
	}
	pieces, ft := f.Arrange(r)
	if ft != nil {
		return nil, content, ft
	}
	for _, c := range f.Fields {
		if c.WireFormat.Content && !f.WireFormat.Group {
			content = part{value: r.Fields[c.Slot()], field: c}
		}
	}
	for _, p := range pieces {
		v := r.Fields[p.Field.Slot()]
		switch {
		case p.Field.HoldsOthers:
			inside = append(inside, others[p.From:p.To]...)
		case p.Field.WireFormat.Group:
			for _, item := range itemsOf(v, p) {
				more, _, ft := x.arranged(item.Record(), p.Field)
				if ft != nil {
					return nil, content, ft
				}
				inside = append(inside, more...)
			}
		case p.Field.WireFormat.Content:
			inside = append(inside, part{value: v, field: p.Field, text: true})
		case p.Field.List():
			inside = append(inside, part{name: p.Field.WireName(), value: value.ListOf(v.Items()[p.From:p.To]...), field: p.Field})
		default:
			inside = append(inside, part{name: p.Field.WireName(), value: v, field: p.Field})
		}
	}
	return inside, content, nil
}

func itemsOf(v value.Value, p schema.Piece) []value.Value {
	if p.Field.List() {
		return v.Items()[p.From:p.To]
	}
	return []value.Value{v}
}

// attributes writes those of a record with a content model, and gives the elements that it has no names for.
func (x *writer) attributes(r *value.Record, f *schema.Field) (others []part, ft *fault.Fault) {
	for i, c := range f.Fields {
		v := r.Fields[i]
		if c.WireFormat.Attribute && v.Kind() != value.Absent {
			if ft := x.attribute(c.WireName(), v, c); ft != nil {
				return nil, ft
			}
		}
		held := v.Record()
		if !c.HoldsOthers || held == nil {
			continue
		}
		for j, name := range held.Layout.Names {
			if at, is := strings.CutPrefix(name, "@"); is {
				if ft := x.attribute(at, held.Fields[j], nil); ft != nil {
					return nil, ft
				}
				continue
			}
			items := []value.Value{held.Fields[j]}
			if held.Fields[j].Kind() == value.ListKind {
				items = held.Fields[j].Items()
			}
			for _, item := range items {
				others = append(others, part{name: name, value: item})
			}
		}
	}
	return others, nil
}

// spread is a record with the fields that have no name of their own beside the others.
func spread(r *value.Record) *value.Record {
	held := r.Others().Record()
	if held == nil {
		return r
	}
	at := r.Layout.Others - 1
	names := append(slices.Delete(slices.Clone(r.Layout.Names), at, at+1), held.Layout.Names...)
	fields := append(slices.Delete(slices.Clone(r.Fields), at, at+1), held.Fields...)
	return &value.Record{Layout: value.NewLayout(names...), Fields: fields}
}

// inner writes what stands inside of an element; mixed, when text stands beside elements.
func (x *writer) inner(inside []part, depth int, mixed bool) *fault.Fault {
	mixed = mixed || slices.ContainsFunc(inside, func(p part) bool { return p.text })
	if mixed {
		x.inline++
	}
	x.newline()
	for _, p := range inside {
		ft := (*fault.Fault)(nil)
		if p.text {
			ft = x.text(p.value, p.field)
		} else {
			ft = x.element(p.name, p.value, p.field, depth+1)
		}
		if ft != nil {
			return ft
		}
	}
	x.indent(depth)
	if mixed {
		x.inline--
	}
	return nil
}

func childField(f *schema.Field, name string) *schema.Field {
	if f == nil {
		return nil
	}
	return f.Named(name)
}

func (x *writer) attribute(name string, v value.Value, f *schema.Field) *fault.Fault {
	if k := v.Kind(); k == value.RecordKind || k == value.ListKind && (f == nil || !f.WireFormat.InText) {
		return fault.Expect(fault.Type, "a single value for an attribute", "a "+k.String()).InField(name)
	}
	name, ft := x.written(name)
	if ft != nil {
		return ft
	}
	if ft := x.declaredPrefix(name); ft != nil {
		return ft
	}
	x.w.WriteByte(' ')
	x.w.WriteString(name)
	x.w.WriteString(`="`)
	if ft := x.text(v, f); ft != nil {
		return ft.InField(name)
	}
	x.w.WriteByte('"')
	return nil
}

func (x *writer) text(v value.Value, f *schema.Field) *fault.Fault {
	b, ft := x.wire[:0], (*fault.Fault)(nil)
	switch {
	case v.IsMissing():
	case f == nil && v.Kind() == value.Text:
		b = append(b, v.Text()...)
	case f == nil:
		b = append(b, schema.ScalarText(v)...)
	default:
		if b, ft = wireText(b, f, v); ft != nil {
			return ft
		}
	}
	x.wire = b
	if len(b) == 0 && f != nil && !v.IsMissing() && f.WireFormat.WhenEmpty != "" {
		return fault.Expect(fault.Setting, "a text, as an empty element says "+fault.Quote(f.WireFormat.WhenEmpty), "an empty one")
	}
	if simple(b) {
		x.w.Write(b)
		return nil
	}
	for _, r := range string(b) {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xFFFE || r == 0xFFFF {
			return fault.Expect(fault.Encoding, "characters that XML 1.0 allows", fault.Quote(string(r)))
		}
	}
	xml.EscapeText(x.w, b)
	return nil
}

// simple says whether a text stands in a document as it is, which is told at one look.
func simple(b []byte) bool {
	for _, c := range b {
		if c < ' ' || c >= 0x7F || c == '<' || c == '>' || c == '&' || c == '\'' || c == '"' {
			return false
		}
	}
	return true
}

// wireText appends the text of a field: of a list that stands in one text, its values with blanks between them.
func wireText(text []byte, f *schema.Field, v value.Value) ([]byte, *fault.Fault) {
	if !f.WireFormat.InText {
		return f.AppendXML(text, v)
	}
	for i, item := range v.Items() {
		if i > 0 {
			text = append(text, ' ')
		}
		from := len(text)
		var ft *fault.Fault
		if text, ft = f.Each().AppendXML(text, item); ft != nil {
			return text, ft
		}
		if b := text[from:]; len(b) == 0 || bytes.IndexFunc(b, xmltext.IsBlank) >= 0 {
			return text, fault.Expect(fault.Setting, "a value without blanks in a list that stands in one text", fault.Quote(string(b)))
		}
	}
	return text, nil
}

// maxPlain bounds the names that are remembered.
const maxPlain = 1000

// written is a name as it stands in the document; one that cannot stand there is a fault, or escaped.
func (x *writer) written(name string) (string, *fault.Fault) {
	if x.plain[name] {
		return name, nil
	}
	out := name
	switch {
	case x.escapes:
		out = escapedName(name)
	case !xmltext.ValidName(name):
		return "", fault.Expect(fault.Syntax, "an XML name", fault.Quote(name)).InField(name).WithFix("Let the schema's setting \"other names\" have it escaped")
	}
	if out == name && strings.IndexByte(name, ':') < 0 && len(x.plain) < maxPlain {
		x.plain[name] = true
	}
	return out, nil
}

// Close ends the document.
func (x *writer) Close() error {
	if ft := x.begin(); ft != nil {
		return ft
	}
	if x.many {
		x.w.WriteString("</" + x.root + ">\n")
	}
	return x.out.Flush()
}
