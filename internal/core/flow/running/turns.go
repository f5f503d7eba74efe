package running

// Turn is what one side said when a system was asked, as it went over the wire, with secrets masked.
type Turn struct {
	Sent bool   `json:"sent,omitempty"` // by Hollow Reed; else it is the system's answer
	Head string `json:"head"`           // the request line, the status, or what is done
	Text string `json:"text,omitempty"` // headers and body, or the statement with its values
}

// StepTurns are what was said at a step for one item.
type StepTurns struct {
	Step  string `json:"step"`
	Turns []Turn `json:"turns"`
}

// AddTurns notes what was said at a step for the item.
func (it *Item) AddTurns(step string, turns []Turn) {
	if len(turns) > 0 {
		it.Turns = append(it.Turns, StepTurns{step, turns})
	}
}

// TurnsAt is what was said at a step for the item; nil where nothing was, or it was not kept.
func (it *Item) TurnsAt(step string) []Turn {
	for i := len(it.Turns) - 1; i >= 0; i-- {
		if it.Turns[i].Step == step {
			return it.Turns[i].Turns
		}
	}
	return nil
}
