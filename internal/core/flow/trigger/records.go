package trigger

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
)

// Records starts runs by records that are new.
var Records = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "new records", Older: []string{"records"}, Title: "New records", Drawn: "New records", Brings: true,
		About: "Asks for records at an interval and starts a run with those whose watermark field is beyond the last value that was read; none is read twice.",
		Settings: setting.List{
			triggerName,
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
			{Name: "operation", Label: "Operation", Type: setting.Operation, Required: true, Help: "One that reads"},
			{Name: "watermark", Older: []string{"rising"}, Label: "Watermark field", Type: setting.Text, Required: true, Redraw: true, Help: "Greater in each new record: a number, a time"},
			{Name: "with", Label: "Request fields", Type: setting.Pairs, Help: "watermark is the greatest value so far"},
			{Name: "interval", Older: []string{"every"}, Label: "Poll interval (s)", Type: setting.Number, Default: "10", Least: 1},
		},
		When: func(t flow.Trigger) string {
			return "new of " + t.Operation.Value
		},
	},
	Check: checkRecordsTrigger,
}

func checkRecordsTrigger(c *compile.Compiler, t flow.Trigger) {
	op := c.Operation(t.Operation, t.Connection.Value, t.Operation.Value)
	if op == nil {
		return
	}
	if !op.Kind.Reads || op.Response == nil {
		c.Fault(t.Operation, fault.New(fault.Setting, "%s gives no records that are described", op.Name).WithFix("Choose an operation that reads, with a response schema"))
		return
	}
	if op.Response.Root.Field(t.Watermark.Value) == nil {
		c.Fault(t.Watermark, fault.New(fault.Unknown, "%s has no field %q", op.Response.ID, t.Watermark.Value))
		c.Plan.Poll = &running.RequestBuilder{Op: op} // what it gives and is asked with is known all the same
		return
	}
	outer := c.Scope
	c.Scope = c.Parts.Formulas().Scope()
	last := formula.Type{Kind: op.Response.Root.Field(t.Watermark.Value).Kind, Maybe: true}
	c.Scope.Define("watermark", last)
	c.Plan.Poll, c.Plan.Polls = c.Ask(t.At, op, &flow.Step{Match: t.With}), c.Scope
	c.Scope = outer
}
