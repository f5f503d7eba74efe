package engine

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"hollowreed/internal/store"
)

// healthTime bounds how long one connection may take to say that it is there.
const healthTime = 5 * time.Second

// looked says when the connections were last looked at, and which there are.
type looked struct {
	mu   sync.Mutex
	at   time.Time
	ids  map[string][]string // by project
	read time.Time           // when the connections were last asked for
}

// forget lets them be looked at where their settings have changed.
func (l *looked) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.at, l.read = time.Time{}, time.Time{}
}

// due says whether it is time to look, and notes that somebody does; known are the connections, nil where they are to be asked for.
func (l *looked) due(every time.Duration, hears bool) (known map[string][]string, due bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	if now.Sub(l.at) < every {
		return nil, false
	}
	l.at = now
	if !hears || now.Sub(l.read) > remembered {
		l.read = now // what changes from now on is heard of
		return nil, true
	}
	return l.ids, true
}

// keep remembers the connections, unless their settings have changed since they were asked for.
func (l *looked) keep(ids map[string][]string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ids = ids
}

// watchHealth looks whether the connections of the environment answer.
func (e *Engine) watchHealth(ctx context.Context) error {
	ids, due := e.health.due(e.opt.Health*9/10, e.notices.hears.Load())
	if !due {
		return nil
	}
	if ids == nil {
		var err error
		if ids, err = store.Configured(ctx, e.db, e.opt.Env); err != nil {
			e.health.forget()
			return err
		}
		e.health.keep(ids)
	}
	projects := slices.Sorted(maps.Keys(ids))
	errs := make([]error, len(projects))
	var all sync.WaitGroup // a project whose systems are slow keeps no other one waiting
	for i, project := range projects {
		all.Go(func() { errs[i] = e.watchHealthOf(ctx, e.in(project), ids[project]) })
	}
	all.Wait()
	return errors.Join(errs...)
}

func (e *Engine) watchHealthOf(ctx context.Context, s store.Scope, ids []string) error {
	list := make([]store.Health, len(ids))
	var all sync.WaitGroup
	for i, id := range ids {
		all.Go(func() { list[i] = e.healthOf(ctx, s, id) })
	}
	all.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	_, err := store.SaveHealth(ctx, e.db, s, list...)
	return err
}

func (e *Engine) healthOf(ctx context.Context, s store.Scope, id string) store.Health {
	ctx, cancel := context.WithTimeout(ctx, healthTime)
	defer cancel()
	began := time.Now()
	err := e.outside.Of(s).Check(ctx, id)
	h := store.Health{Connection: id, Well: err == nil, TookMS: int(time.Since(began).Milliseconds())}
	if err != nil {
		h.Fault = plainError(err)
	}
	return h
}
