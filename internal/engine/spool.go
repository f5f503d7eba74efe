package engine

import (
	"context"
	"errors"
	"io"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// readTime bounds how long all records of an operation may take to be read.
const readTime = 30 * time.Minute

// spooled writes records as they are kept with a run: one JSON value a line.
type spooled struct {
	spool.Spool
	enc  json.Appender
	line []byte
	n    int
}

func (s *spooled) add(v value.Value) error {
	if s.Size() > maxInput {
		return fault.New(fault.Limit, "the records have more than %d MB", maxInput>>20).Mended("Ask for fewer at a time")
	}
	s.line = append(s.enc.Append(s.line[:0], v), '\n')
	s.n++
	_, err := s.Write(s.line)
	return err
}

// spool reads what a flow's operation answers and keeps it with the run, so that the run goes on with the same
// records whatever happens to it.
func (x *execution) spool(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	request, f := x.plan.Asks.Request(&x.whole.Frame)
	if f != nil {
		return f
	}
	var s spooled
	defer s.Close()
	for v, err := range x.outside().Read(ctx, system.Request{Op: x.plan.Asks.Op, Value: request, Key: x.run.ID.String()}) {
		if err != nil {
			return err
		}
		if err := s.add(v); err != nil {
			return err
		}
	}
	return pgx.BeginFunc(ctx, x.engine.db, func(tx pgx.Tx) error { return store.KeepInput(ctx, tx, x.run, &s.Spool) })
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

// poll asks for records that are new since the last look, and begins a run with them. What was taken is noted in
// the same transaction, so that no record is taken twice or passed over.
func (e *Engine) poll(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	every := time.Duration(plan.Flow.Trigger.Every) * time.Second
	last, due, err := e.taken(ctx, r, every)
	if err != nil || !due {
		return err
	}
	s, greatest, err := e.fresh(ctx, r, plan, last)
	if err != nil { // it is asked again at the next look, however seldom it is asked
		return err
	}
	defer s.Close()
	if s.n == 0 {
		return e.asksNext(ctx, r, every)
	}
	began := false
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		t, ok, err := store.LockTrigger(ctx, tx, r.Scope, r.Flow)
		if err != nil || !ok || t.Rising != last { // paused, or others have taken them
			return err
		}
		if err := store.SetRising(ctx, tx, r.Scope, r.Flow, greatest); err != nil {
			return err
		}
		began = true
		_, err = e.record(ctx, tx, r, plan, beginning{by: "new records", records: &s.Spool})
		return err
	})
	if err == nil {
		err = e.asksNext(ctx, r, every)
	}
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	if delete(e.folders.last, r.Project+"/"+r.Flow); err == nil && began {
		e.folders.last[r.Project+"/"+r.Flow] = greatest
	}
	return err
}

// taken is the greatest value that a trigger has taken so far, as this process knows it or the database. due says whether it is
// time to ask: for one that asks seldom the database knows, see asksNext.
func (e *Engine) taken(ctx context.Context, r store.Deployment, every time.Duration) (last string, due bool, err error) {
	key := r.Project + "/" + r.Flow
	e.folders.mu.Lock()
	last, known := e.folders.last[key]
	e.folders.mu.Unlock()
	if known && e.notices.hears.Load() && every < longEvery*time.Second {
		return last, true, nil
	}
	t, err := store.TriggerOf(ctx, e.db, r.Scope, r.Flow)
	if err != nil || t.PausedBy != nil || t.NextAt.After(time.Now()) && every >= longEvery*time.Second {
		return "", false, err
	}
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	if e.folders.last == nil {
		e.folders.last = map[string]string{}
	}
	e.folders.last[key] = t.Rising
	return t.Rising, true, nil
}

// asksNext notes when a trigger that asks seldom does so next, for this worker and for the next one that starts.
func (e *Engine) asksNext(ctx context.Context, r store.Deployment, every time.Duration) error {
	if every < longEvery*time.Second {
		return nil
	}
	return store.AskNext(ctx, e.db, r.Scope, r.Flow, every)
}

// fresh reads the records whose rising field is beyond the last one that was taken.
func (e *Engine) fresh(ctx context.Context, r store.Deployment, plan *running.Plan, last string) (*spooled, string, error) {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	field := plan.Poll.Op.Response.Root.Field(plan.Flow.Trigger.Rising.Value)
	was := value.Value{}
	if last != "" {
		was, _ = schema.ParseScalar(field.Kind, last)
	}
	fr := &formula.Frame{Slots: make([]value.Value, 1)}
	fr.Slots[0] = was
	request, f := plan.Poll.Request(fr)
	if f != nil {
		return nil, "", f
	}
	s, greatest := &spooled{}, was
	for v, err := range e.outside.Of(r.Scope).Read(ctx, system.Request{Op: plan.Poll.Op, Value: request}) {
		if err != nil {
			return nil, "", err
		}
		now := v.Slot(field.Slot())
		if now.Missing() || !beyond(now, was) {
			continue
		}
		if err := s.add(v); err != nil {
			return nil, "", err
		}
		if beyond(now, greatest) {
			greatest = now
		}
	}
	return s, greatest.String(), nil
}

func beyond(a, b value.Value) bool {
	if b.Missing() {
		return true
	}
	n, err := value.Compare(a, b)
	return err == nil && n > 0
}

// onTime begins a run of a schedule that is due; of several workers one does. A schedule by the clock begins with
// its first time after it was released; one that runs every so often begins at once.
func (e *Engine) onTime(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	s := plan.Schedule
	var waits time.Time
	err := pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		t, ok, err := store.LockTrigger(ctx, tx, r.Scope, r.Flow)
		now := e.now()
		if err != nil || !ok {
			return err
		}
		if t.Spec != s.Spec && plan.Flow.Trigger.Cron.Value != "" {
			waits = s.Next(now)
			return store.SetNext(ctx, tx, r.Scope, r.Flow, s.Spec, waits)
		}
		if t.NextAt.After(now) {
			waits = t.NextAt
			return nil
		}
		starts, next := s.Due(t.NextAt, now, plan.Flow.Trigger.Missed)
		if err := store.SetNext(ctx, tx, r.Scope, r.Flow, s.Spec, next); err != nil || !starts {
			return err
		}
		waits = next
		_, err = e.record(ctx, tx, r, plan, beginning{by: "schedule"})
		return err
	})
	if err == nil && !waits.IsZero() {
		e.waits(r, waits)
	}
	return err
}

// beginning is what a run begins with, beside its release.
type beginning struct {
	by      string
	records *spool.Spool // one JSON value a line; nil: they are read when the run is taken on
	input   []byte       // a message as JSON
	value   value.Value  // the same as it was read; absent where nobody has read it
	request []byte       // the HTTP request that it came with, as JSON
}

// record keeps a run and makes some worker take it on.
func (e *Engine) record(ctx context.Context, tx pgx.Tx, r store.Deployment, plan *running.Plan, b beginning) (uuid.UUID, error) {
	run := store.Run{ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Release: r.Number, File: plan.ReadsFrom(), Input: b.input, Request: b.request, StartedBy: b.by}
	input := b.value
	if b.input != nil && plan.Input != nil && input.Kind() == value.Absent {
		rows, err := project.ReadJSON(plan.Input, string(b.input))
		if err != nil {
			return run.ID, err
		}
		input = rows[0]
	}
	e.setReference(plan, &run, input, running.ReadRequest(run.Request))
	if err := store.AddRun(ctx, tx, run, b.records); err != nil {
		return run.ID, err
	}
	return run.ID, e.enqueue(ctx, tx, run.Scope, run.ID)
}

// setReference evaluates by what a run is found: its reference, and the lane in which runs wait for each other.
func (e *Engine) setReference(plan *running.Plan, run *store.Run, input, request value.Value) {
	facts := running.RunFacts(run.ID.String(), run.File, "", 0, value.Instant(e.now()))
	run.Reference = plan.ReferenceOf(facts, input, request)
	run.Lane = plan.LaneOf(facts, input, request)
	run.Turns = plan.Flow.AtOnce > 0 || run.Lane != ""
}

// StartRun starts a run of a flow, as it is deployed, because somebody asks for it, with the message that its form asks
// for, as JSON. A flow that waits for a file or for new records begins when they come.
func (e *Engine) StartRun(ctx context.Context, s store.Scope, flowID, by string, input []byte) (uuid.UUID, error) {
	d, err := store.DeploymentOf(ctx, e.db, s, flowID)
	if errors.Is(err, store.ErrNotFound) {
		return uuid.Nil, fault.New(fault.Setting, "the flow is not released yet").Mended("Release it; then it can be started")
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
		return uuid.Nil, fault.New(fault.Setting, "this flow waits for what starts it").Mended("Bring its file, or its record")
	}
	if plan.Input != nil && len(input) == 0 {
		return uuid.Nil, fault.New(fault.Required, "the flow begins with a message of %s", plan.Input.Title)
	}
	var id uuid.UUID
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		id, err = e.record(ctx, tx, d, plan, beginning{by: by, input: input})
		return err
	})
	return id, err
}
