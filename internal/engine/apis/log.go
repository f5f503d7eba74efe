package apis

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"hollowreed/internal/store"
)

// Log keeps calls behind the answers: those that came in within a moment together. Where more come than can be kept, the rest is
// counted and told.
type Log struct {
	db   *store.Pool
	log  *slog.Logger
	mu   sync.Mutex
	list []store.LoggedCall
	lost int
}

// Bounds on what waits to be kept.
const (
	mostLogged = 20_000
	LogEvery   = 500 * time.Millisecond
)

// NewLog has nothing to keep.
func NewLog(db *store.Pool, log *slog.Logger) *Log { return &Log{db: db, log: log} }

// Add notes a call.
func (l *Log) Add(c store.LoggedCall) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.list) >= mostLogged {
		l.lost++
		return
	}
	l.list = append(l.list, c)
}

// Save keeps what was noted.
func (l *Log) Save(ctx context.Context) error {
	l.mu.Lock()
	list, lost := l.list, l.lost
	l.list, l.lost = nil, 0
	l.mu.Unlock()
	if lost > 0 {
		l.log.Warn("calls of APIs not logged: too many", "calls", lost)
	}
	if len(list) == 0 {
		return nil
	}
	err := store.AddLoggedCalls(ctx, l.db, list)
	if err != nil {
		l.mu.Lock()
		if len(l.list)+len(list) <= mostLogged { // they are tried again
			l.list = append(list, l.list...)
		} else {
			l.lost += len(list)
		}
		l.mu.Unlock()
	}
	return err
}
