package engine

import (
	"context"
	"errors"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/outfile"
	"hollowreed/internal/store"
)

// ending is how a run ends.
type ending struct {
	state store.State
	fault *fault.Fault
}

// ending says how the run ends with a batch of the run as a whole; nil where more is to be done. It is recorded with
// the batch, in one transaction.
func (x *execution) ending(b *running.Batch) *ending {
	switch {
	case b.Stopped != nil:
		return &ending{store.Stopped, b.Stopped.Fault}
	case x.whole.State == running.SetAside:
		return &ending{store.SetAside, x.whole.Faults[0]}
	case x.plan.ReadStep != nil || x.writes():
		return nil
	case x.run.RecordsSetAside+len(asides(x.run, x.whole.Inner)) > 0:
		return &ending{store.SetAside, nil}
	}
	return &ending{store.Done, nil}
}

// writes says whether files are written when the run ends.
func (x *execution) writes() bool {
	return slices.ContainsFunc(x.plan.Steps, func(ps *running.PlannedStep) bool { return ps.File != nil })
}

// commit records a batch: what happened to its records, what was set aside and how far the run is.
func (x *execution) commit(ctx context.Context, b *running.Batch, items []*running.Item) (cancelledBy *string, err error) {
	r := x.run
	first := r.RecordsRead
	r.RecordsRead += len(items)
	aside := asides(r, items)
	entries, err := journal.Encode(x.plan, items)
	if err != nil {
		return nil, err
	}
	return x.record(ctx, r, b, batchEntries{first, len(items), entries}, aside, nil)
}

// commitWhole records what happened to the run as a whole. Its journal stands before that of the first record.
// Where the run ends with it, that is recorded, too.
func (x *execution) commitWhole(ctx context.Context, b *running.Batch, end *ending) (cancelledBy *string, err error) {
	entries, err := journal.Encode(x.plan, []*running.Item{x.whole})
	if err != nil {
		return nil, err
	}
	return x.record(ctx, x.run, b, batchEntries{running.WholeRun, 1, entries}, asides(x.run, x.whole.Inner), end)
}

// end records that the run ends, together with others that end at the same time.
func (x *execution) end(ctx context.Context, e store.RunResult) (cancelledBy *string, err error) {
	var ended store.RunClosed
	if e.Run.InputPath == "" {
		ended, err = x.engine.ends.ask(ctx, e)
	} else { // its file may be removed then: that must not be forgotten
		var list []store.RunClosed
		list, err = store.CloseRuns(ctx, x.engine.db, []store.RunResult{e})
		ended = list[0]
	}
	if err == nil && ended.TakenOn {
		err = store.ErrTakenOn
	}
	return ended.CancelledBy, x.recorded(e.Run, err)
}

// batchEntries are the journal of a batch.
type batchEntries struct {
	first, records int
	entries        []byte
}

// record writes all that a batch has come to in one transaction.
func (x *execution) record(ctx context.Context, r store.Run, b *running.Batch, j batchEntries, aside []store.Aside, end *ending) (cancelledBy *string, err error) {
	counts := sum
	if j.first == running.WholeRun { // the head may be done again
		counts = latest
	}
	r = x.came(r, b, counts(x.run.Counts, b.Counts))
	if end != nil && x.run.ClaimVersion <= 1 && len(aside)+len(b.References)+len(b.Events)+len(b.Collected)+len(b.Published) == 0 {
		return x.end(ctx, store.RunResult{Run: r, State: end.state, Fault: end.fault, Entries: j.entries})
	}
	var into []string // channels that get messages
	err = pgx.BeginFunc(ctx, x.engine.db, func(tx pgx.Tx) error {
		if r.RecordsSetAside, err = x.recordAsides(ctx, tx, j, b, aside); err != nil {
			return err
		}
		if cancelledBy, err = store.Progress(ctx, tx, r); err != nil {
			return err
		}
		if j.records > 0 {
			if err := store.AddJournal(ctx, tx, r.ID, j.first, j.records, j.entries); err != nil {
				return err
			}
		}
		for step, content := range outfile.Collected(b) {
			if err := store.Collect(ctx, tx, r.ID, step, j.first, content); err != nil {
				return err
			}
		}
		if into, err = x.engine.publish(ctx, tx, r, b.Published); err != nil {
			return err
		}
		err := errors.Join(store.AddReferences(ctx, tx, r, b.References), store.AddEvents(ctx, tx, r, b.Events))
		if err != nil || end == nil || cancelledBy != nil {
			return err
		}
		return store.CloseOrRetry(ctx, tx, r, end.state, end.fault, nil)
	})
	if err == nil {
		x.engine.messagesCame(x.run.Scope, into)
	}
	return cancelledBy, x.recorded(r, err)
}

// came is a run with what a batch has come to.
func (x *execution) came(r store.Run, b *running.Batch, counts map[string]*running.Counts) store.Run {
	r.Counts, r.Totals = counts, journal.WriteTotals(x.totals)
	if b.Reply != nil {
		r.Reply = b.Reply
	}
	if b.Answer.Kind() != value.Absent {
		r.Answer = json.Bytes(b.Answer)
	}
	return r
}

// recordAsides keeps what was set aside, and gives how many the run has set aside now. The run as a whole may be done again:
// what it sets aside and tells then takes the place of what it did before.
func (x *execution) recordAsides(ctx context.Context, tx pgx.Tx, j batchEntries, b *running.Batch, aside []store.Aside) (int, error) {
	if j.first != running.WholeRun {
		err := store.AddAside(ctx, tx, aside)
		if err == nil && len(aside) > 0 && x.plan.Spooled() {
			err = store.JoinAsides(ctx, tx, x.run, j.first)
		}
		return x.run.RecordsSetAside + len(aside), err
	}
	more := 0
	if x.run.ClaimVersion > 1 || len(aside) > 0 {
		var err error
		if more, err = store.ReplaceAsides(ctx, tx, x.run.ID, aside); err != nil {
			return 0, err
		}
	}
	if x.run.ClaimVersion > 1 && len(b.Counts) > 0 {
		return x.run.RecordsSetAside + more, store.DeleteEvents(ctx, tx, x.run.ID, slices.Collect(maps.Keys(b.Counts)))
	}
	return x.run.RecordsSetAside + more, nil
}

// recorded takes over what was recorded.
func (x *execution) recorded(r store.Run, err error) error {
	if err == nil {
		x.engine.changed(r)
		x.run = r
		x.run.Attempt = 1
	}
	return err
}

// latest are counts of which some are counted anew.
func latest(a, b map[string]*running.Counts) map[string]*running.Counts {
	all := maps.Clone(b)
	for id, c := range a {
		if all[id] == nil {
			all[id] = c
		}
	}
	return all
}

func sum(a, b map[string]*running.Counts) map[string]*running.Counts {
	total := map[string]*running.Counts{}
	for _, m := range []map[string]*running.Counts{a, b} {
		for id, c := range m {
			if total[id] == nil {
				total[id] = &running.Counts{}
			}
			total[id].Add(c)
		}
	}
	return total
}

// asides are the records that were set aside, and the entries inside others.
func asides(r store.Run, items []*running.Item) []store.Aside {
	var list []store.Aside
	for _, it := range items {
		if it.State == running.SetAside {
			list = append(list, store.Aside{Run: r.ID, Record: it.Record, Path: it.Path, Line: it.Place.Line, Step: it.Step, Raw: []byte(it.Raw), Faults: it.Faults, Byte: it.Place.Byte})
			continue
		}
		list = append(list, asides(r, it.Inner)...)
	}
	return list
}
