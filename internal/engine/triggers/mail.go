package triggers

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/store"
)

// pollMailbox begins a run with each mail that waits. Which mails were taken is noted with their runs: one that could not
// be taken out of the way, since a worker died or the server did, starts no second run.
func (w *Watch) pollMailbox(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	t := plan.Flow.Trigger
	return w.Outside.Of(r.Scope).FetchMails(ctx, t.Connection.Value, t.From, t.Subject, func(l system.Mail) error {
		b := Start{By: "new mail", Input: json.Bytes(l.Value)}
		err := pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error {
			run, err := w.Runs.Record(ctx, tx, r, plan, b)
			if err != nil {
				return err
			}
			fresh, err := store.AddPickup(ctx, tx, r.Scope, r.Flow, t.Connection.Value, l.Identity, run)
			if err == nil && !fresh {
				return errTaken
			}
			return err
		})
		if errors.Is(err, errTaken) {
			return nil
		}
		return err
	})
}
