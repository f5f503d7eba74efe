package engine

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"hollowreed/internal/store"
)

// Bounds of the recorder.
const (
	maxUnrecorded  = 256                    // runs that wait to be recorded; who comes then waits for its record
	recordAgain    = 250 * time.Millisecond // between two attempts, while the database is away
	recordAttempts = 3                      // for runs together; then each is recorded by itself
)

// recorder records runs behind their answers: those of calls that ask for nothing but an answer, and have changed nothing. They are
// recorded in the order in which they ended, many at a time, and again until it goes well; only with the process is a record lost.
// While it fails it takes no more, so that callers learn of it.
type recorder struct {
	record  func(ctx context.Context, list []store.WholeRun) ([]bool, error)
	after   func(w store.WholeRun) // behind the record
	log     *slog.Logger
	waiting chan store.WholeRun
	failing atomic.Bool
	mu      sync.RWMutex // against runs that come while it is closed
	closed  bool
	ended   chan struct{}
}

// newRecorder begins to record; close ends it.
func newRecorder(ctx context.Context, log *slog.Logger, record func(context.Context, []store.WholeRun) ([]bool, error), after func(store.WholeRun)) *recorder {
	r := &recorder{record: record, after: after, log: log, waiting: make(chan store.WholeRun, maxUnrecorded), ended: make(chan struct{})}
	go r.run(ctx)
	return r
}

// add takes a run over. Where it does not, the run is to be recorded in another way.
func (r *recorder) add(w store.WholeRun) bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if r.closed || r.failing.Load() {
		return false
	}
	select {
	case r.waiting <- w:
		return true
	default:
		return false
	}
}

// close takes no more, and waits until all is recorded, or the context ends.
func (r *recorder) close(ctx context.Context) {
	r.mu.Lock()
	if !r.closed {
		r.closed = true
		close(r.waiting)
	}
	r.mu.Unlock()
	select {
	case <-r.ended:
	case <-ctx.Done():
		r.log.Error("runs of calls that were answered are not recorded", "runs", len(r.waiting))
	}
}

func (r *recorder) run(ctx context.Context) {
	defer close(r.ended)
	for w := range r.waiting {
		r.recordAll(ctx, r.more([]store.WholeRun{w}))
	}
}

// more adds what waits beside.
func (r *recorder) more(list []store.WholeRun) []store.WholeRun {
	for len(list) < mostTogether {
		select {
		case w, ok := <-r.waiting:
			if !ok {
				return list
			}
			list = append(list, w)
		default:
			return list
		}
	}
	return list
}

func (r *recorder) recordAll(ctx context.Context, list []store.WholeRun) {
	defer r.failing.Store(false)
	for attempt := 1; ; attempt++ {
		_, err := r.record(ctx, list)
		if err == nil {
			for _, w := range list {
				r.after(w)
			}
			return
		}
		r.failing.Store(true)
		r.log.Warn("runs of calls that were answered wait to be recorded", "runs", len(list), "attempt", attempt, "error", err)
		if attempt >= recordAttempts && store.IsRefused(err) {
			r.recordEach(ctx, list)
			return
		}
		select {
		case <-time.After(recordAgain):
		case <-ctx.Done():
			r.log.Error("runs of calls that were answered are not recorded", "runs", len(list), "error", err)
			return
		}
	}
}

// recordEach records runs one by one, so that none fails for another.
func (r *recorder) recordEach(ctx context.Context, list []store.WholeRun) {
	for _, w := range list {
		if _, err := r.record(ctx, []store.WholeRun{w}); err != nil && !store.IsRecorded(err) { // an answer of the server may have been lost
			r.log.Error("the run of a call that was answered is not recorded", "run", w.Run.ID, "flow", w.Run.Flow, "error", err)
			continue
		}
		r.after(w)
	}
}
