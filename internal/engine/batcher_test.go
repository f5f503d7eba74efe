package engine

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/testkit"
)

// gate is a go that waits until it is let through, and notes how many came at once.
type gate struct {
	begun chan int
	pass  chan struct{}
}

func (g *gate) double(ctx context.Context, list []int) ([]int, error) {
	g.begun <- len(list)
	select {
	case <-g.pass:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	out := make([]int, len(list))
	for i, n := range list {
		if n < 0 {
			return nil, fmt.Errorf("%d is refused", n)
		}
		out[i] = 2 * n
	}
	return out, nil
}

// waits is how many wait for the next go.
func waits(tg *batcher[int, int]) int {
	tg.mu.Lock()
	defer tg.mu.Unlock()
	return len(tg.waiting)
}

// asked asks for all of a list at the same time.
func asked(t *testing.T, tg *batcher[int, int], list ...int) (wait func() map[int]string) {
	t.Helper()
	var wg sync.WaitGroup
	var mu sync.Mutex
	got := map[int]string{}
	for _, n := range list {
		wg.Go(func() {
			answer, err := tg.ask(t.Context(), n)
			mu.Lock()
			defer mu.Unlock()
			if got[n] = fmt.Sprint(answer); err != nil {
				got[n] = err.Error()
			}
		})
	}
	return func() map[int]string { wg.Wait(); return got }
}

// TestWhatIsAskedMeanwhileIsDoneTogether: who asks alone is served alone; what is asked while a go is under way is the
// next one, and each gets its own answer.
func TestWhatIsAskedMeanwhileIsDoneTogether(t *testing.T) {
	g := &gate{begun: make(chan int), pass: make(chan struct{})}
	tg := newBatcher(t.Context(), g.double)
	first := asked(t, tg, 1)
	require.Equal(t, 1, <-g.begun)
	rest := asked(t, tg, 2, 3, 4, 5)
	testkit.Until(t, "the others to wait", func() (int, bool) { n := waits(tg); return n, n == 4 })
	g.pass <- struct{}{}
	require.Equal(t, map[int]string{1: "2"}, first())
	require.Equal(t, 4, <-g.begun)
	g.pass <- struct{}{}
	require.Equal(t, map[int]string{2: "4", 3: "6", 4: "8", 5: "10"}, rest())
}

// TestBatcherIsolatesFailures: a go that fails is done again for each by itself.
func TestBatcherIsolatesFailures(t *testing.T) {
	g := &gate{begun: make(chan int, 100), pass: make(chan struct{})}
	tg := newBatcher(t.Context(), g.double)
	first := asked(t, tg, 1)
	<-g.begun
	rest := asked(t, tg, 2, -3, 4)
	testkit.Until(t, "the others to wait", func() (int, bool) { n := waits(tg); return n, n == 3 })
	close(g.pass)
	first()
	require.Equal(t, map[int]string{2: "4", -3: "-3 is refused", 4: "8"}, rest())
	require.Equal(t, []int{3, 1, 1, 1}, []int{<-g.begun, <-g.begun, <-g.begun, <-g.begun})
}

// TestWhoDoesNotWaitAnyLongerIsLetGo: and the others get their answers.
func TestWhoDoesNotWaitAnyLongerIsLetGo(t *testing.T) {
	g := &gate{begun: make(chan int), pass: make(chan struct{})}
	tg := newBatcher(t.Context(), g.double)
	ctx, cancel := context.WithCancel(t.Context())
	gone := make(chan error)
	go func() {
		_, err := tg.ask(ctx, 7)
		gone <- err
	}()
	<-g.begun
	cancel()
	require.ErrorIs(t, <-gone, context.Canceled)
	next := asked(t, tg, 8)
	<-g.begun
	g.pass <- struct{}{}
	require.Equal(t, map[int]string{8: "16"}, next())
}

// TestAPanicHoldsUpNoOtherOne: who asks alone does the work himself. When that panics, those who wait are served all the same.
func TestAPanicHoldsUpNoOtherOne(t *testing.T) {
	g := &gate{begun: make(chan int), pass: make(chan struct{})}
	tg := newBatcher(t.Context(), func(ctx context.Context, list []int) ([]int, error) {
		answers, err := g.double(ctx, list)
		if list[0] == 13 {
			panic("thirteen")
		}
		return answers, err
	})
	panicked := make(chan any)
	go func() {
		defer func() { panicked <- recover() }()
		_, _ = tg.ask(t.Context(), 13)
	}()
	<-g.begun
	rest := asked(t, tg, 2, 3)
	testkit.Until(t, "the others to wait", func() (int, bool) { n := waits(tg); return n, n == 2 })
	g.pass <- struct{}{}
	require.Equal(t, "thirteen", <-panicked)
	require.Equal(t, 2, <-g.begun)
	g.pass <- struct{}{}
	require.Equal(t, map[int]string{2: "4", 3: "6"}, rest())
}
