// Package xml reads and writes XML 1.0 documents. Document type definitions are refused and
// nothing is ever fetched. Without a schema attributes become fields named @name, text beside
// children becomes #text, repeated elements become lists and prefixes stay as they are written.
package xml

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

type reader struct {
	dec    *xml.Decoder
	name   string
	schema *schema.Schema
	limit  int64
	begun  bool
	done   bool
	place  fault.Place
	start  int64
	faults fault.List
	check  bool
	open   []string
}

// NewReader reads a document. With a schema that names a record element, each such element below
// the root is a record; else the whole document is one.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	x := &reader{dec: xml.NewDecoder(r), name: o.Source, schema: o.Schema, limit: int64(o.Limit()), check: o.Check && o.Schema != nil}
	x.dec.CharsetReader = charset
	return x, nil
}

func charset(label string, in io.Reader) (io.Reader, error) {
	e, err := htmlindex.Get(label)
	if err != nil {
		return nil, errors.New("the encoding " + label + " is not known")
	}
	return e.NewDecoder().Reader(in), nil
}

func (x *reader) records() bool      { return x.schema != nil && x.schema.Settings.RecordName != "" }
func (x *reader) Many() bool         { return x.records() }
func (x *reader) Raw() string        { return "" }
func (x *reader) Place() fault.Place { return x.place }

func (x *reader) here() fault.Place {
	line, column := x.dec.InputPos()
	return fault.Place{Source: x.name, Line: line, Column: column, Byte: x.dec.InputOffset()}
}

func (x *reader) Next() (value.Value, error) {
	if x.done {
		return value.Value{}, io.EOF
	}
	if !x.begun {
		x.begun = true
		root, err := x.first()
		if err != nil {
			return value.Value{}, err
		}
		if !x.records() {
			return x.document(root)
		}
	}
	return x.record()
}

// first finds the root element.
func (x *reader) first() (xml.StartElement, error) {
	for {
		tok, err := x.token()
		if err == io.EOF {
			return xml.StartElement{}, fault.Expect(fault.Required, "a root element", "the end of the file").At(x.here())
		}
		if err != nil {
			return xml.StartElement{}, err
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if want := x.rootName(); want != "" && want != name(t.Name) {
				return t, fault.Expect(fault.Unknown, "the root element "+want, name(t.Name)).At(x.here())
			}
			return t, nil
		case xml.CharData:
			if strings.TrimSpace(string(t)) != "" {
				return xml.StartElement{}, fault.Expect(fault.Syntax, "a root element", fault.Quote(string(t))).At(x.here())
			}
		}
	}
}

func (x *reader) rootName() string {
	if x.schema == nil {
		return ""
	}
	return x.schema.Settings.RootName
}

func (x *reader) document(root xml.StartElement) (value.Value, error) {
	x.begin()
	if x.schema != nil {
		v, err := x.typed(x.schema.Root, root, 0)
		return x.ended(v, err)
	}
	v, err := x.free(root, 0)
	if err != nil {
		return value.Value{}, err
	}
	return x.ended(value.Rec(value.NewShape(name(root.Name)), []value.Value{v}), nil)
}

func (x *reader) begin() {
	x.place = x.here()
	x.start = x.dec.InputOffset()
	x.faults = nil
}

// ended makes sure that nothing stands behind the root element.
func (x *reader) ended(v value.Value, err error) (value.Value, error) {
	if err != nil {
		return value.Value{}, err
	}
	x.done = true
	for {
		tok, err := x.token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return value.Value{}, err
		}
		if t, ok := tok.(xml.CharData); ok && strings.TrimSpace(string(t)) == "" {
			continue
		}
		switch tok.(type) {
		case xml.Comment, xml.ProcInst:
			continue
		}
		return value.Value{}, fault.New(fault.Syntax, "something stands behind the root element").At(x.here())
	}
	return x.result(v)
}

func (x *reader) result(v value.Value) (value.Value, error) {
	if x.faults != nil {
		return value.Value{}, x.faults
	}
	return v, nil
}

func (x *reader) record() (value.Value, error) {
	for {
		tok, err := x.token()
		if err != nil {
			return value.Value{}, x.early(err)
		}
		switch t := tok.(type) {
		case xml.EndElement:
			return x.endOfRecords()
		case xml.CharData:
			if strings.TrimSpace(string(t)) != "" {
				return value.Value{}, fault.Expect(fault.Syntax, "an element", fault.Quote(string(t))).At(x.here())
			}
		case xml.StartElement:
			x.begin()
			want := x.schema.Settings.RecordName
			if n := name(t.Name); n != want {
				x.fault(nil, fault.Expect(fault.Unknown, "the element "+want, n))
			}
			v, err := x.typed(x.schema.Root, t, 0)
			if err != nil {
				return value.Value{}, err
			}
			return x.result(v)
		}
	}
}

func (x *reader) endOfRecords() (value.Value, error) {
	x.faults = nil // those of the last record are said
	if _, err := x.ended(value.Value{}, nil); err != nil {
		return value.Value{}, err
	}
	return value.Value{}, io.EOF
}

// token reads the next token and keeps the elements balanced. Its errors are faults or io.EOF.
func (x *reader) token() (xml.Token, error) {
	if x.dec.InputOffset()-x.start > x.limit {
		return nil, fault.New(fault.Limit, "a record is longer than %d bytes", x.limit).At(x.place)
	}
	tok, err := x.dec.RawToken()
	if err == io.EOF && len(x.open) == 0 {
		return nil, io.EOF
	}
	if err != nil {
		return nil, x.syntax(err)
	}
	switch t := tok.(type) {
	case xml.Directive:
		return nil, fault.New(fault.Syntax, "document type definitions are refused").At(x.here()).Mended("Remove the <!…> declaration")
	case xml.StartElement:
		if len(x.open) >= notation.MaxDepth {
			return nil, fault.New(fault.Limit, "elements nest deeper than %d", notation.MaxDepth).At(x.here())
		}
		x.open = append(x.open, name(t.Name))
	case xml.EndElement:
		if ft := x.close(name(t.Name)); ft != nil {
			return nil, ft
		}
	}
	return tok, nil
}

func (x *reader) close(n string) *fault.Fault {
	if len(x.open) == 0 {
		return fault.New(fault.Syntax, "</%s> closes nothing", n).At(x.here())
	}
	last := x.open[len(x.open)-1]
	if last != n {
		return fault.Expect(fault.Syntax, "</"+last+">", "</"+n+">").At(x.here())
	}
	x.open = x.open[:len(x.open)-1]
	return nil
}

func (x *reader) syntax(err error) error {
	var syn *xml.SyntaxError
	if errors.As(err, &syn) {
		p := x.here()
		p.Line = syn.Line
		return fault.New(fault.Syntax, "this is not XML: %s", syn.Msg).At(p)
	}
	if err == io.EOF {
		return x.early(err)
	}
	return fault.New(fault.Outside, "the input cannot be read on: %s", err).At(x.here())
}

func (x *reader) early(err error) error {
	if _, ok := err.(*fault.Fault); ok {
		return err
	}
	return fault.New(fault.Syntax, "this is not XML: the document ends inside <%s>", strings.Join(x.open, "><")).At(x.here())
}

func (x *reader) fault(f *schema.Field, ft *fault.Fault) {
	if f != nil {
		f.Ruled(ft)
	}
	if ft.Place.Line == 0 {
		ft.At(x.spot())
	}
	x.faults = append(x.faults, ft)
}

// name is a raw name with its prefix, as it is written.
func name(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

// builder gathers the fields of an element that no schema describes.
type builder struct {
	names  []string
	fields []value.Value
	at     map[string]int
}

func (b *builder) add(name string, v value.Value) {
	if i, ok := b.at[name]; ok {
		if items := b.fields[i].Items(); items != nil && b.fields[i].Kind() == value.ListKind {
			b.fields[i] = value.ListOf(append(items, v)...)
		} else {
			b.fields[i] = value.ListOf(b.fields[i], v)
		}
		return
	}
	if b.at == nil {
		b.at = map[string]int{}
	}
	b.at[name] = len(b.names)
	b.names = append(b.names, name)
	b.fields = append(b.fields, v)
}

// free reads an element that no schema describes: text alone is a text, else a record.
func (x *reader) free(el xml.StartElement, depth int) (value.Value, error) {
	var b builder
	for _, a := range el.Attr {
		if _, twice := b.at["@"+name(a.Name)]; twice {
			return value.Value{}, fault.New(fault.Syntax, "the attribute %s is there twice", name(a.Name)).At(x.here())
		}
		b.add("@"+name(a.Name), value.Str(a.Value))
	}
	var text strings.Builder
	for {
		tok, err := x.token()
		if err != nil {
			return value.Value{}, x.early(err)
		}
		switch t := tok.(type) {
		case xml.CharData:
			text.Write(t)
		case xml.StartElement:
			v, err := x.free(t, depth+1)
			if err != nil {
				return value.Value{}, err
			}
			b.add(name(t.Name), v)
		case xml.EndElement:
			return b.value(text.String()), nil
		}
	}
}

func (b *builder) value(text string) value.Value {
	if len(b.names) == 0 {
		return value.Str(text)
	}
	if strings.TrimSpace(text) != "" {
		b.add("#text", value.Str(text))
	}
	return value.Rec(value.NewShape(b.names...), b.fields)
}

// typed reads an element that the schema describes as the record f.
func (x *reader) typed(f *schema.Field, el xml.StartElement, depth int) (value.Value, error) {
	fields := make([]value.Value, len(f.Fields))
	begin := x.here()
	x.attributes(f, el, fields)
	var text strings.Builder
	for {
		tok, err := x.token()
		if err != nil {
			return value.Value{}, x.early(err)
		}
		switch t := tok.(type) {
		case xml.CharData:
			text.Write(t)
		case xml.StartElement:
			if err := x.child(f, t, fields, depth); err != nil {
				return value.Value{}, err
			}
		case xml.EndElement:
			x.content(f, text.String(), fields)
			if x.check {
				x.occurrences(f, fields, begin, t)
			}
			return value.Rec(f.Shape(), fields), nil
		}
	}
}

// occurrences checks how often each field stands in an element; the element's beginning is the place.
func (x *reader) occurrences(f *schema.Field, fields []value.Value, begin fault.Place, end xml.EndElement) {
	for i, c := range f.Fields {
		if ft := c.CheckOccurs(fields[i]); ft != nil {
			x.fault(c, ft)
			ft.Place = begin
			ft.Place.Path = "/" + strings.Join(append(x.open[:len(x.open):len(x.open)], name(end.Name)), "/")
		}
	}
}

func (x *reader) attributes(f *schema.Field, el xml.StartElement, fields []value.Value) {
	for _, a := range el.Attr {
		n := name(a.Name)
		if n == "xmlns" || strings.HasPrefix(n, "xmlns:") || strings.HasPrefix(n, "xsi:") {
			continue
		}
		c := f.Field(n)
		if c == nil || !c.Written.Attribute {
			x.fault(nil, fault.Expect(fault.Unknown, "an attribute of the schema", n))
			continue
		}
		fields[c.Slot()] = x.scalar(c, a.Value, x.spot("@"+n))
	}
}

func (x *reader) content(f *schema.Field, text string, fields []value.Value) {
	for _, c := range f.Fields {
		if c.Written.Content {
			fields[c.Slot()] = x.scalar(c, text, x.spot())
			return
		}
	}
	if strings.TrimSpace(text) != "" {
		x.fault(f, fault.Expect(fault.Unknown, "elements only", fault.Quote(strings.TrimSpace(text))))
	}
}

func (x *reader) child(f *schema.Field, t xml.StartElement, fields []value.Value, depth int) error {
	n := name(t.Name)
	c := f.Field(n)
	if c == nil || c.Written.Attribute {
		x.fault(nil, fault.Expect(fault.Unknown, "one of "+strings.Join(f.Shape().Names, ", "), fault.Quote(n)))
		_, err := x.free(t, depth+1)
		return err
	}
	v, err := x.one(c, t, depth)
	if err != nil {
		return err
	}
	old := fields[c.Slot()]
	switch {
	case c.List():
		fields[c.Slot()] = value.ListOf(append(old.Items(), v)...)
	case old.Kind() != value.Absent:
		x.fault(c, fault.Expect(fault.Length, "the element once", "it again"))
	default:
		fields[c.Slot()] = v
	}
	return nil
}

func (x *reader) one(c *schema.Field, t xml.StartElement, depth int) (value.Value, error) {
	if c.Kind == value.RecordKind && !isNull(t) {
		return x.typed(c, t, depth+1)
	}
	begin := x.spot()
	v, err := x.free(t, depth+1)
	if err != nil {
		return value.Value{}, err
	}
	if isNull(t) {
		return value.NullValue, nil
	}
	if v.Kind() != value.Text {
		x.fault(c, fault.Expect(fault.Type, c.HowWritten(), "an element with content of its own"))
		return value.Value{}, nil
	}
	return x.scalar(c, v.Text(), begin), nil
}

// isNull says whether an element says of itself that it is null.
func isNull(t xml.StartElement) bool {
	for _, a := range t.Attr {
		if name(a.Name) == "xsi:nil" {
			return a.Value == "true" || a.Value == "1"
		}
	}
	return false
}

// spot is the place at hand with the path of the open elements, and of what is named below them.
func (x *reader) spot(below ...string) fault.Place {
	p := x.here()
	p.Path = "/" + strings.Join(append(x.open[:len(x.open):len(x.open)], below...), "/")
	return p
}

// scalar reads the text of a field that stands at a place. A text that cannot be read is a fault,
// and kept as it is, so that it is not taken for missing.
func (x *reader) scalar(c *schema.Field, text string, at fault.Place) value.Value {
	s := text
	if c.Kind != value.Text {
		s = strings.TrimSpace(text)
	}
	v, ok := c.Read(s)
	if !ok {
		x.fault(c, fault.Expect(fault.Type, c.HowWritten(), fault.Quote(s)).At(at))
		return value.Str(s)
	}
	if x.check {
		if ft := c.CheckOne(v); ft != nil {
			x.fault(c, ft.At(at))
		}
	}
	return v
}
