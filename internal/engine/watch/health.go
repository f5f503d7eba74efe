package watch

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
)

// healthTime bounds how long one connection may take to say that it is there.
const healthTime = 5 * time.Second

// Health looks whether the connections of an environment answer. One of its workers does.
type Health struct {
	db      *pgxpool.Pool
	outside *shared.Connections
	hearing *shared.Hearing
	env     string
	every   time.Duration // between two looks at a connection
	looked  looked
}

// NewHealth makes a watch of the connections of an environment.
func NewHealth(db *pgxpool.Pool, outside *shared.Connections, h *shared.Hearing, env string, every time.Duration) *Health {
	return &Health{db: db, outside: outside, hearing: h, env: env, every: every}
}

// Forget lets the connections be asked for, and looked at, anew.
func (w *Health) Forget() { w.looked.forget() }

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
	if !hears || now.Sub(l.read) > shared.Remembered {
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

// Look looks whether the connections of the environment answer.
func (w *Health) Look(ctx context.Context) error {
	ids, due := w.looked.due(w.every*9/10, w.hearing.Load())
	if !due {
		return nil
	}
	if ids == nil {
		var err error
		if ids, err = store.Configured(ctx, w.db, w.env); err != nil {
			w.looked.forget()
			return err
		}
		w.looked.keep(ids)
	}
	projects := slices.Sorted(maps.Keys(ids))
	errs := make([]error, len(projects))
	var all sync.WaitGroup // a project whose systems are slow keeps no other one waiting
	for i, id := range projects {
		all.Go(func() { errs[i] = w.project(ctx, store.Scope{Project: id, Environment: w.env}, ids[id]) })
	}
	all.Wait()
	return errors.Join(errs...)
}

func (w *Health) project(ctx context.Context, s store.Scope, ids []string) error {
	list := make([]store.Health, len(ids))
	var all sync.WaitGroup
	for i, id := range ids {
		all.Go(func() { list[i] = w.one(ctx, s, id) })
	}
	all.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	_, err := store.SaveHealth(ctx, w.db, s, list...)
	return err
}

func (w *Health) one(ctx context.Context, s store.Scope, id string) store.Health {
	ctx, cancel := context.WithTimeout(ctx, healthTime)
	defer cancel()
	began := time.Now()
	err := w.outside.Of(s).Check(ctx, id)
	h := store.Health{Connection: id, Healthy: err == nil, ResponseMS: int(time.Since(began).Milliseconds())}
	if err != nil {
		h.Fault = shared.PlainError(err)
	}
	return h
}
