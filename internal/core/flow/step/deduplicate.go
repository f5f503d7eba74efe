package step

import (
	"context"
	"time"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/setting"
)

var deduplicateKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "deduplicate", Older: []string{"once"}, Title: "Skip duplicates", Group: flow.GroupControl, Lasting: true, About: "Lets a record pass only when its key was not there before, in this run or an earlier one.",
		Settings: setting.List{
			{Name: "key", Label: "Key", Type: setting.Formula, Required: true},
			{Name: "within", Label: "Window (s)", Type: setting.Decimal, Help: "After that time a key may come again; empty: never"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "by " + s.Setting("key") },
	},
	Compile: compileDeduplicate,
	Ending:  compile.EndsWithout("to a repeat that is skipped here"),
}

func compileDeduplicate(c *compile.Compiler, s *flow.Step) running.Runner {
	prog := c.Single(s.Place("key"))
	within := time.Duration(s.Number("within") * float64(time.Second))
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		var asked []*running.Item
		var keys []string
		for _, it := range items {
			if key, ok := textOf(it, s, prog); ok {
				asked, keys = append(asked, it), append(keys, key)
			}
		}
		if len(asked) == 0 {
			return nil
		}
		seen, err := b.Runtime.MarkSeen(ctx, running.DuplicateCheck{Step: s.ID, Items: asked, Within: within}, keys)
		if err != nil {
			return err
		}
		for i, it := range asked {
			if seen[i] {
				it.Skip(s.ID, "repeated: "+keys[i])
			}
		}
		return nil
	}
}
