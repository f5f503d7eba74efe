package xml

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

// frame is a record that is being read, or one of a group inside of it, which has no element of its own.
type frame struct {
	record *schema.Field
	made   *value.Record
	fields []value.Value // of what is made
	others schema.OthersBuilder
	left   *schema.Model // what is left of the content model
	open   bool          // the model is followed: it has one, and nothing was out of order so far
}

// frame begins a record of a field, with the memory of a frame that has ended.
func (x *reader) frame(f *schema.Field) (fr *frame) {
	if n := len(x.spare); n > 0 {
		fr, x.spare = x.spare[n-1], x.spare[:n-1]
	} else {
		fr = &frame{}
	}
	made := (*value.Record)(nil)
	if x.memory != nil {
		made = x.memory.Record(f.Layout())
	} else {
		made = &value.Record{Layout: f.Layout(), Fields: make([]value.Value, len(f.Fields))}
	}
	*fr = frame{record: f, made: made, fields: made.Fields, others: schema.OthersBuilder{Field: f.HeldOthers()}, left: f.Model(), open: f.Model() != nil}
	return fr
}

// value ends a record.
func (x *reader) value(fr *frame) value.Value {
	fr.others.Put(fr.fields)
	x.spare = append(x.spare, fr)
	return value.RecordOf(fr.made)
}

// put adds a value of a field.
func (fr *frame) put(c *schema.Field, v value.Value) {
	fr.fields[c.Slot()] = value.ListOf(append(fr.fields[c.Slot()].Items(), v)...)
}

// typed reads an element that the schema describes as the record f, whose start is at hand.
func (x *reader) typed(f *schema.Field) (value.Value, error) {
	var room [2]*frame
	frames := append(room[:0], x.frame(f))
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
			fields := frames[0].fields
			v := x.value(frames[0])
			if x.check && (f.Model() == nil || faults == len(x.faults)) {
				x.occurrences(f, fields, begin)
			}
			x.keys(f, v, begin)
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
		inner := x.frame(c)
		for _, t := range c.Fields {
			if t.WireFormat.Content {
				inner.fields[t.Slot()] = x.scalar(t, x.in.Text, x.in.Place)
			}
		}
		if items := frames[0].fields[c.Slot()].Items(); len(items) > 0 && x.joins(c, items[len(items)-1], inner) {
			return frames
		}
		frames[0].put(c, x.value(inner))
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
	switch v := x.value(last); {
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

// keys checks the keys of a record that is complete.
func (x *reader) keys(f *schema.Field, v value.Value, begin fault.Place) {
	if x.begins == nil {
		return
	}
	begin.Path = x.in.Path()
	x.begins[v.Record()] = begin
	f.CheckKeys(v, func(ft *fault.Fault, in *value.Record) {
		if ft.Place = begin; in != nil && x.begins[in].Line > 0 {
			ft.Place = x.begins[in]
		}
		x.faults.Add(ft)
	})
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
			} else if f.Strict() || at.others.Field != nil {
				x.unknown(f, "an attribute of the schema", n)
			} else if x.ignored != nil {
				x.ignored.Add(x.in.Path() + "/" + n)
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
			if text == "" {
				text = c.WireFormat.WhenEmpty
			}
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
	if at.record.Strict() || at.others.Field != nil {
		x.unknown(at.record, "one of "+strings.Join(at.record.Layout().Names, ", "), fault.Quote(n))
	} else if x.ignored != nil {
		x.ignored.Add(x.in.Path())
	}
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
			return x.locate(append(frames, x.frame(c)), name)
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
	return x.locate(append(frames, x.frame(list[0])), name)
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
