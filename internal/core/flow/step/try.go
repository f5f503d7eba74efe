package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var tryKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "try", Older: []string{"attempt"}, Title: "Try", Group: flow.GroupControl, About: "Does its steps; a record that fails in one of them goes on with the steps under On fault, where fault tells what happened.",
		Drawn: flow.AsAttempt,
		Wraps: &flow.Wrapping{Inside: []any{"steps"}},
		Branches: []flow.BranchKind{
			{Key: "steps"},
			{Key: "on fault", Title: "On fault", Below: true, Conditional: true},
			{Key: "finally", Title: "Finally", Quiet: true},
		},
		Settings: setting.List{
			{Name: "then", Label: "After On fault", Type: setting.Choice, Was: older, Default: "continue", Choices: []string{"continue", "set aside"}, Help: "Continue behind the Try step, or set the record aside with its fault nevertheless"},
		},
		Detail: func(s *flow.Step) string { return plural(len(s.Branch("steps").Steps), "step") },
	},
	Compile: compileTry,
	Ending:  attempts,
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
		return value.NewText(s)
	}
	return value.NewRecord(Trouble.Layout(), []value.Value{value.NewText(string(f.Code)), value.NewText(f.What()), value.NewText(f.Place.Step), text(f.Place.Path), text(f.Expected), text(f.Found)})
}

type attempt struct {
	step                 *flow.Step
	steps, onFault, last []*running.PlannedStep
	slot                 int
	handled              bool
}

func compileTry(c *compile.Compiler, s *flow.Step) running.Runner {
	a := &attempt{step: s, handled: len(s.Branch("on fault").Steps) > 0}
	main, other := &branch{}, &branch{}
	caught := c.Caught
	c.Caught = true
	compileBranch(c, s.Branch("steps"), main)
	c.Caught = caught
	c.Within(func() {
		a.slot = c.Scope.Define("fault", formula.Type{Kind: value.RecordKind, Fields: Trouble})
		n := running.RecordOf("fault", running.Described("fault", Trouble), a.slot)
		c.Named, c.Cur.Entry = append(c.Named, n), &n
		known := len(c.Named)
		other.steps = c.Branch(s.Branch("on fault"))
		other.named = append(other.named, c.Named[known:]...)
		for _, ps := range other.steps {
			other.ends = other.ends || ps.Kind.Ends
		}
	})
	c.Within(func() { a.last = c.Branch(s.Branch("finally")) })
	if len(a.last) == 0 && !a.handled && !undoes(main.steps) {
		c.Fault(s.At, fault.New(fault.Required, "the Try step does nothing about a fault").WithFix("Add steps under On fault or Finally, or compensating steps to one of its steps"))
	}
	other.ends = other.ends || !a.handled || s.Setting("then") == "set aside"
	join(c, s, []*branch{main, other})
	a.steps, a.onFault = main.steps, other.steps
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		return a.run(ctx, b, items, main.moves, other.moves)
	}
}

func undoes(steps []*running.PlannedStep) bool {
	for _, ps := range steps {
		if t := ps.Step.Branch("compensate"); t != nil && len(t.Steps) > 0 {
			return true
		}
	}
	return false
}

func (a *attempt) run(ctx context.Context, b *running.Batch, items []*running.Item, main, other [][2]int) error {
	live, err := b.Advance(ctx, a.steps, append([]*running.Item(nil), items...))
	if err != nil {
		return err
	}
	for _, it := range live {
		move(it, main)
	}
	var failed []*running.Item
	for _, it := range items {
		if it.State == running.SetAside {
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

func move(it *running.Item, moves [][2]int) {
	for _, m := range moves {
		it.Frame.Slots[m[1]] = it.Frame.Slots[m[0]]
	}
}

// failed takes back what was done for the items, and leads them through On fault.
func (a *attempt) failed(ctx context.Context, b *running.Batch, failed []*running.Item, moves [][2]int) error {
	if err := a.undo(ctx, b, failed); err != nil {
		return err
	}
	if !a.handled {
		return nil
	}
	was := map[*running.Item]running.Item{}
	for _, it := range failed {
		was[it] = *it
		it.Frame.Slots[a.slot] = troubleOf(it.Faults[0])
		it.Notes = append(it.Notes, it.Faults...)
		it.State, it.Step, it.Faults = running.Live, "", nil
		it.Branches = append(it.Branches, running.BranchTaken{Step: a.step.ID, Track: 1})
	}
	live, err := b.Advance(ctx, a.onFault, append([]*running.Item(nil), failed...))
	if err != nil {
		return err
	}
	for _, it := range live {
		move(it, moves)
		if a.step.Setting("then") == "set aside" {
			it.State, it.Step, it.Faults = running.SetAside, was[it].Step, was[it].Faults
		}
	}
	return nil
}

// undo runs the undo steps of what was done, the last first.
func (a *attempt) undo(ctx context.Context, b *running.Batch, failed []*running.Item) error {
	for i := len(a.steps) - 1; i >= 0; i-- {
		ps := a.steps[i]
		t := ps.Step.Branch("compensate")
		if t == nil || len(t.Steps) == 0 || ps.Step.Disabled {
			continue
		}
		var done []*running.Item
		var was []running.Item
		for _, it := range failed {
			if b.Plan.Order[it.Step] > b.Plan.Order[ps.Step.ID] {
				done, was = append(done, it), append(was, *it)
				it.State, it.Faults = running.Live, nil
			}
		}
		if len(done) == 0 {
			continue
		}
		if _, err := b.Advance(ctx, ps.Branches[len(ps.Branches)-1], append([]*running.Item(nil), done...)); err != nil {
			return err
		}
		b.AddCompensated(ps, done)
		for n, it := range done { // the first fault stays the cause; what the undo could not do stands beside it
			more := it.Faults
			it.State, it.Step, it.Faults = running.SetAside, was[n].Step, append(was[n].Faults, more...)
		}
	}
	return nil
}

// finally runs the last steps for all items, whatever became of them.
func (a *attempt) finally(ctx context.Context, b *running.Batch, items []*running.Item) error {
	if len(a.last) == 0 {
		return nil
	}
	was := make([]running.Item, len(items))
	for i, it := range items {
		was[i] = *it
		it.State, it.Faults = running.Live, nil
	}
	if _, err := b.Advance(ctx, a.last, append([]*running.Item(nil), items...)); err != nil {
		return err
	}
	for i, it := range items {
		more := it.Faults
		if was[i].State != running.Live {
			it.State, it.Step, it.Reason, it.Faults = was[i].State, was[i].Step, was[i].Reason, append(was[i].Faults, more...)
		}
	}
	return nil
}

// attempts: a record that fails in an attempt goes on under On fault; where nothing stands there it is set aside.
func attempts(c *compile.Compiler, s *flow.Step) compile.Ending {
	if last := c.Sequence(s.Branch("finally").Steps); last.All {
		return last
	}
	tracks := compile.Branches(s, "steps")
	if len(s.Branch("on fault").Steps) > 0 && s.Setting("then") == "continue" {
		tracks = compile.Branches(s, "steps", "on fault")
	}
	return c.Alternatives(s, tracks, func(t *flow.Branch) string {
		if t.Kind.Key == "on fault" {
			return "when a fault is dealt with here"
		}
		return "when all goes well"
	})
}
