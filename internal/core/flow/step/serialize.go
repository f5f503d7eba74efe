package step

import (
	"context"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var serializeKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "serialize", Older: []string{"format"}, Title: "Serialize", Group: flow.GroupTransform, Concurrent: true, About: "Writes a record or a list of records as a text in a schema's notation, with its content type.",
		Begin: func(o flow.Offering) partfile.Ordered { return yields("written", o.Record("value", "schema")...) },
		Settings: setting.List{
			{Name: "value", Label: "Write", Type: setting.Formula, Required: true, Help: "A record, or a list of records"},
			{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Required: true},
			{Name: "type", Label: "Content type", Type: setting.Formula, Rare: true, Help: "That of the notation otherwise"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "written", Help: "A record with text and type"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "as " + s.Setting("schema") },
	},
	Compile: compileSerialize,
}

// knownWritten checks that a schema has a notation of bytes.
func knownWritten(c *compile.Compiler, s *flow.Step, sch *schema.Schema) {
	if !sch.Notation.Bytes {
		c.Fault(s.Place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be read and written", "rows"))
	}
}

// Written is the shape of what a format step yields.
var writtenRecord = schema.Record("written", schema.Scalar("text", value.Text), schema.Scalar("type", value.Text))

func compileSerialize(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, sch := c.Formula(s.Place("value")), c.Schema(s, "schema")
	knownWritten(c, s, sch)
	var typ *formula.Program
	if s.Setting("type") != "" {
		typ = c.Want(s.Place("type"), value.Text, "a text")
	}
	if prog != nil && !prog.Type.Fits(value.RecordKind) && !prog.Type.Fits(value.ListKind) {
		c.Fault(s.Place("value"), fault.Expect(fault.Type, "a record or a list of records", prog.Type.String()))
	}
	slot := c.Define(s, "as", running.Described(s.Setting("as"), writtenRecord))
	if prog == nil {
		return running.PassOn
	}
	return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
		for _, it := range items {
			text, media, faults := formatted(prog, typ, sch, it)
			if len(faults) > 0 {
				it.Aside(s.ID, faults...)
				continue
			}
			it.Frame.Slots[slot] = value.NewRecord(writtenRecord.Layout(), []value.Value{value.NewText(text), value.NewText(media)})
		}
		return nil
	}
}

func formatted(prog, typ *formula.Program, sch *schema.Schema, it *running.Item) (text, media string, faults fault.List) {
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	if f != nil {
		return "", "", fault.List{f}
	}
	media = all.Of(sch).ContentType()
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
