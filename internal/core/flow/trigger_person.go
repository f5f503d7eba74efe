package flow

import "hollowreed/internal/core/setting"

// PersonTrigger starts runs by a person.
var PersonTrigger = &TriggerKind{
	Name: "person", Title: "Manual start", Drawn: "By hand", Callable: true,
	About:    "Starts a run when somebody presses Run now; a form asks for its message.",
	Settings: setting.List{triggerName, startsOff, startsAs},
	when: func(t Trigger) string {
		return "when asked"
	},
}
