package flow

import (
	"context"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var chooseKind = &Kind{
	Name: "choose", Title: "Choose", Group: Way, About: "Leads each record to the first branch whose condition is true. What all branches yield under one name is seen behind them.",
	Drawn: AsFork,
	Wraps: &Wrapping{Settings: doc.Out{{Key: "when", Value: []doc.Out{{{Key: "if", Value: "true"}}}}}, Inside: []any{"when", 0, "steps"}},
	Begin: func(Offering) doc.Out {
		return doc.Out{{Key: "when", Value: []doc.Out{{{Key: "if", Value: doc.Text{}}}}}}
	},
	Tracks: []TrackKind{
		{Key: "when", Title: "When", About: "at least one branch with a condition", Many: true, If: true, Chosen: true},
		{Key: "otherwise", Title: "Otherwise", Chosen: true},
	},
	Settings: setting.List{
		{Name: "none", Label: "When no condition is true", Type: setting.Choice, Was: older, Default: "otherwise", Choices: []string{"otherwise", "set aside", "skip"}, Help: "Continue with the steps under Otherwise, of which there may be none"},
		onFault,
	},
	Detail: func(s *Step) string {
		if len(s.Tracks) == 2 {
			return s.Tracks[0].If.Value
		}
		return plural(len(s.Tracks)-1, "condition")
	},
	compile: compileChoose,
}

// branch is one way on from a step; moves bring what it yields to the slots that are seen behind it.
type branch struct {
	when  *formula.Program // nil: always
	steps []*PlannedStep
	named []Named
	ends  bool
	moves [][2]int
}

func compileChoose(c *compiler, s *Step) runner {
	var branches []*branch
	seen := map[string]bool{}
	always := ""
	for _, t := range s.Tracks {
		if t.Kind.Key == "undo" {
			continue
		}
		br := &branch{}
		if t.Kind.If {
			br.when = c.want(t.If, value.Boolean, "true or false")
			source := strings.TrimSpace(t.If.Value)
			switch {
			case always != "":
				c.fault(t.If, fault.New(fault.Setting, "this branch is never taken: %s before it is always true", always))
			case seen[source]:
				c.fault(t.If, fault.New(fault.Setting, "this branch is never taken: one before it has the same condition"))
			case source == "true":
				always = source
			}
			seen[source] = true
		} else if always != "" && len(t.Steps) > 0 {
			c.fault(t.At, fault.New(fault.Setting, "otherwise is never taken: %s before it is always true", always))
		}
		c.branch(t, br)
		branches = append(branches, br)
	}
	c.uncovered(s, branches)
	c.common(s, branches)
	return func(ctx context.Context, b *Batch, items []*Item) error { return choose(ctx, b, s, branches, items) }
}

// branch compiles the steps of one track.
func (c *compiler) branch(t *Track, br *branch) {
	known := len(c.named)
	c.within(func() {
		br.steps = c.track(t)
		br.named = append(br.named, c.named[known:]...)
	})
	for _, ps := range br.steps {
		br.ends = br.ends || ps.kind.Ends && !ps.Step.Off
	}
}

// common makes the names that all branches yield alike, those that end the way left aside, seen behind them.
func (c *compiler) common(s *Step, branches []*branch) {
	var open []*branch
	for _, br := range branches {
		if !br.ends {
			open = append(open, br)
		}
	}
	if len(open) == 0 {
		return
	}
	for _, n := range open[0].named {
		slots := []int{n.Slot}
		for _, br := range open[1:] {
			for _, m := range br.named {
				if m.Name == n.Name && m.List == n.List && m.Schema != nil && n.Schema != nil && m.Schema.Root == n.Schema.Root {
					slots = append(slots, m.Slot)
				}
			}
		}
		if n.Schema == nil || len(slots) < len(open) {
			continue
		}
		n.Slot = c.scope.Define(n.Name, n.Type)
		c.named = append(c.named, n)
		c.cur.Common = append(c.cur.Common, n)
		for i, br := range open {
			br.moves = append(br.moves, [2]int{slots[i], n.Slot})
		}
	}
}

func choose(ctx context.Context, b *Batch, s *Step, branches []*branch, items []*Item) error {
	groups := make([][]*Item, len(branches))
	for _, it := range items {
		if i := chosen(s, branches, it); i >= 0 {
			groups[i] = append(groups[i], it)
			it.Took = append(it.Took, BranchTaken{s.ID, i})
		}
	}
	for i, br := range branches {
		if len(groups[i]) == 0 {
			continue
		}
		live, err := b.pass(ctx, br.steps, groups[i])
		if err != nil {
			return err
		}
		for _, it := range live {
			for _, m := range br.moves {
				it.Frame.Slots[m[1]] = it.Frame.Slots[m[0]]
			}
		}
	}
	return nil
}

// chosen is the branch that an item takes; -1 where it takes none.
func chosen(s *Step, branches []*branch, it *Item) int {
	for i, br := range branches {
		if br.when == nil {
			break
		}
		it.Frame.Reset()
		v, f := br.when.Eval(&it.Frame)
		switch {
		case f != nil:
			it.aside(s.ID, f.In(s.Name))
			return -1
		case v.IsTrue():
			return i
		}
	}
	switch s.Setting("none") {
	case "set aside":
		it.aside(s.ID, fault.New(fault.NotFound, "no condition is true").In(s.Name).Mended("Add a branch for it, or let it continue"))
		return -1
	case "skip":
		it.leave(s.ID, "no condition is true")
		return -1
	}
	return len(branches) - 1
}
