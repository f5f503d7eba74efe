package engine

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/connector/file"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// maxFiles bounds the files that one look at a folder takes.
const maxFiles = 1000

// folders remembers what the last looks saw, to tell files that rest from files that grow.
type folders struct {
	mu   sync.Mutex
	seen map[string]sighting
	next map[string]time.Time // when a trigger is due
	wait map[string]time.Time // when a schedule is due next, by the clock of the engine
	last map[string]string    // the greatest value of a rising field that was taken
	told map[string]lookNote  // what was noted of the last look
	busy map[string]bool      // triggers that somebody looks at now
}

// lookNote is what was noted of a look at a trigger, and when.
type lookNote struct {
	fault string
	at    time.Time
}

// forget makes every trigger due, and read anew.
func (f *folders) forget() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.wait, f.last = map[string]time.Time{}, map[string]string{}
}

type sighting struct {
	identity string
	since    time.Time
}

// apart looks at one trigger beside the others: a system that is slow must not keep the others waiting. It is not
// looked at again while somebody still looks.
func (e *Engine) apart(key string, look func() error) {
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	if e.folders.busy[key] {
		return
	}
	if e.folders.busy == nil {
		e.folders.busy = map[string]bool{}
	}
	e.folders.busy[key] = true
	e.wg.Go(func() {
		if err := look(); err != nil && !errors.Is(err, context.Canceled) {
			e.opt.Log.Warn("look for work", "flow", key, "error", err)
		}
		e.folders.mu.Lock()
		defer e.folders.mu.Unlock()
		delete(e.folders.busy, key)
	})
}

// looks are how the triggers are watched; a person is not.
var looks = map[string]func(e *Engine, ctx context.Context, r store.Deployment, plan *running.Plan) error{
	trigger.File.Name: (*Engine).lookInto, trigger.Records.Name: (*Engine).poll, trigger.Mail.Name: (*Engine).collect, trigger.Schedule.Name: (*Engine).onTime,
}

// pollTriggers goes through the folders of all released flows.
func (e *Engine) pollTriggers(ctx context.Context) error {
	releases, paused, err := e.watched(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, r := range releases {
		if paused[[2]string{r.Project, r.Flow}] {
			continue
		}
		p, err := e.released(ctx, e.db, r.Project, r.Flow, r.Number)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		plan := p.Flow(r.Flow)
		if plan == nil || len(plan.Faults) > 0 || !e.due(r, plan.Flow.Trigger) {
			continue
		}
		if look := looks[plan.Flow.Trigger.Kind]; look != nil {
			e.apart(r.Project+"/"+r.Flow, func() error { return e.lookAt(ctx, r, plan, look) })
		}
	}
	return errors.Join(errs...)
}

// lookAt looks at one trigger and keeps what it met, so that people see why it starts nothing.
func (e *Engine) lookAt(ctx context.Context, r store.Deployment, plan *running.Plan, look func(e *Engine, ctx context.Context, r store.Deployment, plan *running.Plan) error) error {
	if plan.Flow.Busy == "skip" {
		n, err := store.CountActive(ctx, e.db, r.Scope, r.Flow)
		if err != nil || n >= max(1, plan.Flow.AtOnce) {
			return err
		}
	}
	err := look(e, ctx, r, plan)
	told := ""
	if err != nil && ctx.Err() == nil {
		told = plainError(err)
	}
	return errors.Join(err, e.noteLook(ctx, r, told))
}

// noteEvery is how long a look that met the same as before is not noted.
const noteEvery = 5 * time.Minute

// noteLook notes what a look met where that is something else than before, and now and then.
func (e *Engine) noteLook(ctx context.Context, r store.Deployment, fault string) error {
	key, now := r.Project+"/"+r.Flow, time.Now()
	e.folders.mu.Lock()
	was, known := e.folders.told[key]
	e.folders.mu.Unlock()
	if known && was.fault == fault && now.Sub(was.at) < noteEvery {
		return nil
	}
	if err := store.NoteLook(ctx, e.db, r.Scope, r.Flow, fault); err != nil {
		return err
	}
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	if e.folders.told == nil {
		e.folders.told = map[string]lookNote{}
	}
	e.folders.told[key] = lookNote{fault, now}
	return nil
}

// longEvery is from how many seconds on it is kept in the database when a trigger is due, for the next start of a worker.
const longEvery = 60

// ofRelease names a flow with its release: what a look knew of an older one holds for no newer.
func ofRelease(r store.Deployment) string {
	return fmt.Sprintf("%s/%s/%d", r.Project, r.Flow, r.Number)
}

// waits notes until when, by the clock of the engine, a schedule starts nothing.
func (e *Engine) waits(r store.Deployment, until time.Time) {
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	if e.folders.wait == nil {
		e.folders.wait = map[string]time.Time{}
	}
	if most := e.now().Add(noteEvery); until.After(most) {
		until = most
	}
	e.folders.wait[ofRelease(r)] = until
}

func (e *Engine) due(r store.Deployment, t flow.Trigger) bool {
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	key := r.Project + "/" + r.Flow
	now := time.Now()
	if now.Before(e.folders.next[key]) || e.notices.hears.Load() && e.now().Before(e.folders.wait[ofRelease(r)]) {
		return false
	}
	if e.folders.next == nil {
		e.folders.next = map[string]time.Time{}
	}
	if t.Cron.Value == "" { // the clock is looked at every time
		e.folders.next[key] = now.Add(time.Duration(min(t.Every, longEvery)) * time.Second)
	}
	return true
}

func (e *Engine) lookInto(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	t := plan.Flow.Trigger
	folder, err := e.outside.Of(r.Scope).Folder(ctx, t.Connection.Value)
	if err != nil {
		return fmt.Errorf("%s: %w", r.Flow, err)
	}
	files, err := folder.List(ctx, t.Mask.Value)
	if err != nil {
		return err
	}
	var errs []error
	for _, f := range files[:min(len(files), maxFiles)] {
		if !e.rested(r.Scope.String()+"/"+t.Connection.Value+"/"+f.Name, f.Identity) {
			continue
		}
		if here, is := folder.(system.InPlace); is {
			errs = append(errs, e.pickUp(ctx, r, plan, here, f))
		} else {
			errs = append(errs, e.fetch(ctx, r, plan, folder, f))
		}
	}
	return errors.Join(errs...)
}

// pickUp records the run of a file that is read where it stands, and moves the file out of the watched folder.
func (e *Engine) pickUp(ctx context.Context, r store.Deployment, plan *running.Plan, folder system.InPlace, f system.File) error {
	run, err := e.recordPickup(ctx, r, plan, folder, f)
	if err != nil {
		return err
	}
	return e.moveDone(ctx, run)
}

func (e *Engine) rested(path, id string) bool {
	e.folders.mu.Lock()
	defer e.folders.mu.Unlock()
	if e.folders.seen == nil || len(e.folders.seen) > 10*maxFiles {
		e.folders.seen = map[string]sighting{}
	}
	if last := e.folders.seen[path]; last.identity == id {
		return time.Since(last.since) >= e.opt.Rest
	}
	e.folders.seen[path] = sighting{identity: id, since: time.Now()}
	return false
}

// errSeen rolls the transaction back when the file's run was recorded before.
var errSeen = errors.New("picked up before")

// recordPickup records the run of a file, or finds the one that was recorded before.
func (e *Engine) recordPickup(ctx context.Context, r store.Deployment, plan *running.Plan, folder system.InPlace, f system.File) (store.Run, error) {
	path, id := folder.Path(f.Name), f.Identity
	run := store.Run{
		ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Release: r.Number,
		File: filepath.Base(path), InputPath: path, StartedBy: "new file",
	}
	run.DonePath = folder.DonePath(f.Name, run.ID.String())
	e.setReference(plan, &run, value.Value{}, value.Value{})
	fresh := false
	err := pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		if err := store.AddRun(ctx, tx, run, nil); err != nil {
			return err
		}
		var err error
		if fresh, err = store.AddPickup(ctx, tx, r.Scope, r.Flow, path, id, run.ID); err != nil {
			return err
		}
		if !fresh {
			return errSeen
		}
		return e.enqueue(ctx, tx, run.Scope, run.ID)
	})
	if !errors.Is(err, errSeen) {
		return run, err
	}
	before, err := store.PickupRun(ctx, e.db, r.Scope, r.Flow, path, id)
	if errors.Is(err, store.ErrNotFound) { // its run is not kept any longer
		return store.Run{}, nil
	}
	return before, err
}

// moveDone moves a recorded run's file out of the watched folder, unless that is done. Trouble is
// noted with the run; the file then stays, and moving it is tried again with every look.
func (e *Engine) moveDone(ctx context.Context, r store.Run) error {
	if r.InputPath == "" || r.InputPath == r.DonePath {
		return nil
	}
	identity, err := store.PickupIdentity(ctx, e.db, r.ID)
	if err == nil {
		err = file.Move(r.InputPath, r.DonePath, identity)
	}
	warning := ""
	if err != nil {
		warning = fmt.Sprintf("%s stays where it was dropped: it cannot be moved to %s: %s", r.File, filepath.Dir(r.DonePath), plainError(err))
	}
	e.changed(r)
	return errors.Join(err, store.Warn(ctx, e.db, r, warning))
}
