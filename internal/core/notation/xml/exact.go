package xml

import (
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

// Documents that no schema describes are exact when they are asked to be: what XML cannot say of a value of JSON stands in attributes of
// a namespace of its own, and what JSON cannot say of an element, the order of its texts and children, in a field.
const (
	typesSpace = "urn:hollowreed:json"
	// contentName is the field of an element whose texts and children do not stand as fields would: a list of texts, and of records
	// with one field for an element.
	contentName = "#content"
	// itemName is the element of an item of a list that does not stand as elements of one name.
	itemName = "item"
)

// The attributes: the type of a value that is no text, and on the root element that it is no field, but the message.
const (
	typeAttr    = "type"    // number, boolean, null, object or list
	messageAttr = "message" // value or list: of records, each an element
)

// number is a number as JSON has it (RFC 8259, section 6).
var number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

// hint is the value of an attribute of the element at hand that tells of a value of JSON.
func (x *reader) hint(name string) string {
	for i := range x.in.Attrs {
		if a := &x.in.Attrs[i]; a.Name.Space == typesSpace && a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// exactDocument reads a document whose root element is at hand.
func (x *reader) exactDocument() (value.Value, error) {
	name, whole := x.name(), x.hint(messageAttr) == "value"
	v, err := x.exactly()
	if err != nil {
		return value.Value{}, err
	}
	if !whole {
		v = value.NewRecord(value.NewLayout(name), []value.Value{v})
	}
	return x.ended(v, nil)
}

// exactly reads an element whose start is at hand.
func (x *reader) exactly() (value.Value, error) {
	e := exactElement{typ: x.hint(typeAttr), at: x.in.Place()}
	e.at.Path = x.in.Path()
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		if a.Name.Space != typesSpace && (!strings.HasPrefix(a.Raw, "xmlns:") || a.Value != typesSpace) {
			e.fields, e.names = append(e.fields, value.NewText(a.Value)), append(e.names, "@"+x.known(a.Name, a.Raw))
		}
	}
	var text xmltext.Pieces
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.Text:
			text.Add(x.in.Text)
		case xmltext.Start:
			e.text(&text)
			name := x.name()
			v, err := x.exactly()
			if err != nil {
				return value.Value{}, err
			}
			e.pieces = append(e.pieces, exactPiece{name: name, value: v})
		case xmltext.End:
			e.text(&text)
			v, ft := e.value()
			if ft != nil {
				return value.Value{}, ft
			}
			return v, nil
		}
	}
}

// exactElement is an element under way: its attributes as fields, and its texts and children in their order.
type exactElement struct {
	typ    string
	at     fault.Place
	names  []string
	fields []value.Value
	pieces []exactPiece
}

type exactPiece struct {
	name  string
	value value.Value
	text  bool
	whole bool // a list is one element, even if it could be several
}

func (e *exactElement) text(text *xmltext.Pieces) {
	if s := text.String(); s != "" {
		e.pieces = append(e.pieces, exactPiece{value: value.NewText(s), text: true})
	}
	*text = xmltext.Pieces{}
}

// value is what the element is in JSON.
func (e *exactElement) value() (value.Value, *fault.Fault) {
	alone := strings.Builder{} // its text
	children := 0
	for _, p := range e.pieces {
		if p.text {
			alone.WriteString(p.value.Text())
		} else {
			children++
		}
	}
	switch e.typ {
	case "":
	case "number":
		if !number.MatchString(alone.String()) {
			return value.Value{}, fault.Expect(fault.Type, "a number", fault.Quote(alone.String())).At(e.at)
		}
		return value.Number(alone.String()), nil
	case "boolean":
		if s := alone.String(); s != "true" && s != "false" {
			return value.Value{}, fault.Expect(fault.Type, "true or false", fault.Quote(s)).At(e.at)
		}
		return value.Bool(alone.String() == "true"), nil
	case "null":
		return value.NullValue, nil
	case "list":
		items := []value.Value{}
		for _, p := range e.pieces {
			if !p.text {
				items = append(items, p.value)
			}
		}
		return value.ListOf(items...), nil
	case "object":
	default:
		return value.Value{}, fault.Expect(fault.Setting, "number, boolean, null, object or list", fault.Quote(e.typ)).At(e.at)
	}
	blank := strings.TrimSpace(alone.String()) == ""
	switch {
	case children == 0 && len(e.names) == 0 && e.typ == "":
		return value.NewText(alone.String()), nil
	case children == 0 && alone.Len() > 0:
		e.add("#text", value.NewText(alone.String()))
	case children > 0 && (!blank || apart(e.pieces)):
		e.add(contentName, content(e.pieces, blank))
	default:
		e.children()
	}
	return value.NewRecord(value.NewLayout(e.names...), e.fields), nil
}

func (e *exactElement) add(name string, v value.Value) {
	e.names, e.fields = append(e.names, name), append(e.fields, v)
}

// children makes fields of the children; those that have one name stand beside each other, and are one list.
func (e *exactElement) children() {
	var same []value.Value
	name := ""
	put := func() {
		switch len(same) {
		case 0:
		case 1:
			e.add(name, same[0])
		default:
			e.add(name, value.ListOf(same...))
		}
		same = nil
	}
	for _, p := range e.pieces {
		if p.text {
			continue
		}
		if p.name != name {
			put()
		}
		name, same = p.name, append(same, p.value)
	}
	put()
}

// apart says whether children of one name stand apart, with others between them.
func apart(pieces []exactPiece) bool {
	seen := map[string]bool{}
	last, any := "", false
	for _, p := range pieces {
		if p.text {
			continue
		}
		if any && p.name != last && seen[p.name] {
			return true
		}
		seen[p.name], last, any = true, p.name, true
	}
	return false
}

// content is the list of texts and children; blank texts between children mean nothing where there are no others.
func content(pieces []exactPiece, blank bool) value.Value {
	var items []value.Value
	for _, p := range pieces {
		switch {
		case !p.text:
			items = append(items, value.NewRecord(value.NewLayout(p.name), []value.Value{p.value}))
		case !blank:
			items = append(items, p.value)
		}
	}
	return value.ListOf(items...)
}

// piecesOf is the inverse of content; false where a list is none that it would make.
func piecesOf(v value.Value) (pieces []exactPiece, ok bool) {
	texts, children := false, 0
	for i, item := range v.Items() {
		r := item.Record()
		switch {
		case r != nil && len(r.Fields) == 1 && r.Fields[0].Kind() != value.ListKind:
			pieces = append(pieces, exactPiece{name: r.Layout.Names[0], value: r.Fields[0]})
			children++
		case item.Kind() == value.Text && item.Text() != "" && (i == 0 || !pieces[i-1].text):
			pieces = append(pieces, exactPiece{value: item, text: true})
			texts = texts || strings.TrimSpace(item.Text()) != ""
		default:
			return nil, false
		}
	}
	return pieces, children > 0 && (texts || apart(pieces)) && (texts || !slices.ContainsFunc(pieces, func(p exactPiece) bool { return p.text }))
}

// exactWriter writes documents that no schema describes.
type exactWriter struct {
	*writer
	prefix string // declared on the root element; empty where nothing needs it
}

func newExactWriter(x *writer) notation.Writer { return &exactWriter{writer: x} }

func (x *exactWriter) Write(v value.Value) error {
	x.n++
	if ft := x.beginExact(); ft != nil {
		return ft
	}
	if x.many {
		attrs := ""
		if x.shell != nil && hinted(v) { // its root element is that of the document that was read
			attrs = x.declaration()
		}
		x.underWay.Reset()
		x.inline, x.w = 0, &x.underWay
		ft := x.value(x.record, v, 1, attrs)
		x.w = x.out
		if ft != nil {
			return ft
		}
		_, err := x.out.Write(x.underWay.Bytes())
		return err
	}
	if x.n > 1 {
		return fault.New(fault.Setting, "a second record, though the document is not a list")
	}
	name, root := "record", ` `+x.prefix+`:`+messageAttr+`="value"`
	if r := v.Record(); r != nil && len(r.Fields) == 1 && natural(r.Layout.Names[0], r.Fields[0]) {
		name, v, root = r.Layout.Names[0], r.Fields[0], ""
	}
	if root == "" && !hinted(v) {
		x.prefix = ""
	}
	if x.prefix != "" {
		root = x.declaration() + root
	}
	if ft := x.value(name, v, 0, root); ft != nil {
		return ft
	}
	return nil
}

// natural says whether the only field of a record can be the root element.
func natural(name string, v value.Value) bool {
	return name != "" && name[0] != '@' && name[0] != '#' && v.Kind() != value.ListKind
}

// hinted says whether a value has anything that XML cannot say by itself.
func hinted(v value.Value) bool {
	r := v.Record()
	switch {
	case v.Kind() == value.Text:
		return false
	case r == nil:
		return true
	}
	attrs, _, children := shares(r)
	if len(attrs) == 0 && len(children) == 0 {
		return true
	}
	for _, p := range children {
		switch items := p.value.Items(); {
		case p.value.Kind() != value.ListKind:
			if hinted(p.value) {
				return true
			}
		case !repeats(p.value) || slices.ContainsFunc(items, hinted):
			return true
		}
	}
	return false
}

// repeats says whether a list is written as elements of one name: of two items at least, which are no lists.
func repeats(v value.Value) bool {
	items := v.Items()
	return len(items) > 1 && !slices.ContainsFunc(items, func(i value.Value) bool { return i.Kind() == value.ListKind })
}

// shares are what of a record is written as attributes, as text, and as children in order.
func shares(r *value.Record) (attrs []exactPiece, text value.Value, children []exactPiece) {
	elements := 0
	for i, name := range r.Layout.Names {
		if name != "#text" && !isAttribute(name, r.Fields[i]) && r.Fields[i].Kind() != value.Absent {
			elements++
		}
	}
	for i, name := range r.Layout.Names {
		v := r.Fields[i]
		pieces, is := piecesOf(v)
		switch {
		case v.Kind() == value.Absent:
		case isAttribute(name, v):
			attrs = append(attrs, exactPiece{name: name[1:], value: v})
		case name == "#text" && elements == 0 && v.Kind() == value.Text && v.Text() != "":
			text = v
		case name == contentName && is && elements == 1:
			children = append(children, pieces...)
		default:
			children = append(children, exactPiece{name: name, value: v})
		}
	}
	return attrs, text, children
}

// isAttribute says whether a field is written as an attribute.
func isAttribute(name string, v value.Value) bool {
	plain, at := strings.CutPrefix(name, "@")
	return at && v.Kind() == value.Text && xmltext.ValidName(plain)
}

func (x *exactWriter) beginExact() *fault.Fault {
	if x.begun {
		return nil
	}
	x.prefix = "json"
	if x.shell != nil {
		return x.begin()
	}
	x.begun = true
	x.w.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	if x.many {
		x.w.WriteString("<" + x.root + x.declaration() + ` ` + x.prefix + `:` + messageAttr + `="list">` + "\n")
	}
	return nil
}

// declaration declares the prefix of the attributes.
func (x *exactWriter) declaration() string { return ` xmlns:` + x.prefix + `="` + typesSpace + `"` }

// value writes an element; attrs are what stands in its start beside its own.
func (x *exactWriter) value(name string, v value.Value, depth int, attrs string) *fault.Fault {
	r := v.Record()
	if r != nil {
		x.declares(r, 1)
		defer x.declares(r, -1)
	}
	name, ft := x.written(name)
	if ft == nil {
		ft = x.declaredPrefix(name)
	}
	if ft != nil {
		return ft
	}
	x.indent(depth)
	x.w.WriteString("<" + name + attrs)
	switch {
	case r != nil:
		return x.fields(name, r, depth)
	case v.Kind() == value.ListKind:
		x.typed("list")
		var items []exactPiece
		for _, item := range v.Items() {
			items = append(items, exactPiece{name: itemName, value: item, whole: true})
		}
		return x.inside(name, items, depth)
	case v.Kind() == value.Null:
		x.typed("null")
	case v.Kind() == value.Boolean:
		x.typed("boolean")
	case v.Kind().Numeric():
		x.typed("number")
	}
	return x.simple(name, v, nil)
}

func (x *exactWriter) typed(as string) {
	x.w.WriteString(` ` + x.prefix + `:` + typeAttr + `="` + as + `"`)
}

func (x *exactWriter) fields(name string, r *value.Record, depth int) *fault.Fault {
	attrs, text, children := shares(r)
	if len(attrs) == 0 && len(children) == 0 {
		x.typed("object")
	}
	for _, a := range attrs {
		if ft := x.attribute(a.name, a.value, nil); ft != nil {
			return ft
		}
	}
	if text.Kind() == value.Absent {
		return x.inside(name, children, depth)
	}
	return x.simple(name, text, nil)
}

// inside writes the children of an element, and its end.
func (x *exactWriter) inside(name string, children []exactPiece, depth int) *fault.Fault {
	if len(children) == 0 {
		x.w.WriteString("/>")
		x.newline()
		return nil
	}
	x.w.WriteByte('>')
	mixed := slices.ContainsFunc(children, func(p exactPiece) bool { return p.text })
	if mixed {
		x.inline++
	}
	x.newline()
	for _, p := range children {
		if ft := x.child(p, depth+1); ft != nil {
			return ft
		}
	}
	x.indent(depth)
	if mixed {
		x.inline--
	}
	x.w.WriteString("</" + name + ">")
	x.newline()
	return nil
}

func (x *exactWriter) child(p exactPiece, depth int) *fault.Fault {
	switch {
	case p.text:
		return x.text(p.value, nil)
	case p.whole || !repeats(p.value):
		return x.value(p.name, p.value, depth, "")
	}
	for _, item := range p.value.Items() {
		if ft := x.value(p.name, item, depth, ""); ft != nil {
			return ft
		}
	}
	return nil
}

// Close ends the document.
func (x *exactWriter) Close() error {
	if ft := x.beginExact(); ft != nil {
		return ft
	}
	return x.writer.Close()
}
