package system

import (
	"context"
	"sync"

	"hollowreed/internal/core/notation"
)

// Passed counts what is passed over in answers because their schemas lack it.
type Passed struct {
	mu      sync.Mutex
	ignored notation.Ignored
}

type passing struct{}

// CountPassed gives a context in which what is passed over in answers is counted.
func CountPassed(ctx context.Context) (context.Context, *Passed) {
	p := &Passed{}
	return context.WithValue(ctx, passing{}, p), p
}

// PassOver adds what a reader of an answer has passed over, where somebody counts it.
func PassOver(ctx context.Context, ignored *notation.Ignored) {
	if p, counts := ctx.Value(passing{}).(*Passed); counts && len(ignored.Paths()) > 0 {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.ignored.AddAll(ignored)
	}
}

// Fields are the fields that were passed over so far, with how often each was; nil where there were none.
func (p *Passed) Fields() map[string]int {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.ignored.Paths()) == 0 {
		return nil
	}
	return p.ignored.Fields()
}
