package engine

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
)

// active are the runs that a process works on, to end them when somebody asks for it.
type active struct {
	mu   sync.Mutex
	runs map[uuid.UUID][]*context.CancelCauseFunc // more than one where a run was taken on again before the first knew of it
}

// add notes that a run is worked on, until drop is called.
func (a *active) add(id uuid.UUID, cancel context.CancelCauseFunc) (drop func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.runs == nil {
		a.runs = map[uuid.UUID][]*context.CancelCauseFunc{}
	}
	own := &cancel
	a.runs[id] = append(a.runs[id], own)
	return func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.runs[id] = slices.DeleteFunc(a.runs[id], func(c *context.CancelCauseFunc) bool { return c == own }); len(a.runs[id]) == 0 {
			delete(a.runs, id)
		}
	}
}

// has says whether a run is worked on.
func (a *active) has(id uuid.UUID) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.runs[id]) > 0
}

// list names them.
func (a *active) list() []uuid.UUID {
	a.mu.Lock()
	defer a.mu.Unlock()
	return append([]uuid.UUID{}, slices.Collect(maps.Keys(a.runs))...)
}

// stops say when to look whether somebody asked a run to stop: for a while after that was heard, else now and then.
type stops struct {
	mu     sync.Mutex
	until  time.Time
	looked time.Time
}

func (s *stops) soon() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.until = time.Now().Add(grace + 2*time.Second)
}

func (s *stops) due(hears bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	if hears && now.After(s.until) && now.Sub(s.looked) < shared.Remembered {
		return false
	}
	s.looked = now
	return true
}

// grace is how long a batch may go on in a run that somebody asked to stop; what it has done then counts.
const grace = time.Second

// applyCancellations ends the work on runs that somebody asked to stop and whose batch does not end by itself, and takes those on that
// rest.
func (e *Engine) applyCancellations(ctx context.Context) error {
	if !e.stops.due(e.hearing.Load()) {
		return nil
	}
	if err := store.WakeCancelled(ctx, e.db, e.opt.Env); err != nil {
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
		for _, cancel := range e.active.runs[id] {
			(*cancel)(errCancelled)
		}
	}
	return err
}
