package engine

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/store"
)

// Bounds of one look for what is to be removed.
const (
	maxSwept = 200
	settled  = time.Minute          // after which the messages of a run may go that are not kept
	metFor   = 31 * 24 * time.Hour  // for which messages are kept that were handed over
	figures  = 400 * 24 * time.Hour // for which figures are kept where nothing else is set
)

// sweep removes what is not kept any longer, a little at a time. Of several workers one does.
func (e *Engine) sweep(ctx context.Context) error {
	return pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		if ok, err := store.TryLock(ctx, tx, "sweep "+e.opt.Env); err != nil || !ok {
			return err
		}
		if err := store.Long(ctx, tx, "remove what is not kept"); err != nil {
			return err
		}
		releases, err := store.AllDeployments(ctx, tx, e.opt.Env)
		if err != nil {
			return err
		}
		var errs []error
		for _, r := range releases {
			errs = append(errs, e.sweepFlow(ctx, tx, r))
		}
		_, kept := store.SweepKept(ctx, tx, e.opt.Env, maxSwept)
		_, met := store.SweepMeetings(ctx, tx, e.opt.Env, e.now().Add(-metFor), maxSwept)
		_, counted := store.SweepFigures(ctx, tx, e.opt.Env, e.now().Add(-e.opt.Figures), maxSwept)
		return errors.Join(append(errs, kept, met, counted)...)
	})
}

func (e *Engine) sweepFlow(ctx context.Context, tx pgx.Tx, r store.Deployment) error {
	p, err := e.released(ctx, e.db, r.Project, r.Flow, r.Number)
	if err != nil {
		return err
	}
	plan := p.Flow(r.Flow)
	if plan == nil {
		return nil
	}
	if days := plan.Flow.KeptFor; days > 0 {
		if _, err := store.SweepRuns(ctx, tx, r.Scope, r.Flow, e.now().AddDate(0, 0, -days), maxSwept); err != nil {
			return err
		}
	}
	if plan.Flow.Keeps != flow.KeepsNothing {
		return nil
	}
	_, err = store.SweepMessages(ctx, tx, r.Scope, r.Flow, e.now().Add(-settled), maxSwept)
	return err
}
