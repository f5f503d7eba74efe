package engine

import (
	"context"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/store"
)

// remembered bounds how long what is kept in memory is believed, though the database tells of every change.
const remembered = 5 * time.Minute

// notices say what of a process's memory holds: while it hears of changes, what it has read is as it was.
type notices struct{ hears atomic.Bool }

// listen hears what the database tells, until the context ends.
func (e *Engine) listen(ctx context.Context) {
	for ctx.Err() == nil {
		err := store.Listen(ctx, e.db, e.hears, e.noticed)
		e.notices.hears.Store(false)
		e.outside.Hears(false)
		if ctx.Err() == nil {
			e.opt.Log.Warn("listen for changes", "error", err)
			for _, pool := range []*pgxpool.Pool{e.db, e.quick, e.front()} {
				pool.Reset() // the other connections are probably gone, too
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// hears begins to believe what is read from now on: changes before were perhaps not heard.
func (e *Engine) hears() {
	e.triggers.forget()
	e.folders.forget()
	e.health.forget()
	e.draft.forget()
	e.outside.ReloadAll()
	e.outside.Hears(true)
	e.notices.hears.Store(true)
}

// noticed forgets what has changed.
func (e *Engine) noticed(what string) {
	kind, rest, _ := strings.Cut(what, " ")
	switch kind {
	case "deployment", "trigger":
		e.triggersChanged()
	case "setting":
		s, connection := scopeOf(rest)
		e.outside.Reload(s, connection)
		e.health.forget()
	case "secret":
		s, _ := scopeOf(rest)
		e.outside.Reload(s, "")
		e.health.forget()
	case "part":
		e.draft.forget()
		e.stir()
	case "runs", "health":
		e.stir()
	case "cancel":
		e.stops.soon()
	}
}

// scopeOf are the scope of what has changed, and what it is, as it is announced.
func scopeOf(announced string) (s store.Scope, what string) {
	scope, what, _ := strings.Cut(announced, " ")
	s.Project, s.Environment, _ = strings.Cut(scope, "/")
	return s, what
}

// stir lets the next look at the alerts be made: something has happened.
func (e *Engine) stir() {
	e.stirs.Store(true)
	e.alertsDue.stir(2 * e.opt.Alerts)
}

// triggers are what the environment runs, and which triggers are paused.
type triggers struct {
	mu          sync.Mutex
	changes     int // how often something changed
	keptAt      int // of changes; what is kept is as it was then
	read        time.Time
	deployments []store.Deployment
	paused      map[[2]string]bool
	routes      routes
}

func (t *triggers) forget() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.changes++
	t.read = time.Time{}
}

// PauseTrigger lets the trigger of a flow start nothing.
func (e *Engine) PauseTrigger(ctx context.Context, s store.Scope, flowID, by, reason string) error {
	defer e.triggersChanged()
	return store.Pause(ctx, e.db, s, flowID, by, reason)
}

// ResumeTrigger lets a paused trigger start runs again.
func (e *Engine) ResumeTrigger(ctx context.Context, s store.Scope, flowID string) error {
	defer e.triggersChanged()
	return store.Unpause(ctx, e.db, s, flowID)
}

// triggersChanged forgets what is remembered of triggers and deployments, which this process itself has just changed, too: others
// hear of it a moment later.
func (e *Engine) triggersChanged() {
	e.triggers.forget()
	e.folders.forget()
}

// watched are the flows of all projects as the environment runs them, and which triggers are paused.
func (e *Engine) watched(ctx context.Context) ([]store.Deployment, map[[2]string]bool, error) {
	t := &e.triggers
	t.mu.Lock()
	deployments, paused, before := t.deployments, t.paused, t.changes
	known := e.notices.hears.Load() && t.keptAt == t.changes && time.Since(t.read) < remembered
	t.mu.Unlock()
	if known {
		return deployments, paused, nil
	}
	read := time.Now()
	deployments, err := store.AllDeployments(ctx, e.front(), e.opt.Env)
	if err != nil {
		return nil, nil, err
	}
	if paused, err = store.Paused(ctx, e.front(), e.opt.Env); err != nil {
		return nil, nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.changes == before {
		t.deployments, t.paused, t.keptAt, t.read = deployments, paused, before, read
	}
	return deployments, paused, nil
}

// lead does what one of several workers of the environment does, whenever this one is it: it watches the triggers, the alerts and the
// connections, and removes what is not kept.
func (e *Engine) lead(ctx context.Context) {
	for ctx.Err() == nil {
		err := store.Lead(ctx, e.db, "workers of "+e.opt.Env, func(ctx context.Context) {
			e.folders.forget()
			var duties sync.WaitGroup
			e.each(ctx, &duties, e.opt.Look, "look for files", e.pollTriggers)
			e.each(ctx, &duties, e.opt.Alerts, "look at the alerts", e.watch)
			e.each(ctx, &duties, e.opt.Sweep, "remove what is not kept", e.sweep)
			e.each(ctx, &duties, min(time.Second, e.opt.Health), "look at the connections", e.watchHealth)
			duties.Wait()
		})
		if ctx.Err() == nil {
			e.opt.Log.Warn("lead the workers", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// wakeIn lets the workers look at the queue in a while, for a job that waits so long: else they do only now and then.
func (e *Engine) wakeIn(d time.Duration) {
	if d > pollEvery {
		return // the queue itself tells of those
	}
	time.AfterFunc(d+wakeLater, e.wake)
}

// wakeAfter is when the workers look at the queue once more behind an insert. Of several that come within milliseconds the queue
// tells once, and a worker may have looked before the last was committed.
var wakeAfter = [2]time.Duration{20 * time.Millisecond, 500 * time.Millisecond}

// wakeSoon lets the workers look at the queue a moment after a job was put into it, once for all of that moment.
func (e *Engine) wakeSoon() {
	for i, d := range wakeAfter {
		if e.wakes[i].Swap(true) {
			continue
		}
		time.AfterFunc(d, func() {
			e.wakes[i].Store(false)
			e.wake()
		})
	}
}

// wake lets the workers look at the queue now.
func (e *Engine) wake() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = store.WakeQueue(ctx, e.db, e.opt.Env) // else it is found at the next look
}

const (
	pollEvery = 20 * time.Second      // between two looks at the queue, of which every insert tells
	wakeLater = 60 * time.Millisecond // by when the queue has noted that a job waits
)
