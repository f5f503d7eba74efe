package engine

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// Record keeps a run and makes some worker take it on.
func (e *Engine) Record(ctx context.Context, tx pgx.Tx, r store.Deployment, plan *running.Plan, b triggers.Start) (uuid.UUID, error) {
	run := store.Run{ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Release: r.Number, File: plan.ReadsFrom(), Input: b.Input, Request: b.Request, StartedBy: b.By, Counts: running.InputCounts(b.Ignored)}
	input := b.Value
	if b.Input != nil && plan.Input != nil && input.Kind() == value.Absent {
		rows, err := project.ReadJSON(plan.Input, string(b.Input))
		if err != nil {
			return run.ID, err
		}
		input = rows[0]
	}
	e.setReference(plan, &run, input, plan.ReadStarted(run.Request))
	if err := store.AddRun(ctx, tx, run, b.Records); err != nil {
		return run.ID, err
	}
	return run.ID, e.enqueue(ctx, tx, run.Scope, run.ID)
}

// AddRun keeps a run with a file and makes some worker take it on. The content is nil where the file is read where it stands.
func (e *Engine) AddRun(ctx context.Context, tx pgx.Tx, plan *running.Plan, run store.Run, content *spool.Spool) error {
	e.setReference(plan, &run, value.Value{}, value.Value{})
	if err := store.AddRun(ctx, tx, run, content); err != nil {
		return err
	}
	return e.enqueue(ctx, tx, run.Scope, run.ID)
}

// setReference evaluates by what a run is found: its reference, and the lane in which runs wait for each other.
func (e *Engine) setReference(plan *running.Plan, run *store.Run, input, request value.Value) {
	facts := running.RunFacts(run.ID.String(), run.File, "", 0, value.Instant(e.now()))
	run.Reference = plan.ReferenceOf(facts, input, request)
	run.OrderingKey = plan.OrderingKeyOf(facts, input, request)
	run.IsLimited = plan.Flow.Concurrency > 0 || run.OrderingKey != ""
}

// StartRun starts a run of a flow, as it is deployed, because somebody asks for it, with the message that its form asks
// for, as JSON. A flow that waits for a file or for new records begins when they come.
func (e *Engine) StartRun(ctx context.Context, s store.Scope, flowID, by string, input []byte) (uuid.UUID, error) {
	d, err := store.DeploymentOf(ctx, e.db, s, flowID)
	if errors.Is(err, store.ErrNotFound) {
		return uuid.Nil, fault.New(fault.Setting, "the flow is not released yet").WithFix("Release it; then it can be started")
	}
	if err != nil {
		return uuid.Nil, err
	}
	p, err := e.Release(ctx, s.Project, flowID, d.Number)
	if err != nil {
		return uuid.Nil, err
	}
	plan := p.Flow(flowID)
	if plan == nil || !plan.ByHand() {
		return uuid.Nil, fault.New(fault.Setting, "this flow waits for what starts it").WithFix("Bring its file, or its record")
	}
	if plan.Input != nil && len(input) == 0 {
		return uuid.Nil, fault.New(fault.Required, "the flow begins with a message of %s", plan.Input.Title)
	}
	var id uuid.UUID
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		id, err = e.Record(ctx, tx, d, plan, triggers.Start{By: by, Input: input})
		return err
	})
	return id, err
}
