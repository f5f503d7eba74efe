package trigger

import (
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Where a subscription begins.
const (
	FromNow       = "now"
	FromBeginning = "beginning"
)

// Message starts runs by messages of a channel.
var Message = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "message", Title: "Message on a channel", Drawn: "Message", Channel: true,
		About: "Starts a run with each message of a channel. A message is taken once its run is recorded, so that none is lost and none starts two.",
		Settings: setting.List{
			triggerName,
			{Name: "channel", Label: "Channel", Type: setting.Part, Of: "channel", Required: true, Redraw: true},
			{Name: "subscription", Label: "Subscription", Type: setting.Text, Rare: true, Help: "Of a topic: readers with the same name share its messages. Default: the flow's own"},
			{Name: "from", Label: "A new subscription begins", Type: setting.Choice, Default: FromNow, Choices: []string{FromNow, FromBeginning}, Rare: true, Help: "With messages from now on, or with the first that is kept"},
			{Name: "where", Label: "Only messages where", Type: setting.Formula, Help: "A formula over the message and its fields. Default: every message"},
			startsAs,
			{Name: "batch", Label: "Messages at a time (at most)", Type: setting.Number, Default: "100", Least: 1, Greatest: 1000, Rare: true, Help: "Whose runs are recorded together"},
		},
		When: func(t flow.Trigger) string { return "message on " + t.Settings.Get("channel") },
	},
	Check: checkMessageTrigger,
}

func checkMessageTrigger(c *compile.Compiler, t flow.Trigger) {
	if at := t.Settings.Text("subscription"); at.Value != "" && c.Plan.Channel != nil && c.Plan.Channel.Kind == channel.Queue {
		c.Fault(at, fault.New(fault.Setting, "a queue has no subscriptions: each message goes to one reader").WithFix("Take it out, or let the queue be copied to a topic"))
	}
	if at := t.Settings.Text("where"); at.Value != "" {
		c.Plan.Where = c.Want(at, value.Boolean, "true or false")
	}
	if c.Plan.Channel != nil && c.Plan.OnePer == nil {
		c.Plan.OnePer = orderOf(c)
	}
}

// orderOf is the ordering key that the order of the channel asks for; nil where it asks for none.
func orderOf(c *compile.Compiler) *formula.Program {
	switch c.Plan.Channel.Order {
	case channel.ByKey:
		return c.Plain(`message.key ?? ""`)
	case channel.AllOrder:
		return c.Plain(`"all"`)
	}
	return nil
}
