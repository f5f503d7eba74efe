package engine

import (
	"context"
	"sync"
	"time"

	"hollowreed/internal/store"
)

// healthTime bounds how long one connection may take to say that it is there.
const healthTime = 5 * time.Second

// looked says when the connections were last looked at.
type looked struct {
	mu sync.Mutex
	at time.Time
}

// forget lets them be looked at where their settings have changed.
func (l *looked) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.at = time.Time{}
}

// due says whether it is time to look, and notes that somebody does.
func (l *looked) due(every time.Duration) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	if now.Sub(l.at) < every {
		return false
	}
	l.at = now
	return true
}

// watchHealth looks whether the connections answer that nobody has looked at for a while.
func (e *Engine) watchHealth(ctx context.Context) error {
	if e.opt.Project == "" || !e.health.due(e.opt.Health*9/10) {
		return nil
	}
	due, err := store.HealthDue(ctx, e.db, e.opt.Project, e.opt.Env, e.opt.Health*3/4)
	if err != nil || len(due) == 0 {
		return err
	}
	list := make([]store.Health, len(due))
	var all sync.WaitGroup
	for i, id := range due {
		all.Go(func() { list[i] = e.healthOf(ctx, id) })
	}
	all.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	_, err = store.SaveHealth(ctx, e.db, e.opt.Project, e.opt.Env, list...)
	return err
}

func (e *Engine) healthOf(ctx context.Context, id string) store.Health {
	ctx, cancel := context.WithTimeout(ctx, healthTime)
	defer cancel()
	began := time.Now()
	err := e.outside.Check(ctx, id)
	h := store.Health{Connection: id, Well: err == nil, TookMS: int(time.Since(began).Milliseconds())}
	if err != nil {
		h.Fault = plainError(err)
	}
	return h
}
