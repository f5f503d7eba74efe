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

// AddCompensated notes what was taken back.
func (b *Batch) AddCompensated(ps *PlannedStep, items []*Item) {
	steps := []string{ps.Step.ID}
	flow.WalkSteps(ps.Step.Branch("compensate").Steps, func(s *flow.Step) { steps = append(steps, s.ID) })
	for _, it := range items {
		b.Compensated = append(b.Compensated, Compensated{steps, it.Record, it.Path})
	}
}

// Compensates says whether the flow has steps that take others back.
func (p *Plan) Compensates() bool {
	for _, ps := range p.Steps {
		if ps.HasCompensation() {
			return true
		}
	}
	return false
}

// HasCompensation says whether there are steps that take this one back.
func (ps *PlannedStep) HasCompensation() bool {
	t := ps.Step.Branch("compensate")
	return t != nil && len(t.Steps) > 0 && !ps.Step.Disabled
}

// IsCleanup says whether a step takes another one back, or is done in any case at the end of an attempt.
func (ps *PlannedStep) IsCleanup() bool {
	for inner := ps; inner.Inside != nil; inner = inner.Inside {
		outer := inner.Inside
		if outer.HasCompensation() || outer.Step.Branch("finally") != nil && slices.Contains(outer.Branches[len(outer.Branches)-1], inner) {
			return true
		}
	}
	return false
}
