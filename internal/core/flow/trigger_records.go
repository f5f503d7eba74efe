package flow

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
)

// RecordsTrigger starts runs by records that are new.
var RecordsTrigger = &TriggerKind{
	Name: "records", Title: "New records", Drawn: "New records", Brings: true,
	About: "Asks for records now and then and starts a run with those whose rising field is beyond the last one that was taken; none is taken twice.",
	Settings: setting.List{
		triggerName,
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
		{Name: "operation", Label: "Operation", Type: setting.Operation, Required: true, Help: "One that reads"},
		{Name: "rising", Label: "Watermark field", Type: setting.Text, Required: true, Redraw: true, Help: "Greater in each new record: a number, a time"},
		{Name: "with", Label: "Ask with", Type: setting.Pairs, Help: "rising is the greatest value so far"},
		{Name: "every", Label: "Poll interval (s)", Type: setting.Number, Default: "10", Least: 1},
	},
	when: func(t Trigger) string {
		return "new of " + t.Operation.Value
	},
	check: checkRecordsTrigger,
}

func checkRecordsTrigger(c *compiler, t Trigger) {
	op := c.operation(t.Operation, t.Connection.Value, t.Operation.Value)
	if op == nil {
		return
	}
	if !op.Verb.Reads || op.Response == nil {
		c.fault(t.Operation, fault.New(fault.Setting, "%s gives no records that are described", op.Name).Mended("Choose an operation that reads, with a response schema"))
		return
	}
	if op.Response.Root.Field(t.Rising.Value) == nil {
		c.fault(t.Rising, fault.New(fault.Unknown, "%s has no field %q", op.Response.ID, t.Rising.Value))
		c.plan.Poll = &Asking{Op: op} // what it gives and is asked with is known all the same
		return
	}
	outer := c.scope
	c.scope = c.parts.Formulas().Scope()
	c.scope.Define("rising", formula.Type{Kind: op.Response.Root.Field(t.Rising.Value).Kind, Maybe: true})
	c.plan.Poll, c.plan.Polls = c.asking(t.At, op, &Step{Match: t.With}), c.scope
	c.scope = outer
}
