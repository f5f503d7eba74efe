package flow

import (
	"context"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var parseKind = &Kind{
	Name: "parse", Title: "Parse", Group: Shape, About: "Reads a text in its notation: a field that holds JSON, XML, lines.",
	Begin: func(Offering) doc.Out { return yields("parsed") },
	Settings: setting.List{
		{Name: "text", Label: "Text", Type: setting.Formula, Required: true},
		{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Required: true},
		{Name: "gives", Label: "It holds", Type: setting.Choice, Default: "one record", Choices: []string{"one record", "a list of records"}},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "parsed"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("gives") + " of " + s.Setting("schema") },
	compile: compileParse,
}

func compileParse(c *compiler, s *Step) runner {
	prog, sch := c.formula(s.place("text")), c.schema(s, "schema")
	c.written(s, sch)
	many := s.Setting("gives") == "a list of records"
	t := formula.Type{Kind: value.RecordKind, Fields: sch.Root}
	if many {
		item := t
		t = formula.Type{Kind: value.ListKind, Item: &item}
	}
	slot := c.yield(s, "as", Named{Schema: sch, List: many}, t)
	if prog == nil {
		return pass
	}
	return func(_ context.Context, _ *Batch, items []*Item) error {
		for _, it := range items {
			it.Frame.Reset()
			v, f := prog.Eval(&it.Frame)
			if f == nil && v.Kind() != value.Text && v.Kind() != value.Binary {
				f = fault.Expect(fault.Type, "a text", v.Kind().String())
			}
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			list, faults := readAll(sch, v, maxFaults)
			switch {
			case len(faults) > 0:
				it.aside(s.ID, faults...)
			case many:
				it.Frame.Slots[slot] = value.ListOf(list...)
			case len(list) != 1:
				it.aside(s.ID, fault.Expect(fault.Length, "one record", plural(len(list), "record")).In(s.Name).Mended("Let the step hold a list of records"))
			default:
				it.Frame.Slots[slot] = list[0]
			}
		}
		return nil
	}
}

// written checks that a schema has a notation of bytes.
func (c *compiler) written(s *Step, sch *schema.Schema) {
	if !sch.Notation.Bytes {
		c.fault(s.place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be read and written", "rows"))
	}
}

// Written is the shape of what a format step yields.
var writtenRecord = schema.Record("written", schema.Scalar("text", value.Text), schema.Scalar("type", value.Text))

// ContentType is the media type of a message in a schema's notation.
func ContentType(s *schema.Schema) string { return all.Of(s).ContentType() }

var formatKind = &Kind{
	Name: "format", Title: "Serialize", Group: Shape, About: "Writes a record or a list of records as a text in a schema's notation, with its content type.",
	Begin: func(o Offering) doc.Out { return yields("written", o.Record("value", "schema")...) },
	Settings: setting.List{
		{Name: "value", Label: "Write", Type: setting.Formula, Required: true, Help: "A record, or a list of records"},
		{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Required: true},
		{Name: "type", Label: "Content type", Type: setting.Formula, Rare: true, Help: "That of the notation otherwise"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "written", Help: "A record with text and type"},
		onFault,
	},
	Detail:  func(s *Step) string { return "as " + s.Setting("schema") },
	compile: compileFormat,
}

func compileFormat(c *compiler, s *Step) runner {
	prog, sch := c.formula(s.place("value")), c.schema(s, "schema")
	c.written(s, sch)
	var typ *formula.Program
	if s.Setting("type") != "" {
		typ = c.want(s.place("type"), value.Text, "a text")
	}
	if prog != nil && !prog.Type.Fits(value.RecordKind) && !prog.Type.Fits(value.ListKind) {
		c.fault(s.place("value"), fault.Expect(fault.Type, "a record or a list of records", prog.Type.String()))
	}
	slot := c.define(s, "as", described(s.Setting("as"), writtenRecord))
	if prog == nil {
		return pass
	}
	return func(_ context.Context, _ *Batch, items []*Item) error {
		for _, it := range items {
			text, media, faults := formatted(prog, typ, sch, it)
			if len(faults) > 0 {
				it.aside(s.ID, faults...)
				continue
			}
			it.Frame.Slots[slot] = value.Rec(writtenRecord.Shape(), []value.Value{value.Str(text), value.Str(media)})
		}
		return nil
	}
}

func formatted(prog, typ *formula.Program, sch *schema.Schema, it *Item) (text, media string, faults fault.List) {
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	if f != nil {
		return "", "", fault.List{f}
	}
	media = ContentType(sch)
	if typ != nil {
		t, f := typ.Eval(&it.Frame)
		if f != nil {
			return "", "", fault.List{f}
		}
		media = t.String()
	}
	list := []value.Value{v}
	if v.Kind() == value.ListKind {
		list = v.Items()
	}
	var out strings.Builder
	w, err := all.Of(sch).NewWriter(&out, notation.Options{Schema: sch.InText(), Many: v.Kind() == value.ListKind})
	if err != nil {
		return "", "", fault.List{fault.From(err, fault.Setting)}
	}
	for _, row := range list {
		row = Conform(sch, row, func(f *fault.Fault) { faults = append(faults, f) })
		if len(faults) > 0 {
			return "", "", faults
		}
		if err := w.Write(row); err != nil {
			return "", "", fault.List{fault.From(err, fault.Setting)}
		}
	}
	if err := w.Close(); err != nil {
		return "", "", fault.List{fault.From(err, fault.Setting)}
	}
	return out.String(), media, nil
}
