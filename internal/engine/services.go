package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// maxCalls bounds runs that start runs.
const maxCalls = 20

// services is Hollow Reed as a run sees it.
type services struct{ x *execution }

// Now is the time of this taking on.
func (h *services) Now() time.Time { return h.x.engine.now() }

// Start records a run for each input, once, and does it where its answer is waited for.
func (h *services) Start(ctx context.Context, c running.FlowCall, inputs []value.Value) ([]running.Response, error) {
	done := make([]running.Response, len(inputs))
	if h.x.ends {
		for i := range done {
			done[i].Fault = errEnding()
		}
		return done, nil
	}
	if h.x.run.Depth >= maxCalls {
		for i := range done {
			done[i].Fault = fault.New(fault.Limit, "runs start runs more than %d deep", maxCalls)
		}
		return done, nil
	}
	children, err := h.record(ctx, c, inputs)
	if err != nil || !c.Wait {
		return done, err
	}
	for i, child := range children {
		if done[i], err = h.await(ctx, c, child); err != nil {
			return nil, err
		}
	}
	return done, nil
}

// record records the runs in one transaction; those that nobody waits for are made ready for any worker.
func (h *services) record(ctx context.Context, c running.FlowCall, inputs []value.Value) ([]store.Run, error) {
	x := h.x
	p, err := x.engine.released(ctx, x.engine.db, x.run.Project, x.run.Of, x.run.Release)
	if err != nil {
		return nil, err
	}
	plan := p.Flow(c.Flow.ID)
	if plan == nil || len(plan.Faults) > 0 {
		return nil, fault.New(fault.Setting, "the flow %s cannot be run in release %d", c.Flow.Title, x.run.Release)
	}
	children := make([]store.Run, len(inputs))
	err = pgx.BeginFunc(ctx, x.engine.db, func(tx pgx.Tx) error {
		var jobs []river.InsertManyParams
		for i, input := range inputs {
			child, fresh, err := store.AddChild(ctx, tx, x.child(c, plan, i, input))
			if err != nil {
				return err
			}
			if children[i] = child; fresh && !c.Wait {
				jobs = append(jobs, river.InsertManyParams{Args: jobArgs{Run: child.ID}, InsertOpts: queued(child.Environment)})
			}
		}
		if len(jobs) == 0 {
			return nil
		}
		_, err := x.engine.river.InsertManyFastTx(ctx, tx, jobs)
		x.engine.wakeSoon()
		return err
	})
	return children, err
}

// child is the run that a step starts for one of its items.
func (x *execution) child(c running.FlowCall, plan *running.Plan, i int, input value.Value) store.Run {
	r := store.Run{
		ID: uuid.Must(uuid.NewV7()), Scope: x.run.Scope, Flow: c.Flow.ID, Release: x.run.Release, Of: x.run.Of, File: x.run.File, StartedBy: "another flow", Parent: &x.run.ID,
		Caller: store.Caller{Step: c.Step, Record: c.Items[i].Record, Path: c.Items[i].Path, Depth: x.run.Depth + 1},
	}
	if input.Kind() != value.Absent {
		r.Input = json.Bytes(input)
	}
	x.engine.setReference(plan, &r, input, value.Value{})
	if plan.Reference == nil {
		r.Reference = x.run.Reference
	}
	return r
}

// await does a child where it stands, unless it is over, and gives its answer.
func (h *services) await(ctx context.Context, c running.FlowCall, child store.Run) (running.Response, error) {
	e := h.x.engine
	if !child.Ended() {
		claimed, err := store.Claim(ctx, e.db, child.ID, e.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return running.Response{}, err
		}
		if err == nil {
			y := &execution{engine: e, run: claimed}
			inner, end := y.traced(ctx)
			err := y.work(inner)
			end(err)
			if err != nil {
				return running.Response{}, y.given(ctx, err)
			}
		}
		if child, err = store.RunByID(ctx, e.db, child.ID); err != nil {
			return running.Response{}, err
		}
	}
	onlyRecords := child.State == store.SetAside && child.Fault == nil
	if child.State != store.Done && !onlyRecords {
		f := fault.New(fault.Outside, "the run of %s is %s", c.Flow.Title, child.State).WithFix("Open it from this run, mend and resume it there")
		if child.Fault != nil {
			f.Code = child.Fault.Code
			f.Message += ": " + child.Fault.What()
		}
		return running.Response{Fault: f}, nil
	}
	given := running.Response{}
	if onlyRecords {
		given.Aside = child.RecordsSetAside
	}
	if child.Answer == nil || c.Flow.Output == nil {
		return given, nil
	}
	rows, err := project.ReadJSON(c.Flow.Output, string(child.Answer))
	if err != nil {
		return running.Response{}, fmt.Errorf("the answer of %s: %w", c.Flow.Title, err)
	}
	given.Answer = rows[0]
	return given, nil
}

// given decides what becomes of a child that cannot go on: what waits makes the parent wait; what failed for good
// is over, and its parent deals with that; anything else is tried again with the parent.
func (x *execution) given(ctx context.Context, err error) error {
	var waiting *running.Waiting
	switch {
	case errors.As(err, &waiting):
		return errors.Join(store.Suspend(ctx, x.engine.db, x.run, waiting.Until), err)
	case errors.Is(context.Cause(ctx), errCancelled):
		over := fault.New(fault.Cancelled, "the run that started it was stopped")
		return errors.Join(x.finalizeAs(context.WithoutCancel(ctx), store.Stopped, over), err)
	case ctx.Err() != nil:
		return err
	}
	_, ferr := x.failed(ctx, err)
	if ferr != nil {
		return ferr
	}
	r, rerr := store.RunByID(ctx, x.engine.db, x.run.ID)
	if rerr != nil || r.Ended() {
		return rerr
	}
	return err
}

// MarkSeen notes the keys of a step's records and says which were there before.
func (h *services) MarkSeen(ctx context.Context, s running.DuplicateCheck, keys []string) ([]bool, error) {
	seen := make([]bool, len(keys))
	at := map[string]int{}
	var of []store.EffectKey
	var asked []string
	for i, key := range keys {
		if _, again := at[key]; again {
			seen[i] = true
			continue
		}
		at[key] = i
		of, asked = append(of, journal.KeyOf(s.Items[i])), append(asked, key)
	}
	repeated, err := store.MarkSeen(ctx, h.x.engine.db, h.x.run, s.Step, of, asked, s.Within)
	for key := range repeated {
		seen[at[key]] = true
	}
	return seen, err
}

// Wait remembers until when each item waits, and is a *flow.Waiting error until the last of these times.
func (h *services) Wait(ctx context.Context, step string, items []*running.Item, until []time.Time) error {
	x := h.x
	if x.ends {
		return errEnding()
	}
	records := make([]int, len(items))
	of, texts := make([]store.EffectKey, len(items)), make([]string, len(items))
	for i, it := range items {
		records[i], of[i], texts[i] = it.Record, journal.KeyOf(it), until[i].UTC().Format(time.RFC3339Nano)
	}
	if err := store.SaveEffects(ctx, x.engine.db, x.run.ID, step, of, texts); err != nil {
		return err
	}
	known, err := store.Effects(ctx, x.engine.db, x.run.ID, step, records)
	if err != nil {
		return err
	}
	last := time.Time{}
	for _, e := range of {
		at, err := time.Parse(time.RFC3339Nano, known[e])
		if err != nil {
			return err
		}
		if at.After(last) {
			last = at
		}
	}
	if last.After(x.engine.now()) {
		return &running.Waiting{Until: last}
	}
	return nil
}
