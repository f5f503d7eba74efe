package connector

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"hollowreed/internal/core/fault"
)

// A breaker opens after this many failures in a row, and lets one call through after a pause.
const (
	breakAfter = 5
	breakPause = 10 * time.Second
)

// breaker keeps a system that does not answer from being called again and again. Only failures to reach the
// system count; a fault about the request is an answer.
type breaker struct {
	mu       sync.Mutex
	failures int
	until    time.Time
	why      string
}

// errOpen is a call that was not made since the breaker is open. It passes by itself.
type errOpen struct{ told string }

func (e *errOpen) Error() string { return e.told }

func (b *breaker) before(id string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.failures < breakAfter {
		return nil
	}
	now := time.Now()
	if now.Before(b.until) {
		return &errOpen{fmt.Sprintf("%s is not called: it failed %d times in a row (%s); tried again in %s", id, b.failures, b.why, b.until.Sub(now).Round(time.Second))}
	}
	b.until = now.Add(breakPause) // this call tries it; others wait for how it ends
	return nil
}

func (b *breaker) after(err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var f *fault.Fault
	if err == nil || errors.As(err, &f) {
		b.failures, b.why = 0, ""
		return
	}
	b.failures++
	b.why = err.Error()
	if b.failures >= breakAfter {
		b.until = time.Now().Add(breakPause)
	}
}

func (b *breaker) told() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.failures < breakAfter {
		return ""
	}
	left := max(0, time.Until(b.until))
	return fmt.Sprintf("not called after %d failures; tried again in %s", b.failures, left.Round(time.Second))
}
