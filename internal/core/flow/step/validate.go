package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var validateKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "validate", Older: []string{"check"}, Title: "Validate", Group: flow.GroupTransform, Concurrent: true, About: "Compares a text or a record with a schema.",
		Begin: func(o flow.Offering) partfile.Ordered { return o.Record("value", "schema") },
		Settings: setting.List{
			{Name: "value", Label: "Message", Type: setting.Formula, Required: true, Help: "A text in the schema's notation, or a record"},
			{Name: "schema", Label: "Against", Type: setting.Part, Of: "schema", Required: true},
			{
				Name: "faults", Label: "What a fault does", Type: setting.Choice, Default: "stop with all", Choices: []string{"stop at the first", "stop with all", "carry on, noted in the event log", "carry on, noted in the run only"},
				Help: "Stop: the record goes no further. Carry on: it goes on as it is",
			},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "against " + s.Setting("schema") },
	},
	Compile: compileValidate,
}

func compileValidate(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, sch := c.Formula(s.Place("value")), c.Schema(s, "schema")
	if prog == nil {
		return running.PassOn
	}
	if !prog.Type.Fits(value.Text) && !prog.Type.Fits(value.RecordKind) {
		c.Fault(s.Place("value"), fault.Expect(fault.Type, "a text or a record", prog.Type.String()))
	}
	mode := s.Setting("faults")
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		for _, it := range items {
			it.Frame.Reset()
			v, f := prog.Eval(&it.Frame)
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			if faults := checked(sch, v, mode == "stop at the first"); len(faults) > 0 {
				found(b, s, it, mode, faults)
			}
		}
		return nil
	}
}

// found does with the faults of a check what its setting says.
func found(b *running.Batch, s *flow.Step, it *running.Item, mode string, faults fault.List) {
	switch mode {
	case "stop at the first", "stop with all":
		it.Aside(s.ID, faults...)
		return
	case "carry on, noted in the event log":
		for _, f := range faults {
			b.Events = append(b.Events, running.Event{Step: s.ID, Record: it.Record, Text: fault.Printable(f.Error()), Fault: f})
		}
	}
	it.Notes = append(it.Notes, it.Placed(s.ID, faults...)...)
}
