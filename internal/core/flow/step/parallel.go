package step

import (
	"context"
	"sync"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var parallelKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "parallel", Older: []string{"at once"}, Title: "In parallel", Group: flow.GroupControl, About: "Does its branches beside each other for each record.",
		Drawn: flow.AsFork,
		Wraps: &flow.Wrapping{Settings: partfile.Ordered{{Key: "branches", Value: []partfile.Ordered{{{Key: "name", Value: "first"}}}}}, Inside: []any{"branches", 0, "steps"}},
		Begin: func(flow.Offering) partfile.Ordered {
			return partfile.Ordered{{Key: "branches", Value: []partfile.Ordered{{{Key: "name", Value: "first"}}, {{Key: "name", Value: "second"}}}}}
		},
		Branches: []flow.BranchKind{{Key: "branches", Title: "Branch", About: "at least one branch", Many: true}},
		Settings: setting.List{
			{Name: "wait", Label: "Continue", Type: setting.Choice, Default: "when all are done", Choices: []string{"when all are done", "when the first is done", "at once"}, Help: "What branches yield is seen behind them where it is waited for: from all, or what all of them yield from the first. At once: a branch that fails does not harm the record"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return plural(len(s.Branches), "branch") + " · " + s.Setting("wait") },
	},
	Compile: compileParallel,
	Ending:  endsAtOnce,
}

func compileParallel(c *compile.Compiler, s *flow.Step) running.Runner {
	branches := make([]*branch, len(s.Branches))
	parallel := c.Parallel
	c.Parallel = true
	for i, t := range s.Branches {
		branches[i] = &branch{}
		compileBranch(c, t, branches[i])
	}
	c.Parallel = parallel
	switch s.Setting("wait") {
	case "when all are done":
		for _, br := range branches {
			for _, n := range br.named {
				if _, _, taken := c.Scope.Slot(n.Name); taken {
					continue
				}
				c.Scope.Bind(n.Name, n.Slot, n.Type)
				c.Named = append(c.Named, n)
				br.moves = append(br.moves, [2]int{n.Slot, n.Slot})
			}
		}
		return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
			return allAtOnce(ctx, b, s, branches, items)
		}
	case "when the first is done":
		join(c, s, branches)
		return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
			return firstOf(ctx, b, s, branches, items)
		}
	}
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		for _, br := range branches {
			b.StartBeside(ctx, br.steps, forked(items))
		}
		return nil
	}
}

// forked are copies of items for work beside others.
func forked(items []*running.Item) []*running.Item {
	copies := make([]*running.Item, len(items))
	for i, it := range items {
		c := *it
		c.Frame = formula.Frame{Slots: append(make([]value.Value, 0, len(it.Frame.Slots)), it.Frame.Slots...)}
		c.Faults, c.Notes, c.Inner, c.Branches, c.Effects, c.Turns, c.Origin = nil, nil, nil, nil, nil, nil, it
		copies[i] = &c
	}
	return copies
}

// takeFrom brings back what a copy yielded and noted.
func takeFrom(it *running.Item, c *running.Item, moves [][2]int) {
	for _, m := range moves {
		it.Frame.Slots[m[1]] = c.Frame.Slots[m[0]]
	}
	it.Notes, it.Inner, it.Branches = append(it.Notes, c.Notes...), append(it.Inner, c.Inner...), append(it.Branches, c.Branches...)
	it.Effects = append(it.Effects, c.Effects...)
	it.Turns = append(it.Turns, c.Turns...)
}

func allAtOnce(ctx context.Context, b *running.Batch, s *flow.Step, branches []*branch, items []*running.Item) error {
	copies := make([][]*running.Item, len(branches))
	err := b.Together(ctx, len(branches), func(ctx context.Context, sub *running.Batch, i int) error {
		copies[i] = forked(items)
		_, err := sub.Advance(ctx, branches[i].steps, append([]*running.Item(nil), copies[i]...))
		return err
	})
	if err != nil {
		return err
	}
	for n, it := range items {
		for i, br := range branches {
			c := copies[i][n]
			takeFrom(it, c, br.moves)
			switch {
			case c.State == running.SetAside:
				it.State, it.Step = running.SetAside, c.Step
				it.Faults.Add(c.Faults...)
			case c.State == running.Skipped && it.State == running.Live:
				it.Skip(c.Step, c.Reason)
			}
		}
	}
	return nil
}

// firstOf takes, item by item, the branch that is done first without a fault; the others are ended.
func firstOf(ctx context.Context, b *running.Batch, s *flow.Step, branches []*branch, items []*running.Item) error {
	for _, it := range items {
		if err := first(ctx, b, branches, it); err != nil {
			return err
		}
	}
	return nil
}

func first(ctx context.Context, b *running.Batch, branches []*branch, it *running.Item) error {
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	type result struct {
		i   int
		sub *running.Batch
		c   *running.Item
		err error
	}
	results := make(chan result, len(branches))
	var wg sync.WaitGroup
	for i, br := range branches {
		sub, c := b.Fork(), forked([]*running.Item{it})[0]
		b.Parallel(&wg, func() {
			_, err := sub.Advance(inner, br.steps, []*running.Item{c})
			results <- result{i, sub, c, err}
		})
	}
	var won, last *result
	for range branches { // all are waited for, so that none goes on behind the run's back
		r := <-results
		if won == nil && r.err == nil && r.c.State == running.Live {
			won = &r
			cancel()
		} else {
			r.sub.Collected = nil // a branch that was ended writes no files
		}
		if r.err == nil || last == nil {
			last = &r
		}
		b.Join(r.sub)
	}
	switch {
	case won != nil:
		takeFrom(it, won.c, branches[won.i].moves)
	case last.err != nil:
		return last.err
	case last.c.State == running.SetAside:
		it.State, it.Step, it.Faults = running.SetAside, last.c.Step, last.c.Faults
	default:
		it.Skip(last.c.Step, last.c.Reason)
	}
	return nil
}

// endsAtOnce: where all branches are waited for, the answer of one is enough.
func endsAtOnce(c *compile.Compiler, s *flow.Step) compile.Ending {
	if s.Setting("wait") != "when all are done" {
		return c.Alternatives(s, compile.Branches(s, "branches"), compile.Under)
	}
	var e compile.Ending
	for _, t := range compile.Branches(s, "branches") {
		in := c.Sequence(t.Steps)
		if e.Some = e.Some || in.Some; in.All {
			return compile.Ending{Some: in.Some, All: true}
		}
		e.Without = append(e.Without, in.Without...)
	}
	return e
}
