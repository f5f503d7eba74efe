package xml

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

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
