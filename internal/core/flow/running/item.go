package running

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
)

// State is how far a record has come.
type State string

// The states of a record.
const (
	Live     State = "live"
	Skipped  State = "skipped"
	SetAside State = "set aside"
	Done     State = "done"
	Ended    State = "ended" // a stop step ended its way well
)

// UnmarshalText reads a state, also by the name that it had in older journals.
func (s *State) UnmarshalText(text []byte) error {
	if *s = State(text); *s == "left out" {
		*s = Skipped
	}
	return nil
}

// WholeRun is the position of the item that is the run as a whole.
const WholeRun = -1

// Item is one record on its way through the steps, an entry of a list inside one, or the run as a whole.
type Item struct {
	Record   int // its position in the message, from 0; WholeRun
	Frame    formula.Frame
	Place    fault.Place
	Raw      string
	State    State
	Step     string // where it left the way, when it did
	Reason   string // why it was skipped
	Faults   fault.List
	Notes    fault.List    // what it went on with: left out by a map step, noted, or caught by an attempt
	Effects  []StepEffect  // what was done outside for it, step by step
	Parent   *Item         // of an entry of a list
	Path     string        // of an entry: its positions in the lists around it, as 3 or 3.0
	Of       string        // of an entry: the each that it belongs to
	Branches []BranchTaken // the branches that it was led to
	Turns    []StepTurns   // what was said with systems for it
	Inner    []*Item
	Origin   *Item // of a copy for a branch beside others: the item that it is a copy of
}

// again empties an item, so that its memory is used for another record.
func (it *Item) again() {
	frame, effects := it.Frame, it.Effects[:0]
	frame.Again()
	*it = Item{Frame: frame, Effects: effects}
}

// Over says whether an item came through, or was skipped, with nothing to tell of it.
func (it *Item) Over() bool {
	return (it.State == Done || it.State == Skipped) && it.Faults == nil && it.Notes == nil && it.Inner == nil && it.Branches == nil && it.Turns == nil
}

// StepEffect is what a step did outside for an item.
type StepEffect struct {
	Step   string `json:"step"`
	Effect Effect `json:"effect"`
}

// Did notes what a step did outside for the item.
func (it *Item) Did(step string, e Effect) {
	if e != "" {
		it.Effects = append(it.Effects, StepEffect{step, e})
	}
}

// EffectOf is what a step did outside for the item; empty where it did nothing.
func (it *Item) EffectOf(step string) Effect {
	for ; it != nil; it = it.Parent {
		for _, e := range it.Effects {
			if e.Step == step {
				return e.Effect
			}
		}
	}
	return ""
}

// Succeeded says whether an item, and all that it belongs to, came through.
func (it *Item) Succeeded() bool {
	for ; it != nil; it = it.Parent {
		if it.State == SetAside || it.State == Skipped {
			return false
		}
	}
	return true
}

// Failed says whether an item, or one that it belongs to, was set aside: also one that was copied for a branch beside others.
func (it *Item) Failed() bool {
	for ; it != nil; it = it.Parent {
		if it.State == SetAside || it.Origin != nil && it.Origin.Failed() {
			return true
		}
	}
	return false
}

// Root is the record that an item is or belongs to.
func (it *Item) Root() *Item {
	for it.Parent != nil {
		it = it.Parent
	}
	return it
}

// Aside sets the item aside at a step, with why.
func (it *Item) Aside(step string, faults ...*fault.Fault) {
	it.State, it.Step = SetAside, step
	it.Faults.Add(it.Placed(step, faults...)...)
}

// Placed tells faults with the place of the item.
func (it *Item) Placed(step string, faults ...*fault.Fault) fault.List {
	for _, f := range faults {
		f.Place.Step = step
		if f.Place.Line == 0 {
			path := f.Place.Path
			f.Place = it.Place
			f.Place.Path, f.Place.Step = path, step
		}
	}
	return faults
}

// Skip lets the item leave the way without a fault.
func (it *Item) Skip(step, reason string) { it.State, it.Step, it.Reason = Skipped, step, reason }
