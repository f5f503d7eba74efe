package step

import (
	"context"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// kindOfMessage is the setting by which messages are told apart that are handed over.
var kindOfMessage = setting.Setting{Name: "message", Older: []string{"kind"}, Label: "Message name", Type: setting.Text, Required: true, Help: "A word on which both flows agree"}

var sendKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "send message", Older: []string{"deliver"}, Title: "Send a message", Group: flow.GroupRun, Lasting: true, About: "Hands a message over to the run that waits for one of its kind with its reference, or will.",
		Begin: func(o flow.Offering) partfile.Ordered {
			return append(partfile.Ordered{{Key: "message", Value: "message"}}, o.Record("from", "")...)
		},
		Settings: setting.List{
			kindOfMessage,
			{Name: "correlation key", Older: []string{"reference"}, Label: "Reference", Type: setting.Formula, Required: true},
			{Name: "from", Label: "Message", Type: setting.Name, Required: true, Help: "The name of a record"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("message") + " · " + s.Setting("correlation key") },
	},
	Compile: compileSend,
}

func compileSend(c *compile.Compiler, s *flow.Step) running.Runner {
	prog := c.Formula(s.Place("correlation key"))
	slot, sch := c.Record(s, "from")
	if prog == nil || sch == nil {
		return running.PassOn
	}
	kept := running.KeptOf(running.RecordOf("message", sch, slot))
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		var at []*running.Item
		var messages []running.CorrelatedMessage
		for _, it := range items {
			if ref, ok := textOf(it, s, prog); ok {
				at, messages = append(at, it), append(messages, running.CorrelatedMessage{Name: s.Setting("message"), CorrelationKey: ref, Text: kept.Write(it.Frame.Slots[slot])})
			}
		}
		if len(at) == 0 {
			return nil
		}
		return b.Runtime.Send(ctx, s.ID, at, messages)
	}
}
