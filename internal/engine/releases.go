package engine

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"sync"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// maxReleases bounds the releases that are kept compiled.
const maxReleases = 200

// releases keeps the compiled projects of releases, which never change: those that were used last. Of many who ask for one
// that is not kept, one compiles it.
type releases struct {
	mu   sync.Mutex
	most int
	used list.List // of *release, the one that was used last in front
	kept map[string]*list.Element
}

type release struct {
	key  string
	done chan struct{} // closed when p or err is there
	p    *project.Project
	err  error
}

// of gives a release, compiled by make where it is not kept. What fails is not kept.
func (c *releases) of(ctx context.Context, key string, make func() (*project.Project, error)) (*project.Project, error) {
	r, fresh := c.entry(key)
	if fresh {
		c.fill(r, make)
	}
	select {
	case <-r.done:
		return r.p, r.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

var errNotCompiled = errors.New("the release was not compiled")

// fill compiles a release for all who wait for it.
func (c *releases) fill(r *release, make func() (*project.Project, error)) {
	defer close(r.done)
	r.err = errNotCompiled // where make panics
	if r.p, r.err = make(); r.err != nil {
		c.drop(r)
	}
}

func (c *releases) entry(key string) (r *release, fresh bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at := c.kept[key]; at != nil {
		c.used.MoveToFront(at)
		return at.Value.(*release), false
	}
	if c.kept == nil {
		c.kept = map[string]*list.Element{}
	}
	r = &release{key: key, done: make(chan struct{})}
	c.kept[key] = c.used.PushFront(r)
	if most := max(c.most, 1); c.used.Len() > most {
		last := c.used.Back()
		delete(c.kept, c.used.Remove(last).(*release).key)
	}
	return r, true
}

func (c *releases) drop(r *release) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at := c.kept[r.key]; at != nil && at.Value == r {
		c.used.Remove(at)
		delete(c.kept, r.key)
	}
}

// Release gives the project as it stands in a release, to those who call and look.
func (e *Engine) Release(ctx context.Context, projectID, flowID string, number int) (*project.Project, error) {
	return e.released(ctx, e.front(), projectID, flowID, number)
}

// released is Release, read over a pool.
func (e *Engine) released(ctx context.Context, db store.DB, projectID, flowID string, number int) (*project.Project, error) {
	return e.releases.of(ctx, fmt.Sprintf("%s/%s/%d", projectID, flowID, number), func() (*project.Project, error) {
		files, err := store.ReleaseFiles(context.WithoutCancel(ctx), db, projectID, flowID, number)
		if err != nil {
			return nil, err
		}
		return project.Load(projectID, files), nil
	})
}
