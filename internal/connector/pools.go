package connector

import (
	"sync"
	"time"
)

// Pools are the pools of several scopes, each opened when it is first used. Scopes share no connection, no breaker and no secret.
type Pools[Scope comparable] struct {
	source func(Scope) Source
	rules  Rules
	seen   func(of Scope, id string, took time.Duration, failed bool)
	mu     sync.Mutex
	hears  bool
	pools  map[Scope]*Pool
}

// NewPools makes pools with nothing open; source gives the setups of a scope.
func NewPools[Scope comparable](source func(Scope) Source, r Rules) *Pools[Scope] {
	return &Pools[Scope]{source: source, rules: r, pools: map[Scope]*Pool{}}
}

// Same makes pools of which every scope has the same setups.
func Same[Scope comparable](s Source, r Rules) *Pools[Scope] {
	return NewPools(func(Scope) Source { return s }, r)
}

// Observe tells of every use of a connection, as Pool does. It is called before the pools are used.
func (p *Pools[Scope]) Observe(seen func(of Scope, id string, took time.Duration, failed bool)) {
	p.seen = seen
}

// Of gives the pool of a scope.
func (p *Pools[Scope]) Of(s Scope) *Pool {
	p.mu.Lock()
	defer p.mu.Unlock()
	pool := p.pools[s]
	if pool == nil {
		pool = NewPool(p.source(s), p.rules)
		if p.seen != nil {
			pool.Observe(func(id string, took time.Duration, failed bool) { p.seen(s, id, took, failed) })
		}
		pool.Hears(p.hears)
		p.pools[s] = pool
	}
	return pool
}

// Hears says whether Reload is called for every change of settings and secrets, in any scope.
func (p *Pools[Scope]) Hears(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hears = on
	for _, pool := range p.pools {
		pool.Hears(on)
	}
}

// Reload makes the next use of a connection ask for its settings anew, as Pool does.
func (p *Pools[Scope]) Reload(s Scope, id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if pool := p.pools[s]; pool != nil {
		pool.Reload(id)
	}
}

// ReloadAll makes the next use of every connection ask for its settings anew.
func (p *Pools[Scope]) ReloadAll() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, pool := range p.pools {
		pool.Reload("")
	}
}

// Close closes all connections.
func (p *Pools[Scope]) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, pool := range p.pools {
		pool.Close()
	}
}
