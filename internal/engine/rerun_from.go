package engine

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// RerunFrom runs an ended run again from a step on, on the release that is deployed, with what its messages had come to there. It is
// a run of its own that names the first as its parent.
func (e *Engine) RerunFrom(ctx context.Context, run uuid.UUID, step, by string) (uuid.UUID, error) {
	r, again, err := e.anew(ctx, run, by)
	if err != nil {
		return uuid.Nil, err
	}
	again.InputPath, again.DonePath = "", ""
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		var err error
		if again.Release, err = e.deployed(ctx, tx, r); err != nil {
			return err
		}
		p, err := e.Release(ctx, r.Project, r.Of, again.Release)
		if err != nil {
			return err
		}
		plan := p.Flow(r.Flow)
		if plan == nil || plan.RestartStep(step) == nil {
			return fault.New(fault.Setting, "a run cannot begin at this step").WithFix("Choose one behind the step that reads; or run the whole message again")
		}
		if plan.Flow.Retention != flow.StoreAll {
			return fault.New(fault.Setting, "the flow does not keep what its messages come to at each step").WithFix("Run the whole message again")
		}
		again.FromStep = plan.RestartStep(step).Step.ID
		if err := store.AddRun(ctx, tx, again, nil); err != nil {
			return err
		}
		return errors.Join(store.ResolveRun(ctx, tx, r.ID, store.AsideRerun), store.CloseAsides(ctx, tx, r.ID, plan.From(again.FromStep), again.ID, by), e.enqueue(ctx, tx, again.Scope, again.ID))
	})
	return again.ID, err
}

// position is where in a list of steps a run begins again; -1 where it does not.
func position(steps []*running.PlannedStep, step string) int {
	for i, ps := range steps {
		if ps.Step.ID == step {
			return i
		}
	}
	return -1
}

// again does a run that begins at a step: the steps before it are not done, their values are those of the parent's journal.
func (x *execution) again(ctx context.Context) error {
	if x.run.Parent == nil {
		return fault.New(fault.InputGone, "the run that this one begins again is not kept any longer").WithFix("Run the whole message again")
	}
	parent, err := store.RunByID(ctx, x.engine.db, *x.run.Parent)
	if err != nil {
		return err
	}
	if err := x.loadParent(ctx, parent); err != nil {
		return err
	}
	if at := position(x.plan.Head, x.run.FromStep); at >= 0 {
		if over, err := x.pass(ctx, x.plan.Head[at:]); over || err != nil {
			return err
		}
		if x.plan.ReadStep == nil {
			return x.finish(ctx)
		}
		return x.runRecords(ctx)
	}
	at := position(x.plan.Tail, x.run.FromStep)
	if at < 0 {
		if over, err := x.rerunRecords(ctx, parent); over || err != nil {
			return err
		}
		at = 0
	}
	x.plan.SetTotals(x.whole, x.totals.Values)
	if over, err := x.pass(ctx, x.plan.Tail[at:]); over || err != nil {
		return err
	}
	return x.finish(ctx)
}

// loadParent gives the run as a whole what the parent's journal has of it.
func (x *execution) loadParent(ctx context.Context, parent store.Run) (err error) {
	if x.run.Totals == nil {
		if x.totals, err = journal.ReadTotals(x.plan, parent.Totals); err != nil {
			return err
		}
	}
	entry, err := journal.Of(ctx, x.engine.db, parent.ID, running.WholeRun)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	it := entry.Item(x.plan)
	x.plan.Reset(it, x.run.FromStep)
	copy(x.whole.Frame.Slots[running.RequestSlot+1:], it.Frame.Slots[running.RequestSlot+1:])
	return nil
}

// rerunRecords passes the parent's records through the body from the step on, batch by batch.
func (x *execution) rerunRecords(ctx context.Context, parent store.Run) (over bool, err error) {
	var batch []*running.Item
	pass := func() {
		if len(batch) > 0 && err == nil && !over {
			over, err = x.rerunBatch(ctx, batch)
			batch = nil
		}
	}
	rerr := journal.Entries(ctx, x.engine.db, parent, func(entry *journal.Entry) bool {
		if entry.Record < x.run.RecordsRead {
			return true // dealt with before
		}
		it := entry.Item(x.plan)
		it.Place.Source = x.run.File
		it.Frame.Slots[running.RunSlot] = x.whole.Frame.Slots[running.RunSlot]
		if !x.plan.Reset(it, x.run.FromStep) && it.State != running.Skipped {
			it.State, it.Reason, it.Faults = running.Skipped, "in the run before it did not come to the step at which this one begins", nil
		}
		if batch = append(batch, it); len(batch) == x.engine.opt.Batch {
			pass()
		}
		return err == nil && !over
	})
	pass()
	if err == nil && rerr != nil {
		err = fmt.Errorf("the journal of the run that this one begins again: %w", rerr)
	}
	return over, err
}

func (x *execution) rerunBatch(ctx context.Context, items []*running.Item) (over bool, err error) {
	b := x.batch()
	if err := b.RunFrom(ctx, x.run.FromStep, items); err != nil {
		return false, err
	}
	return x.committed(ctx, b, items)
}
