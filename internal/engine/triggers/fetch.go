package triggers

import (
	"context"
	"errors"
	"io"
	"path"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// fetch copies a file of another machine into its run and lets the folder move or remove it there.
// What was fetched before is only moved: the run is recorded once for each file.
func (w *Watch) fetch(ctx context.Context, r store.Deployment, plan *running.Plan, folder system.Folder, f system.File) error {
	key := plan.Flow.Trigger.Connection.Value + ":" + f.Name
	if _, err := store.PickupRun(ctx, w.DB, r.Scope, r.Flow, key, f.Identity); errors.Is(err, store.ErrNotFound) {
		if err := w.fetched(ctx, r, plan, folder, f, key); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	if t, ok := folder.(system.Fetched); ok {
		return t.MarkFetched(ctx, f.Name)
	}
	return nil
}

func (w *Watch) fetched(ctx context.Context, r store.Deployment, plan *running.Plan, folder system.Folder, f system.File, key string) error {
	in, err := folder.Open(ctx, f.Name)
	if err != nil {
		return err
	}
	content := &spool.Spool{}
	defer content.Close()
	_, err = io.Copy(content, system.Bounded(in, maxInput))
	if err = errors.Join(err, in.Close()); err != nil {
		return err
	}
	return w.begin(ctx, r, plan, path.Base(f.Name), "new file", content, func(tx pgx.Tx, run uuid.UUID) (bool, error) {
		return store.AddPickup(ctx, tx, r.Scope, r.Flow, key, f.Identity, run)
	})
}

// begin records a run with its input and makes some worker take it on, unless note says that it was there
// before.
func (w *Watch) begin(ctx context.Context, r store.Deployment, plan *running.Plan, file, by string, content *spool.Spool, note func(tx pgx.Tx, run uuid.UUID) (bool, error)) error {
	run := store.Run{ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Release: r.Number, File: file, StartedBy: by}
	err := pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error {
		if err := w.Runs.AddRun(ctx, tx, plan, run, content); err != nil {
			return err
		}
		fresh, err := note(tx, run.ID)
		if err == nil && !fresh {
			err = errTaken
		}
		return err
	})
	if errors.Is(err, errTaken) {
		return nil
	}
	return err
}
