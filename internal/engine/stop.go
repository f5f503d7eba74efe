package engine

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/store"
)

// active are the runs that a process works on, to end them when somebody asks for it.
type active struct {
	mu   sync.Mutex
	runs map[uuid.UUID]context.CancelCauseFunc
}

func (a *active) add(id uuid.UUID, cancel context.CancelCauseFunc) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.runs == nil {
		a.runs = map[uuid.UUID]context.CancelCauseFunc{}
	}
	a.runs[id] = cancel
}

func (a *active) drop(id uuid.UUID) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.runs, id)
}

// list names them.
func (a *active) list() []uuid.UUID {
	a.mu.Lock()
	defer a.mu.Unlock()
	return append([]uuid.UUID{}, slices.Collect(maps.Keys(a.runs))...)
}

// grace is how long a batch may go on in a run that somebody asked to stop; what it has done then counts.
const grace = time.Second

// heed ends the work on runs that somebody asked to stop and whose batch does not end by itself, and takes those on that
// rest.
func (e *Engine) heed(ctx context.Context) error {
	if err := store.WakeCancelled(ctx, e.db); err != nil {
		return err
	}
	ids := e.active.list()
	if len(ids) == 0 {
		return nil
	}
	stop, err := store.Cancelled(ctx, e.db, ids, grace)
	e.active.mu.Lock()
	defer e.active.mu.Unlock()
	for _, id := range stop {
		if cancel := e.active.runs[id]; cancel != nil {
			cancel(errCancelled)
		}
	}
	return err
}
