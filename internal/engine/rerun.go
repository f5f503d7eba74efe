package engine

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// MaxMended is the most bytes of a record that is mended by hand.
const MaxMended = 1 << 20

// Resume lets a run go on that was set aside or stopped as a whole, from where it came to and on
// the release that it began with.
func (e *Engine) Resume(ctx context.Context, run uuid.UUID) error {
	r, err := store.RunByID(ctx, e.db, run)
	if err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		if err := store.Resume(ctx, tx, run); err != nil {
			return err
		}
		return e.enqueue(ctx, tx, r.Scope, run)
	})
}

// deployed is the release that a new run of a flow takes.
func (e *Engine) deployed(ctx context.Context, tx pgx.Tx, r store.Run) (int, error) {
	d, err := store.DeploymentOf(ctx, tx, r.Scope, r.Of)
	return d.Number, err
}

// Discard closes a set-aside record without running it again.
func (e *Engine) Discard(ctx context.Context, id int64, by string) error {
	return store.CloseAside(ctx, e.db, id, store.AsideDiscarded, nil, by)
}

// RerunOptions says how a run is run again.
type RerunOptions struct {
	By      string
	Message []byte // in place of the one that it began with; nil: the same
	Same    bool   // on the release that it ran on, not on the one that is deployed
}

// anew is an ended run, and the run that somebody begins of it.
func (e *Engine) anew(ctx context.Context, run uuid.UUID, by string) (r, again store.Run, err error) {
	if r, err = store.RunByID(ctx, e.db, run); err != nil {
		return r, again, err
	}
	if !r.Ended() {
		return r, again, store.ErrChanged
	}
	again = r
	again.ID, again.Parent, again.StartedBy, again.Caller, again.FromStep = uuid.Must(uuid.NewV7()), &r.ID, by, store.Caller{}, ""
	again.Counts = running.BeginCounts(r.Counts)
	return r, again, nil
}

// Rerun runs the whole input of an ended run again.
func (e *Engine) Rerun(ctx context.Context, run uuid.UUID, how RerunOptions) (uuid.UUID, error) {
	r, again, err := e.anew(ctx, run, how.By)
	if err != nil {
		return uuid.Nil, err
	}
	again.InputPath = r.DonePath
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		var err error
		if again.Release, err = e.deployed(ctx, tx, r); err != nil {
			return err
		}
		if how.Same {
			again.Release = r.Release
		}
		if err := e.begins(ctx, &again, how.Message); err != nil {
			return err
		}
		if err := store.AddRun(ctx, tx, again, nil); err != nil {
			return err
		}
		if r.HasInput {
			if err := store.CopyInput(ctx, tx, r.ID, again.ID); err != nil {
				return err
			}
		}
		return errors.Join(store.ResolveRun(ctx, tx, r.ID, store.AsideRerun), store.CloseAllAsides(ctx, tx, r.ID, again.ID, how.By), e.enqueue(ctx, tx, again.Scope, again.ID))
	})
	return again.ID, err
}

// Retry runs the part of a run again that failed as a whole: from the step at which it failed, on the release that is deployed, where
// that can be; else it goes on from where it came to, on its own.
func (e *Engine) Retry(ctx context.Context, run uuid.UUID, by string) (uuid.UUID, error) {
	r, err := store.RunByID(ctx, e.db, run)
	if err != nil {
		return run, err
	}
	p, err := e.Release(ctx, r.Project, r.Of, r.Release)
	if err != nil {
		return run, err
	}
	plan := p.Flow(r.Flow)
	if r.Fault != nil && plan != nil && plan.ReadStep == nil && plan.Flow.Retention == flow.StoreAll && plan.RestartStep(r.Fault.Place.Step) != nil {
		return e.RerunFrom(ctx, run, r.Fault.Place.Step, by)
	}
	return run, e.Resume(ctx, run)
}

// DiscardRun closes a run that failed as a whole without running it again. What it was to do again for another waits again.
func (e *Engine) DiscardRun(ctx context.Context, run uuid.UUID) error {
	return pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		return errors.Join(store.ResolveRun(ctx, tx, run, store.AsideDiscarded), store.ReopenAsides(ctx, tx, run))
	})
}

// begins gives a run another message to begin with, which must be one of its flow's input.
func (e *Engine) begins(ctx context.Context, r *store.Run, message []byte) error {
	if len(message) == 0 {
		return nil
	}
	if len(message) > MaxMended {
		return fault.New(fault.Limit, "the message is longer than %d bytes", MaxMended)
	}
	p, err := e.Release(ctx, r.Project, r.Of, r.Release)
	if err != nil {
		return err
	}
	plan := p.Flow(r.Flow)
	if plan == nil || plan.Input == nil {
		return fault.New(fault.Setting, "this flow begins with no message")
	}
	rows, err := project.ReadJSON(plan.Input, string(message))
	if err != nil {
		return err
	}
	r.Input = message
	r.Reference = plan.ReferenceOf(running.RunFacts(r.ID.String(), r.File, "", 0, value.Instant(e.now())), rows[0], plan.ReadStarted(r.Request))
	return nil
}

// Cancel asks a run to stop; what is dealt with stays dealt with, and the run can be resumed.
func (e *Engine) Cancel(ctx context.Context, run uuid.UUID, by string) error {
	r, err := store.RunByID(ctx, e.db, run)
	if err != nil {
		return err
	}
	e.changed(r)
	return store.Cancel(ctx, e.db, r, by)
}
