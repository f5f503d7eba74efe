package engine

import (
	"context"
	"time"

	"hollowreed/internal/store"
)

// healthTime bounds how long one connection may take to say that it is there.
const healthTime = 5 * time.Second

// watchHealth looks whether the connections answer that nobody has looked at for a while.
func (e *Engine) watchHealth(ctx context.Context) error {
	if e.opt.Project == "" {
		return nil
	}
	due, err := store.HealthDue(ctx, e.db, e.opt.Project, e.opt.Env, e.opt.Health)
	if err != nil {
		return err
	}
	for _, id := range due {
		look, cancel := context.WithTimeout(ctx, healthTime)
		began := time.Now()
		err := e.outside.Check(look, id)
		cancel()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		h := store.Health{Connection: id, Well: err == nil, TookMS: int(time.Since(began).Milliseconds())}
		if err != nil {
			h.Fault = plainError(err)
		}
		if _, err := store.SaveHealth(ctx, e.db, e.opt.Project, e.opt.Env, h); err != nil {
			return err
		}
	}
	return nil
}
