package flow

import "hollowreed/internal/core/setting"

// CalledTrigger starts runs by a step of another flow.
var CalledTrigger = &TriggerKind{
	Name: "called", Title: "Called by a flow", Drawn: "Called", Callable: true,
	About: "Starts a run when a step of another flow calls it.",
	Settings: setting.List{
		triggerName, startsOff, startsAs,
		{Name: "output", Label: "Response schema", Type: setting.Part, Of: "schema", Help: "None: nobody waits for an answer"},
	},
	when: func(t Trigger) string {
		return "by another flow"
	},
}
