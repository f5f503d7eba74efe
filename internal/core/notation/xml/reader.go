// Package xml reads and writes XML 1.0 documents. Document type definitions are refused and
// nothing is ever fetched. Without a schema attributes become fields named @name, text beside
// children becomes #text, repeated elements become lists and prefixes stay as they are written.
package xml

import (
	"io"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

type reader struct {
	in      *xmltext.Reader
	names   *names
	schema  *schema.Schema
	limit   int64
	begun   bool
	done    bool
	place   fault.Place
	start   int64
	faults  fault.List
	check   bool
	ignored *notation.Ignored
}

// NewReader reads a document. With a schema that names a record element, each such element below
// the root is a record; else the whole document is one.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	x := newReader(r, o)
	return &x, nil
}

func newReader(r io.Reader, o notation.Options) reader {
	x := reader{schema: o.Schema, limit: int64(o.Limit()), check: o.Check && o.Schema != nil, names: newNames(o.Schema), ignored: o.Ignored}
	x.in = xmltext.New(r, xmltext.Options{Source: o.Source, Namespaces: x.names != nil, MaxDepth: notation.MaxDepth, MaxToken: o.Limit()})
	return x
}

func (x *reader) records() bool      { return x.schema != nil && x.schema.Settings.RecordName != "" }
func (x *reader) Many() bool         { return x.records() }
func (x *reader) Raw() string        { return "" }
func (x *reader) Place() fault.Place { return x.place }

func (x *reader) Next() (value.Value, error) {
	if x.done {
		return value.Value{}, io.EOF
	}
	if !x.begun {
		x.begun = true
		if err := x.first(); err != nil {
			return value.Value{}, err
		}
		if !x.records() {
			return x.document()
		}
	}
	return x.record()
}

// first finds the root element.
func (x *reader) first() error {
	if _, err := x.token(); err != nil {
		return err
	}
	if want := x.rootName(); want != "" && want != x.name() {
		return fault.Expect(fault.Unknown, "the root element "+want, x.name()).At(x.in.Place())
	}
	return nil
}

func (x *reader) rootName() string {
	if x.schema == nil {
		return ""
	}
	return x.schema.Settings.RootName
}

func (x *reader) document() (value.Value, error) {
	x.begin()
	if x.schema != nil {
		v, err := x.typed(x.schema.Root)
		return x.ended(v, err)
	}
	name := x.name()
	v, err := x.free()
	if err != nil {
		return value.Value{}, err
	}
	return x.ended(value.NewRecord(value.NewLayout(name), []value.Value{v}), nil)
}

func (x *reader) begin() {
	x.place, x.start, x.faults = x.in.Place(), x.in.Begin, nil
}

// ended makes sure that nothing stands behind the root element.
func (x *reader) ended(v value.Value, err error) (value.Value, error) {
	if err != nil {
		return value.Value{}, err
	}
	x.done = true
	if _, err := x.token(); err != io.EOF {
		return value.Value{}, err
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
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.End:
			return x.endOfRecords()
		case xmltext.Text:
			if strings.TrimSpace(x.in.Text) != "" {
				return value.Value{}, fault.Expect(fault.Syntax, "an element", fault.Quote(x.in.Text)).At(x.in.Place())
			}
		case xmltext.Start:
			x.begin()
			if n := x.name(); n != x.schema.Settings.RecordName {
				x.fault(nil, x.schema.Root.Asking(fault.Expect(fault.Unknown, "the element "+x.schema.Settings.RecordName, n)))
			}
			v, err := x.typed(x.schema.Root)
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

// token reads the next token, within the bytes that a record may have.
func (x *reader) token() (xmltext.Kind, error) {
	k, err := x.in.Next()
	if err == nil && x.in.End-x.start > x.limit {
		err = fault.New(fault.Limit, "a record is longer than %d bytes", x.limit).At(x.place)
	}
	return k, err
}

func (x *reader) fault(f *schema.Field, ft *fault.Fault) {
	if f != nil {
		f.LocateFault(ft)
	}
	if ft.Place.Line == 0 {
		p := x.in.Place()
		p.Path = x.in.Path()
		ft.At(p)
	}
	x.faults.Add(ft)
}

// unknown notes an element or an attribute that a record does not have: it is a fault, or counted.
func (x *reader) unknown(f *schema.Field, expected, found string) {
	if !f.Strict() {
		x.ignored.Add(x.in.Path() + "/" + found)
		return
	}
	if x.faults.Full() {
		x.faults.Add(&fault.Fault{})
		return
	}
	x.fault(nil, f.Asking(fault.Expect(fault.Unknown, expected, found)))
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

// free reads an element that no schema describes, whose start is at hand: text alone is a text, else
// a record.
func (x *reader) free() (value.Value, error) {
	var b builder
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		b.add("@"+x.names.of(a.Name, a.Raw), value.NewText(a.Value))
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
			name := x.name()
			v, err := x.free()
			if err != nil {
				return value.Value{}, err
			}
			b.add(name, v)
		case xmltext.End:
			return b.value(text.String()), nil
		}
	}
}

func (b *builder) value(text string) value.Value {
	if len(b.names) == 0 {
		return value.NewText(text)
	}
	if strings.TrimSpace(text) != "" {
		b.add("#text", value.NewText(text))
	}
	return value.NewRecord(value.NewLayout(b.names...), b.fields)
}

// typed reads an element that the schema describes as the record f, whose start is at hand.
func (x *reader) typed(f *schema.Field) (value.Value, error) {
	fields := make([]value.Value, len(f.Fields))
	begin := x.in.Place()
	others := schema.OthersBuilder{Field: f.HeldOthers()}
	x.attributes(f, fields, &others)
	content := x.in.PlaceOf(x.in.End)
	own := slices.ContainsFunc(f.Fields, func(c *schema.Field) bool { return c.WireFormat.Content })
	var text xmltext.Pieces
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.Text:
			if own || !xmltext.Blank(x.in.Text) {
				text.Add(x.in.Text)
			}
		case xmltext.Start:
			if err := x.child(f, fields, &others); err != nil {
				return value.Value{}, err
			}
		case xmltext.End:
			x.content(f, text.String(), fields, content)
			others.Put(fields)
			if x.check {
				x.occurrences(f, fields, begin)
			}
			return value.NewRecord(f.Layout(), fields), nil
		}
	}
}

// occurrences checks how often each field stands in an element; the element's beginning is the place.
func (x *reader) occurrences(f *schema.Field, fields []value.Value, begin fault.Place) {
	for i, c := range f.Fields {
		if ft := c.CheckOccurs(fields[i]); ft != nil {
			x.fault(c, ft)
			ft.Place = begin
			ft.Place.Path = x.in.Path()
		}
	}
}

func (x *reader) attributes(f *schema.Field, fields []value.Value, others *schema.OthersBuilder) {
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		if declares(a) {
			continue
		}
		n := x.names.of(a.Name, a.Raw)
		c := f.Named(n)
		if c == nil || !c.WireFormat.Attribute {
			if others.Field != nil {
				others.Add("@"+n, value.NewText(a.Value))
			} else {
				x.unknown(f, "an attribute of the schema", n)
			}
			continue
		}
		fields[c.Slot()] = x.scalar(c, a.Value, func() fault.Place {
			p := x.in.PlaceOf(a.At)
			p.Path = x.in.Path() + "/@" + n
			return p
		})
	}
}

// declares says whether an attribute is no data: it declares a prefix, or is an instruction to a
// reader (XML Schema 1.0, part 1, section 2.6).
func declares(a *xmltext.Attr) bool {
	return a.Raw == "xmlns" || strings.HasPrefix(a.Raw, "xmlns:") || strings.HasPrefix(a.Raw, "xsi:") || a.Name.Space == instance
}

func (x *reader) content(f *schema.Field, text string, fields []value.Value, at fault.Place) {
	for _, c := range f.Fields {
		if c.WireFormat.Content {
			fields[c.Slot()] = x.scalar(c, text, func() fault.Place { at.Path = x.in.Path(); return at })
			return
		}
	}
	if strings.TrimSpace(text) != "" {
		at.Path = x.in.Path()
		x.fault(f, fault.Expect(fault.Unknown, "elements only", fault.Quote(strings.TrimSpace(text))).At(at))
	}
}

// child reads the element at hand as a field of the record f.
func (x *reader) child(f *schema.Field, fields []value.Value, others *schema.OthersBuilder) error {
	n := x.name()
	c := f.Named(n)
	switch {
	case c != nil && !c.WireFormat.Attribute:
	case others.Field != nil:
		return x.other(n, others)
	default:
		if f.Strict() {
			n = fault.Quote(n)
		}
		x.unknown(f, "one of "+strings.Join(f.Layout().Names, ", "), n)
		_, err := x.free()
		return err
	}
	begin := x.in.Place()
	v, err := x.one(c)
	if err != nil {
		return err
	}
	old := fields[c.Slot()]
	switch {
	case c.List():
		fields[c.Slot()] = value.ListOf(append(old.Items(), v)...)
	case old.Kind() != value.Absent:
		begin.Path = x.in.Path()
		x.fault(c, fault.Expect(fault.Length, "the element once", "it again").At(begin))
	default:
		fields[c.Slot()] = v
	}
	return nil
}

// other keeps an element that the record has no name for.
func (x *reader) other(name string, others *schema.OthersBuilder) error {
	var v value.Value
	var err error
	if each := others.Field.Each(); each.Kind == value.AnyKind {
		v, err = x.free()
	} else {
		v, err = x.one(each)
	}
	others.Append(name, v)
	return err
}

func (x *reader) one(c *schema.Field) (value.Value, error) {
	null := x.isNull()
	if c.Kind == value.RecordKind && !null {
		return x.typed(c)
	}
	at := x.in.PlaceOf(x.in.End)
	var text xmltext.Pieces
	simple := true
	for i := range x.in.Attrs {
		simple = simple && declares(&x.in.Attrs[i])
	}
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch {
		case k == xmltext.Text:
			text.Add(x.in.Text)
			continue
		case k == xmltext.Start:
			simple = false
			if _, err := x.free(); err != nil {
				return value.Value{}, err
			}
			continue
		case null:
			return value.NullValue, nil
		case !simple:
			at.Path = x.in.Path()
			x.fault(c, fault.Expect(fault.Type, c.DescribeWireFormat(), "an element with content of its own").At(at))
			return value.Value{}, nil
		}
		return x.scalar(c, text.String(), func() fault.Place { at.Path = x.in.Path(); return at }), nil
	}
}

// isNull says whether the element at hand says of itself that it is null.
func (x *reader) isNull() bool {
	for i := range x.in.Attrs {
		if a := &x.in.Attrs[i]; a.Raw == "xsi:nil" || a.Name.Space == instance && a.Name.Local == "nil" {
			return a.Value == "true" || a.Value == "1"
		}
	}
	return false
}

// scalar reads the text of a field that stands at a place. A text that cannot be read is a fault,
// and kept as it is, so that it is not taken for missing.
func (x *reader) scalar(c *schema.Field, text string, at func() fault.Place) value.Value {
	s := text
	if c.Kind != value.Text {
		s = strings.TrimSpace(text)
	}
	v, ok := c.Read(s)
	if !ok {
		x.fault(c, fault.Expect(fault.Type, c.DescribeWireFormat(), fault.Quote(s)).At(at()))
		return value.NewText(s)
	}
	if x.check {
		if ft := c.CheckOne(v); ft != nil {
			x.fault(c, ft.At(at()))
		}
	}
	return v
}
