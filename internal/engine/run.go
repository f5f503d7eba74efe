package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/file"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
)

// worker is what River calls for each run.
type worker struct {
	river.WorkerDefaults[jobArgs]
	engine *Engine
}

// Work takes one run on and goes as far as it can.
func (w *worker) Work(ctx context.Context, job *river.Job[jobArgs]) error {
	e := w.engine
	defer e.changedRun(store.Scope{}, job.Args.Run)
	r, err := e.claim(ctx, job.Args.Run)
	if errors.Is(err, errBusy) {
		return e.snooze(turnAfter)
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil // it is over already
	}
	if err != nil {
		return err
	}
	e.changed(r)
	defer func() { e.changed(r) }()
	x := &execution{engine: e, run: r}
	next, err := x.attempt(ctx)
	switch {
	case errors.Is(err, store.ErrTakenOn):
		return e.superseded(ctx, r.ID)
	case err == nil && next > 0:
		return e.snooze(next)
	}
	return err
}

// attempt does a run as far as it can, and says after which time it is to be taken on again; zero where it is over.
func (x *execution) attempt(ctx context.Context) (next time.Duration, err error) {
	ctx, end := x.traced(ctx)
	err = x.work(ctx)
	end(err)
	if err != nil && !errors.Is(err, store.ErrTakenOn) && ctx.Err() == nil {
		return x.later(ctx, err)
	}
	return 0, err
}

// snooze lets the job of a run wait for a while.
func (e *Engine) snooze(d time.Duration) error {
	e.wakeIn(d)
	return river.JobSnooze(d)
}

// superseded is what becomes of the job of a run that another worker has taken on meanwhile, or this one once more. The job is
// the other's now: were it ended here, nobody would take the run on again when the other fails. So this one waits until the
// run is over, and gives the job back when nobody works on it.
func (e *Engine) superseded(ctx context.Context, id uuid.UUID) error {
	t := time.NewTicker(turnAfter)
	defer t.Stop()
	for {
		r, err := store.RunByID(ctx, e.db, id)
		if errors.Is(err, store.ErrNotFound) || err == nil && r.Ended() {
			return nil
		}
		if err == nil {
			var worked bool
			if worked, err = e.worked(ctx, r.ID); err == nil && !worked {
				return e.snooze(turnAfter)
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-t.C: // a database that is away comes back
		}
	}
}

// worked says whether somebody works on a run now.
func (e *Engine) worked(ctx context.Context, id uuid.UUID) (bool, error) {
	worker, alive, err := store.WorkerOf(ctx, e.db, id)
	if err != nil || worker != e.ID {
		return alive, err
	}
	return e.active.has(id), nil
}

// errBusy is that other runs of the flow are under way, and this one has to wait for its turn.
var errBusy = errors.New("other runs are under way")

// turnAfter is how long a run waits before it asks again whether it is its turn.
const turnAfter = 300 * time.Millisecond

// claimFree takes runs on that need not wait for their turn; nil for others.
func (e *Engine) claimFree(ctx context.Context, ids []uuid.UUID) ([]*store.Run, error) {
	runs, err := store.ClaimFree(ctx, e.quick, ids, e.ID)
	out := make([]*store.Run, len(ids))
	for i, id := range ids {
		if n := slices.IndexFunc(runs, func(r store.Run) bool { return r.ID == id }); n >= 0 {
			out[i] = &runs[n]
		}
	}
	return out, err
}

// endAll records the ends of runs.
func (e *Engine) endAll(ctx context.Context, list []store.RunResult) ([]store.RunClosed, error) {
	return store.CloseRuns(ctx, e.quick, list)
}

// claim takes a run on, when it is its turn.
func (e *Engine) claim(ctx context.Context, id uuid.UUID) (r store.Run, err error) {
	free, err := e.claims.ask(ctx, id)
	if err != nil {
		return r, err
	}
	if free != nil {
		return *free, nil
	}
	if r, err = store.RunByID(ctx, e.db, id); err != nil {
		return r, err
	}
	p, err := e.released(ctx, e.db, r.Project, r.Of, r.Release)
	if err != nil {
		return r, err
	}
	plan := p.Flow(r.Flow)
	if plan == nil || plan.Flow.Concurrency == 0 && r.OrderingKey == "" || r.CancelBy != nil {
		return store.Claim(ctx, e.db, id, e.ID)
	}
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		free, err := store.MayStart(ctx, tx, id, r.Scope, r.Flow, r.OrderingKey, plan.Flow.Concurrency)
		if err != nil {
			return err
		}
		if !free {
			return errBusy
		}
		r, err = store.Claim(ctx, tx, id, e.ID)
		return err
	})
	return r, err
}

// execution is one taking on of a run.
type execution struct {
	engine  *Engine
	run     store.Run
	plan    *running.Plan
	src     *running.Source
	whole   *running.Item // the run as a whole
	totals  *running.Totals
	passed  map[string]int // fields of the records of an operation that were passed over, and are not counted yet
	direct  bool           // it was never in the queue: where it has to wait it is put there
	request value.Value    // that started it, where it is at hand already
	ends    bool           // it was told to stop, and takes back what was begun
}

// errCancelled is why a run's work was ended at once.
var errCancelled = errors.New("somebody asked the run to stop")

// mostDeaths is how many workers a run may outlive, at one place.
const mostDeaths = 3

// fatal is why a run is set aside at which one worker after the other ended: the next one would, too, and with it all that it
// is doing for others.
func fatal(r store.Run) *fault.Fault {
	return fault.New(fault.Limit, "the server ended %d times while it worked on this run, which came no further in between", r.Deaths).
		At(fault.Place{Source: r.File}).
		WithFix("Its log says why. When that is mended, resume the run: %d records are dealt with already", r.RecordsRead)
}

// work does a run within its time limit, until it is over or somebody stops it.
func (x *execution) work(ctx context.Context) error {
	if x.run.Deaths >= mostDeaths {
		return fatal(x.run)
	}
	inner, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer x.engine.active.add(x.run.ID, cancel)()
	err := x.do(inner)
	if err != nil && ctx.Err() == nil && errors.Is(context.Cause(inner), errCancelled) {
		r, rerr := store.RunByID(ctx, x.engine.db, x.run.ID)
		if rerr != nil || r.CancelBy == nil {
			return errors.Join(rerr, err)
		}
		return x.cancelled(ctx, *r.CancelBy)
	}
	return err
}

// inputError is trouble with the run's input that waiting does not mend.
type inputError struct{ fault *fault.Fault }

func (e *inputError) Error() string { return e.fault.Error() }

func (x *execution) do(ctx context.Context) error {
	e, r := x.engine, &x.run
	p, err := e.released(ctx, e.db, r.Project, r.Of, r.Release)
	if err != nil {
		return err
	}
	if x.plan = p.Flow(r.Flow); x.plan == nil || len(x.plan.Faults) > 0 {
		return fault.New(fault.Setting, "release %d of %s cannot be run", r.Release, r.Flow)
	}
	if r.CancelBy != nil {
		return x.cancelled(ctx, *r.CancelBy)
	}
	if limit := time.Duration(x.plan.Flow.Timeout) * time.Second; limit > 0 {
		left := limit - e.now().Sub(r.StartedAt.UTC())
		inner, cancel := context.WithTimeoutCause(ctx, left, fault.New(fault.Limit, "the run took longer than %s", limit).WithFix("Give it more time, then resume it: %d records are dealt with already", r.RecordsRead))
		defer cancel()
		ctx = inner
	}
	err = x.parts(ctx)
	if f := (*fault.Fault)(nil); err != nil && errors.As(context.Cause(ctx), &f) {
		return f
	}
	return err
}

// parts does the head of the run, its body and its tail. The head is done again whenever the run is taken on: it
// finds what it has done before.
func (x *execution) parts(ctx context.Context) error {
	if err := x.prepare(); err != nil {
		return err
	}
	switch {
	case x.run.Entry != nil:
		return x.entry(ctx)
	case x.run.FromStep != "":
		return x.again(ctx)
	}
	if over, err := x.pass(ctx, x.plan.Head); over || err != nil {
		return err
	}
	if x.plan.ReadStep == nil {
		return x.finish(ctx)
	}
	return x.runRecords(ctx)
}

// runRecords does the records that are read, and what is behind them.
func (x *execution) runRecords(ctx context.Context) error {
	in, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := x.begin(in); err != nil {
		return err
	}
	if over, err := x.batches(ctx); over || err != nil {
		return err
	}
	x.plan.SetTotals(x.whole, x.totals.Values)
	if over, err := x.pass(ctx, x.plan.Tail); over || err != nil {
		return err
	}
	return x.finish(ctx)
}

// facts are what the run knows of itself. They are the same whenever it is taken on.
func (x *execution) facts() running.Facts {
	r := x.run
	started := x.engine.now()
	if r.StartedAt != nil {
		started = r.StartedAt.UTC()
	}
	request := x.request
	if request.Kind() == value.Absent {
		request = x.plan.ReadStarted(r.Request)
	}
	return running.Facts{ID: r.ID.String(), File: r.File, Reference: r.Reference, Started: value.Instant(started), Request: request}
}

// prepare makes the item that is the run as a whole, and the totals that it has come to.
func (x *execution) prepare() error {
	input := value.Value{}
	if x.plan.Input != nil && x.run.Input != nil {
		rows, err := project.ReadJSON(x.plan.Input, string(x.run.Input))
		if err != nil {
			return fault.From(err, fault.Syntax)
		}
		input = rows[0]
	}
	x.whole = x.plan.RunItem(x.facts(), input)
	var err error
	x.totals, err = journal.ReadTotals(x.plan, x.run.Totals)
	return err
}

// outside are the connections of the run's scope.
func (x *execution) outside() *connector.Pool { return x.engine.outside.Of(x.run.Scope) }

// batch is one for the next items of the run.
func (x *execution) batch() *running.Batch {
	o := &effectGuard{Systems: x.outside(), db: x.engine.db, run: &x.run, plan: x.plan, ending: x.ends}
	return &running.Batch{Plan: x.plan, Systems: o, Runtime: &services{x: x}, Attempt: x.run.Attempt, Totals: x.totals, Trace: x.tracing()}
}

// pass takes the run as a whole through steps of its head or tail; over says that it has ended there.
func (x *execution) pass(ctx context.Context, steps []*running.PlannedStep) (over bool, err error) {
	if len(steps) == 0 {
		return false, nil
	}
	x.whole.State = running.Live
	b := x.batch()
	if err := b.Pass(ctx, steps, x.whole); err != nil {
		return false, err
	}
	end := x.ending(b)
	cancelledBy, err := x.commitWhole(ctx, b, end)
	switch {
	case err != nil:
		return false, err
	case cancelledBy != nil:
		return true, x.cancelled(ctx, *cancelledBy)
	case end != nil:
		return true, x.settled(ctx, end.state)
	case x.whole.State == running.Skipped, x.whole.State == running.Ended:
		return true, x.finish(ctx)
	}
	return false, nil
}

// begin starts to read behind what is dealt with.
func (x *execution) begin(in io.Reader) error {
	r := &x.run
	source := recordSchema(x.plan, *r)
	var ignored notation.Ignored
	reader, err := all.Of(source).NewReader(in, notation.Options{Source: r.File, Schema: source, Ignored: &ignored})
	if err != nil {
		return err
	}
	if r.FirstLine > 1 {
		reader = &shifted{Reader: reader, lines: r.FirstLine - 1}
	}
	x.src = running.NewSource(x.plan, reader, x.facts()).Within(x.whole).Ignoring(&ignored)
	if err := x.src.Skip(r.RecordsRead); err != nil {
		return fault.Expect(fault.InputGone, fmt.Sprintf("at least %d records, as were read before", r.RecordsRead), fmt.Sprintf("%d", x.src.Count())).
			At(fault.Place{Source: r.File})
	}
	return nil
}

// shifted tells the lines of an excerpt as those of the file that it was taken from.
type shifted struct {
	notation.Reader
	lines int
}

func (s *shifted) Place() fault.Place {
	p := s.Reader.Place()
	p.Line += s.lines
	return p
}

func (s *shifted) Next() (value.Value, error) {
	v, err := s.Reader.Next()
	var faults fault.List
	if errors.As(err, &faults) {
		for _, f := range faults {
			f.Place.Line += s.lines
		}
	}
	return v, err
}

// batches does the body; over says that the run has ended there.
func (x *execution) batches(ctx context.Context) (over bool, err error) {
	for {
		items, err := x.src.Batch(x.engine.opt.Batch)
		if running.AtEnd(err) {
			return x.leftOver(ctx)
		}
		if err != nil {
			return false, err
		}
		b := x.batch()
		x.src.CountIgnored(b)
		b.PassedOver(x.plan.ReadStep.ID, x.passed)
		x.passed = nil
		if err := b.Run(ctx, items); err != nil {
			return false, err
		}
		if over, err := x.committed(ctx, b, items); over || err != nil {
			return over, err
		}
	}
}

// leftOver records what was passed over behind the last record, as blank lines.
func (x *execution) leftOver(ctx context.Context) (over bool, err error) {
	if !x.src.LeftOver() {
		return false, nil
	}
	b := x.batch()
	x.src.CountIgnored(b)
	return x.committed(ctx, b, nil)
}

// committed records a batch; over says that the run has ended there.
func (x *execution) committed(ctx context.Context, b *running.Batch, items []*running.Item) (over bool, err error) {
	cancelledBy, err := x.commit(ctx, b, before(b, items))
	switch {
	case err != nil:
		return false, err
	case b.Stopped != nil:
		return true, x.finalizeAs(ctx, store.Stopped, b.Stopped.Fault)
	case cancelledBy != nil:
		return true, x.cancelled(ctx, *cancelledBy)
	}
	return false, nil
}

// before are the items before the one at which the run stops.
func before(b *running.Batch, items []*running.Item) []*running.Item {
	for i, it := range items {
		if b.Stopped != nil && it.Record >= b.Stopped.Record {
			return items[:i]
		}
	}
	return items
}

func (x *execution) finish(ctx context.Context) error {
	if err := x.writeFiles(ctx); err != nil {
		return err
	}
	state, f := store.Done, (*fault.Fault)(nil)
	switch {
	case x.plan.ReadStep != nil && x.run.RecordsRead == 0 && x.run.FromStep == "" && x.run.Entry == nil && !x.plan.Spooled() && x.whole.State != running.Skipped && x.whole.State != running.Ended:
		state, f = store.Stopped, running.Empty(x.run.File)
	case x.run.RecordsSetAside > 0:
		state = store.SetAside
	}
	return x.finalizeAs(ctx, state, f)
}

func (x *execution) cancelled(ctx context.Context, by string) error {
	if err := x.takeBack(ctx); err != nil {
		return err
	}
	f := fault.New(fault.Cancelled, "stopped by %s after %d records", by, x.run.RecordsRead)
	return x.finalizeAs(ctx, store.Stopped, f)
}

// later lets a run that cannot go on now be taken on again, where that may help.
func (x *execution) later(ctx context.Context, err error) (next time.Duration, _ error) {
	var waiting *running.Waiting
	if !errors.As(err, &waiting) {
		return x.failed(ctx, err)
	}
	err = x.recordFor(ctx, waiting.Until, func(db store.DB) error { return store.Suspend(ctx, db, x.run, waiting.Until) })
	return max(1, time.Until(waiting.Until)), err
}

// recordFor records that a run waits until a time, when it is taken on again: by its own job of the queue, by the run that waits
// for it, or by a job that is made with the record where nothing stands behind it.
func (x *execution) recordFor(ctx context.Context, at time.Time, record func(db store.DB) error) error {
	if !x.direct {
		return record(x.engine.db)
	}
	return pgx.BeginFunc(ctx, x.engine.db, func(tx pgx.Tx) error {
		if err := record(tx); err != nil {
			return err
		}
		_, err := x.engine.river.InsertTx(ctx, tx, jobArgs{Run: x.run.ID}, &river.InsertOpts{Queue: store.Queue(x.run.Environment), ScheduledAt: at})
		return err
	})
}

// failed decides what becomes of a run that cannot go on. A fault that no waiting mends ends it;
// for anything else it is tried again after a pause, and set aside after the last try. Either way it can
// be resumed from where it came to.
func (x *execution) failed(ctx context.Context, err error) (next time.Duration, _ error) {
	var input *inputError
	var f *fault.Fault
	var failed *running.Failed
	switch {
	case errors.As(err, &input):
		return 0, x.finalizeAs(ctx, store.Stopped, input.fault)
	case errors.As(err, &failed):
		if errors.As(failed.Err, &f) && f.Code == fault.Setting {
			return 0, x.finalizeAs(ctx, store.SetAside, f)
		}
	case errors.As(err, &f):
		return 0, x.finalizeAs(ctx, store.SetAside, f)
	}
	tried, tries := x.run.Attempt, x.engine.opt.Attempts
	next = x.engine.opt.Backoff(tried)
	f = fault.New(fault.Outside, "an outside system cannot be reached: %s", shared.PlainError(err)).At(fault.Place{Source: x.run.File})
	if failed != nil {
		f.Place.Step = failed.Step.Step.ID
		tries = failed.Attempts(tries)
		if pause, ok := failed.Delay(tried, rand.Float64()); ok {
			next = pause
		}
	}
	if tried >= tries {
		f.WithFix("Tried %d times. When it answers again, resume the run: %d records are dealt with already", tried, x.run.RecordsRead)
		return 0, x.finalizeAs(ctx, store.SetAside, f)
	}
	at := time.Now().Add(next)
	return next, x.recordFor(ctx, at, func(db store.DB) error { return store.CloseOrRetry(ctx, db, x.run, store.Retrying, f, &at) })
}

// open opens the run's input: what is kept with it, or the file where it was dropped or moved to.
func (x *execution) open(ctx context.Context) (io.ReadCloser, error) {
	r := x.run
	if r.HasInput {
		return store.OpenInput(ctx, x.engine.db, r.ID), nil
	}
	if x.plan.Spooled() {
		return x.input(ctx)
	}
	if err := x.engine.MoveDone(ctx, r); err != nil {
		x.engine.opt.Log.Warn("file not moved", "run", r.ID, "error", err)
	}
	identity, err := store.PickupIdentity(ctx, x.engine.db, r.ID)
	if err != nil {
		return nil, err
	}
	for _, path := range []string{r.DonePath, r.InputPath} {
		seen := identity
		if path != r.InputPath {
			seen = "" // it was moved, and perhaps copied, after it was looked at
		}
		f, err := file.OpenIn(path, seen)
		if err == nil {
			return f, nil
		}
		if !errors.Is(err, os.ErrNotExist) {
			return nil, &inputError{fault.New(fault.InputGone, "the file cannot be read: %s", shared.PlainError(err)).At(fault.Place{Source: r.File})}
		}
	}
	return nil, &inputError{fault.Expect(fault.InputGone, "the file "+r.DonePath, "none; it was removed").At(fault.Place{Source: r.File}).
		WithFix("Put it back, then resume the run: %d records are dealt with already", r.RecordsRead)}
}
