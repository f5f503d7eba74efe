package engine

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// A run that a caller waits for, and of which nothing outlives it but what it answers, is done where the call came in and recorded
// with its end, in one go with those of other calls: were the process to end before, nothing would have been done. One that
// cannot end so is begun anew as any other, by the queue.

// errUndecided is that a run cannot be done at once: it is to be recorded before it begins.
var errUndecided = errors.New("the run needs to be recorded before it is done")

// placeTime is how long a call waits for a place in which its run is done at once; behind it the queue takes the run.
const placeTime = 200 * time.Millisecond

// atOnce says whether the runs of a call are done where it came in: this process does runs, and its flow lets them.
func (e *Engine) atOnce(c *Call) bool {
	t := c.Plan.Flow.Trigger
	return e.wholes != nil && t.Wait > 0 && c.Plan.ReadStep == nil && c.Plan.OnePer == nil && c.Plan.Flow.AtOnce == 0 && c.Plan.Flow.Limit == 0 && c.Plan.Repeatable()
}

// doAtOnce does the run of a call and records it. The error is errUndecided where nothing was done and the run is to be recorded
// first, errSeen where a call with its key came before.
func (e *Engine) doAtOnce(ctx context.Context, c *Call, b beginning, a Asked) (store.Run, error) {
	w, err := e.computed(ctx, c, b)
	if err != nil {
		return w.Run, err
	}
	if a.Key != "" {
		w.Key, w.Digest = a.Key, a.digest()
	}
	record := e.wholes
	if a.safe() {
		record = e.quickWholes
	}
	fresh, err := record.ask(ctx, w)
	if err != nil {
		return w.Run, err
	}
	if !fresh {
		return w.Run, errSeen
	}
	x := &execution{engine: e, run: w.Run, plan: c.Plan}
	x.told(w.State)
	e.changed()
	return w.Run, nil
}

// safe says whether a caller asks for nothing but an answer (RFC 9110, section 9.2.1). The record of its run may be lost with the
// machine in the moment behind the answer.
func (a Asked) safe() bool { return a.Method == "GET" || a.Method == "HEAD" }

// computed does the run of a call in memory.
func (e *Engine) computed(ctx context.Context, c *Call, b beginning) (w store.WholeRun, err error) {
	place := time.NewTimer(placeTime)
	defer place.Stop()
	select {
	case e.places <- struct{}{}:
		defer func() { <-e.places }()
	case <-place.C:
		return w, errUndecided
	case <-ctx.Done():
		return w, ctx.Err()
	}
	began := time.Now().UTC().Truncate(time.Microsecond)
	r := c.release
	w.Run = store.Run{
		ID: uuid.Must(uuid.NewV7()), Project: r.Project, Flow: r.Flow, Release: r.Number, Of: r.Flow, File: c.Plan.ReadsFrom(), Input: b.input, Request: b.request, StartedBy: b.by,
		State: store.Running, Claim: 1, Attempt: 1, CreatedAt: began, BeganAt: &began,
	}
	request := flow.ReadRequest(b.request)
	e.known(c.Plan, &w.Run, b.value, request)
	x := &execution{engine: e, run: w.Run, plan: c.Plan, request: request, totals: &flow.Totals{Values: map[string]value.Value{}}}
	x.whole = c.Plan.Whole(x.facts(), b.value)
	batch := &flow.Batch{Plan: c.Plan, House: &transient{house{x: x}}, Try: 1, Totals: x.totals, Trace: x.tracing()}
	ctx, end := x.traced(ctx)
	err = batch.Pass(ctx, c.Plan.Head, x.whole)
	end(err)
	if err != nil { // that it failed is to be seen, and tried again
		e.opt.Log.Debug("call not done at once", "flow", r.Flow, "error", err)
		return w, errUndecided
	}
	over := x.ending(batch)
	if over == nil || len(asides(x.run, x.whole.Inner))+len(batch.Collected) > 0 {
		return w, errUndecided
	}
	w.State, w.Fault, w.References, w.Events = over.state, over.fault, batch.References, batch.Events
	if w.Entries, err = encode(c.Plan, []*flow.Item{x.whole}); err != nil {
		return w, err
	}
	w.Run = x.came(x.run, batch, batch.Counts)
	ended := time.Now().UTC().Truncate(time.Microsecond)
	w.Run.State, w.Run.Fault, w.Run.EndedAt = w.State, w.Fault, &ended
	return w, nil
}

// addWhole records runs that are over.
func (e *Engine) addWhole(db store.DB) func(context.Context, []store.WholeRun) ([]bool, error) {
	return func(ctx context.Context, list []store.WholeRun) ([]bool, error) { return store.AddWhole(ctx, db, list) }
}

// transient is Hollow Reed as a run sees it that is not recorded yet: it may look, and keep nothing.
type transient struct{ house }

func (transient) Start(context.Context, flow.Started, []value.Value) ([]flow.Answered, error) {
	return nil, errUndecided
}

func (transient) Wait(context.Context, string, []*flow.Item, []time.Time) error { return errUndecided }

func (transient) Seen(context.Context, flow.Sight, []string) ([]bool, error) {
	return nil, errUndecided
}

func (transient) Remember(context.Context, string, []flow.Noted) error { return errUndecided }

func (transient) Deliver(context.Context, string, []*flow.Item, []flow.Letter) error {
	return errUndecided
}

func (transient) Await(context.Context, flow.Awaited, []flow.Letter) ([]*string, error) {
	return nil, errUndecided
}

func (transient) Gather(context.Context, flow.Gathering, []string, []string) ([]flow.Gathered, error) {
	return nil, errUndecided
}
