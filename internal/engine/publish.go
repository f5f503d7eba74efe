package engine

import (
	"context"
	"sync/atomic"
	"time"

	"hollowreed/internal/store"
)

// teller announces that runs have changed, at most some times a second however many change: open pages then look anew.
type teller struct{ last atomic.Int64 }

// How often changes are announced, and for how long after the last one: a change is noted a little before it is committed.
const (
	tellEvery = 100 * time.Millisecond
	tellAfter = 300 * time.Millisecond
)

// changed notes that a run changes.
func (e *Engine) changed() { e.teller.last.Store(time.Now().UnixNano()) }

// tellRuns announces what has changed lately.
func (e *Engine) tellRuns(ctx context.Context) error {
	if time.Since(time.Unix(0, e.teller.last.Load())) > tellAfter+tellEvery {
		return nil
	}
	return store.PublishRuns(ctx, e.db)
}
