package engine

import (
	"context"
	"errors"
	"runtime/debug"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/store"
)

// A call becomes a run in one of three ways. One of which nothing outlives it but what it answers is done where the call came in and
// recorded with its end, in one go with those of other calls: were the process to end before, nothing would have been done. One
// that changes something is recorded first, and done where it came in. All others are done by the queue: those that nobody waits
// for, that wait for their turn, or for which this process has no place.

// errOtherwise is that a call was not done in a way, and nothing was done.
var errOtherwise = errors.New("the call is to be done in another way")

// placeTime is how long a call waits for a place in which its run is done at once; behind it the queue takes the run.
const placeTime = 200 * time.Millisecond

// direct says whether the run of a call may be done where it came in: this process does runs, somebody waits for the answer, and no
// run of the flow waits for another.
func (e *Engine) direct(c *Call) bool {
	return e.wholes != nil && c.Plan.Flow.Trigger.Timeout > 0 && c.Plan.OnePer == nil && c.Plan.Flow.Concurrency == 0
}

// doAtOnce does the run of a call and records it when it is over.
func (e *Engine) doAtOnce(ctx context.Context, c *Call, b triggers.Start, a InboundRequest, t *Accepted) error {
	if !e.direct(c) || c.Plan.ReadStep != nil || c.Plan.Flow.Timeout > 0 || !c.Plan.Repeatable() {
		return errOtherwise
	}
	w, err := e.computed(ctx, c, b)
	if err != nil {
		return err
	}
	if a.Key != "" {
		w.Key, w.Digest = a.Key, a.digest()
	}
	if !a.safe() || w.Key != "" || !e.questions.add(w) {
		fresh, err := e.wholes.ask(ctx, w)
		if err != nil {
			return err
		}
		if !fresh {
			return errSeen
		}
		e.recordedWhole(w)
	}
	t.Run, t.Finished = w.Run.ID, &w.Run
	return nil
}

// recordedWhole tells of a run that is recorded and over.
func (e *Engine) recordedWhole(w store.WholeRun) {
	(&execution{engine: e, run: w.Run}).publishEnd(w.State)
	e.changed(w.Run)
}

// doHere records the run of a call as one that this process has taken on, and begins to do it. When the process ends before the run
// does, another one puts it into the queue.
func (e *Engine) doHere(ctx context.Context, c *Call, b triggers.Start, a InboundRequest, t *Accepted) error {
	if !e.direct(c) {
		return errOtherwise
	}
	select {
	case e.hands <- struct{}{}:
	default:
		return errOtherwise
	}
	r, err := e.recordHere(ctx, c, b, a)
	if err != nil {
		<-e.hands
		return err
	}
	t.Run = r.ID
	t.over, t.left = e.callers.on(r.ID)
	go func() {
		defer func() { <-e.hands }()
		defer e.changed(r)
		defer e.survive(r.Flow, func() {}) // it is taken up again, by the queue
		x := &execution{engine: e, run: r, direct: true}
		if _, err := x.attempt(e.runs); err != nil && !errors.Is(err, store.ErrTakenOn) {
			e.opt.Log.Warn("the end of a call's run is not recorded", "run", r.ID, "error", err) // it is taken up again
		}
	}()
	return nil
}

// survive keeps the process alive, and with it all other runs, when a run fails beyond all expectation. It is to be deferred.
func (e *Engine) survive(flowID string, then func()) {
	if failure := recover(); failure != nil {
		e.opt.Log.Error("panic in the run of a call", "flow", flowID, "error", failure, "stack", string(debug.Stack()))
		then()
	}
}

// stopCalls ends the runs of calls that are done here, and waits for them: no other begins behind it.
func (e *Engine) stopCalls(ctx context.Context) {
	e.endRuns()
	for range cap(e.hands) {
		select {
		case e.hands <- struct{}{}:
		case <-ctx.Done():
			e.opt.Log.Warn("runs of calls did not end in time")
			return
		}
	}
}

// recordHere records a run that this process takes on.
func (e *Engine) recordHere(ctx context.Context, c *Call, b triggers.Start, a InboundRequest) (r store.Run, err error) {
	r = c.run(b)
	e.setReference(c.Plan, &r, b.Value, b.RequestValue)
	if a.Key == "" {
		return store.AddClaimed(ctx, e.front(), r, e.ID)
	}
	err = pgx.BeginFunc(ctx, e.front(), func(tx pgx.Tx) error {
		if r, err = store.AddClaimed(ctx, tx, r, e.ID); err != nil {
			return err
		}
		return e.keyed(ctx, tx, c, a, r.ID)
	})
	return r, err
}

// run is what is known of the run of a call before it is done.
func (c *Call) run(b triggers.Start) store.Run {
	r := c.release
	return store.Run{ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Release: r.Number, Of: r.Flow, File: c.Plan.ReadsFrom(), Input: b.Input, Request: b.Request, StartedBy: b.By, Counts: running.InputCounts(b.Ignored)}
}

// safe says whether a caller asks for nothing but an answer (RFC 9110, section 9.2.1). Its run is recorded behind the answer: the
// record may be lost with the process, or the machine, in the moment between.
func (a InboundRequest) safe() bool { return a.Method == "GET" || a.Method == "HEAD" }

// computed does the run of a call in memory.
func (e *Engine) computed(ctx context.Context, c *Call, b triggers.Start) (w store.WholeRun, err error) {
	place := time.NewTimer(placeTime)
	defer place.Stop()
	select {
	case e.places <- struct{}{}:
		defer func() { <-e.places }()
	case <-place.C:
		return w, errOtherwise
	case <-ctx.Done():
		return w, ctx.Err()
	}
	defer e.survive(c.Plan.Flow.ID, func() { err = errOtherwise }) // the queue deals with it, and tries it again
	began := time.Now().UTC().Truncate(time.Microsecond)
	w.Run = c.run(b)
	w.Run.State, w.Run.ClaimVersion, w.Run.Attempt, w.Run.CreatedAt, w.Run.StartedAt = store.Running, 1, 1, began, &began
	request := b.RequestValue
	e.setReference(c.Plan, &w.Run, b.Value, request)
	x := &execution{engine: e, run: w.Run, plan: c.Plan, request: request, totals: &running.Totals{Values: map[string]value.Value{}}}
	x.whole = c.Plan.RunItem(x.facts(), b.Value)
	batch := &running.Batch{Plan: c.Plan, Runtime: &transient{services{x: x}}, Attempt: 1, Totals: x.totals, Trace: x.tracing()}
	ctx, end := x.traced(ctx)
	err = batch.Pass(ctx, c.Plan.Head, x.whole)
	end(err)
	if err != nil { // that it failed is to be seen, and tried again
		e.opt.Log.Debug("call not done at once", "flow", w.Run.Flow, "error", err)
		return w, errOtherwise
	}
	over := x.ending(batch)
	if over == nil || len(asides(x.run, x.whole.Inner))+len(batch.Collected) > 0 {
		return w, errOtherwise
	}
	w.State, w.Fault, w.References, w.Events = over.state, over.fault, batch.References, batch.Events
	if w.Entries, err = journal.Encode(c.Plan, []*running.Item{x.whole}); err != nil {
		return w, err
	}
	w.Run = x.came(x.run, batch, latest(x.run.Counts, batch.Counts))
	ended := time.Now().UTC().Truncate(time.Microsecond)
	w.Run.State, w.Run.Fault, w.Run.EndedAt = w.State, w.Fault, &ended
	return w, nil
}

// addWhole records runs that are over.
func (e *Engine) addWhole(db store.DB) func(context.Context, []store.WholeRun) ([]bool, error) {
	return func(ctx context.Context, list []store.WholeRun) ([]bool, error) { return store.AddWhole(ctx, db, list) }
}

// transient is Hollow Reed as a run sees it that is not recorded yet: it may look, and keep nothing.
type transient struct{ services }

func (transient) Start(context.Context, running.FlowCall, []value.Value) ([]running.Response, error) {
	return nil, errOtherwise
}

func (transient) Wait(context.Context, string, []*running.Item, []time.Time) error {
	return errOtherwise
}

func (transient) MarkSeen(context.Context, running.DuplicateCheck, []string) ([]bool, error) {
	return nil, errOtherwise
}

func (transient) Put(context.Context, string, []running.StateEntry) error { return errOtherwise }

func (transient) Send(context.Context, string, []*running.Item, []running.CorrelatedMessage) error {
	return errOtherwise
}

func (transient) Receive(context.Context, running.ReceiveStep, []running.CorrelatedMessage) ([]*string, error) {
	return nil, errOtherwise
}

func (transient) Aggregate(context.Context, running.AggregateStep, []string, []string) ([]running.AggregateGroup, error) {
	return nil, errOtherwise
}
