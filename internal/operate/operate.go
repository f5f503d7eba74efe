// Package operate holds the use cases of watching what runs: what a person does to runs and to what was set aside. Each is a
// function with a name; what was done stands in the audit log. Pages and commands call them; none of them knows HTML.
package operate

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
)

// Operator is a person who watches the runs of a scope.
type Operator struct {
	DB     *pgxpool.Pool
	Engine *engine.Engine
	store.Scope
	Person string
}

// Bounds on what is done at once.
const (
	MaxRerun  = 1000 // runs and records that are run again
	MaxWork   = 100  // of what is chosen in a list
	maxNote   = 2000 // bytes of a note
	maxName   = 80   // characters of a search's name
	maxSearch = 2000 // bytes of a search
)

// Recent is how far back what failed for a cause is looked for.
const Recent = 24 * time.Hour

// audit notes what the person has done.
func (o Operator) audit(ctx context.Context, what string, run *uuid.UUID, about string) error {
	return store.AddAuditEntry(ctx, o.DB, o.Scope, o.Person, what, run, about)
}

// owns says whether a run is one of the scope; ErrNotFound where it is not.
func (o Operator) owns(ctx context.Context, run uuid.UUID) error {
	_, err := store.RunOf(ctx, o.DB, o.Scope, run)
	return err
}

// Resume lets a run that was set aside or stopped go on.
func (o Operator) Resume(ctx context.Context, run uuid.UUID) error {
	if err := o.owns(ctx, run); err != nil {
		return err
	}
	if err := o.Engine.Resume(ctx, run); err != nil {
		return err
	}
	return o.audit(ctx, "resumed the run", &run, "")
}

// Cancel asks a run to stop; what is dealt with stays dealt with.
func (o Operator) Cancel(ctx context.Context, run uuid.UUID) error {
	if err := o.owns(ctx, run); err != nil {
		return err
	}
	if err := o.Engine.Cancel(ctx, run, o.Person); err != nil {
		return err
	}
	return o.audit(ctx, "stopped the run", &run, "")
}

// Rerun runs the whole input of a run again: with another message where one is given, on the same release where that is wanted.
func (o Operator) Rerun(ctx context.Context, run uuid.UUID, message []byte, sameRelease bool) (again uuid.UUID, err error) {
	if err := o.owns(ctx, run); err != nil {
		return again, err
	}
	again, err = o.Engine.Rerun(ctx, run, engine.RerunOptions{By: o.Person, Message: message, Same: sameRelease})
	if err != nil {
		return again, err
	}
	what := "ran it again"
	if len(message) > 0 {
		what = "ran it again with a mended message"
	}
	return again, o.audit(ctx, what, &run, "")
}

// RerunFrom runs a run again from a step on.
func (o Operator) RerunFrom(ctx context.Context, run uuid.UUID, step string) (again uuid.UUID, err error) {
	if err := o.owns(ctx, run); err != nil {
		return again, err
	}
	again, err = o.Engine.RerunFrom(ctx, run, step, o.Person)
	if err != nil {
		return again, err
	}
	return again, o.audit(ctx, "ran it again from", &run, step)
}

// RerunMatching runs all runs again that fit a filter and have ended, each on the release that is deployed.
func (o Operator) RerunMatching(ctx context.Context, f store.RunFilter) error {
	if f.Flow == "" && f.Among == nil {
		return fault.New(fault.Setting, "choose a flow or a cause first").WithFix("Narrow the list to what is to be run again")
	}
	f.Scope, f.Most = o.Scope, MaxRerun
	runs, err := store.Runs(ctx, o.DB, f)
	if err != nil {
		return err
	}
	n := 0
	for _, r := range runs {
		if !r.Ended() {
			continue
		}
		if _, err = o.Engine.Rerun(ctx, r.ID, engine.RerunOptions{By: o.Person}); err != nil {
			break
		}
		n++
	}
	return errors.Join(err, o.audit(ctx, "ran many again:", nil, count(n, "run"))) // those before the fault run
}

// RerunCause runs what waits for somebody for a cause again: just those records, and the runs that failed as a whole.
func (o Operator) RerunCause(ctx context.Context, cause store.Cause) error {
	asides, runs, err := store.OpenOfCause(ctx, o.DB, o.Scope, cause, time.Now().Add(-Recent), MaxRerun)
	if err != nil {
		return err
	}
	return o.rerunAll(ctx, asides, runs, "ran again by cause:", nil, "of what was set aside")
}

// RerunOpen runs the records of a run again that wait for somebody.
func (o Operator) RerunOpen(ctx context.Context, run uuid.UUID) error {
	if err := o.owns(ctx, run); err != nil {
		return err
	}
	list, err := store.Asides(ctx, o.DB, run, MaxRerun)
	if err != nil {
		return err
	}
	var open []int64
	for _, a := range list {
		if a.State == "open" {
			open = append(open, a.ID)
		}
	}
	return o.rerunAll(ctx, open, nil, "ran again what was set aside:", &run, "")
}

func (o Operator) rerunAll(ctx context.Context, asides []int64, runs []uuid.UUID, what string, run *uuid.UUID, of string) error {
	n, err := o.Engine.RerunAll(ctx, asides, runs, o.Person)
	about := strconv.Itoa(n) + " " + of
	if of == "" {
		about = count(n, "record")
	}
	if noted := o.audit(ctx, what, run, about); noted != nil {
		return noted
	}
	var f *fault.Fault
	if errors.As(err, &f) {
		return fault.New(f.Code, "%s", err)
	}
	return err
}

// Correct runs what was set aside again, with another text where one is given.
func (o Operator) Correct(ctx context.Context, id int64, text *string) (again uuid.UUID, err error) {
	a, err := store.AsideOf(ctx, o.DB, o.Scope, id)
	if err != nil {
		return again, err
	}
	if again, err = o.Engine.Correct(ctx, id, text, o.Person); err != nil {
		return again, err
	}
	what := "ran again as it is"
	if text != nil {
		what = "mended"
	}
	return again, o.audit(ctx, what, &a.Run, nameOf(a))
}

// Discard takes what was set aside off the list without doing anything with it. It gives the run that it is of.
func (o Operator) Discard(ctx context.Context, id int64) (run uuid.UUID, err error) {
	a, err := store.AsideOf(ctx, o.DB, o.Scope, id)
	if err != nil {
		return run, err
	}
	if err := o.Engine.Discard(ctx, id, o.Person); err != nil {
		return a.Run, err
	}
	return a.Run, o.audit(ctx, "discarded", &a.Run, nameOf(a))
}

// Pause lets the trigger of a flow start nothing, for a reason.
func (o Operator) Pause(ctx context.Context, flowID, reason string) error {
	if err := o.Engine.PauseTrigger(ctx, o.Scope, flowID, o.Person, reason); err != nil {
		return err
	}
	return o.audit(ctx, "paused the trigger of", nil, flowID)
}

// Unpause lets a paused trigger start runs again.
func (o Operator) Unpause(ctx context.Context, flowID string) error {
	if err := o.Engine.ResumeTrigger(ctx, o.Scope, flowID); err != nil {
		return err
	}
	return o.audit(ctx, "resumed the trigger of", nil, flowID)
}

// Start starts a run of a flow, as the environment runs it, with its message where it begins with one.
func (o Operator) Start(ctx context.Context, flowID string, message []byte) (run uuid.UUID, err error) {
	if run, err = o.Engine.StartRun(ctx, o.Scope, flowID, o.Person, message); err != nil {
		return run, err
	}
	return run, o.audit(ctx, "started a run of", &run, flowID)
}

// nameOf tells a record, or an entry of one, as people count.
func nameOf(a store.Aside) string {
	var parts []string
	if a.Record >= 0 {
		parts = append(parts, "record "+strconv.Itoa(a.Record+1))
	}
	if a.Path != "" {
		parts = append(parts, "entry "+running.EntryNumber(a.Path))
	}
	return strings.Join(parts, ", ")
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
