package engine

import "sync"

// arrivals wakes those that wait for messages of channels.
type arrivals struct {
	mu      sync.Mutex
	waiting map[string]chan struct{}
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
