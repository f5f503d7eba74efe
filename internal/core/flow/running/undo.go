package running

import (
	"slices"

	"hollowreed/internal/core/flow"
)

// Compensated is a step that was taken back for an item, with the steps that have done so.
type Compensated struct {
	Steps  []string
	Record int
	Path   string
}

// NoteUndone notes what was taken back.
func (b *Batch) NoteUndone(ps *PlannedStep, items []*Item) {
	steps := []string{ps.Step.ID}
	flow.WalkSteps(ps.Step.Track("compensate").Steps, func(s *flow.Step) { steps = append(steps, s.ID) })
	for _, it := range items {
		b.Undone = append(b.Undone, Compensated{steps, it.Record, it.Path})
	}
}

// Undoes says whether the flow has steps that take others back.
func (p *Plan) Undoes() bool {
	for _, ps := range p.Steps {
		if ps.Undoable() {
			return true
		}
	}
	return false
}

// Undoable says whether there are steps that take this one back.
func (ps *PlannedStep) Undoable() bool {
	t := ps.Step.Track("compensate")
	return t != nil && len(t.Steps) > 0 && !ps.Step.Off
}

// Closing says whether a step takes another one back, or is done in any case at the end of an attempt.
func (ps *PlannedStep) Closing() bool {
	for inner := ps; inner.Inside != nil; inner = inner.Inside {
		outer := inner.Inside
		if outer.Undoable() || outer.Step.Track("finally") != nil && slices.Contains(outer.Tracks[len(outer.Tracks)-1], inner) {
			return true
		}
	}
	return false
}
