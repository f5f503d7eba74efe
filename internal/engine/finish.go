package engine

import (
	"context"
	"fmt"
	"time"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
)

// finalizeAs ends the run and does with its file what the connection's settings say.
func (x *execution) finalizeAs(ctx context.Context, state store.State, f *fault.Fault) error {
	if err := store.CloseOrRetry(ctx, x.engine.db, x.run, state, f, nil); err != nil {
		return err
	}
	return x.settled(ctx, state)
}

// settled deals with the file of a run that is over.
func (x *execution) settled(ctx context.Context, state store.State) error {
	x.publishEnd(state)
	x.engine.callers.wake(x.run.ID)
	if err := x.finalizeOnce(ctx, state); err != nil { // the run's outcome stands
		return store.Warn(ctx, x.engine.db, x.run, fmt.Sprintf("%s stays where it is: %s", x.run.File, shared.PlainError(err)))
	}
	return nil
}

// finalizeOnce deletes the file of a run that ended well, or moves that of a run that failed.
func (x *execution) finalizeOnce(ctx context.Context, state store.State) error {
	r := x.run
	if r.InputPath == "" || x.plan == nil {
		return nil
	}
	folder, err := x.outside().Folder(ctx, x.plan.Flow.Trigger.Connection.Value)
	here, is := folder.(system.InPlace)
	if err != nil || !is {
		return err
	}
	to, err := here.Settle(r.DonePath, r.File, r.ID.String(), state == store.Done)
	if err != nil || to == r.DonePath {
		return err
	}
	return store.SetDone(ctx, x.engine.db, r, to)
}

// publishEnd tells that the run has ended: to the figures and the log.
func (x *execution) publishEnd(state store.State) {
	took := time.Duration(0)
	if x.run.StartedAt != nil {
		took = max(0, x.engine.now().Sub(x.run.StartedAt.UTC()))
	}
	x.engine.tallies.RunEnded(x.run, state, took)
	x.engine.opt.Log.Info("run ended", "run", x.run.ID, "flow", x.run.Flow, "release", x.run.Release, "reference", x.run.Reference, "state", state, "records", x.run.RecordsRead, "aside", x.run.RecordsSetAside, "took", took)
}
