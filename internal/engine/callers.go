package engine

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/store"
)

// callers are those who wait for the answer of a run that they have started. How many there are is bounded, and how many of one
// address, so that nobody shuts out the others; they are woken when their run is over, and ask for nothing meanwhile.
type callers struct {
	most, each int
	mu         sync.Mutex
	all        int
	of         map[string]int // by address
	waiting    map[uuid.UUID][]chan struct{}
}

// admit takes a caller in; leave lets it go. It is nil where there is no place.
func (w *callers) admit(client string) (leave func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all >= w.most || w.of[client] >= w.each {
		return nil
	}
	if w.of == nil {
		w.of = map[string]int{}
	}
	w.all++
	w.of[client]++
	return func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.all--
		if w.of[client]--; w.of[client] == 0 {
			delete(w.of, client)
		}
	}
}

// errManyCallers is why a request is refused for now.
func errManyCallers() *Rejected {
	return refused(429, fault.New(fault.Limit, "so many callers wait for an answer that this one has to come again")) // RFC 6585, section 4
}

// on waits for the end of a run; done ends the waiting.
func (w *callers) on(run uuid.UUID) (over chan struct{}, done func()) {
	over = make(chan struct{}, 1)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.waiting == nil {
		w.waiting = map[uuid.UUID][]chan struct{}{}
	}
	w.waiting[run] = append(w.waiting[run], over)
	return over, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		left := slices.DeleteFunc(w.waiting[run], func(c chan struct{}) bool { return c == over })
		if w.waiting[run] = left; len(left) == 0 {
			delete(w.waiting, run)
		}
	}
}

// wake wakes those who wait for a run.
func (w *callers) wake(run uuid.UUID) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range w.waiting[run] {
		select {
		case c <- struct{}{}:
		default: // it is awake already
		}
	}
}

// runs are those that somebody waits for.
func (w *callers) runs() []uuid.UUID {
	w.mu.Lock()
	defer w.mu.Unlock()
	list := make([]uuid.UUID, 0, len(w.waiting))
	for id := range w.waiting {
		list = append(list, id)
	}
	return list
}

// wakeCallers wakes those whose run another worker has ended.
func (e *Engine) wakeCallers(ctx context.Context) error {
	list := e.callers.runs()
	if len(list) == 0 {
		return nil
	}
	over, err := store.EndedOf(ctx, e.db, list)
	for _, id := range over {
		e.callers.wake(id)
	}
	return err
}

// Ended waits until the run of a call is over, for as long as its caller waits. The run is given as it is then.
func (e *Engine) Ended(ctx context.Context, t *Accepted) (store.Run, error) {
	switch {
	case t.Finished != nil:
		return *t.Finished, nil
	case t.over == nil:
		return e.WaitForEnd(ctx, t.Run, t.Wait)
	}
	defer t.left()
	select {
	case <-ctx.Done():
		return store.Run{}, ctx.Err()
	case <-t.over:
	case <-time.After(t.Wait):
	}
	return store.RunByID(ctx, e.front(), t.Run)
}

// WaitForEnd waits until a run is over, for a time. The run is given as it is then.
func (e *Engine) WaitForEnd(ctx context.Context, run uuid.UUID, within time.Duration) (store.Run, error) {
	over, done := e.callers.on(run)
	defer done()
	r, err := store.RunByID(ctx, e.front(), run)
	if err != nil || r.Ended() || within <= 0 {
		return r, err
	}
	select {
	case <-ctx.Done():
		return r, ctx.Err()
	case <-over:
	case <-time.After(within):
	}
	return store.RunByID(ctx, e.front(), run)
}
