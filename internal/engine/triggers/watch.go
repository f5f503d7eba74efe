// Package triggers looks for what starts runs, in folders, systems and mailboxes and by the clock, and has the runs recorded.
package triggers

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/compiled"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// maxFiles bounds the files that one look at a folder takes.
const maxFiles = 1000

// Watch looks for what starts runs: files, records, mails, and the time. One of the workers of an environment does.
type Watch struct {
	Config
	wg   sync.WaitGroup
	mu   sync.Mutex
	seen map[string]sighting  // files, to tell those that rest from those that grow
	next map[string]time.Time // when a trigger is due
	wait map[string]time.Time // when a schedule is due next, by the clock of the engine
	last map[string]string    // the greatest value of a watermark field that was read
	told map[string]lookNote  // what was noted of the last look
	busy map[string]bool      // triggers that somebody looks at now

	stirred chan stirring          // channels that have got messages
	reading map[string]readerState // flows that read channels
}

// Config is what a watch works with.
type Config struct {
	DB          *pgxpool.Pool
	Outside     *shared.Connections
	Compiled    *compiled.Cache
	Deployments *shared.Deployments
	Hearing     *shared.Hearing
	Runs        Recorder
	StableFor   time.Duration    // how long a file must not change before it is picked up
	Now         func() time.Time // by which schedules start
	Log         *slog.Logger
}

// Recorder records the runs that triggers start.
type Recorder interface {
	// Record keeps a run with what it begins with, and makes some worker take it on.
	Record(ctx context.Context, tx pgx.Tx, d store.Deployment, plan *running.Plan, b Start) (uuid.UUID, error)
	// AddRun does so for a run with a file, whose content is nil where the file is read where it stands.
	AddRun(ctx context.Context, tx pgx.Tx, plan *running.Plan, run store.Run, content *spool.Spool) error
	// MessageOf reads the body of a message of a channel as steps see it, MessageHeaders its headers as they are kept.
	MessageOf(c *channel.Channel, body []byte) (value.Value, fault.List)
	MessageHeaders(text string) []running.Pair
	// MoveDone moves the file of a recorded run out of the watched folder.
	MoveDone(ctx context.Context, r store.Run) error
}

// Finish returns when no trigger is looked at any more.
func (w *Watch) Finish() { w.wg.Wait() }

// New makes a watch; it looks when it is told to.
func New(with Config) *Watch {
	return &Watch{Config: with, stirred: make(chan stirring, 256), reading: map[string]readerState{}}
}

// lookNote is what was noted of a look at a trigger, and when.
type lookNote struct {
	fault string
	at    time.Time
}

// Forget makes every trigger due, and read anew.
func (w *Watch) Forget() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.wait, w.last = map[string]time.Time{}, map[string]string{}
}

type sighting struct {
	identity string
	since    time.Time
}

// inBackground looks at one trigger beside the others: a system that is slow must not keep the others waiting. It is not
// looked at again while somebody still looks.
func (w *Watch) inBackground(key string, look func() error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.busy[key] {
		return
	}
	if w.busy == nil {
		w.busy = map[string]bool{}
	}
	w.busy[key] = true
	w.wg.Go(func() {
		if err := look(); err != nil && !errors.Is(err, context.Canceled) {
			w.Log.Warn("look for work", "flow", key, "error", err)
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.busy, key)
	})
}

// looks are how the triggers are watched; a person is not.
var looks = map[string]func(w *Watch, ctx context.Context, r store.Deployment, plan *running.Plan) error{
	trigger.File.Name: (*Watch).pollFolder, trigger.Records.Name: (*Watch).pollRecords, trigger.Mail.Name: (*Watch).pollMailbox, trigger.Schedule.Name: (*Watch).onTime,
}

// PollAll goes through the folders of all released flows.
func (w *Watch) PollAll(ctx context.Context) error {
	releases, paused, err := w.Deployments.All(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, r := range releases {
		if paused[[2]string{r.Project, r.Flow}] || !project.OfFlow(r.Flow) {
			continue
		}
		p, err := w.Compiled.Release(ctx, w.DB, r.Project, r.Flow, r.Number)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		plan := p.Flow(r.Flow)
		if plan == nil || len(plan.Faults) > 0 || !w.isDue(r, plan.Flow.Trigger) {
			continue
		}
		if look := looks[plan.Flow.Trigger.Kind]; look != nil {
			w.inBackground(r.Project+"/"+r.Flow, func() error { return w.pollTrigger(ctx, r, plan, look) })
		}
	}
	return errors.Join(errs...)
}

// pollTrigger looks at one trigger and keeps what it met, so that people see why it starts nothing.
func (w *Watch) pollTrigger(ctx context.Context, r store.Deployment, plan *running.Plan, look func(w *Watch, ctx context.Context, r store.Deployment, plan *running.Plan) error) error {
	if plan.Flow.WhenBusy == "skip" {
		n, err := store.CountActive(ctx, w.DB, r.Scope, r.Flow)
		if err != nil || n >= max(1, plan.Flow.Concurrency) {
			return err
		}
	}
	err := look(w, ctx, r, plan)
	told := ""
	if err != nil && ctx.Err() == nil {
		told = shared.PlainError(err)
	}
	return errors.Join(err, w.recordPoll(ctx, r, told))
}

// noteEvery is how long a look that met the same as before is not noted.
const noteEvery = 5 * time.Minute

// recordPoll notes what a look met where that is something else than before, and now and then.
func (w *Watch) recordPoll(ctx context.Context, r store.Deployment, fault string) error {
	key, now := r.Project+"/"+r.Flow, time.Now()
	w.mu.Lock()
	was, known := w.told[key]
	w.mu.Unlock()
	if known && was.fault == fault && now.Sub(was.at) < noteEvery {
		return nil
	}
	if err := store.RecordPoll(ctx, w.DB, r.Scope, r.Flow, fault); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.told == nil {
		w.told = map[string]lookNote{}
	}
	w.told[key] = lookNote{fault, now}
	return nil
}

// longEvery is from how many seconds on it is kept in the database when a trigger is due, for the next start of a worker.
const longEvery = 60

// ofRelease names a flow with its release: what a look knew of an older one holds for no newer.
func ofRelease(r store.Deployment) string {
	return fmt.Sprintf("%s/%s/%d", r.Project, r.Flow, r.Number)
}

// waits notes until when, by the clock of the engine, a schedule starts nothing.
func (w *Watch) waits(r store.Deployment, until time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.wait == nil {
		w.wait = map[string]time.Time{}
	}
	if most := w.Now().Add(noteEvery); until.After(most) {
		until = most
	}
	w.wait[ofRelease(r)] = until
}

func (w *Watch) isDue(r store.Deployment, t flow.Trigger) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	key := r.Project + "/" + r.Flow
	now := time.Now()
	if now.Before(w.next[key]) || w.Hearing.Load() && w.Now().Before(w.wait[ofRelease(r)]) {
		return false
	}
	if w.next == nil {
		w.next = map[string]time.Time{}
	}
	if t.Cron.Value == "" { // the clock is looked at every time
		w.next[key] = now.Add(time.Duration(min(t.Interval, longEvery)) * time.Second)
	}
	return true
}

func (w *Watch) pollFolder(ctx context.Context, r store.Deployment, plan *running.Plan) error {
	t := plan.Flow.Trigger
	folder, err := w.Outside.Of(r.Scope).Folder(ctx, t.Connection.Value)
	if err != nil {
		return fmt.Errorf("%s: %w", r.Flow, err)
	}
	files, err := folder.List(ctx, t.Glob.Value)
	if err != nil {
		return err
	}
	var errs []error
	for _, f := range files[:min(len(files), maxFiles)] {
		if !w.isStable(r.Scope.String()+"/"+t.Connection.Value+"/"+f.Name, f.Identity) {
			continue
		}
		if here, is := folder.(system.InPlace); is {
			errs = append(errs, w.pickUp(ctx, r, plan, here, f))
		} else {
			errs = append(errs, w.fetch(ctx, r, plan, folder, f))
		}
	}
	return errors.Join(errs...)
}

// pickUp records the run of a file that is read where it stands, and moves the file out of the watched folder.
func (w *Watch) pickUp(ctx context.Context, r store.Deployment, plan *running.Plan, folder system.InPlace, f system.File) error {
	run, err := w.recordPickup(ctx, r, plan, folder, f)
	if err != nil {
		return err
	}
	return w.Runs.MoveDone(ctx, run)
}

func (w *Watch) isStable(path, id string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.seen == nil || len(w.seen) > 10*maxFiles {
		w.seen = map[string]sighting{}
	}
	if last := w.seen[path]; last.identity == id {
		return time.Since(last.since) >= w.StableFor
	}
	w.seen[path] = sighting{identity: id, since: time.Now()}
	return false
}

// errTaken rolls the transaction back when the file's run was recorded before.
var errTaken = errors.New("picked up before")

// recordPickup records the run of a file, or finds the one that was recorded before.
func (w *Watch) recordPickup(ctx context.Context, r store.Deployment, plan *running.Plan, folder system.InPlace, f system.File) (store.Run, error) {
	path, id := folder.Path(f.Name), f.Identity
	run := store.Run{
		ID: uuid.Must(uuid.NewV7()), Scope: r.Scope, Flow: r.Flow, Release: r.Number,
		File: filepath.Base(path), InputPath: path, StartedBy: "new file",
	}
	run.DonePath = folder.DonePath(f.Name, run.ID.String())
	fresh := false
	err := pgx.BeginFunc(ctx, w.DB, func(tx pgx.Tx) error {
		err := w.Runs.AddRun(ctx, tx, plan, run, nil)
		if err != nil {
			return err
		}
		if fresh, err = store.AddPickup(ctx, tx, r.Scope, r.Flow, path, id, run.ID); err == nil && !fresh {
			err = errTaken
		}
		return err
	})
	if !errors.Is(err, errTaken) {
		return run, err
	}
	before, err := store.PickupRun(ctx, w.DB, r.Scope, r.Flow, path, id)
	if errors.Is(err, store.ErrNotFound) { // its run is not kept any longer
		return store.Run{}, nil
	}
	return before, err
}
