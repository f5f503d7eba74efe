package apis

import (
	"container/list"
	"sync"
	"time"

	"hollowreed/internal/store"
)

// Response is one that is kept.
type Response struct {
	Status int
	Header map[string][]string
	Body   []byte
	Stored time.Time
	Fresh  time.Time // until when it is sent as it is
	Stale  time.Time // until when it is sent while a new one is fetched
}

// ResponseKey tells kept responses apart.
type ResponseKey struct {
	Scope     store.Scope
	API       string
	Operation string
	Release   [2]any // what answers, as it was released: after another release it is another one
	Key       string
}

// Bounds on what a process keeps.
const (
	MostOfResponse = 1 << 20  // bytes of a body
	mostKept       = 64 << 20 // bytes of all of them, with what they need beside the body
	responseRest   = 1 << 10  // bytes that one needs beside its body, about
)

// Responses keeps responses of operations in memory, each process its own: those that were asked for last stay. Of several callers
// that ask for the same at once one fetches it.
type Responses struct {
	mu      sync.Mutex
	kept    map[ResponseKey]*list.Element
	order   *list.List // of *keptResponse, the one that was asked for last in front
	bytes   int
	emptied map[[3]string]int      // how often those of an API were let go, by scope and API
	fetched map[ResponseKey]*Fetch // those that are under way
}

type keptResponse struct {
	key ResponseKey
	Response
}

// NewResponses keeps nothing yet.
func NewResponses() *Responses {
	return &Responses{kept: map[ResponseKey]*list.Element{}, order: list.New(), fetched: map[ResponseKey]*Fetch{}, emptied: map[[3]string]int{}}
}

// Find gives the response of a key, where one is kept that may be sent now, and whether a new one should be fetched.
func (c *Responses) Find(key ResponseKey, now time.Time) (r *Response, renew bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.kept[key]
	if e == nil {
		return nil, true
	}
	k := e.Value.(*keptResponse)
	if !now.Before(k.Stale) {
		c.remove(e)
		return nil, true
	}
	c.order.MoveToFront(e)
	return &k.Response, !now.Before(k.Fresh)
}

// Fetch lets one caller fetch the response of a key; the others get what to wait for.
func (c *Responses) Fetch(key ResponseKey) (*Fetch, <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if under := c.fetched[key]; under != nil {
		return nil, under.over
	}
	f := &Fetch{c: c, key: key, over: make(chan struct{})}
	c.fetched[key] = f
	return f, nil
}

// Fetch is the fetching of a response.
type Fetch struct {
	c     *Responses
	key   ResponseKey
	over  chan struct{}
	ended bool
	void  bool // what is kept was let go since it was asked for
}

// End lets those go on that wait. It may be called again.
func (f *Fetch) End() {
	f.c.mu.Lock()
	defer f.c.mu.Unlock()
	if f.ended {
		return
	}
	f.ended = true
	delete(f.c.fetched, f.key)
	close(f.over)
}

// Keep keeps the response; the oldest ones are let go for it. It is not kept where what is kept was let go since it was asked for.
func (f *Fetch) Keep(r Response) {
	c, key := f.c, f.key
	if len(r.Body) > MostOfResponse {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if f.void {
		return
	}
	if e := c.kept[key]; e != nil {
		c.remove(e)
	}
	c.kept[key] = c.order.PushFront(&keptResponse{key, r})
	c.bytes += len(r.Body) + responseRest
	for c.bytes > mostKept {
		c.remove(c.order.Back())
	}
}

func (c *Responses) remove(e *list.Element) {
	k := c.order.Remove(e).(*keptResponse)
	delete(c.kept, k.key)
	c.bytes -= len(k.Body) + responseRest
}

// Empty lets go what is kept of an API.
func (c *Responses) Empty(s store.Scope, api string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.emptied[[3]string{s.Project, s.Environment, api}]++
	for key, e := range c.kept {
		if key.Scope == s && key.API == api {
			c.remove(e)
		}
	}
	for key, f := range c.fetched {
		f.void = f.void || key.Scope == s && key.API == api
	}
}

// Clear lets go all that is kept.
func (c *Responses) Clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.kept)
	c.order.Init()
	c.bytes = 0
	for _, f := range c.fetched {
		f.void = true
	}
}

// Emptied is how often what is kept of an API was let go by name.
func (c *Responses) Emptied(s store.Scope, api string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.emptied[[3]string{s.Project, s.Environment, api}]
}

// Kept is how many responses of an API are kept.
func (c *Responses) Kept(s store.Scope, api string) (n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for key := range c.kept {
		if key.Scope == s && key.API == api {
			n++
		}
	}
	return n
}
