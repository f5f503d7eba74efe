package trigger

import (
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/setting"
)

// Operation starts runs by calls of an operation of an API of the project.
var Operation = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "operation", Title: "API operation", Drawn: "API operation", Requests: true, Contracted: true,
		About: "Answers an operation of an API of the project. Its contract says what is asked and what may be answered.",
		Settings: setting.List{
			triggerName,
			{Name: "api", Label: "API", Type: setting.Part, Of: "api", Required: true},
			{Name: "api operation", Label: "Operation", Type: setting.Text, Required: true, Help: "By its id in the contract, or as GET /bookings/{number}"},
			startsAs,
			{Name: "sample", Label: "Sample body", Type: setting.Part, Of: "sample", Help: "Where it is a text"},
			{Name: "timeout", Label: "Response timeout (s)", Type: setting.Number, Default: "30", Help: "After that, or at once with 0, it is told that the run goes on (202)"},
			{Name: "bearer token", Label: "Bearer token (secret)", Type: setting.Text, Help: "The name of a secret; empty: anybody on this machine may ask"},
			{Name: "keep", Label: "Stored query parameters and headers", Type: setting.Text, Rare: true, Help: "Names with commas between, beside the parameters and the usual headers; * is all"},
			{Name: "other sites", Label: "Allow cross-site requests", Type: setting.Choice, Default: "no", Choices: []string{"no", "yes"}, Rare: true, Help: "A link or a form on any page starts a run then, in the browser of whoever opens it"},
		},
		When: func(t flow.Trigger) string { return t.Settings.Get("api operation") },
	},
}
