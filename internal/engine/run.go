package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// worker is what River calls for each run.
type worker struct {
	river.WorkerDefaults[jobArgs]
	engine *Engine
}

// NextRetry spaces the tries of a run whose outside systems cannot be reached.
func (w *worker) NextRetry(job *river.Job[jobArgs]) time.Time {
	return time.Now().Add(w.engine.opt.Backoff(job.Attempt))
}

// Work takes one run on and goes as far as it can.
func (w *worker) Work(ctx context.Context, job *river.Job[jobArgs]) error {
	e := w.engine
	r, err := store.Claim(ctx, e.db, job.Args.Run, e.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it is over already
	}
	if err != nil {
		return err
	}
	x := &execution{engine: e, run: r}
	err = x.do(ctx)
	switch {
	case err == nil, errors.Is(err, store.ErrTakenOn):
		return nil
	case ctx.Err() != nil:
		return err
	}
	return x.failed(ctx, err, job.Attempt)
}

// execution is one taking on of a run.
type execution struct {
	engine *Engine
	run    store.Run
	plan   *flow.Plan
	src    *flow.Source
}

// inputError is trouble with the run's input that waiting does not mend.
type inputError struct{ fault *fault.Fault }

func (e *inputError) Error() string { return e.fault.Error() }

func (x *execution) do(ctx context.Context) error {
	e, r := x.engine, &x.run
	if r.CancelBy != nil {
		return x.cancelled(ctx, *r.CancelBy)
	}
	p, err := e.Release(ctx, r.Project, r.Flow, r.Release)
	if err != nil {
		return err
	}
	if x.plan = p.Flow(r.Flow); x.plan == nil || len(x.plan.Faults) > 0 {
		return fault.New(fault.Setting, "release %d of %s cannot be run", r.Release, r.Flow)
	}
	in, err := x.open(ctx)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := x.begin(in); err != nil {
		return err
	}
	return x.batches(ctx)
}

// begin starts to read behind what is dealt with.
func (x *execution) begin(in io.Reader) error {
	r := &x.run
	written := x.plan.Source.Notation
	if x.plan.Spooled() {
		written = "ndjson"
	}
	n, err := all.Named(written)
	if err != nil {
		return err
	}
	reader, err := n.NewReader(in, notation.Options{Source: r.File, Schema: x.plan.Source})
	if err != nil {
		return err
	}
	if r.FirstLine > 1 {
		reader = &shifted{Reader: reader, lines: r.FirstLine - 1}
	}
	started := time.Now().UTC()
	if r.BeganAt != nil {
		started = r.BeganAt.UTC()
	}
	facts := flow.Facts{ID: r.ID.String(), File: r.File, Reference: r.Reference, Started: value.Instant(started)}
	x.src = flow.NewSource(x.plan, reader, facts)
	if err := x.src.Skip(r.Taken); err != nil {
		return fault.Expect(fault.Gone, fmt.Sprintf("at least %d records, as were read before", r.Taken), fmt.Sprintf("%d", x.src.Taken())).
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

func (x *execution) batches(ctx context.Context) error {
	for {
		items, err := x.src.Batch(x.engine.opt.Batch)
		if flow.AtEnd(err) {
			return x.finish(ctx)
		}
		if err != nil {
			return err
		}
		b := &flow.Batch{Plan: x.plan, Outside: &once{Outside: x.engine.outside, db: x.engine.db, run: &x.run}}
		if err := b.Run(ctx, items); err != nil {
			return err
		}
		cancelledBy, err := x.commit(ctx, b, items)
		if err != nil {
			return err
		}
		if cancelledBy != nil {
			return x.cancelled(ctx, *cancelledBy)
		}
	}
}

// commit records a batch: what happened to its records, what was set aside and how far the run is.
func (x *execution) commit(ctx context.Context, b *flow.Batch, items []*flow.Item) (cancelledBy *string, err error) {
	r := x.run
	first := r.Taken
	r.Taken += len(items)
	r.Counts = sum(x.run.Counts, b.Counts)
	aside := asides(r, first, items)
	r.Aside += len(aside)
	entries, err := encode(x.plan, first, items)
	if err != nil {
		return nil, err
	}
	err = pgx.BeginFunc(ctx, x.engine.db, func(tx pgx.Tx) error {
		if cancelledBy, err = store.Progress(ctx, tx, r); err != nil {
			return err
		}
		if err := store.AddJournal(ctx, tx, r.ID, first, len(items), entries); err != nil {
			return err
		}
		for step, content := range collected(b) {
			if err := store.Collect(ctx, tx, r.ID, step, first, content); err != nil {
				return err
			}
		}
		return store.AddAside(ctx, tx, aside)
	})
	if err == nil {
		x.run = r
	}
	return cancelledBy, err
}

func sum(a, b map[string]*flow.Counts) map[string]*flow.Counts {
	total := map[string]*flow.Counts{}
	for _, m := range []map[string]*flow.Counts{a, b} {
		for id, c := range m {
			if total[id] == nil {
				total[id] = &flow.Counts{}
			}
			total[id].Add(c)
		}
	}
	return total
}

func asides(r store.Run, first int, items []*flow.Item) []store.Aside {
	var list []store.Aside
	for i, it := range items {
		if it.State == flow.SetAside {
			list = append(list, store.Aside{Run: r.ID, Record: first + i, Line: it.Place.Line, Step: it.Step, Raw: []byte(it.Raw), Faults: it.Faults})
		}
	}
	return list
}

func (x *execution) finish(ctx context.Context) error {
	if err := x.writeFiles(ctx); err != nil {
		return err
	}
	state, f := store.Done, (*fault.Fault)(nil)
	switch {
	case x.run.Taken == 0 && !x.plan.Spooled():
		state, f = store.Stopped, flow.Empty(x.run.File)
	case x.run.Aside > 0:
		state = store.SetAside
	}
	return x.over(ctx, state, f)
}

func (x *execution) cancelled(ctx context.Context, by string) error {
	f := fault.New(fault.Cancelled, "stopped by %s after %d records", by, x.run.Taken)
	return x.over(ctx, store.Stopped, f)
}

// failed decides what becomes of a run that cannot go on. A fault that no waiting mends ends it;
// for anything else it is tried again later, and set aside after the last try. Either way it can
// be resumed from where it came to.
func (x *execution) failed(ctx context.Context, err error, attempt int) error {
	var stop *flow.Stop
	var input *inputError
	var f *fault.Fault
	switch {
	case errors.As(err, &stop):
		return x.over(ctx, store.Stopped, stop.Fault)
	case errors.As(err, &input):
		return x.over(ctx, store.Stopped, input.fault)
	case errors.As(err, &f):
		return x.over(ctx, store.SetAside, f)
	}
	f = fault.New(fault.Outside, "an outside system cannot be reached: %s", plainError(err)).
		At(fault.Place{Source: x.run.File})
	if attempt >= x.engine.opt.Tries {
		f.Mended("Tried %d times. When it answers again, resume the run: %d records are dealt with already", attempt, x.run.Taken)
		return x.over(ctx, store.SetAside, f)
	}
	next := time.Now().Add(x.engine.opt.Backoff(attempt))
	if ferr := store.Finish(ctx, x.engine.db, x.run, store.Retrying, f, &next); ferr != nil {
		return ferr
	}
	return err
}

// open opens the run's input: what is kept with it, or the file where it was dropped or moved to.
func (x *execution) open(ctx context.Context) (io.ReadCloser, error) {
	r := x.run
	if x.plan.Spooled() {
		return x.input(ctx)
	}
	if r.HasInput {
		content, err := store.RunInput(ctx, x.engine.db, r.ID)
		return io.NopCloser(bytes.NewReader(content)), err
	}
	if err := x.engine.moveDone(ctx, r); err != nil {
		x.engine.opt.Log.Warn("file not moved", "run", r.ID, "error", err)
	}
	for _, path := range []string{r.DonePath, r.InputPath} {
		f, err := os.Open(path)
		if err == nil {
			return f, nil
		}
		if !errors.Is(err, os.ErrNotExist) {
			return nil, &inputError{fault.New(fault.Gone, "the file cannot be read: %s", plainError(err)).At(fault.Place{Source: r.File})}
		}
	}
	return nil, &inputError{fault.Expect(fault.Gone, "the file "+r.DonePath, "none; it was removed").At(fault.Place{Source: r.File}).
		Mended("Put it back, then resume the run: %d records are dealt with already", r.Taken)}
}
