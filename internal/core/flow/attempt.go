package flow

import (
	"context"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var attemptKind = &Kind{
	Name: "attempt", Title: "Attempt", Group: Way, About: "Does its steps; a record that fails in one of them goes on with the steps under On fault, where fault tells what happened.",
	Drawn: AsAttempt,
	Wraps: &Wrapping{Inside: []any{"steps"}},
	Tracks: []TrackKind{
		{Key: "steps"},
		{Key: "on fault", Title: "On fault", Below: true, Chosen: true},
		{Key: "finally", Title: "Finally", Quiet: true},
	},
	Settings: setting.List{
		{Name: "then", Label: "After On fault", Type: setting.Choice, Was: older, Default: "continue", Choices: []string{"continue", "set aside"}, Help: "Continue behind the attempt, or set the record aside with its fault nevertheless"},
	},
	Detail:  func(s *Step) string { return plural(len(s.Track("steps").Steps), "step") },
	compile: compileAttempt,
}

// Trouble is the shape of fault inside On fault.
var Trouble = schema.Record("fault",
	schema.Scalar("code", value.Text),
	schema.Scalar("text", value.Text),
	schema.Scalar("step", value.Text),
	schema.Scalar("path", value.Text).Optional(),
	schema.Scalar("expected", value.Text).Optional(),
	schema.Scalar("found", value.Text).Optional(),
)

func troubleOf(f *fault.Fault) value.Value {
	text := func(s string) value.Value {
		if s == "" {
			return value.Value{}
		}
		return value.Str(s)
	}
	return value.Rec(Trouble.Shape(), []value.Value{value.Str(string(f.Code)), value.Str(f.What()), value.Str(f.Place.Step), text(f.Place.Path), text(f.Expected), text(f.Found)})
}

type attempt struct {
	step                 *Step
	steps, onFault, last []*PlannedStep
	slot                 int
	handled              bool
}

func compileAttempt(c *compiler, s *Step) runner {
	a := &attempt{step: s, handled: len(s.Track("on fault").Steps) > 0}
	main, other := &branch{}, &branch{}
	caught := c.caught
	c.caught = true
	c.branch(s.Track("steps"), main)
	c.caught = caught
	c.within(func() {
		a.slot = c.scope.Define("fault", formula.Type{Kind: value.RecordKind, Fields: Trouble})
		n := recordOf("fault", described("fault", Trouble), a.slot)
		c.named, c.cur.Entry = append(c.named, n), &n
		known := len(c.named)
		other.steps = c.track(s.Track("on fault"))
		other.named = append(other.named, c.named[known:]...)
		for _, ps := range other.steps {
			other.ends = other.ends || ps.kind.Ends
		}
	})
	c.within(func() { a.last = c.track(s.Track("finally")) })
	if len(a.last) == 0 && !a.handled && !undoes(main.steps) {
		c.fault(s.At, fault.New(fault.Required, "the attempt does nothing about a fault").Mended("Add steps under On fault or Finally, or an undo to one of its steps"))
	}
	other.ends = other.ends || !a.handled || s.Setting("then") == "set aside"
	c.common(s, []*branch{main, other})
	a.steps, a.onFault = main.steps, other.steps
	return func(ctx context.Context, b *Batch, items []*Item) error {
		return a.run(ctx, b, items, main.moves, other.moves)
	}
}

func undoes(steps []*PlannedStep) bool {
	for _, ps := range steps {
		if t := ps.Step.Track("undo"); t != nil && len(t.Steps) > 0 {
			return true
		}
	}
	return false
}

func (a *attempt) run(ctx context.Context, b *Batch, items []*Item, main, other [][2]int) error {
	live, err := b.pass(ctx, a.steps, append([]*Item(nil), items...))
	if err != nil {
		return err
	}
	for _, it := range live {
		it.move(main)
	}
	var failed []*Item
	for _, it := range items {
		if it.State == SetAside {
			failed = append(failed, it)
		}
	}
	if len(failed) > 0 {
		if err := a.failed(ctx, b, failed, other); err != nil {
			return err
		}
	}
	return a.finally(ctx, b, items)
}

func (it *Item) move(moves [][2]int) {
	for _, m := range moves {
		it.Frame.Slots[m[1]] = it.Frame.Slots[m[0]]
	}
}

// failed takes back what was done for the items, and leads them through On fault.
func (a *attempt) failed(ctx context.Context, b *Batch, failed []*Item, moves [][2]int) error {
	if err := a.undo(ctx, b, failed); err != nil {
		return err
	}
	if !a.handled {
		return nil
	}
	was := map[*Item]Item{}
	for _, it := range failed {
		was[it] = *it
		it.Frame.Slots[a.slot] = troubleOf(it.Faults[0])
		it.Notes = append(it.Notes, it.Faults...)
		it.State, it.Step, it.Faults = Live, "", nil
		it.Took = append(it.Took, BranchTaken{a.step.ID, 1})
	}
	live, err := b.pass(ctx, a.onFault, append([]*Item(nil), failed...))
	if err != nil {
		return err
	}
	for _, it := range live {
		it.move(moves)
		if a.step.Setting("then") == "set aside" {
			it.State, it.Step, it.Faults = SetAside, was[it].Step, was[it].Faults
		}
	}
	return nil
}

// undo runs the undo steps of what was done, the last first.
func (a *attempt) undo(ctx context.Context, b *Batch, failed []*Item) error {
	for i := len(a.steps) - 1; i >= 0; i-- {
		ps := a.steps[i]
		t := ps.Step.Track("undo")
		if t == nil || len(t.Steps) == 0 || ps.Step.Off {
			continue
		}
		var done []*Item
		var was []Item
		for _, it := range failed {
			if b.Plan.order[it.Step] > b.Plan.order[ps.Step.ID] {
				done, was = append(done, it), append(was, *it)
				it.State, it.Faults = Live, nil
			}
		}
		if len(done) == 0 {
			continue
		}
		if _, err := b.pass(ctx, ps.Tracks[len(ps.Tracks)-1], append([]*Item(nil), done...)); err != nil {
			return err
		}
		b.undone(ps, done)
		for n, it := range done { // the first fault stays the cause; what the undo could not do stands beside it
			more := it.Faults
			it.State, it.Step, it.Faults = SetAside, was[n].Step, append(was[n].Faults, more...)
		}
	}
	return nil
}

// Compensated is a step that was taken back for an item, with the steps that have done so.
type Compensated struct {
	Steps  []string
	Record int
	Path   string
}

// undone notes what was taken back.
func (b *Batch) undone(ps *PlannedStep, items []*Item) {
	steps := []string{ps.Step.ID}
	WalkSteps(ps.Step.Track("undo").Steps, func(s *Step) { steps = append(steps, s.ID) })
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
	t := ps.Step.Track("undo")
	return t != nil && len(t.Steps) > 0 && !ps.Step.Off
}

// Closing says whether a step takes another one back, or is done in any case at the end of an attempt.
func (ps *PlannedStep) Closing() bool {
	for inner := ps; inner.Inside != nil; inner = inner.Inside {
		outer := inner.Inside
		if outer.Undoable() || outer.kind == attemptKind && slices.Contains(outer.Tracks[len(outer.Tracks)-1], inner) {
			return true
		}
	}
	return false
}

// finally runs the last steps for all items, whatever became of them.
func (a *attempt) finally(ctx context.Context, b *Batch, items []*Item) error {
	if len(a.last) == 0 {
		return nil
	}
	was := make([]Item, len(items))
	for i, it := range items {
		was[i] = *it
		it.State, it.Faults = Live, nil
	}
	if _, err := b.pass(ctx, a.last, append([]*Item(nil), items...)); err != nil {
		return err
	}
	for i, it := range items {
		more := it.Faults
		if was[i].State != Live {
			it.State, it.Step, it.Reason, it.Faults = was[i].State, was[i].Step, was[i].Reason, append(was[i].Faults, more...)
		}
	}
	return nil
}
