package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/excerpt"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// CorrectionText is the text of something that was set aside, as a person can mend it.
type CorrectionText struct {
	Text  string
	JSON  bool   // it is the value as JSON, not the text that stood in the message
	Entry bool   // it is an entry of a list inside a record
	Why   string // why it cannot be mended by itself; empty: it can
}

// CorrectionText gives the text of what was set aside: as it stood in its message where that is still there, else its value
// from the journal.
func (e *Engine) CorrectionText(ctx context.Context, a store.Aside) (CorrectionText, error) {
	m, err := e.correctionText(ctx, a)
	if n := len(m.Text); n > maxMendText {
		return CorrectionText{Why: fmt.Sprintf("It has %d bytes; at most %d can be edited here. Mend it where it comes from, or run it again as it is.", n, maxMendText)}, err
	}
	return m, err
}

// maxMendText bounds the text that a person is given to mend, in bytes.
const maxMendText = 1 << 20

func (e *Engine) correctionText(ctx context.Context, a store.Aside) (CorrectionText, error) {
	r, plan, err := e.planOf(ctx, a.Run)
	if err != nil {
		return CorrectionText{}, err
	}
	if a.Path != "" {
		text, err := e.entryText(ctx, r, plan, a)
		return noText(CorrectionText{Text: text, JSON: true, Entry: true}, err)
	}
	if plan.Source == nil {
		return CorrectionText{Why: "The flow does not read any more what it read then."}, nil
	}
	source := recordSchema(plan, r)
	if excerpt.Kept(source) && len(a.Raw) > 0 {
		return CorrectionText{Text: all.Decode(source, a.Raw), JSON: source.Notation == json.LinesKind.Notation}, nil
	}
	text, err := e.standing(ctx, r, source, a.Byte)
	if err == nil {
		return CorrectionText{Text: text, JSON: source.Notation == json.Kind.Notation}, nil
	}
	text, err = e.recordValue(ctx, r, plan, a)
	return noText(CorrectionText{Text: text, JSON: true}, err)
}

// noText says why there is no text, where there is none.
func noText(m CorrectionText, err error) (CorrectionText, error) {
	if errors.Is(err, store.ErrNotFound) {
		m.Text, m.Why = "", "Its text is not kept any more: the message was removed, and the flow does not keep what its messages come to."
		err = nil
	}
	return m, err
}

func (e *Engine) planOf(ctx context.Context, run uuid.UUID) (store.Run, *running.Plan, error) {
	r, err := store.RunByID(ctx, e.db, run)
	if err != nil {
		return r, nil, err
	}
	p, err := e.Release(ctx, r.Project, r.Of, r.Release)
	if err != nil {
		return r, nil, err
	}
	if plan := p.Flow(r.Flow); plan != nil {
		return r, plan, nil
	}
	return r, nil, store.ErrNotFound
}

// recordSchema is the schema by which a run reads its records, which says in which notation they stand.
func recordSchema(plan *running.Plan, r store.Run) *schema.Schema {
	switch {
	case plan.Spooled():
		return linesOf(plan.Source)
	case r.ReadAs == json.LinesKind.Name:
		return linesOf(plan.Source.InText())
	case r.ReadAs != "":
		return plan.Source.InText()
	}
	return plan.Source
}

// linesOf is a schema for records that stand as JSON, one a line.
func linesOf(s *schema.Schema) *schema.Schema {
	lines := *s.As(json.LinesKind.Notation)
	lines.Notation = json.LinesKind.Notation
	return &lines
}

// message opens what a run reads, or has read; ErrNotFound where it is gone.
func (e *Engine) message(ctx context.Context, r store.Run) (io.ReadCloser, error) {
	if r.HasInput {
		return store.OpenInput(ctx, e.db, r.ID), nil
	}
	for _, path := range []string{r.DonePath, r.InputPath} {
		if f, err := os.Open(path); err == nil {
			return f, nil
		}
	}
	return nil, store.ErrNotFound
}

// standing is the text of a record as it stands in the run's message.
func (e *Engine) standing(ctx context.Context, r store.Run, s *schema.Schema, at int64) (string, error) {
	in, err := e.message(ctx, r)
	if err != nil {
		return "", err
	}
	defer in.Close()
	text, err := excerpt.Text(s, in, at)
	if err == nil && !utf8.ValidString(text) {
		err = errors.ErrUnsupported
	}
	return text, err
}

// recordValue is the value of a record that was read, as JSON.
func (e *Engine) recordValue(ctx context.Context, r store.Run, plan *running.Plan, a store.Aside) (string, error) {
	entry, err := journal.Of(ctx, e.db, r.ID, a.Record)
	if err != nil {
		return "", err
	}
	text, ok := entry.Value(plan.ReadStep.Setting("as"))
	if !ok {
		return "", store.ErrNotFound
	}
	return pretty(text), nil
}

func pretty(text []byte) string { return project.Indented(text) }

// entryText is the value of an entry of a list, as JSON.
func (e *Engine) entryText(ctx context.Context, r store.Run, plan *running.Plan, a store.Aside) (string, error) {
	inner, err := e.innerEntry(ctx, r.ID, a.Record, a.Path)
	if err != nil {
		return "", err
	}
	ps := plan.Planned(inner.Of)
	if ps == nil || ps.Entry == nil {
		return "", store.ErrNotFound
	}
	text, ok := inner.Value(ps.Entry.Name)
	if !ok {
		return "", store.ErrNotFound
	}
	return pretty(text), nil
}

// innerEntry finds the journal's entry of an entry of a list by its path.
func (e *Engine) innerEntry(ctx context.Context, run uuid.UUID, record int, path string) (*journal.Entry, error) {
	entry, err := journal.Of(ctx, e.db, run, record)
	if err != nil {
		return nil, err
	}
	if found := entry.Within(path); found != nil {
		return found, nil
	}
	return nil, store.ErrNotFound
}

// Correct runs a record, or an entry of a list in one, that was set aside again, on the release that is deployed, as a run of its own
// that names the first as its parent. With no text it is run again as it is.
func (e *Engine) Correct(ctx context.Context, id int64, text *string, by string) (uuid.UUID, error) {
	a, err := store.AsideByID(ctx, e.db, id)
	if err != nil {
		return uuid.Nil, err
	}
	if a.State != "open" {
		return uuid.Nil, store.ErrChanged
	}
	now, err := e.CorrectionText(ctx, a)
	mended := text != nil
	switch {
	case err != nil:
		return uuid.Nil, err
	case now.Why != "":
		return uuid.Nil, fault.New(fault.InputGone, "it cannot be run again by itself").WithFix("%s", now.Why)
	case text == nil && strings.ContainsRune(now.Text, utf8.RuneError):
		return uuid.Nil, fault.New(fault.Encoding, "the record has bytes that are no text").WithFix("Mend them first")
	case text == nil:
		text = &now.Text
	case len(*text) > excerpt.MaxText:
		return uuid.Nil, fault.New(fault.Limit, "the record is longer than %d bytes", excerpt.MaxText)
	}
	r, _, err := e.planOf(ctx, a.Run)
	if err != nil {
		return uuid.Nil, err
	}
	again := store.Run{
		ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Of: r.Of, Reference: r.Reference, File: r.File, Input: r.Input, Request: r.Request,
		Parent: &r.ID, StartedBy: by,
	}
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		var err error
		if again.Release, err = e.deployed(ctx, tx, r); err != nil {
			return err
		}
		content, err := e.corrected(ctx, &again, r, a, now, *text, mended)
		if err == nil && mended && content != nil {
			err = e.reads(ctx, again, content)
		}
		if err != nil {
			return err
		}
		if err := store.AddRun(ctx, tx, again, content); err != nil {
			return err
		}
		if err := store.CloseAside(ctx, tx, id, store.AsideRerun, &again.ID, by); err != nil {
			return err
		}
		return e.enqueue(ctx, tx, again.Scope, again.ID)
	})
	return again.ID, err
}

// reads makes sure that a run can read what somebody has mended: it would be set aside again otherwise.
func (e *Engine) reads(ctx context.Context, r store.Run, content *spool.Spool) error {
	p, err := e.Release(ctx, r.Project, r.Of, r.Release)
	if err != nil {
		return err
	}
	s := recordSchema(p.Flow(r.Flow), r)
	in, err := all.Of(s).NewReader(content.Reader(), notation.Options{Source: "the record", Schema: s, Check: true})
	for err == nil {
		_, err = in.Next()
	}
	var faults fault.List
	switch {
	case errors.Is(err, io.EOF):
		return nil
	case errors.As(err, &faults):
		return stillBad(faults[0])
	}
	return stillBad(fault.From(err, fault.Syntax))
}

// stillBad tells that a mended record does not fit yet.
func stillBad(f *fault.Fault) *fault.Fault {
	still := *f
	still.Place = fault.Place{Path: f.Place.Path}
	still.Field, still.Message = "text", strings.TrimSpace("it would be set aside again: "+strings.TrimPrefix(f.Field+": ", ": ")+f.Message)
	return &still
}

// corrected gives a run what it does again: an entry, or a message of its own with one record.
func (e *Engine) corrected(ctx context.Context, again *store.Run, r store.Run, a store.Aside, was CorrectionText, text string, checked bool) (*spool.Spool, error) {
	p, err := e.Release(ctx, r.Project, r.Of, again.Release)
	if err != nil {
		return nil, err
	}
	plan := p.Flow(r.Flow)
	if plan == nil {
		return nil, fault.New(fault.Unknown, "release %d has no flow %s any more", again.Release, r.Flow)
	}
	if was.Entry {
		again.Entry, err = e.correctedEntry(ctx, plan, a, text, checked)
		return nil, err
	}
	if plan.Source == nil {
		return nil, fault.New(fault.Setting, "release %d of the flow reads no records any more", again.Release)
	}
	source := plan.Source.InText()
	if was.JSON {
		content, err := json.Line(text)
		again.ReadAs, again.FirstLine = json.LinesKind.Name, a.Line
		return spool.Of(content), err
	}
	frame, err := e.frame(ctx, r, source)
	if err != nil {
		return nil, err
	}
	content, as, before, err := excerpt.Message(source, frame, text)
	again.ReadAs, again.FirstLine = as.Name, a.Line-before
	return spool.Of(content), err
}

// frame is what stands around the records of a run's message.
func (e *Engine) frame(ctx context.Context, r store.Run, s *schema.Schema) (notation.Frame, error) {
	if !excerpt.Framed(s) {
		return notation.Frame{}, nil
	}
	in, err := e.message(ctx, r)
	if err != nil {
		return notation.Frame{}, fault.New(fault.InputGone, "the message that the record stood in is not there any more").WithFix("Put the file back, or drop a new one")
	}
	defer in.Close()
	_, plan, err := e.planOf(ctx, r.ID)
	if err != nil {
		return notation.Frame{}, err
	}
	return excerpt.FrameOf(recordSchema(plan, r), in)
}

// correctedEntry is an entry of a list with another value.
func (e *Engine) correctedEntry(ctx context.Context, plan *running.Plan, a store.Aside, text string, checked bool) (*store.Entry, error) {
	inner, err := e.innerEntry(ctx, a.Run, a.Record, a.Path)
	if err != nil {
		return nil, err
	}
	ps := plan.Planned(inner.Of)
	if ps == nil || ps.Entry == nil {
		return nil, fault.New(fault.Unknown, "the newest release has no step %s any more, which did this entry", inner.Of)
	}
	line, err := json.Line(text)
	if err != nil {
		return nil, err
	}
	if s := ps.Entry.Schema; s != nil {
		rows, err := project.ReadJSON(s, text)
		if err != nil {
			return nil, err
		}
		if bad := oneOf(s, rows[0]); bad != nil && checked {
			return nil, stillBad(bad)
		}
	}
	return &store.Entry{Each: inner.Of, Record: a.Record, Path: a.Path, Value: line}, nil
}

// oneOf is the first fault of one entry of what a schema describes, which may be a list.
func oneOf(s *schema.Schema, v value.Value) (first *fault.Fault) {
	root := *s.Root
	root.Min, root.Max = 1, 1
	one := *s
	one.Root = &root
	one.Check(v, func(f *fault.Fault) {
		if first == nil {
			first = f
		}
	})
	return first
}

// entry does an entry of a list of the parent again: the steps inside its each, with what was in scope there.
func (x *execution) entry(ctx context.Context) error {
	entry := x.run.Entry
	if x.run.Parent == nil {
		return fault.New(fault.InputGone, "the run that this one begins again is not kept any longer").WithFix("Run the whole message again")
	}
	record, err := journal.Of(ctx, x.engine.db, *x.run.Parent, entry.Record)
	if err != nil {
		return err
	}
	ps := x.plan.Planned(entry.Each)
	inner := find(record.Item(x.plan), entry.Path)
	if ps == nil || ps.Entry == nil || inner == nil {
		return fault.New(fault.InputGone, "the entry %s of the run before is not kept any longer", running.EntryNumber(entry.Path)).WithFix("Run the whole message again")
	}
	v, ok := x.plan.ReadKept(ps.Entry.Slot, string(entry.Value))
	if !ok {
		return fault.New(fault.Type, "the entry is no %s of the release", ps.Entry.Name)
	}
	child := x.plan.EntryAgain(x.whole, ps, inner, v)
	b := x.batch()
	if err := b.PassEntry(ctx, ps, child); err != nil {
		return err
	}
	x.whole.State = running.Done
	cancelledBy, err := x.commitWhole(ctx, b, nil)
	switch {
	case err != nil:
		return err
	case b.Stopped != nil:
		return x.finalizeAs(ctx, store.Stopped, b.Stopped.Fault)
	case cancelledBy != nil:
		return x.cancelled(ctx, *cancelledBy)
	}
	return x.finish(ctx)
}

// find finds an entry of a list in an item by its path.
func find(it *running.Item, path string) *running.Item {
	for _, inner := range it.Inner {
		if inner.Path == path {
			return inner
		}
		if found := find(inner, path); found != nil {
			return found
		}
	}
	return nil
}

// RerunAll runs many records and runs that wait for somebody again as they are, each by itself. It says how many were begun,
// and why the first of the others was not.
func (e *Engine) RerunAll(ctx context.Context, asides []int64, runs []uuid.UUID, by string) (begun int, first error) {
	try := func(err error) {
		switch {
		case err == nil:
			begun++
		case first == nil:
			first = err
		}
	}
	for _, id := range asides {
		_, err := e.Correct(ctx, id, nil, by)
		try(err)
	}
	for _, id := range runs {
		_, err := e.Retry(ctx, id, by)
		try(err)
	}
	if first != nil {
		first = fmt.Errorf("%d of %d could not be run again: %w", len(asides)+len(runs)-begun, len(asides)+len(runs), first)
	}
	return begun, first
}
