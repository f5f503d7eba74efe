package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/setting"
)

var stopKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "stop", Title: "Stop", Group: flow.GroupRun, About: "Ends the way of a record, or the run, with an outcome.", Ends: true,
		Settings: setting.List{
			{Name: "ends", Label: "Ends", Type: setting.Choice, Default: "this record", Choices: []string{"this record", "the run"}, Help: "The run: the records before this one are done, and it can be resumed"},
			{Name: "outcome", Label: "Outcome", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skipped", "done"}},
			{Name: "text", Label: "Because", Type: setting.Formula, Help: "A text"},
		},
		Detail: func(s *flow.Step) string { return s.Setting("ends") + ": " + s.Setting("outcome") },
	},
	Compile: compileStop,
	Ending:  stopped,
}

func compileStop(c *compile.Compiler, s *flow.Step) running.Runner {
	prog := c.Optional(s, "text")
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		for _, it := range items {
			text := s.Name
			if prog != nil {
				t, ok := textOf(it, s, prog)
				if !ok {
					continue
				}
				text = t
			}
			f := it.Placed(s.ID, fault.New(fault.Stopped, "%s", text))[0]
			if s.Setting("ends") == "the run" {
				b.StopAt(it.Root().Record, f)
				continue
			}
			switch s.Setting("outcome") {
			case "set aside":
				it.Aside(s.ID, f)
			case "skipped":
				it.Skip(s.ID, text)
			default:
				it.State, it.Step, it.Reason = running.Ended, s.ID, text
			}
		}
		return nil
	}
}

func stopped(_ *compile.Compiler, s *flow.Step) compile.Ending {
	if s.Setting("ends") == "this record" && s.Setting("outcome") != "set aside" {
		return compile.Ending{All: true, Without: []compile.Without{{Step: s, When: "where the way ends here", Ended: true}}}
	}
	return compile.Ending{All: true}
}
