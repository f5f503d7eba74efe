package watch

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/compiled"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// Bounds of one look for what is to be removed.
const (
	maxSwept    = 200
	settled     = time.Minute          // after which the messages of a run may go that are not kept
	metFor      = 31 * 24 * time.Hour  // for which messages are kept that were handed over
	FiguresKept = 400 * 24 * time.Hour // for which figures are kept where nothing else is set
)

// Sweeping removes what is not kept any longer. One of the workers of an environment does.
type Sweeping struct {
	db       *pgxpool.Pool
	compiled *compiled.Cache
	env      string
	figures  time.Duration    // for which figures are kept
	now      func() time.Time // the time in UTC
}

// NewSweeping makes what removes, in an environment, what is not kept.
func NewSweeping(db *pgxpool.Pool, c *compiled.Cache, env string, keptFor time.Duration, now func() time.Time) *Sweeping {
	return &Sweeping{db: db, compiled: c, env: env, figures: keptFor, now: now}
}

// quotasFor is how long it is kept what of a limit was used; the longest span is a day.
const quotasFor = 48 * time.Hour

// Sweep removes what is not kept any longer, a little at a time. Of several workers one does.
func (w *Sweeping) Sweep(ctx context.Context) error {
	return errors.Join(w.sweepRows(ctx), w.sweepChannels(ctx))
}

// sweepChannels makes the tables for the messages of the next days, and drops those of days that no channel keeps.
func (w *Sweeping) sweepChannels(ctx context.Context) error {
	if err := store.AddPartitions(ctx, w.db, w.now()); err != nil {
		return err
	}
	kept, err := store.MostRetention(ctx, w.db)
	if err != nil || kept == 0 {
		return err
	}
	_, err = store.DropPartitions(ctx, w.db, w.now().Add(-kept))
	return err
}

func (w *Sweeping) sweepRows(ctx context.Context) error {
	return pgx.BeginFunc(ctx, w.db, func(tx pgx.Tx) error {
		if ok, err := store.TryLock(ctx, tx, "sweep "+w.env); err != nil || !ok {
			return err
		}
		if err := store.Long(ctx, tx, "remove what is not kept"); err != nil {
			return err
		}
		releases, err := store.AllDeployments(ctx, tx, w.env)
		if err != nil {
			return err
		}
		var errs []error
		for _, r := range releases {
			if project.OfFlow(r.Flow) {
				errs = append(errs, w.sweepFlow(ctx, tx, r))
			}
		}
		_, kept := store.SweepKept(ctx, tx, w.env, maxSwept)
		_, met := store.SweepMeetings(ctx, tx, w.env, w.now().Add(-metFor), maxSwept)
		_, counted := store.SweepMetrics(ctx, tx, w.env, w.now().Add(-w.figures), maxSwept)
		_, limits := store.SweepQuotas(ctx, tx, w.env, w.now().Add(-quotasFor), maxSwept)
		_, logged := store.SweepLog(ctx, tx, w.env, w.now(), maxSwept)
		return errors.Join(append(errs, kept, met, counted, limits, logged)...)
	})
}

func (w *Sweeping) sweepFlow(ctx context.Context, tx pgx.Tx, r store.Deployment) error {
	p, err := w.compiled.Release(ctx, w.db, r.Project, r.Flow, r.Number)
	if err != nil {
		return err
	}
	plan := p.Flow(r.Flow)
	if plan == nil {
		return nil
	}
	if days := plan.Flow.RetentionDays; days > 0 {
		if _, err := store.SweepRuns(ctx, tx, r.Scope, r.Flow, w.now().AddDate(0, 0, -days), maxSwept); err != nil {
			return err
		}
	}
	if plan.Flow.Retention != flow.StoreNothing {
		return nil
	}
	_, err = store.SweepMessages(ctx, tx, r.Scope, r.Flow, w.now().Add(-settled), maxSwept)
	return err
}
