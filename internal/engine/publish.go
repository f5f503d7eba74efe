package engine

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/store"
)

// publisher announces which runs have changed, at most some times a second however many change: open pages that show them then
// look anew.
type publisher struct {
	mu      sync.Mutex
	changes map[string]time.Time // when each run changed last, as project/environment/flow/run, what is not known of it left out; empty is any run
}

// How often changes are announced, and for how long after the last one: a change is noted a little before it is committed.
const (
	publishEvery = 100 * time.Millisecond
	publishFor   = 300 * time.Millisecond
)

// maxChanged bounds the runs that are announced by name: where more change, any run may have.
const maxChanged = 60

// changed notes that a run changes, and with it the one that started it.
func (e *Engine) changed(r store.Run) {
	e.publisher.note(r.Scope.String() + "/" + url.PathEscape(r.Flow) + "/" + r.ID.String())
	if r.Parent != nil {
		e.publisher.note(r.Scope.String() + "//" + r.Parent.String())
	}
}

// changedRun notes that a run changes of which the flow is not known, or not even the scope.
func (e *Engine) changedRun(s store.Scope, id uuid.UUID) {
	e.publisher.note(s.String() + "//" + id.String())
}

func (p *publisher) note(run string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.changes == nil {
		p.changes = map[string]time.Time{}
	}
	if len(p.changes) >= maxChanged {
		clear(p.changes)
		run = ""
	}
	p.changes[run] = time.Now()
}

// take gives the runs that have changed lately.
func (p *publisher) take() (runs []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for run, at := range p.changes {
		if time.Since(at) > publishFor+publishEvery {
			delete(p.changes, run)
			continue
		}
		runs = append(runs, run)
	}
	slices.Sort(runs)
	if len(runs) > 0 && runs[0] == "" {
		return runs[:1]
	}
	return runs
}

// publishRuns announces what has changed lately.
func (e *Engine) publishRuns(ctx context.Context) error {
	runs := e.publisher.take()
	if len(runs) == 0 {
		return nil
	}
	return store.PublishRuns(ctx, e.db, strings.Join(runs, " "))
}
