package engine

import (
	"context"

	"hollowreed/internal/compiled"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// Compiled is where projects are kept compiled, to be shared.
func (e *Engine) Compiled() *compiled.Cache { return e.opt.Compiled }

// Release gives the project as it stands in a release, to those who call and look.
func (e *Engine) Release(ctx context.Context, projectID, flowID string, number int) (*project.Project, error) {
	return e.released(ctx, e.front(), projectID, flowID, number)
}

// released is Release, read over a pool.
func (e *Engine) released(ctx context.Context, db store.DB, projectID, flowID string, number int) (*project.Project, error) {
	return e.opt.Compiled.Release(ctx, db, projectID, flowID, number)
}

// Draft gives a project as it is drafted now.
func (e *Engine) Draft(ctx context.Context, projectID string) (*project.Project, error) {
	return e.opt.Compiled.Draft(ctx, e.front(), projectID)
}
