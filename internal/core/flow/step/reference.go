package step

import (
	"context"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/setting"
)

var referenceKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "reference", Title: "Set the reference", Group: flow.GroupRun, About: "Gives the run a business key by which people find it. Each record can give one of its own.",
		Settings: setting.List{
			{Name: "is", Label: "Reference", Type: setting.Formula, Required: true},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("is") },
	},
	Compile: func(c *compile.Compiler, s *flow.Step) running.Runner {
		prog := c.Single(s.Place("is"))
		return func(_ context.Context, b *running.Batch, items []*running.Item) error {
			for _, it := range items {
				if text, ok := textOf(it, s, prog); ok {
					b.References = append(b.References, running.Reference{Record: it.Record, Text: text})
				}
			}
			return nil
		}
	},
}
