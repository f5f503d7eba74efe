package engine

import (
	"context"
	"io"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/store"
)

// spool reads what a flow's operation answers and keeps it with the run, so that the run goes on with the same
// records whatever happens to it.
func (x *execution) spool(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, triggers.ReadTime)
	defer cancel()
	request, f := x.plan.Asks.Request(&x.whole.Frame)
	if f != nil {
		return f
	}
	var s triggers.Spooled
	defer s.Close()
	ctx, passed := system.CountPassed(ctx)
	for v, err := range x.outside().Read(ctx, system.Request{Op: x.plan.Asks.Op, Value: request, Key: x.run.ID.String()}) {
		if err != nil {
			return err
		}
		if err := s.Add(v); err != nil {
			return err
		}
	}
	x.passed = passed.Fields()
	return pgx.BeginFunc(ctx, x.engine.db, func(tx pgx.Tx) error { return store.SaveInput(ctx, tx, x.run, &s.Spool) })
}

// input is the content of a spooled run.
func (x *execution) input(ctx context.Context) (io.ReadCloser, error) {
	if !x.run.HasInput {
		if err := x.spool(ctx); err != nil {
			return nil, err
		}
	}
	return store.OpenInput(ctx, x.engine.db, x.run.ID), nil
}
