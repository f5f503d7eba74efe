package xml

import (
	"encoding/xml"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

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
			if !c.WireFormat.InText {
				return x.inner(c.Each())
			}
		case value.VariantKind:
			b, err := x.branch(c)
			switch {
			case err != nil:
				return value.Value{}, err
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
		s := text.String()
		if s == "" {
			s = c.WireFormat.WhenEmpty
		}
		return x.scalar(c, s, func() fault.Place { at.Path = x.in.Path(); return at }), nil
	}
}

// entries reads an element whose children are the entries of a map, each called as its name.
func (x *reader) entries(c *schema.Field) (value.Value, error) {
	var b builder
	begin := x.in.Place()
	begin.Path = x.in.Path()
	x.noAttributes(c, false)
	err := x.children(func() { x.noText(c) }, func(name string) error {
		if ft := c.CheckName(name); x.check && ft != nil {
			x.fault(c, ft)
		}
		v, err := x.one(c.Each())
		if c.Each().List() {
			v = value.ListOf(v)
		}
		b.addEntry(name, v)
		return err
	})
	if err != nil {
		return value.Value{}, err
	}
	if ft := c.CheckEntries(len(b.names)); x.check && ft != nil {
		x.fault(c, ft.At(begin))
	}
	return value.NewRecord(value.NewLayout(b.names...), b.fields), nil
}

// noText notes a text beside elements, where a field has no place for it.
func (x *reader) noText(c *schema.Field) {
	if xmltext.Blank(x.in.Text) {
		return
	}
	place := x.in.Place()
	place.Path = x.in.Path()
	x.fault(c, fault.Expect(fault.Unknown, "elements only", fault.Quote(strings.TrimSpace(x.in.Text))).At(place))
}

// noAttributes notes the attributes of an element that has no place for them: they are counted, or faults where the schema is strict.
func (x *reader) noAttributes(c *schema.Field, strict bool) {
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		switch name := x.known(a.Name, a.Raw); {
		case declares(a):
		case strict:
			place := x.in.PlaceOf(a.At)
			place.Path = x.in.Path() + "/@" + name
			x.fault(c, fault.Expect(fault.Unknown, "no attribute", name).At(place))
		default:
			x.ignored.Add(x.in.Path() + "/" + name)
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
	x.noAttributes(item, x.schema.Settings.Others == schema.FaultOthers)
	err := x.children(func() { x.noText(item) }, func(name string) error {
		if name != item.WireName() {
			x.fault(item, fault.Expect(fault.Unknown, "the element "+item.WireName(), fault.Quote(name)))
		}
		v, err := x.one(item)
		items = append(items, v)
		return err
	})
	if err != nil {
		return value.Value{}, err
	}
	list := value.ListOf(items...)
	if ft := item.CheckOccurs(list); x.check && ft != nil {
		x.fault(item, ft.At(begin))
	}
	return list, nil
}

// branch is the branch of a variant that the element at hand is: the one that it says by xsi:type, or the one that the value of a
// field tells. Of any other it is the first that is no single value, and nil where all are.
func (x *reader) branch(c *schema.Field) (*schema.Field, error) {
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		if a.Raw != "xsi:type" && (a.Name.Space != instance || a.Name.Local != "type") {
			continue
		}
		named := x.qualified(strings.TrimSpace(a.Value))
		for _, b := range c.Fields {
			if b.WireName() == named {
				return b, nil
			}
		}
		place := x.in.PlaceOf(a.At)
		place.Path = x.in.Path() + "/@" + a.Raw
		x.fault(c, fault.Expect(fault.Unknown, "one of "+branchNames(c), fault.Quote(a.Value)).At(place))
		return firstBranch(c), nil
	}
	switch {
	case c.ToldBy == schema.TypeAttribute:
		place := x.in.Place()
		place.Path = x.in.Path() + "/@xsi:type"
		x.fault(c, fault.Expect(fault.Required, "xsi:type as one of "+branchNames(c), "none").At(place))
	case c.TellingField() != "" && !x.ahead:
		return x.told(c)
	}
	return firstBranch(c), nil
}

// told reads the element at hand ahead, as each branch until one has the field that tells them apart.
func (x *reader) told(c *schema.Field) (*schema.Field, error) {
	x.ahead = true
	check, begins, ignored, faults := x.check, x.begins, x.ignored, x.faults
	x.check, x.begins, x.ignored = false, nil, nil
	mark := x.in.Mark()
	v, err := value.Value{}, error(nil)
	for _, b := range c.Fields {
		if v, err = x.one(b); err != nil || !v.Field(c.ToldBy).IsMissing() {
			break
		}
		x.in.Back(mark)
		x.in.Mark()
	}
	x.ahead, x.check, x.begins, x.ignored, x.faults = false, check, begins, ignored, faults
	if err != nil {
		return nil, err
	}
	x.in.Back(mark)
	b, ft := c.Told(v)
	if ft != nil {
		place := x.in.Place()
		place.Path = x.in.Path()
		x.fault(c, ft.At(place))
		return firstBranch(c), nil
	}
	return b, nil
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
	switch c.Kind {
	case value.VariantKind:
		return x.union(c, text, at)
	case value.ListKind:
		return x.values(c.Each(), text, at)
	}
	s := text
	if c.Kind != value.Text {
		s = xmltext.Trim(text)
	} else if c.WireFormat.WhiteSpace != "" {
		s = c.Spaced(text)
	}
	v, ok := c.Read(s)
	if ok && c.Kind.Numeric() && !c.WireFormat.Exponent && strings.ContainsAny(s, "eE") {
		x.fault(c, fault.Expect(fault.Type, c.DescribeWireFormat()+" without an exponent", fault.Quote(s)).WithFix("Let the field have an exponent, if it may").At(at()))
		return v
	}
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

// values reads a text that is a list.
func (x *reader) values(item *schema.Field, text string, at func() fault.Place) value.Value {
	texts := strings.FieldsFunc(text, xmltext.IsBlank)
	items := make([]value.Value, len(texts))
	for i, t := range texts {
		items[i] = x.scalar(item, t, at)
	}
	list := value.ListOf(items...)
	if ft := item.CheckOccurs(list); x.check && ft != nil {
		x.fault(item, ft.At(at()))
	}
	return list
}

// union reads the text of a variant of single values: as the first branch that it can be.
func (x *reader) union(c *schema.Field, text string, at func() fault.Place) value.Value {
	for _, b := range c.Fields {
		s := text
		if b.Kind != value.Text {
			s = xmltext.Trim(text)
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
