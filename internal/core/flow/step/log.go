package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var logKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "log", Older: []string{"note"}, Title: "Log", Group: flow.GroupRun, About: "Logs a text with the run, or in the event log.",
		Settings: setting.List{
			{Name: "text", Label: "Text", Type: setting.Formula, Required: true},
			{Name: "where", Label: "Logged in", Type: setting.Choice, Default: "the run", Choices: []string{"the run", "the event log"}, Help: "The event log is seen without opening the run"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("text") },
	},
	Compile: compileLog,
}

func compileLog(c *compile.Compiler, s *flow.Step) running.Runner {
	prog := c.Want(s.Place("text"), value.Text, "a text")
	log := s.Setting("where") == "the event log"
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		for _, it := range items {
			if text, ok := textOf(it, s, prog); ok {
				it.Notes = append(it.Notes, it.Placed(s.ID, fault.New(fault.LogEntry, "%s", text))...)
				if log {
					b.Events = append(b.Events, running.Event{Step: s.ID, Record: it.Record, Text: text})
				}
			}
		}
		return nil
	}
}
