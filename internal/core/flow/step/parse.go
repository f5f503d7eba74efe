package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var parseKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "parse", Title: "Parse", Group: flow.GroupTransform, Concurrent: true, About: "Reads a text in its notation: a field that holds JSON, XML, lines.",
		Begin: func(flow.Offering) partfile.Ordered { return yields("parsed") },
		Settings: setting.List{
			{Name: "text", Label: "Text", Type: setting.Formula, Required: true},
			{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Required: true},
			{Name: "gives", Label: "Content", Type: setting.Choice, Default: "one record", Choices: []string{"one record", "a list of records"}},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "parsed"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("gives") + " of " + s.Setting("schema") },
	},
	Compile: compileParse,
}

func compileParse(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, sch := c.Formula(s.Place("text")), c.Schema(s, "schema")
	knownWritten(c, s, sch)
	many := s.Setting("gives") == "a list of records"
	t := formula.Of(sch.Root)
	if many {
		item := t
		t = formula.Type{Kind: value.ListKind, Item: &item}
	}
	slot := c.Yield(s, "as", running.Named{Schema: sch, List: many}, t)
	if prog == nil {
		return running.PassOn
	}
	return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
		for _, it := range items {
			it.Frame.Reset()
			v, f := prog.Eval(&it.Frame)
			if f == nil && v.Kind() != value.Text && v.Kind() != value.Binary {
				f = fault.Expect(fault.Type, "a text", v.Kind().String())
			}
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			list, faults := readAll(sch, v, maxFaults)
			switch {
			case len(faults) > 0:
				it.Aside(s.ID, faults...)
			case many:
				it.Frame.Slots[slot] = value.ListOf(list...)
			case len(list) != 1:
				it.Aside(s.ID, fault.Expect(fault.Length, "one record", plural(len(list), "record")).InField(s.Name).WithFix("Let the step hold a list of records"))
			default:
				it.Frame.Slots[slot] = list[0]
			}
		}
		return nil
	}
}
