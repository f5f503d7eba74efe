// Package xml reads and writes XML 1.0 documents. Of a document type declaration the internal subset is read, unless a schema
// refuses it, and nothing is ever fetched. Without a schema attributes become fields named @name, text beside
// children becomes #text, repeated elements become lists and prefixes stay as they are written.
package xml

import (
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
	exact   bool   // values of JSON are read as they were written
	listed  bool   // the root element says that it is a list of records
	escapes bool   // names are escaped where XML does not allow them
	own     string // the namespace of the outermost element, where wildcards ask for it
}

// NewReader reads a document. With a schema that names a record element, each such element below
// the root is a record; else the whole document is one.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	x := newReader(r, o)
	return &x, nil
}

func newReader(r io.Reader, o notation.Options) reader {
	x := reader{schema: o.Schema, limit: int64(o.Limit()), check: o.Check && o.Schema != nil, names: newNames(o.Schema), ignored: o.Ignored, escapes: escapes(o.Schema), exact: o.Exact && o.Schema == nil}
	if o.Schema != nil && o.Schema.Wildcards() {
		x.own = o.Schema.OwnNamespace()
	}
	x.in = xmltext.New(r, xmltext.Options{Source: o.Source, Namespaces: true, NoDoctype: o.Schema != nil && o.Schema.Settings.NoDoctype, MaxDepth: notation.MaxDepth, MaxToken: o.Limit()})
	return x
}

func (x *reader) records() bool      { return x.listed || x.schema != nil && x.schema.RecordElement() != "" }
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
	x.listed = x.exact && x.hint(messageAttr) == "list"
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
		v, err := x.rooted()
		return x.ended(v, err)
	}
	if x.exact {
		return x.exactDocument()
	}
	name := x.name()
	v, err := x.free()
	if err != nil {
		return value.Value{}, err
	}
	return x.ended(value.NewRecord(value.NewLayout(name), []value.Value{v}), nil)
}

// rooted reads the element that is the message.
func (x *reader) rooted() (value.Value, error) {
	if x.schema.Root.Kind == value.RecordKind {
		return x.typed(x.schema.Root)
	}
	return x.one(x.schema.Root)
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
			if x.listed {
				return x.exactly()
			}
			if n := x.name(); n != x.schema.RecordElement() {
				x.fault(nil, x.schema.Root.Asking(fault.Expect(fault.Unknown, "the element "+x.schema.RecordElement(), n)))
			}
			v, err := x.rooted()
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
	if !f.Strict() && f.HeldOthers() == nil {
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
		b.add("@"+x.known(a.Name, a.Raw), value.NewText(a.Value))
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

// frame is a record that is being read, or one of a group inside of it, which has no element of its own.
type frame struct {
	record *schema.Field
	fields []value.Value
	others schema.OthersBuilder
	left   *schema.Model // what is left of the content model
	open   bool          // the model is followed: it has one, and nothing was out of order so far
}

func newFrame(f *schema.Field) *frame {
	return &frame{record: f, fields: make([]value.Value, len(f.Fields)), others: schema.OthersBuilder{Field: f.HeldOthers()}, left: f.Model(), open: f.Model() != nil}
}

func (fr *frame) value() value.Value {
	fr.others.Put(fr.fields)
	return value.NewRecord(fr.record.Layout(), fr.fields)
}

// put adds a value of a field.
func (fr *frame) put(c *schema.Field, v value.Value) {
	fr.fields[c.Slot()] = value.ListOf(append(fr.fields[c.Slot()].Items(), v)...)
}

// typed reads an element that the schema describes as the record f, whose start is at hand.
func (x *reader) typed(f *schema.Field) (value.Value, error) {
	frames := []*frame{newFrame(f)}
	begin := x.in.Place()
	x.attributes(frames[0])
	content := x.in.PlaceOf(x.in.End)
	own, mixed := hasText(f), takesText(f)
	var text xmltext.Pieces
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.Text:
			if mixed {
				frames = x.mixed(frames)
			} else if own || !xmltext.Blank(x.in.Text) {
				text.Add(x.in.Text)
			}
		case xmltext.Start:
			if frames, err = x.child(frames); err != nil {
				return value.Value{}, err
			}
		case xmltext.End:
			faults := len(x.faults)
			for len(frames) > 1 {
				frames = x.closed(frames)
			}
			x.ends(frames[0])
			x.content(f, text.String(), frames[0].fields, content)
			v := frames[0].value()
			if x.check && (f.Model() == nil || faults == len(x.faults)) {
				x.occurrences(f, frames[0].fields, begin)
			}
			return v, nil
		}
	}
}

// hasText says whether a record has a field for its element's own text.
func hasText(f *schema.Field) bool {
	return slices.ContainsFunc(f.Fields, func(c *schema.Field) bool { return c.WireFormat.Content })
}

// takesText says whether text between the elements of a record is kept in its place: in a group.
func takesText(f *schema.Field) bool {
	return slices.ContainsFunc(f.Fields, func(c *schema.Field) bool { return c.WireFormat.Group && (hasText(c) || takesText(c)) })
}

// mixed keeps a text between elements as one occurrence of the group that has a field for it.
func (x *reader) mixed(frames []*frame) []*frame {
	if x.in.Text == "" {
		return frames
	}
	for len(frames) > 1 {
		frames = x.closed(frames)
	}
	for _, c := range frames[0].record.Fields {
		if !c.WireFormat.Group || !hasText(c) {
			continue
		}
		if at := frames[0]; at.open && x.check {
			at.left, at.open = x.taken(at, c)
		}
		inner := newFrame(c)
		for _, t := range c.Fields {
			if t.WireFormat.Content {
				inner.fields[t.Slot()] = x.scalar(t, x.in.Text, x.in.Place)
			}
		}
		if items := frames[0].fields[c.Slot()].Items(); len(items) > 0 && x.joins(c, items[len(items)-1], inner) {
			return frames
		}
		frames[0].put(c, inner.value())
		return frames
	}
	return frames
}

// joins adds a text to the one before it: an entity or a comment stood between them.
func (x *reader) joins(c *schema.Field, last value.Value, inner *frame) bool {
	for _, t := range c.Fields {
		before := last.Slot(t.Slot())
		if t.WireFormat.Content && before.Kind() == value.Text {
			last.Record().Fields[t.Slot()] = value.NewText(before.Text() + inner.fields[t.Slot()].Text())
			return true
		}
	}
	return false
}

// taken is what is left of a model behind one occurrence of a field; open is false from the first that cannot stand there on.
func (x *reader) taken(at *frame, c *schema.Field) (*schema.Model, bool) {
	rest, ok := at.left.Take(c.Slot())
	return rest, ok
}

// closed ends the innermost group.
func (x *reader) closed(frames []*frame) []*frame {
	last := frames[len(frames)-1]
	x.ends(last)
	outer := frames[len(frames)-2]
	switch v := last.value(); {
	case last.record.List():
		outer.put(last.record, v)
	case outer.fields[last.record.Slot()].Kind() != value.Absent:
		place := x.in.Place()
		place.Path = x.in.Path()
		x.fault(last.record, fault.Expect(fault.Length, "these elements once", "them again").At(place))
	default:
		outer.fields[last.record.Slot()] = v
	}
	return frames[:len(frames)-1]
}

// ends notes what is missing at the end of a record.
func (x *reader) ends(fr *frame) {
	if !x.check || !fr.open || fr.left.Nullable() {
		return
	}
	place := x.in.Place()
	place.Path = x.in.Path()
	x.fault(nil, fr.record.Asking(fault.Expect(fault.Required, fr.record.NextText(fr.left), "the end of the element").At(place)))
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

func (x *reader) attributes(at *frame) {
	f := at.record
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		if declares(a) {
			continue
		}
		n := x.known(a.Name, a.Raw)
		c := f.Attribute(n)
		if c == nil {
			if at.others.Field != nil && at.others.Field.TakesAttribute(a.Name.Space, x.own) {
				at.others.Add("@"+n, value.NewText(a.Value))
			} else {
				x.unknown(f, "an attribute of the schema", n)
			}
			continue
		}
		at.fields[c.Slot()] = x.scalar(c, a.Value, func() fault.Place {
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
			if c.Min == 0 && c.Kind != value.Text && strings.TrimSpace(text) == "" {
				return // there is none
			}
			fields[c.Slot()] = x.scalar(c, text, func() fault.Place { at.Path = x.in.Path(); return at })
			return
		}
	}
	if strings.TrimSpace(text) != "" {
		at.Path = x.in.Path()
		x.fault(f, fault.Expect(fault.Unknown, "elements only", fault.Quote(strings.TrimSpace(text))).At(at))
	}
}

// child reads the element at hand as a field of the record that is being read, or of a group inside of it: of the innermost in
// which it may stand there.
func (x *reader) child(frames []*frame) ([]*frame, error) {
	n := x.name()
	frames, c := x.locate(frames, n)
	at := frames[len(frames)-1]
	switch {
	case c != nil:
		return frames, x.element(at, c)
	case at.others.Field != nil && !at.open && at.others.Field.TakesElement(x.in.Name.Space, x.own):
		return frames, x.other(n, &at.others)
	}
	found := n
	if at.record.Strict() || at.others.Field != nil {
		found = fault.Quote(n)
	}
	x.unknown(at.record, "one of "+strings.Join(at.record.Layout().Names, ", "), found)
	_, err := x.free()
	return frames, err
}

// locate finds the field that an element of a name is, opens and closes groups on the way, and follows the content model.
func (x *reader) locate(frames []*frame, name string) ([]*frame, *schema.Field) {
	for depth := len(frames) - 1; depth >= 0; depth-- {
		at := frames[depth]
		for _, c := range x.candidates(at, name) {
			rest, ok := at.left, !at.open
			if at.open {
				rest, ok = at.left.Take(c.Slot())
			}
			if !ok {
				continue
			}
			for len(frames)-1 > depth {
				frames = x.closed(frames)
			}
			at.left = rest
			if !c.WireFormat.Group {
				return frames, c
			}
			return x.locate(append(frames, newFrame(c)), name)
		}
		if depth > 0 && at.open && !at.left.Nullable() {
			break
		}
	}
	return x.misplaced(frames, name)
}

// candidates are the fields that an element of a name may be; the map of other fields, where the record has none of that name.
func (x *reader) candidates(at *frame, name string) []*schema.Field {
	list := at.record.Elements(name)
	if list == nil && at.others.Field != nil && at.others.Field.TakesElement(x.in.Name.Space, x.own) {
		return []*schema.Field{at.others.Field}
	}
	return list
}

// misplaced notes an element that cannot stand where it does, and gives the field that it is all the same; nil where the record has
// none of its name.
func (x *reader) misplaced(frames []*frame, name string) ([]*frame, *schema.Field) {
	depth := len(frames) - 1
	for depth > 0 && frames[depth].record.Elements(name) == nil {
		depth--
	}
	at := frames[depth]
	list := at.record.Elements(name)
	if list == nil {
		return frames, nil
	}
	if innermost := frames[len(frames)-1]; innermost.open && x.check {
		place := x.in.Place()
		place.Path = x.in.Path()
		x.fault(nil, innermost.record.Asking(fault.Expect(fault.Unknown, innermost.record.NextText(innermost.left), "the element "+fault.Quote(name)).At(place)))
	}
	for _, fr := range frames[depth:] {
		fr.open = false
	}
	for len(frames)-1 > depth {
		frames = x.closed(frames)
	}
	for _, c := range list {
		if !c.WireFormat.Group {
			return frames, c
		}
	}
	return x.locate(append(frames, newFrame(list[0])), name)
}

// element reads the element at hand as a field.
func (x *reader) element(at *frame, c *schema.Field) error {
	if c.HoldsOthers {
		return x.other(x.name(), &at.others)
	}
	begin := x.in.Place()
	v, err := x.one(c)
	if err != nil {
		return err
	}
	switch {
	case c.List():
		at.put(c, v)
	case at.fields[c.Slot()].Kind() != value.Absent:
		begin.Path = x.in.Path()
		x.fault(c, fault.Expect(fault.Length, "the element once", "it again").At(begin))
	default:
		at.fields[c.Slot()] = v
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
	if !null {
		switch c.Kind {
		case value.RecordKind:
			return x.typed(c)
		case value.AnyKind:
			return x.free()
		case value.MapKind:
			return x.entries(c)
		case value.ListKind:
			return x.inner(c.Each())
		case value.VariantKind:
			switch b := x.branch(c); {
			case b == nil:
			case b.List():
				return x.inner(b)
			default:
				return x.one(b)
			}
		}
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

// entries reads an element whose children are the entries of a map, each called as its name.
func (x *reader) entries(c *schema.Field) (value.Value, error) {
	var b builder
	begin := x.in.Place()
	begin.Path = x.in.Path()
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.Text:
			if !xmltext.Blank(x.in.Text) {
				place := x.in.Place()
				place.Path = x.in.Path()
				x.fault(c, fault.Expect(fault.Unknown, "elements only", fault.Quote(strings.TrimSpace(x.in.Text))).At(place))
			}
		case xmltext.Start:
			name := x.name()
			if ft := c.CheckName(name); x.check && ft != nil {
				x.fault(c, ft)
			}
			v, err := x.one(c.Each())
			if err != nil {
				return value.Value{}, err
			}
			if c.Each().List() {
				v = value.ListOf(v)
			}
			b.addEntry(name, v)
		case xmltext.End:
			if ft := c.CheckEntries(len(b.names)); x.check && ft != nil {
				x.fault(c, ft.At(begin))
			}
			return value.NewRecord(value.NewLayout(b.names...), b.fields), nil
		}
	}
}

// addEntry adds an entry of a map; one that is a list goes on with the items of the next of its name.
func (b *builder) addEntry(name string, v value.Value) {
	if i, ok := b.at[name]; ok && v.Kind() == value.ListKind {
		b.fields[i] = value.ListOf(append(b.fields[i].Items(), v.Items()...)...)
		return
	}
	b.add(name, v)
}

// inner reads an element whose children are the items of a list inside of a list.
func (x *reader) inner(item *schema.Field) (value.Value, error) {
	items := []value.Value{}
	begin := x.in.Place()
	begin.Path = x.in.Path()
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.Start:
			if n := x.name(); n != item.WireName() {
				x.fault(item, fault.Expect(fault.Unknown, "the element "+item.WireName(), fault.Quote(n)))
			}
			v, err := x.one(item)
			if err != nil {
				return value.Value{}, err
			}
			items = append(items, v)
		case xmltext.End:
			list := value.ListOf(items...)
			if ft := item.CheckOccurs(list); x.check && ft != nil {
				x.fault(item, ft.At(begin))
			}
			return list, nil
		}
	}
}

// branch is the branch of a variant that the element at hand says that it is, by xsi:type; of one without it is the first that is
// no single value, and nil where all are.
func (x *reader) branch(c *schema.Field) *schema.Field {
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		if a.Raw != "xsi:type" && (a.Name.Space != instance || a.Name.Local != "type") {
			continue
		}
		named := x.qualified(strings.TrimSpace(a.Value))
		for _, b := range c.Fields {
			if b.WireName() == named {
				return b
			}
		}
		place := x.in.PlaceOf(a.At)
		place.Path = x.in.Path() + "/@" + a.Raw
		x.fault(c, fault.Expect(fault.Unknown, "one of "+branchNames(c), fault.Quote(a.Value)).At(place))
		return firstBranch(c)
	}
	if c.ToldBy == schema.TypeAttribute {
		place := x.in.Place()
		place.Path = x.in.Path() + "/@xsi:type"
		x.fault(c, fault.Expect(fault.Required, "xsi:type as one of "+branchNames(c), "none").At(place))
	}
	return firstBranch(c)
}

// qualified is a qualified name in a value, as the schema has it (XML Schema 1.0, part 2, section 3.2.18).
func (x *reader) qualified(text string) string {
	prefix, local, ok := strings.Cut(text, ":")
	if !ok {
		prefix, local = "", text
	}
	space, _ := x.in.Space(prefix)
	return x.names.of(xml.Name{Space: space, Local: local}, text)
}

func branchNames(c *schema.Field) string {
	names := make([]string, len(c.Fields))
	for i, b := range c.Fields {
		names[i] = b.WireName()
	}
	return strings.Join(names, ", ")
}

// firstBranch is the branch of an element that names none: the first that is no single value; nil where all are.
func firstBranch(c *schema.Field) *schema.Field {
	for _, b := range c.Fields {
		if !b.Scalar() {
			return b
		}
	}
	return nil
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
	if c.Kind == value.VariantKind {
		return x.union(c, text, at)
	}
	s := text
	if c.Kind != value.Text {
		s = strings.TrimSpace(text)
	} else if c.WireFormat.WhiteSpace != "" {
		s = c.Spaced(text)
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

// union reads the text of a variant of single values: as the first branch that it can be.
func (x *reader) union(c *schema.Field, text string, at func() fault.Place) value.Value {
	for _, b := range c.Fields {
		s := text
		if b.Kind != value.Text {
			s = strings.TrimSpace(text)
		}
		if !b.Scalar() {
			continue
		}
		if v, ok := b.Read(s); ok && b.CheckOne(v) == nil {
			return v
		}
	}
	_, ft := c.Branch(value.NewText(text))
	if ft == nil {
		ft = c.LocateFault(fault.Expect(fault.Type, "one of "+strings.Join(c.Layout().Names, ", "), fault.Quote(text)))
	}
	x.fault(c, ft.At(at()))
	return value.NewText(text)
}
