package engine

import "context"

// batcher does at one go what several ask for at the same time: while one go is under way, what is asked meanwhile
// gathers for the next. Who asks alone is served at once.
type batcher[Q, A any] struct {
	do   func(ctx context.Context, list []Q) ([]A, error) // an answer for each
	asks chan batchRequest[Q, A]
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

// newBatcher begins to serve, until the context ends.
func newBatcher[Q, A any](ctx context.Context, do func(ctx context.Context, list []Q) ([]A, error)) *batcher[Q, A] {
	t := &batcher[Q, A]{do: do, asks: make(chan batchRequest[Q, A], mostTogether)}
	go t.serve(ctx)
	return t
}

// ask waits for its answer. A go that fails as a whole is done again for each by itself, so that nobody fails for another.
func (t *batcher[Q, A]) ask(ctx context.Context, what Q) (answer A, err error) {
	a := batchRequest[Q, A]{what, make(chan batchResult[A], 1)}
	select {
	case t.asks <- a:
	case <-ctx.Done():
		return answer, ctx.Err()
	}
	select {
	case got := <-a.told:
		return got.answer, got.err
	case <-ctx.Done():
		return answer, ctx.Err()
	}
}

func (t *batcher[Q, A]) serve(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case first := <-t.asks:
			t.serveAll(ctx, t.gathered(first))
		}
	}
}

func (t *batcher[Q, A]) gathered(first batchRequest[Q, A]) []batchRequest[Q, A] {
	list := []batchRequest[Q, A]{first}
	for len(list) < mostTogether {
		select {
		case a := <-t.asks:
			list = append(list, a)
		default:
			return list
		}
	}
	return list
}

// serveAll is one go.
func (t *batcher[Q, A]) serveAll(ctx context.Context, list []batchRequest[Q, A]) {
	what := make([]Q, len(list))
	for i, a := range list {
		what[i] = a.what
	}
	answers, err := t.do(ctx, what)
	if err != nil && len(list) > 1 {
		for i := range list {
			t.serveAll(ctx, list[i:i+1])
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
