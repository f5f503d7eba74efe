package engine

import (
	"context"
	"errors"
	"io"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
)

// endless are more tries than any step has: what cannot be done in a run that ends counts as failed at once.
const endless = 1 << 30

// takeBack undoes what was begun in a run that was told to stop: the part of it that is not recorded as done is gone
// through once more, as far as it had come. What had an effect is known; the first step that would begin something new
// fails, so that the attempt around it takes back what was done before.
func (x *execution) takeBack(ctx context.Context) error {
	if x.plan == nil || !x.plan.Compensates() || x.run.ClaimVersion <= 1 && x.whole == nil {
		return nil
	}
	x.ends = true
	if err := x.prepare(); err != nil {
		return err
	}
	x.run.ClaimVersion = max(x.run.ClaimVersion, 2) // it has been taken on before: what was answered then is known
	b := x.batch()
	b.Attempt = endless
	err := x.undo(ctx, b)
	var failed *running.Failed
	if errors.As(err, &failed) { // what stands in no attempt is left as it is
		err = nil
	}
	return errors.Join(err, store.DeleteEffects(ctx, x.engine.db, x.run.ID, b.Compensated))
}

// undo passes what is not recorded yet: the head, or the batch behind the records that are dealt with, or the tail.
func (x *execution) undo(ctx context.Context, b *running.Batch) error {
	if x.run.RecordsRead == 0 && x.run.FromStep == "" {
		if err := b.Pass(ctx, x.plan.Head, x.whole); err != nil || x.plan.ReadStep == nil || x.whole.State != running.Done {
			return err
		}
	}
	if x.plan.ReadStep == nil || x.run.FromStep != "" || x.plan.Spooled() && !x.run.HasInput {
		return nil
	}
	in, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := x.begin(in); err != nil {
		return err
	}
	items, err := x.src.Batch(x.engine.opt.Batch)
	switch {
	case err == io.EOF:
		x.plan.SetTotals(x.whole, x.totals.Values)
		x.whole.State = running.Live
		return b.Pass(ctx, x.plan.Tail, x.whole)
	case err != nil:
		return err
	}
	return b.Run(ctx, items)
}
