package flow

import (
	"hollowreed/internal/core/doc"
)

// PersonTrigger starts runs by a person.
var PersonTrigger = &TriggerKind{
	Name: "person", Title: "Manual start", Drawn: "By hand", Callable: true,
	About:    "Starts a run when somebody presses Run now; a form asks for its message.",
	Settings: []Setting{triggerName, startsOff, startsAs},
	read:     readPersonTrigger,
	when: func(t Trigger) string {
		return "when asked"
	},
}

func readPersonTrigger(tr *Trigger, t doc.Node) {
	tr.Every, tr.Input, tr.As = 1, t.Text("input"), t.Text("as").Value
}
