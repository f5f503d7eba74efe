package engine

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"hollowreed/internal/store"
)

// arrivals wakes those that wait for messages of channels.
type arrivals struct {
	mu      sync.Mutex
	waiting map[string]chan struct{}
	untold  map[string]bool // channels of whose messages other processes are not told yet
}

// tellAfter is for how long what came is gathered before other processes are told.
const tellAfter = 15 * time.Millisecond

// messagesCame wakes those of this process that wait for messages of channels, and tells the others soon.
func (e *Engine) messagesCame(s store.Scope, names []string) {
	for _, name := range names {
		e.arrivals.came(s.String() + " " + name)
		e.triggers.Stir(s, name)
		e.arrivals.tell(s.String()+" "+name, func(channels []string) {
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			if err := store.AnnounceMessages(ctx, e.front(), channels); err != nil {
				e.opt.Log.Warn("messages not announced", "error", err)
			}
		})
	}
}

// tell gathers channels for a moment, and then tells of all of them.
func (a *arrivals) tell(channel string, do func(channels []string)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.untold == nil {
		a.untold = map[string]bool{}
	}
	if a.untold[channel] = true; len(a.untold) > 1 {
		return
	}
	time.AfterFunc(tellAfter, func() {
		a.mu.Lock()
		list := slices.Collect(maps.Keys(a.untold))
		a.untold = nil
		a.mu.Unlock()
		do(list)
	})
}

// next is closed when the next message comes to a channel.
func (a *arrivals) next(channel string) <-chan struct{} {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.waiting == nil {
		a.waiting = map[string]chan struct{}{}
	}
	if a.waiting[channel] == nil {
		a.waiting[channel] = make(chan struct{})
	}
	return a.waiting[channel]
}

// came wakes those that wait for messages of a channel.
func (a *arrivals) came(channel string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if w := a.waiting[channel]; w != nil {
		close(w)
		delete(a.waiting, channel)
	}
}

// Arrival is closed when the next message comes to a channel of a scope, whose name stands behind a blank.
func (e *Engine) Arrival(channel string) <-chan struct{} { return e.arrivals.next(channel) }
