package trigger

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/setting"
)

// Request starts runs by an HTTP request.
var Request = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "request", Title: "HTTP request", Drawn: "HTTP request", Requests: true,
		About: "Starts a run with each request that comes in at its address, and answers it when the run has ended.",
		Settings: setting.List{
			triggerName,
			{Name: "method", Label: "Method", Type: setting.Choice, Default: flow.Methods[0], Choices: flow.Methods},
			{Name: "path", Label: "Path", Type: setting.Text, Required: true, Help: "Behind /in/, as bookings/new; or invoices/{booking}, and formulas say request.parameters.booking"},
			{Name: "parameters", Label: "Parameters schema", Type: setting.Part, Of: "schema", Help: "Fields that the path does not name are taken from the query, or else from a header of that name. None: those of the path, as texts"},
			{Name: "input", Label: "Body schema", Type: setting.Part, Of: "schema", Help: "None: its text stands in request.body"},
			startsAs,
			{Name: "sample", Older: []string{"tried with"}, Label: "Sample body", Type: setting.Part, Of: "sample", Help: "Where it is a text"},
			{Name: "output", Label: "Response schema", Type: setting.Part, Of: "schema", Help: "Given by a Respond step. None: with an empty body"},
			{Name: "timeout", Older: []string{"wait"}, Label: "Response timeout (s)", Type: setting.Number, Default: "30", Help: "After that, or at once with 0, it is told that the run goes on (202)"},
			{Name: "bearer token", Older: []string{"key"}, Label: "Bearer token (secret)", Type: setting.Text, Help: "The name of a secret; empty: anybody on this machine may ask"},
			{Name: "keep", Label: "Stored query parameters and headers", Type: setting.Text, Rare: true, Help: "Names with commas between, beside the parameters and the usual headers; * is all. What is not kept, no step sees: a caller's password belongs into no journal"},
			{Name: "other sites", Label: "Allow cross-site requests", Type: setting.Choice, Default: "no", Choices: []string{"no", "yes"}, Rare: true, Help: "A link or a form on any page starts a run then, in the browser of whoever opens it"},
		},
		When: func(t flow.Trigger) string {
			return t.Method + " /" + t.Path.Value
		},
	},
	Check: checkRequestTrigger,
}

func checkRequestTrigger(c *compile.Compiler, t flow.Trigger) {
	switch {
	case t.Path.Value == "": // that is told already
	case !flow.PathOK.MatchString(t.Path.Value):
		c.Fault(t.Path, fault.Expect(fault.Setting, "a path as bookings/new or invoices/{booking}: letters, digits, . _ - and slashes between", fault.Quote(t.Path.Value)))
	case c.Plan.Input != nil && !c.Plan.Input.Notation.Bytes:
		c.Fault(t.Input, fault.Expect(fault.Setting, "a schema with a notation that can be sent", "rows"))
	case c.Plan.Output != nil && !c.Plan.Output.Notation.Bytes:
		c.Fault(t.Output, fault.Expect(fault.Setting, "a schema with a notation that can be sent", "rows"))
	}
}
