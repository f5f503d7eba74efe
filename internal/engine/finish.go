package engine

import (
	"context"
	"fmt"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/store"
)

// over ends the run and does with its file what the connection's settings say.
func (x *execution) over(ctx context.Context, state store.State, f *fault.Fault) error {
	if err := store.Finish(ctx, x.engine.db, x.run, state, f, nil); err != nil {
		return err
	}
	return x.settled(ctx, state)
}

// settled deals with the file of a run that is over.
func (x *execution) settled(ctx context.Context, state store.State) error {
	x.told(state)
	x.engine.callers.wake(x.run.ID)
	if err := x.settle(ctx, state); err != nil { // the run's outcome stands
		return store.Warn(ctx, x.engine.db, x.run, fmt.Sprintf("%s stays where it is: %s", x.run.File, plainError(err)))
	}
	return nil
}

// settle deletes the file of a run that ended well, or moves that of a run that failed.
func (x *execution) settle(ctx context.Context, state store.State) error {
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
