package trigger

import (
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/setting"
)

// Called starts runs by a step of another flow.
var Called = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "flow call", Older: []string{"called"}, Title: "Called by a flow", Drawn: "Called", Callable: true,
		About: "Starts a run when a step of another flow calls it.",
		Settings: setting.List{
			triggerName, startsOff, startsAs,
			{Name: "output", Label: "Response schema", Type: setting.Part, Of: "schema", Help: "None: nobody waits for an answer"},
		},
		When: func(t flow.Trigger) string {
			return "by another flow"
		},
	},
}
