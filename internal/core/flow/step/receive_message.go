package step

import (
	"context"
	"strconv"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var receiveKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "receive message", Older: []string{"await"}, Title: "Wait for a message", Group: flow.GroupRun, Lasting: true, About: "Lets the run rest until another one hands over a message of a kind with its reference; it needs no worker while it does.",
		Begin: func(flow.Offering) partfile.Ordered {
			return yields("message", partfile.Entry{Key: "message", Value: "message"})
		},
		Settings: setting.List{
			kindOfMessage,
			{Name: "correlation key", Older: []string{"reference"}, Label: "Reference", Type: setting.Formula, Required: true},
			{Name: "schema", Label: "Schema of the message", Type: setting.Part, Of: "schema", Required: true},
			{Name: "timeout", Older: []string{"within"}, Label: "Window (s)", Type: setting.Decimal, Default: "86400"},
			{Name: "if missing", Older: []string{"none"}, Label: "On timeout", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "message"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("message") + " · " + s.Setting("correlation key") },
	},
	Compile: compileReceive,
}

func compileReceive(c *compile.Compiler, s *flow.Step) running.Runner {
	prog, sch := c.Formula(s.Place("correlation key")), c.Schema(s, "schema")
	slot := c.Define(s, "as", sch)
	kept := running.KeptOf(*c.Cur.Result)
	a := running.ReceiveStep{Step: s.ID, Of: sch, Timeout: time.Duration(min(s.Number("timeout"), maxWait.Seconds()) * float64(time.Second))}
	if prog == nil {
		return running.PassOn
	}
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		a := a
		var messages []running.CorrelatedMessage
		for _, it := range items {
			if ref, ok := textOf(it, s, prog); ok {
				a.Items, messages = append(a.Items, it), append(messages, running.CorrelatedMessage{Name: s.Setting("message"), CorrelationKey: ref})
			}
		}
		if len(a.Items) == 0 {
			return nil
		}
		texts, err := b.Runtime.Receive(ctx, a, messages)
		if err != nil {
			return err
		}
		for i, it := range a.Items {
			awaited(s, sch.Title, it, slot, kept, texts[i], messages[i])
		}
		return nil
	}
}

func awaited(s *flow.Step, title string, it *running.Item, slot int, kept running.Kept, text *string, l running.CorrelatedMessage) {
	if text != nil {
		v := kept.Read(*text)
		if v.Kind() == value.Absent {
			it.Aside(s.ID, fault.Expect(fault.Type, "a message of "+title, "one of another shape").InField(s.Name).WithFix("Let the flow that hands it over do so with a record of this schema"))
			return
		}
		it.Frame.Slots[slot] = v
		return
	}
	why := "no " + l.Name + " with the reference " + fault.Quote(l.CorrelationKey) + " came within " + strconv.FormatFloat(s.Number("timeout"), 'f', -1, 64) + " seconds"
	switch s.Setting("if missing") {
	case "set aside":
		it.Aside(s.ID, fault.New(fault.NotFound, "%s", why).InField(s.Name))
	case "skip":
		it.Skip(s.ID, why)
	}
}
