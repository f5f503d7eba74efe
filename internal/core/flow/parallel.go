package flow

import (
	"context"
	"errors"
	"sync"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var atOnceKind = &Kind{
	Name: "at once", Title: "In parallel", Group: Way, About: "Does its branches beside each other for each record.",
	Drawn: AsFork,
	Wraps: &Wrapping{Settings: doc.Out{{Key: "branches", Value: []doc.Out{{{Key: "name", Value: "first"}}}}}, Inside: []any{"branches", 0, "steps"}},
	Begin: func(Offering) doc.Out {
		return doc.Out{{Key: "branches", Value: []doc.Out{{{Key: "name", Value: "first"}}, {{Key: "name", Value: "second"}}}}}
	},
	Tracks: []TrackKind{{Key: "branches", Title: "Branch", About: "at least one branch", Many: true}},
	Settings: setting.List{
		{Name: "wait", Label: "Continue", Type: setting.Choice, Default: "when all are done", Choices: []string{"when all are done", "when the first is done", "at once"}, Help: "What branches yield is seen behind them where it is waited for: from all, or what all of them yield from the first. At once: a branch that fails does not harm the record"},
		onFault,
	},
	Detail:  func(s *Step) string { return plural(len(s.Tracks), "branch") + " · " + s.Setting("wait") },
	compile: compileAtOnce,
}

func compileAtOnce(c *compiler, s *Step) runner {
	branches := make([]*branch, len(s.Tracks))
	parallel := c.parallel
	c.parallel = true
	for i, t := range s.Tracks {
		branches[i] = &branch{}
		c.branch(t, branches[i])
	}
	c.parallel = parallel
	switch s.Setting("wait") {
	case "when all are done":
		for _, br := range branches {
			for _, n := range br.named {
				if _, _, taken := c.scope.Slot(n.Name); taken {
					continue
				}
				c.scope.Bind(n.Name, n.Slot, n.Type)
				c.named = append(c.named, n)
				br.moves = append(br.moves, [2]int{n.Slot, n.Slot})
			}
		}
		return func(ctx context.Context, b *Batch, items []*Item) error { return allAtOnce(ctx, b, s, branches, items) }
	case "when the first is done":
		c.common(s, branches)
		return func(ctx context.Context, b *Batch, items []*Item) error { return firstOf(ctx, b, s, branches, items) }
	}
	return func(ctx context.Context, b *Batch, items []*Item) error {
		for _, br := range branches {
			b.aside().start(ctx, b, br, forked(items))
		}
		return nil
	}
}

// forked are copies of items for work beside others.
func forked(items []*Item) []*Item {
	copies := make([]*Item, len(items))
	for i, it := range items {
		c := *it
		c.Frame = formula.Frame{Slots: append(make([]value.Value, 0, len(it.Frame.Slots)), it.Frame.Slots...)}
		c.Faults, c.Notes, c.Inner, c.Took, c.Effects, c.Said, c.origin = nil, nil, nil, nil, nil, nil, it
		copies[i] = &c
	}
	return copies
}

// take brings back what a copy yielded and noted.
func (it *Item) take(c *Item, moves [][2]int) {
	for _, m := range moves {
		it.Frame.Slots[m[1]] = c.Frame.Slots[m[0]]
	}
	it.Notes, it.Inner, it.Took = append(it.Notes, c.Notes...), append(it.Inner, c.Inner...), append(it.Took, c.Took...)
	it.Effects = append(it.Effects, c.Effects...)
	it.Said = append(it.Said, c.Said...)
}

func allAtOnce(ctx context.Context, b *Batch, s *Step, branches []*branch, items []*Item) error {
	copies := make([][]*Item, len(branches))
	err := b.together(ctx, len(branches), func(ctx context.Context, sub *Batch, i int) error {
		copies[i] = forked(items)
		_, err := sub.pass(ctx, branches[i].steps, append([]*Item(nil), copies[i]...))
		return err
	})
	if err != nil {
		return err
	}
	for n, it := range items {
		for i, br := range branches {
			c := copies[i][n]
			it.take(c, br.moves)
			switch {
			case c.State == SetAside:
				it.State, it.Step = SetAside, c.Step
				it.Faults.Add(c.Faults...)
			case c.State == Skipped && it.State == Live:
				it.leave(c.Step, c.Reason)
			}
		}
	}
	return nil
}

// firstOf takes, item by item, the branch that is done first without a fault; the others are ended.
func firstOf(ctx context.Context, b *Batch, s *Step, branches []*branch, items []*Item) error {
	for _, it := range items {
		if err := first(ctx, b, branches, it); err != nil {
			return err
		}
	}
	return nil
}

func first(ctx context.Context, b *Batch, branches []*branch, it *Item) error {
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	type result struct {
		i   int
		sub *Batch
		c   *Item
		err error
	}
	results := make(chan result, len(branches))
	var wg sync.WaitGroup
	for i, br := range branches {
		sub, c := b.fork(), forked([]*Item{it})[0]
		b.parallel(&wg, func() {
			_, err := sub.pass(inner, br.steps, []*Item{c})
			results <- result{i, sub, c, err}
		})
	}
	var won, last *result
	for range branches { // all are waited for, so that none goes on behind the run's back
		r := <-results
		if won == nil && r.err == nil && r.c.State == Live {
			won = &r
			cancel()
		} else {
			r.sub.Collected = nil // a branch that was ended writes no files
		}
		if r.err == nil || last == nil {
			last = &r
		}
		b.join(r.sub)
	}
	switch {
	case won != nil:
		it.take(won.c, branches[won.i].moves)
	case last.err != nil:
		return last.err
	case last.c.State == SetAside:
		it.State, it.Step, it.Faults = SetAside, last.c.Step, last.c.Faults
	default:
		it.leave(last.c.Step, last.c.Reason)
	}
	return nil
}

// beside are branches that nobody waits for until the batch ends.
type beside struct {
	wg   sync.WaitGroup
	mu   sync.Mutex
	subs []*Batch
	errs []error
}

func (b *Batch) aside() *beside {
	if b.beside == nil {
		b.beside = &beside{}
	}
	return b.beside
}

func (s *beside) start(ctx context.Context, b *Batch, br *branch, items []*Item) {
	sub := b.fork()
	b.parallel(&s.wg, func() {
		_, err := sub.pass(ctx, br.steps, append([]*Item(nil), items...))
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, it := range items {
			for _, f := range it.Faults {
				sub.Events = append(sub.Events, Event{Step: it.Step, Record: it.Record, Text: "a branch that nobody waits for failed", Fault: f})
			}
		}
		s.subs, s.errs = append(s.subs, sub), append(s.errs, err)
	})
}

// wait ends the batch only when the branches beside it have ended, so that no work is lost in a crash.
func (s *beside) wait(b *Batch) error {
	s.wg.Wait()
	for _, sub := range s.subs {
		b.join(sub)
	}
	return firstCause(s.errs)
}

// together does parts of the work at the same time, each with a batch of its own; the first error ends the others.
func (b *Batch) together(ctx context.Context, n int, do func(ctx context.Context, sub *Batch, i int) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	subs, errs := make([]*Batch, n), make([]error, n)
	var wg sync.WaitGroup
	for i := range n {
		subs[i] = b.fork()
		b.parallel(&wg, func() {
			if errs[i] = do(ctx, subs[i], i); errs[i] != nil {
				cancel()
			}
		})
	}
	wg.Wait()
	for _, sub := range subs {
		b.join(sub)
	}
	return firstCause(errs)
}

// parallel does work beside other work; one after the other where somebody watches.
func (b *Batch) parallel(wg *sync.WaitGroup, do func()) {
	if b.Watch != nil {
		do()
		return
	}
	wg.Go(do)
}

// firstCause prefers an error that is not only that the others were ended.
func firstCause(errs []error) error {
	var ended error
	for _, err := range errs {
		switch {
		case err == nil:
		case errors.Is(err, context.Canceled):
			ended = err
		default:
			return err
		}
	}
	return ended
}
