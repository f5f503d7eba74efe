package compiled

import (
	"container/list"
	"context"
	"errors"
	"sync"
)

// lru keeps what was used last. Of many who ask for one that is not kept, one makes it.
type lru[T any] struct {
	mu   sync.Mutex
	most int
	used list.List // of *entry[T], the one that was used last in front
	kept map[string]*list.Element
}

type entry[T any] struct {
	key  string
	done chan struct{} // closed when it is made, or cannot be
	made T
	err  error
}

// of gives what has a key, made by make where it is not kept. What fails is not kept.
func (c *lru[T]) of(ctx context.Context, key string, make func() (T, error)) (made T, err error) {
	r, fresh := c.find(key)
	if fresh {
		c.fill(r, make)
	}
	select {
	case <-r.done:
		return r.made, r.err
	case <-ctx.Done():
		return made, ctx.Err()
	}
}

var errNotMade = errors.New("what was asked for was not made")

// fill makes what all who ask for it wait for.
func (c *lru[T]) fill(r *entry[T], make func() (T, error)) {
	defer close(r.done)
	r.err = errNotMade // where make panics
	if r.made, r.err = make(); r.err != nil {
		c.drop(r)
	}
}

func (c *lru[T]) find(key string) (r *entry[T], fresh bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at := c.kept[key]; at != nil {
		c.used.MoveToFront(at)
		return at.Value.(*entry[T]), false
	}
	if c.kept == nil {
		c.kept = map[string]*list.Element{}
	}
	r = &entry[T]{key: key, done: make(chan struct{})}
	c.kept[key] = c.used.PushFront(r)
	if most := max(c.most, 1); c.used.Len() > most {
		last := c.used.Back()
		delete(c.kept, c.used.Remove(last).(*entry[T]).key)
	}
	return r, true
}

func (c *lru[T]) drop(r *entry[T]) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at := c.kept[r.key]; at != nil && at.Value == r {
		c.used.Remove(at)
		delete(c.kept, r.key)
	}
}
