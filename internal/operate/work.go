package operate

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// Work is what was set aside: records, and runs as a whole.
type Work struct {
	Records []int64
	Runs    []uuid.UUID
}

// Check says whether something is chosen, and not too much.
func (w Work) Check() error {
	switch n := len(w.Records) + len(w.Runs); {
	case n == 0:
		return fault.New(fault.Required, "nothing is chosen").WithFix("Tick what is meant")
	case n > MaxWork:
		return fault.New(fault.Limit, "at most %d at once", MaxWork)
	}
	return nil
}

// Assign gives work to the person.
func (o Operator) Assign(ctx context.Context, w Work) error {
	return o.assign(ctx, w, o.Person, "took")
}

// Unassign takes work away from whoever has it.
func (o Operator) Unassign(ctx context.Context, w Work) error {
	return o.assign(ctx, w, "", "gave back")
}

func (o Operator) assign(ctx context.Context, w Work, owner, what string) error {
	if err := w.Check(); err != nil {
		return err
	}
	n, err := store.Assign(ctx, o.DB, o.Scope, w.Records, w.Runs, owner)
	if err != nil || n == 0 {
		return err
	}
	return o.audit(ctx, what, nil, strconv.FormatInt(n, 10)+" of what was set aside")
}

// DiscardWork takes work off the list without doing anything with it.
func (o Operator) DiscardWork(ctx context.Context, w Work) error {
	return o.each(ctx, w, "discarded",
		func(a store.Aside) error { return o.Engine.Discard(ctx, a.ID, o.Person) },
		func(r store.Run) error { return o.Engine.DiscardRun(ctx, r.ID) })
}

// RerunWork runs work again as it is.
func (o Operator) RerunWork(ctx context.Context, w Work) error {
	return o.each(ctx, w, "ran again",
		func(a store.Aside) error { _, err := o.Engine.Correct(ctx, a.ID, nil, o.Person); return err },
		func(r store.Run) error { _, err := o.Engine.Retry(ctx, r.ID, o.Person); return err })
}

// each does something with each; what cannot be done with some is told, with the others it is done.
func (o Operator) each(ctx context.Context, w Work, what string, record func(store.Aside) error, run func(store.Run) error) error {
	if err := w.Check(); err != nil {
		return err
	}
	var errs []error
	done := func(run uuid.UUID, about string, err error) {
		if err == nil {
			err = o.audit(ctx, what, &run, about)
		}
		if err != nil {
			errs = append(errs, err)
		}
	}
	for _, id := range w.Records {
		a, err := store.AsideOf(ctx, o.DB, o.Scope, id)
		if err == nil {
			err = record(a)
		}
		done(a.Run, nameOf(a), err)
	}
	for _, id := range w.Runs {
		r, err := store.RunOf(ctx, o.DB, o.Scope, id)
		if err == nil {
			err = run(r)
		}
		done(id, r.Reference, err)
	}
	switch {
	case len(errs) == 0:
		return nil
	case len(w.Records)+len(w.Runs) == 1:
		return errs[0]
	}
	f := fault.From(errs[0], fault.Setting)
	return fault.New(f.Code, "%d of %d could not be done, the others are: %s", len(errs), len(w.Records)+len(w.Runs), f.What())
}

// NoteRecord writes what is to be known of a record that was set aside.
func (o Operator) NoteRecord(ctx context.Context, id int64, note string) error {
	if err := checkNote(note); err != nil {
		return err
	}
	return store.SetWorkNote(ctx, o.DB, o.Scope, id, note)
}

// NoteRun writes what is to be known of a run that was set aside.
func (o Operator) NoteRun(ctx context.Context, id uuid.UUID, note string) error {
	if err := checkNote(note); err != nil {
		return err
	}
	return store.NoteRun(ctx, o.DB, o.Scope, id, note)
}

func checkNote(note string) error {
	if len(note) > maxNote {
		return fault.New(fault.Limit, "the note is longer than %d bytes", maxNote)
	}
	return nil
}

// Search narrows a filter to the runs in whose messages a text stands; an empty text narrows nothing.
func (o Operator) Search(ctx context.Context, f *store.RunFilter, text string, most int) (journal.SearchResult, error) {
	if text == "" {
		return journal.SearchResult{}, nil
	}
	f.Scope = o.Scope
	found, err := journal.Search(ctx, o.DB, *f, text, most)
	f.Among = found.Runs
	return found, err
}

// OfCause narrows a filter to what failed for a cause lately.
func (o Operator) OfCause(ctx context.Context, f *store.RunFilter, cause store.Cause) error {
	ids, err := store.RunsOfCause(ctx, o.DB, o.Scope, cause, time.Now().Add(-Recent), MaxRerun)
	if ids == nil {
		ids = []uuid.UUID{}
	}
	f.Among = ids
	return err
}

// SaveSearch keeps a search of the person under a name; an empty query takes it away. It gives the query as it is kept.
func (o Operator) SaveSearch(ctx context.Context, name, query string) (string, error) {
	if name == "" || utf8.RuneCountInString(name) > maxName {
		return "", fault.Expect(fault.Required, "a name of up to "+strconv.Itoa(maxName)+" characters", fault.Quote(name))
	}
	q, err := url.ParseQuery(query)
	if err != nil || len(query) > maxSearch {
		return "", store.ErrNotFound
	}
	q.Del("before")
	s := store.Search{Name: name, Query: strings.TrimSpace(q.Encode())}
	return s.Query, store.SaveSearch(ctx, o.DB, o.Project, o.Person, s)
}
