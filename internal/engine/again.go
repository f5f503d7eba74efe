package engine

import (
	"context"
	"errors"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// MaxMended is the most bytes of a record that is mended by hand.
const MaxMended = 1 << 20

// Resume lets a run go on that was set aside or stopped as a whole, from where it came to and on
// the release that it began with.
func (e *Engine) Resume(ctx context.Context, run uuid.UUID) error {
	return pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		if err := store.Resume(ctx, tx, run); err != nil {
			return err
		}
		return e.enqueue(ctx, tx, run)
	})
}

// newest is the release that a new run of a flow takes.
func (e *Engine) newest(ctx context.Context, tx pgx.Tx, r store.Run) (int, error) {
	releases, err := store.NewestReleases(ctx, tx, r.Project)
	if err != nil {
		return 0, err
	}
	for _, rel := range releases {
		if rel.Flow == r.Of {
			return rel.Number, nil
		}
	}
	return 0, store.ErrNotFound
}

// Mendable says whether a single record of what a flow reads can be mended by hand: what an operation answered is
// kept record by record; a message must be of a notation whose records stand alone.
func Mendable(p *flow.Plan) bool { return p.Spooled() || Alone(p.Source) }

// Alone says whether a single record of a schema can be read by itself. A delimited record behind a header cannot:
// its names stand elsewhere.
func Alone(s *schema.Schema) bool {
	switch s.Notation {
	case "fixedwidth", "ndjson":
		return true
	case "csv":
		return !s.Settings.Header
	}
	return false
}

// Mend runs a record that was set aside again with mended text, on the newest release, as a run
// of its own that names the first as its parent.
func (e *Engine) Mend(ctx context.Context, id int64, text, by string) (uuid.UUID, error) {
	if len(text) > MaxMended {
		return uuid.Nil, fault.New(fault.Limit, "the record is longer than %d bytes", MaxMended)
	}
	a, err := store.AsideByID(ctx, e.db, id)
	if err != nil {
		return uuid.Nil, err
	}
	r, err := store.RunByID(ctx, e.db, a.Run)
	if err != nil {
		return uuid.Nil, err
	}
	again := store.Run{
		ID: uuid.Must(uuid.NewV7()), Project: r.Project, Flow: r.Flow, Of: r.Of, Reference: r.Reference, File: r.File, Input: r.Input,
		FirstLine: a.Line, Parent: &r.ID, StartedBy: by,
	}
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		var err error
		if again.Release, err = e.newest(ctx, tx, r); err != nil {
			return err
		}
		p, err := e.Release(ctx, r.Project, r.Of, again.Release)
		if err != nil {
			return err
		}
		source := p.Flow(r.Flow).Source
		if p.Flow(r.Flow).Spooled() {
			source = source.As("ndjson")
		}
		if !Mendable(p.Flow(r.Flow)) {
			return fault.New(fault.Setting, "a record of %s cannot be read by itself", source.Title).
				Mended("Mend the file and drop it again")
		}
		content, before := excerpt(source, text)
		again.FirstLine -= before
		if err := store.AddRun(ctx, tx, again, spool.Of(content)); err != nil {
			return err
		}
		if err := store.HandleAside(ctx, tx, id, "run again", &again.ID, by); err != nil {
			return err
		}
		return e.enqueue(ctx, tx, again.ID)
	})
	return again.ID, err
}

// excerpt is a message that holds one record only: its text with the schema's line ends, and empty
// lines where the schema passes over lines; before is how many stand before the record.
func excerpt(s *schema.Schema, text string) (content []byte, before int) {
	end := "\r\n"
	if s.Settings.LineEnd == "LF" {
		end = "\n"
	}
	lines := s.Settings.Lines
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", end)
	return []byte(strings.Repeat(end, lines.First) + text + end + strings.Repeat(end, lines.Last)), lines.First
}

// LetGo closes a set-aside record without running it again.
func (e *Engine) LetGo(ctx context.Context, id int64, by string) error {
	return store.HandleAside(ctx, e.db, id, "let go", nil, by)
}

// Again says how a run is run again.
type Again struct {
	By      string
	Message []byte // in place of the one that it began with; nil: the same
	Same    bool   // on the release that it ran on, not on the newest
}

// anew is an ended run, and the run that somebody begins of it.
func (e *Engine) anew(ctx context.Context, run uuid.UUID, by string) (r, again store.Run, err error) {
	if r, err = store.RunByID(ctx, e.db, run); err != nil {
		return r, again, err
	}
	if !r.Ended() {
		return r, again, store.ErrChanged
	}
	again = r
	again.ID, again.Parent, again.StartedBy, again.Caller = uuid.Must(uuid.NewV7()), &r.ID, by, store.Caller{}
	return r, again, nil
}

// Repeat runs the whole input of an ended run again.
func (e *Engine) Repeat(ctx context.Context, run uuid.UUID, how Again) (uuid.UUID, error) {
	r, again, err := e.anew(ctx, run, how.By)
	if err != nil {
		return uuid.Nil, err
	}
	again.InputPath = r.DonePath
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		var err error
		if again.Release, err = e.newest(ctx, tx, r); err != nil {
			return err
		}
		if how.Same {
			again.Release = r.Release
		}
		if err := e.begins(ctx, &again, how.Message); err != nil {
			return err
		}
		if err := store.AddRun(ctx, tx, again, nil); err != nil {
			return err
		}
		if r.HasInput {
			if err := store.CopyInput(ctx, tx, r.ID, again.ID); err != nil {
				return err
			}
		}
		return errors.Join(store.HandleRun(ctx, tx, r.ID, "run again"), e.enqueue(ctx, tx, again.ID))
	})
	return again.ID, err
}

// LetRunGo closes a run that failed as a whole without running it again.
func (e *Engine) LetRunGo(ctx context.Context, run uuid.UUID) error {
	return store.HandleRun(ctx, e.db, run, "let go")
}

// begins gives a run another message to begin with, which must be one of its flow's input.
func (e *Engine) begins(ctx context.Context, r *store.Run, message []byte) error {
	if len(message) == 0 {
		return nil
	}
	if len(message) > MaxMended {
		return fault.New(fault.Limit, "the message is longer than %d bytes", MaxMended)
	}
	p, err := e.Release(ctx, r.Project, r.Of, r.Release)
	if err != nil {
		return err
	}
	plan := p.Flow(r.Flow)
	if plan == nil || plan.Input == nil {
		return fault.New(fault.Setting, "this flow begins with no message")
	}
	rows, err := project.ReadJSON(plan.Input.As("json"), string(message))
	if err != nil {
		return err
	}
	r.Input = message
	r.Reference = plan.ReferenceOf(flow.RunFacts(r.ID.String(), r.File, "", 0, value.Instant(e.now())), rows[0], flow.ReadRequest(r.Request))
	return nil
}

// Cancel asks a run to stop; what is dealt with stays dealt with, and the run can be resumed.
func (e *Engine) Cancel(ctx context.Context, run uuid.UUID, by string) error {
	r, err := store.RunByID(ctx, e.db, run)
	if err != nil {
		return err
	}
	e.changed()
	return store.Cancel(ctx, e.db, r, by)
}
