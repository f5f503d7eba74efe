// Package compiled keeps projects compiled, for screens and engine alike: drafts as they are now, and releases, which never
// change. Both are bounded; what was used last is kept.
package compiled

import (
	"context"
	"fmt"
	"sync"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// Bounds on what is kept.
const (
	mostReleases = 1000
	mostDrafts   = 50
)

// Cache keeps compiled projects.
type Cache struct {
	releases lru[*project.Project]
	drafts   lru[*draft]
}

// New makes a cache with nothing in it.
func New() *Cache {
	return &Cache{releases: lru[*project.Project]{most: mostReleases}, drafts: lru[*draft]{most: mostDrafts}}
}

// Release gives a project as it stands in a release.
func (c *Cache) Release(ctx context.Context, db store.DB, projectID, flowID string, number int) (*project.Project, error) {
	return c.releases.of(ctx, fmt.Sprintf("%s/%s/%d", projectID, flowID, number), func() (*project.Project, error) {
		files, err := store.ReleaseFiles(context.WithoutCancel(ctx), db, projectID, flowID, number)
		if err != nil {
			return nil, err
		}
		return project.Load(projectID, files), nil
	})
}

// Draft gives a project as it is drafted now. Of what has changed since it was asked for last, only the texts that have changed
// are read, and only what depends on them is compiled.
func (c *Cache) Draft(ctx context.Context, db store.DB, projectID string) (*project.Project, error) {
	d, err := c.drafts.of(ctx, projectID, func() (*draft, error) { return &draft{}, nil })
	if err != nil {
		return nil, err
	}
	return d.now(ctx, db, projectID)
}

// draft is a project as it was drafted when it was asked for last.
type draft struct {
	mu       sync.Mutex
	parts    store.Drafts
	compiled *project.Project
}

func (d *draft) now(ctx context.Context, db store.DB, projectID string) (*project.Project, error) {
	version, err := store.Version(ctx, db, projectID)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.compiled != nil && d.parts.Version() == version {
		return d.compiled, nil
	}
	parts, err := store.ReadDrafts(ctx, db, projectID, d.parts)
	if err != nil {
		return nil, err
	}
	d.parts, d.compiled = parts, project.Next(d.compiled, projectID, parts.Texts)
	return d.compiled, nil
}
