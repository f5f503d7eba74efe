package running

import (
	"context"
	"errors"
	"sync"
)

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

// StartBeside lets items pass steps beside the batch; it ends only when they have.
func (b *Batch) StartBeside(ctx context.Context, steps []*PlannedStep, items []*Item) {
	s := b.aside()
	sub := b.Fork()
	b.Parallel(&s.wg, func() {
		_, err := sub.Advance(ctx, steps, append([]*Item(nil), items...))
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
		b.Join(sub)
	}
	return firstCause(s.errs)
}

// Together does parts of the work at the same time, each with a batch of its own; the first error ends the others.
func (b *Batch) Together(ctx context.Context, n int, do func(ctx context.Context, sub *Batch, i int) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	subs, errs := make([]*Batch, n), make([]error, n)
	var wg sync.WaitGroup
	for i := range n {
		subs[i] = b.Fork()
		b.Parallel(&wg, func() {
			if errs[i] = do(ctx, subs[i], i); errs[i] != nil {
				cancel()
			}
		})
	}
	wg.Wait()
	for _, sub := range subs {
		b.Join(sub)
	}
	return firstCause(errs)
}

// Parallel does work beside other work; one after the other where somebody watches.
func (b *Batch) Parallel(wg *sync.WaitGroup, do func()) {
	if b.Watcher != nil {
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
