package trigger

import (
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/setting"
)

// Person starts runs by a person.
var Person = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "manual", Older: []string{"person"}, Title: "Manual start", Drawn: "By hand", Callable: true,
		About:    "Starts a run when somebody presses Run now; a form asks for its message.",
		Settings: setting.List{triggerName, startsOff, startsAs},
		When: func(t flow.Trigger) string {
			return "when asked"
		},
	},
}
