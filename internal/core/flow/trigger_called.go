package flow

import (
	"hollowreed/internal/core/doc"
)

// CalledTrigger starts runs by a step of another flow.
var CalledTrigger = &TriggerKind{
	Name: "called", Title: "Called by a flow", Drawn: "Called", Callable: true,
	About: "Starts a run when a step of another flow calls it.",
	Settings: []Setting{
		triggerName, startsOff, startsAs,
		{Name: "output", Label: "Response schema", Type: Part, Of: "schema", Help: "None: nobody waits for an answer"},
	},
	read: readCalledTrigger,
	when: func(t Trigger) string {
		return "by another flow"
	},
}

func readCalledTrigger(tr *Trigger, t doc.Node) {
	tr.Every, tr.Input, tr.Output, tr.As = 1, t.Text("input"), t.Text("output"), t.Text("as").Value
}
