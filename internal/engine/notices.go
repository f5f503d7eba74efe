package engine

import (
	"context"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/store"
)

// listen hears what the database tells, until the context ends.
func (e *Engine) listen(ctx context.Context) {
	for ctx.Err() == nil {
		err := store.Listen(ctx, e.db, e.hears, e.noticed)
		e.hearing.Store(false)
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
	e.deployments.Forget()
	e.triggers.Forget()
	e.health.Forget()
	e.alerts.Forget()
	e.apiCallers.Forget()
	e.responses.Clear()
	e.triggers.Stir(store.Scope{}, "")
	e.outside.ReloadAll()
	e.outside.Hears(true)
	e.hearing.Store(true)
}

// noticed forgets what has changed.
func (e *Engine) noticed(what string) {
	kind, rest, _ := strings.Cut(what, " ")
	switch kind {
	case "deployment", "trigger":
		e.triggersChanged()
		e.triggers.Stir(store.Scope{}, "")
	case "message":
		s, channel := scopeOf(rest)
		e.triggers.Stir(s, channel)
		e.arrivals.came(rest)
	case "caller":
		e.apiCallers.Forget()
	case "responses":
		s, api := scopeOf(rest)
		e.responses.Empty(s, api)
	case "setting":
		s, connection := scopeOf(rest)
		e.outside.Reload(s, connection)
		e.responses.Clear()
		e.health.Forget()
	case "secret":
		s, _ := scopeOf(rest)
		e.outside.Reload(s, "")
		e.health.Forget()
	case "part":
		e.alerts.Forget()
		e.alerts.Stir()
	case "runs", "health":
		e.alerts.Stir()
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
	e.deployments.Forget()
	e.triggers.Forget()
}

// lead does what one of several workers of the environment does, whenever this one is it: it watches the triggers, the alerts and the
// connections, and removes what is not kept.
func (e *Engine) lead(ctx context.Context) {
	for ctx.Err() == nil {
		err := store.Lead(ctx, e.db, "workers of "+e.opt.Env, func(ctx context.Context) {
			e.triggers.Forget()
			var duties sync.WaitGroup
			e.each(ctx, &duties, e.opt.PollInterval, "look for files", e.triggers.PollAll)
			duties.Go(func() { e.triggers.ReadChannels(ctx) })
			e.each(ctx, &duties, e.opt.Alerts, "look at the alerts", e.alerts.Look)
			e.each(ctx, &duties, e.opt.Sweep, "remove what is not kept", e.sweeping.Sweep)
			e.each(ctx, &duties, min(time.Second, e.opt.Health), "look at the connections", e.health.Look)
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
