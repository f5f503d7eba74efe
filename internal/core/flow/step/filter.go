package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var filterKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "filter", Older: []string{"keep"}, Title: "Filter", Group: flow.GroupControl, Concurrent: true, Forgets: true, About: "Lets the records pass for which a formula is true; the others are skipped and counted.",
		Settings: setting.List{
			{Name: "where", Label: "Condition", Type: setting.Formula, Required: true, Help: "A formula that is true or false"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("where") },
	},
	Compile: func(c *compile.Compiler, s *flow.Step) running.Runner {
		prog := c.Formula(s.Place("where"))
		if prog == nil {
			return running.PassOn
		}
		if !prog.Type.Fits(value.Boolean) {
			c.Fault(s.Place("where"), fault.Expect(fault.Type, "true or false", prog.Type.String()))
		}
		return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
			reason := "not " + prog.Source
			for _, it := range items {
				keep(s, prog, it, reason)
			}
			return nil
		}
	},
	Ending: compile.EndsWithout("to what is skipped here"),
}

func keep(s *flow.Step, prog *formula.Program, it *running.Item, reason string) {
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	switch {
	case f != nil:
		it.Aside(s.ID, f.InField(s.Name))
	case v.Kind() != value.Boolean:
		it.Aside(s.ID, fault.Expect(fault.Type, "true or false from "+prog.Source, v.Kind().String()).InField(s.Name))
	case !v.IsTrue():
		it.State, it.Step, it.Reason = running.Skipped, s.ID, reason
	}
}
