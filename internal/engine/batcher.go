package engine

import (
	"context"
	"sync"
)

// batcher does at one go what several ask for at the same time: while one go is under way, what is asked meanwhile
// gathers for the next. Who asks alone does it himself, at once.
type batcher[Q, A any] struct {
	do      func(ctx context.Context, list []Q) ([]A, error) // an answer for each
	ctx     context.Context                                  // of what is done
	mu      sync.Mutex
	busy    bool // a go is under way
	waiting []batchRequest[Q, A]
}

type batchRequest[Q, A any] struct {
	what Q
	told chan batchResult[A]
}

type batchResult[A any] struct {
	answer A
	err    error
}

// mostTogether bounds one go.
const mostTogether = 64

// newBatcher makes one whose work ends with the context.
func newBatcher[Q, A any](ctx context.Context, do func(ctx context.Context, list []Q) ([]A, error)) *batcher[Q, A] {
	return &batcher[Q, A]{do: do, ctx: ctx}
}

// ask waits for its answer. A go that fails as a whole is done again for each by itself, so that nobody fails for another.
func (t *batcher[Q, A]) ask(ctx context.Context, what Q) (answer A, err error) {
	a := batchRequest[Q, A]{what, make(chan batchResult[A], 1)}
	t.mu.Lock()
	if !t.busy {
		t.busy = true
		t.mu.Unlock()
		t.alone(ctx, a)
	} else {
		t.waiting = append(t.waiting, a)
		t.mu.Unlock()
	}
	select {
	case got := <-a.told:
		return got.answer, got.err
	case <-ctx.Done():
		return answer, ctx.Err()
	}
}

// alone does what one asks, until that one waits no longer. Those who wait meanwhile come next, whatever becomes of it: also when
// it panics, which whoever asks may survive.
func (t *batcher[Q, A]) alone(ctx context.Context, a batchRequest[Q, A]) {
	defer t.next()
	own, cancel := context.WithCancel(t.ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, cancel)
	defer stop()
	t.serve(own, []batchRequest[Q, A]{a})
}

// next lets what was asked meanwhile be done, without keeping who asked first.
func (t *batcher[Q, A]) next() {
	if list := t.gathered(); list != nil {
		go func() {
			for ; list != nil; list = t.gathered() {
				t.serve(t.ctx, list)
			}
		}()
	}
}

// gathered takes what waits; nil where nothing does, and then nothing is under way.
func (t *batcher[Q, A]) gathered() []batchRequest[Q, A] {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := min(len(t.waiting), mostTogether)
	if n == 0 {
		t.busy = false
		return nil
	}
	list := t.waiting[:n:n]
	t.waiting = append([]batchRequest[Q, A](nil), t.waiting[n:]...)
	return list
}

// serve is one go.
func (t *batcher[Q, A]) serve(ctx context.Context, list []batchRequest[Q, A]) {
	what := make([]Q, len(list))
	for i, a := range list {
		what[i] = a.what
	}
	answers, err := t.do(ctx, what)
	if err != nil && len(list) > 1 {
		for i := range list {
			t.serve(ctx, list[i:i+1])
		}
		return
	}
	for i, a := range list {
		got := batchResult[A]{err: err}
		if err == nil {
			got.answer = answers[i]
		}
		a.told <- got
	}
}
