package step

import (
	"context"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var setKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "set", Title: "Set values", Group: flow.GroupTransform, Concurrent: true, Forgets: true, About: "Computes values by formulas and gives them names.",
		Fills: true,
		Begin: func(flow.Offering) partfile.Ordered {
			return yields("values", partfile.Entry{Key: "values", Value: partfile.Ordered{{Key: "value", Value: partfile.Text{}}}})
		},
		Settings: setting.List{
			{Name: "values", Label: "Values", Type: setting.Pairs, Free: true, Required: true, Help: "Names and their formulas; one may use those above it"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "values", Help: "Each can be used by its own name, too"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			names := make([]string, len(s.Match))
			for i, m := range s.Match {
				names[i] = m.Name.Value
			}
			return strings.Join(names, ", ")
		},
	},
	Compile: compileSet,
}

func compileSet(c *compile.Compiler, s *flow.Step) running.Runner {
	progs := make([]*formula.Program, len(s.Match))
	fields := make([]*schema.Field, len(s.Match))
	slots := make([]int, len(s.Match))
	scope := c.Scope
	c.Scope = scope.Inner()
	for i, m := range s.Match {
		if !formula.Name(m.Name.Value) {
			c.Fault(m.Name, fault.Expect(fault.Setting, "a name of letters, digits and _", fault.Quote(m.Name.Value)))
		}
		t := formula.Type{}
		if progs[i] = c.Formula(m.Formula); progs[i] != nil {
			t = progs[i].Type
		}
		fields[i] = running.FieldOf(m.Name.Value, t)
		slots[i] = c.Scope.Define(m.Name.Value, t)
	}
	scope.ExtendTo(c.Scope)
	c.Scope = scope
	sch := running.Described(s.Setting("as"), schema.Record(s.Setting("as"), fields...))
	slot := c.Define(s, "as", sch)
	c.Scope.Open(s.Setting("as"))
	shape := sch.Root.Layout()
	return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
		for _, it := range items {
			values := make([]value.Value, len(progs))
			for i, prog := range progs {
				it.Frame.Reset()
				v, f := prog.Eval(&it.Frame)
				if f != nil {
					it.Aside(s.ID, f.InField(fields[i].Name))
					break
				}
				values[i], it.Frame.Slots[slots[i]] = v, v
			}
			if it.State == running.Live {
				it.Frame.Slots[slot] = value.NewRecord(shape, values)
			}
		}
		return nil
	}
}
