package engine

import "context"

// together does at one go what several ask for at the same time: while one go is under way, what is asked meanwhile
// gathers for the next. Who asks alone is served at once.
type together[Q, A any] struct {
	do   func(ctx context.Context, list []Q) ([]A, error) // an answer for each
	asks chan asking[Q, A]
}

type asking[Q, A any] struct {
	what Q
	told chan told[A]
}

type told[A any] struct {
	answer A
	err    error
}

// mostTogether bounds one go.
const mostTogether = 64

// newTogether begins to serve, until the context ends.
func newTogether[Q, A any](ctx context.Context, do func(ctx context.Context, list []Q) ([]A, error)) *together[Q, A] {
	t := &together[Q, A]{do: do, asks: make(chan asking[Q, A], mostTogether)}
	go t.serve(ctx)
	return t
}

// ask waits for its answer. A go that fails as a whole is done again for each by itself, so that nobody fails for another.
func (t *together[Q, A]) ask(ctx context.Context, what Q) (answer A, err error) {
	a := asking[Q, A]{what, make(chan told[A], 1)}
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

func (t *together[Q, A]) serve(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case first := <-t.asks:
			t.serveAll(ctx, t.gathered(first))
		}
	}
}

func (t *together[Q, A]) gathered(first asking[Q, A]) []asking[Q, A] {
	list := []asking[Q, A]{first}
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
func (t *together[Q, A]) serveAll(ctx context.Context, list []asking[Q, A]) {
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
		got := told[A]{err: err}
		if err == nil {
			got.answer = answers[i]
		}
		a.told <- got
	}
}
