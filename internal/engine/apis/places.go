package apis

import "sync"

// Places bound how much is done at once, by name. The zero value is ready to use.
type Places struct {
	mu  sync.Mutex
	now map[string]int
}

// Enter takes a place of so many; leave gives it back. It is nil where there is none.
func (p *Places) Enter(name string, most int) (leave func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.now[name] >= most {
		return nil
	}
	if p.now == nil {
		p.now = map[string]int{}
	}
	p.now[name]++
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.now[name]--; p.now[name] == 0 {
			delete(p.now, name)
		}
	}
}
