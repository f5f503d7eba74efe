// Package engine runs flows durably.
//
// A run is a row in PostgreSQL before anything happens; a River job in the same transaction makes
// some worker take it on. The worker reads the message in batches. Each batch passes all steps
// and is then committed at once: the journal of its records, what was set aside, and how many
// records are dealt with. After a crash the next worker goes on behind the last committed batch.
// The batch that was under way is done again as a whole; its writes are upserts by key that leave
// a row alone which is as it should be, so nothing is written twice.
//
//	waiting → running → done | set aside | stopped
//	           ↑  ↓
//	         retrying      (an outside system cannot be reached; backoff, then set aside)
//
// That a run was taken on, and the end of a run of one message, are committed without waiting for the disk. Should the
// database crash in that moment, the run is done again: what it has had effect with is known, since that was waited for, and
// what was committed before a commit that is waited for is on the disk with it.
//
// What the database decides: who holds a run (its claim number rises with every taking on; a
// worker with an old number can record nothing), and which workers live (a row that must be
// renewed). What a process only assumes: that it still lives itself.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/trace"

	"hollowreed/internal/compiled"
	"hollowreed/internal/connector/tokens"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/apis"
	"hollowreed/internal/engine/shared"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/engine/watch"
	"hollowreed/internal/store"
)

// Options of an engine. Zero members take the defaults that stand beside them.
type Options struct {
	Batch           int           // records of one batch: 500
	Workers         int           // runs at once: 4
	Heartbeat       time.Duration // between two signs of life: 2.5 s
	Silence         time.Duration // after which a worker is taken for dead: 7.5 s
	PollInterval    time.Duration // between two looks at the folders: 500 ms
	StableFor       time.Duration // how long a file must not change before it is picked up: 1.5 s
	Backoff         func(attempt int) time.Duration
	Attempts        int              // before a run that cannot reach an outside system is set aside: 6
	Alerts          time.Duration    // between two looks at the alerts: 15 s
	Traces          bool             // the steps of runs have spans, for who wants traces
	MetricRetention time.Duration    // for which figures are kept: 400 days
	Poll            time.Duration    // between two looks at the queue, of which every insert tells: 40 times Look, at most 20 s
	Sweep           time.Duration    // between two looks for what is to be removed: 5 min
	Health          time.Duration    // between two looks whether a connection answers: 15 s
	Env             string           // the environment whose runs it does, of all projects: the first of store.Environments
	Site            string           // where its pages are, as http://127.0.0.1:8420, for messages that lead there
	Hands           int              // with which runs of calls are done where they come in, at once: 16
	Callers         int              // that wait for an answer at once: 500
	Each            int              // of them from one address: 250
	Front           *pgxpool.Pool    // for those who call and look, so that they take no connection from the runs; nil is the engine's own
	Compiled        *compiled.Cache  // of projects, shared with whoever else compiles them; nil is one of its own
	Now             func() time.Time // the clock by which schedules start; nil is the machine's
	Log             *slog.Logger
}

func (o Options) filled() Options {
	def := func(d *time.Duration, to time.Duration) {
		if *d == 0 {
			*d = to
		}
	}
	num := func(n *int, to int) {
		if *n == 0 {
			*n = to
		}
	}
	num(&o.Batch, 500)
	num(&o.Workers, 4)
	num(&o.Attempts, 6)
	num(&o.Hands, 16)
	num(&o.Callers, 500)
	num(&o.Each, 250)
	if o.Env == "" {
		o.Env = store.Environments[0]
	}
	def(&o.Health, 15*time.Second)
	def(&o.MetricRetention, watch.FiguresKept)
	def(&o.Alerts, 15*time.Second)
	def(&o.Sweep, 5*time.Minute)
	def(&o.Heartbeat, 2500*time.Millisecond)
	def(&o.Silence, 7500*time.Millisecond)
	def(&o.PollInterval, 500*time.Millisecond)
	def(&o.StableFor, 1500*time.Millisecond)
	def(&o.Poll, min(pollEvery, 40*o.PollInterval))
	if o.Backoff == nil {
		o.Backoff = func(attempt int) time.Duration { return time.Second << min(attempt, 6) }
	}
	if o.Compiled == nil {
		o.Compiled = compiled.New()
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	return o
}

// Engine is one worker process's part in running flows.
type Engine struct {
	ID          string
	Tries       *tries.Tries
	db          *pgxpool.Pool
	quick       *pgxpool.Pool // commits without waiting for the disk: what is lost in a crash is done again, and a later commit keeps it
	claims      *batcher[uuid.UUID, *store.Run]
	ends        *batcher[store.RunResult, store.RunClosed]
	wholes      *batcher[store.WholeRun, bool]
	questions   *recorder       // of runs that are recorded behind their answers
	runs        context.Context // of the runs of calls that are done here
	endRuns     context.CancelFunc
	hands       chan struct{}  // with which runs of calls are done where they came in
	wakes       [2]atomic.Bool // which wakings of the queue are under way
	places      chan struct{}  // in which calls are done at once
	outside     *Connections
	opt         Options
	river       *river.Client[pgx.Tx]
	hearing     shared.Hearing
	deployments *shared.Deployments
	routes      routes
	apiCallers  *apis.Callers
	apiTokens   *tokens.Tokens
	responses   *apis.Responses
	channelIDs  channelIDs // numbers of channels
	arrivals    arrivals   // of messages in channels
	apiLog      *apis.Log
	quotas      *apis.Quotas
	apiPlaces   apis.Places
	triggers    *triggers.Watch
	alerts      *watch.Alerts
	health      *watch.Health
	sweeping    *watch.Sweeping
	stops       stops
	active      active
	callers     callers
	reading     chan struct{} // places to read large bodies that callers send
	beaten      time.Time     // when it last said that it lives
	judges      time.Time     // from when on it says that others are dead
	tallies     *watch.Metrics
	publisher   publisher
	tracer      trace.Tracer
	ended       sync.Once
	stop        context.CancelFunc
	stopped     context.CancelFunc // ends what serves the runs until their last
	wg          sync.WaitGroup
}

// Connections are the connections of each scope.
type Connections = shared.Connections

// front is the pool for those who call and look.
func (e *Engine) front() *pgxpool.Pool {
	if e.opt.Front != nil {
		return e.opt.Front
	}
	return e.db
}

// now is the time in UTC.
func (e *Engine) now() time.Time { return e.opt.Now().UTC() }

// jobArgs is the River job of one run.
type jobArgs struct {
	Run uuid.UUID `json:"run"`
}

// Kind is the job's stored name.
func (jobArgs) Kind() string { return "run" }

// Metrics is what this process has counted, with what waits in the database when it is asked.
func (e *Engine) Metrics() prometheus.Gatherer { return e.tallies.Registry }

// New makes an engine. It can record runs at once; it works on them after Start.
func New(db *pgxpool.Pool, outside *Connections, o Options) (*Engine, error) {
	host, _ := os.Hostname()
	e := &Engine{
		ID: fmt.Sprintf("%s-%d-%s", host, os.Getpid(), uuid.NewString()[:8]),
		db: db, outside: outside, opt: o.filled(), tallies: watch.NewMetrics(), tracer: otel.Tracer("hollowreed"),
	}
	e.Tries = tries.New(e.front(), e.opt.Compiled, outside, e.opt.Env)
	e.reading, e.places = make(chan struct{}, max(1, runtime.GOMAXPROCS(0)-1)), make(chan struct{}, runtime.GOMAXPROCS(0))
	e.hands = make(chan struct{}, e.opt.Hands)
	e.callers.most, e.callers.each = e.opt.Callers, e.opt.Each
	e.tallies.Registry.MustRegister(watch.NewBacklog(db, e.opt.Env))
	e.watches(outside)
	outside.Observe(e.tallies.Called)
	workers := river.NewWorkers()
	if err := river.AddWorkerSafely(workers, &worker{engine: e}); err != nil {
		return nil, err
	}
	var err error
	e.river, err = river.NewClient(riverpgxv5.New(db), &river.Config{
		ID:                e.ID,
		Queues:            map[string]river.QueueConfig{store.Queue(e.opt.Env): {MaxWorkers: e.opt.Workers}},
		Workers:           workers,
		FetchCooldown:     5 * time.Millisecond,
		FetchPollInterval: e.opt.Poll,
		JobTimeout:        -1,
		Logger:            e.opt.Log,
	})
	return e, err
}

// watches makes what looks for triggers, alerts and connections, and removes what is not kept. It works while this worker leads.
func (e *Engine) watches(outside *Connections) {
	e.deployments = shared.NewDeployments(e.front(), e.opt.Env, &e.hearing)
	e.apiCallers, e.apiTokens, e.quotas = apis.NewCallers(e.front()), tokens.New(), apis.NewQuotas(e.front())
	e.responses, e.apiLog = apis.NewResponses(), apis.NewLog(e.db, e.opt.Log)
	e.triggers = triggers.New(triggers.Config{
		DB: e.db, Outside: outside, Compiled: e.opt.Compiled, Deployments: e.deployments, Hearing: &e.hearing, Runs: e, StableFor: e.opt.StableFor, Now: e.now, Log: e.opt.Log,
	})
	e.alerts = watch.NewAlerts(watch.AlertConfig{
		DB: e.db, Compiled: e.opt.Compiled, Deployments: e.deployments, Hearing: &e.hearing, Env: e.opt.Env, Site: e.opt.Site, Every: e.opt.Alerts, Now: e.now,
		Begin: func(ctx context.Context, tx pgx.Tx, d store.Deployment, plan *running.Plan, input []byte) (uuid.UUID, error) {
			return e.Record(ctx, tx, d, plan, triggers.Start{By: "alert", Input: input})
		},
	})
	e.health = watch.NewHealth(e.db, outside, &e.hearing, e.opt.Env, e.opt.Health)
	e.sweeping = watch.NewSweeping(e.db, e.opt.Compiled, e.opt.Env, e.opt.MetricRetention, e.now)
}

// Start begins to take runs on and to watch the triggers.
func (e *Engine) Start(ctx context.Context) error {
	var err error
	if e.quick, err = quick(ctx, e.db); err != nil {
		return err
	}
	serving, stopped := context.WithCancel(context.WithoutCancel(ctx))
	e.stopped = stopped
	e.claims, e.ends = newBatcher(serving, e.claimFree), newBatcher(serving, e.endAll)
	e.runs, e.endRuns = context.WithCancel(serving)
	e.wholes = newBatcher(serving, e.addWhole(e.front()))
	e.questions = newRecorder(serving, e.opt.Log, e.addWhole(e.quick), e.recordedWhole)
	ctx, e.stop = context.WithCancel(ctx)
	if err := store.Heartbeat(ctx, e.db, e.opt.Env, e.ID); err != nil {
		return err
	}
	if err := e.river.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	e.every(ctx, e.opt.Heartbeat, "sign of life", e.heartbeat)
	e.every(ctx, publishEvery, "tell of changes", e.publishRuns)
	e.every(ctx, e.opt.PollInterval, "look for runs to stop", e.applyCancellations)
	e.every(ctx, min(250*time.Millisecond, e.opt.PollInterval), "wake callers", e.wakeCallers)
	e.every(ctx, 3*e.opt.Heartbeat, "keep the figures", func(ctx context.Context) error { return e.tallies.Save(ctx, e.db) })
	e.every(ctx, apis.LogEvery, "keep the log of APIs", e.apiLog.Save)
	e.wg.Go(func() { e.listen(ctx) })
	e.wg.Go(func() { e.lead(ctx) })
	return nil
}

// quick opens connections to the same database that do not wait for the disk at a commit. All that is done with them is done
// by key: a plan that was made while the table of runs was empty must not go through all of it later.
func quick(ctx context.Context, db *pgxpool.Pool) (*pgxpool.Pool, error) {
	config := db.Config()
	config.ConnConfig.RuntimeParams["synchronous_commit"], config.ConnConfig.RuntimeParams["enable_seqscan"] = "off", "off"
	config.MaxConns = 8
	return pgxpool.NewWithConfig(ctx, config)
}

// Stop lets the batches under way end, for a while, and takes no more.
func (e *Engine) Stop() {
	if e.stop != nil {
		e.ended.Do(e.end)
	}
}

func (e *Engine) end() {
	e.stop()
	e.wg.Wait()
	e.triggers.Finish()
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Second)
	defer cancel()
	e.stopCalls(ctx)
	if err := e.river.StopAndCancel(ctx); err != nil {
		e.opt.Log.Warn("runs did not end in time", "error", err)
	}
	e.questions.close(ctx)
	if err := e.tallies.Save(ctx, e.db); err != nil {
		e.opt.Log.Warn("figures not kept", "error", err)
	}
	if err := e.apiLog.Save(ctx); err != nil {
		e.opt.Log.Warn("log of APIs not kept", "error", err)
	}
	store.Deregister(ctx, e.db, e.ID)
	e.stopped()
	e.quick.Close()
}

// every does something now and then until the context ends.
func (e *Engine) every(ctx context.Context, d time.Duration, what string, do func(context.Context) error) {
	e.each(ctx, &e.wg, d, what, do)
}

// each is every, for who waits for the end of it.
func (e *Engine) each(ctx context.Context, of *sync.WaitGroup, d time.Duration, what string, do func(context.Context) error) {
	of.Go(func() {
		t := time.NewTicker(d)
		defer t.Stop()
		for {
			if err := do(ctx); err != nil && ctx.Err() == nil {
				e.opt.Log.Warn(what, "error", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-t.C:
			}
		}
	})
}

// heartbeat says that this worker lives and gives the work of dead ones back. One that was silent itself, as all are when the database
// was away, calls no other one dead until those had time to say that they live.
func (e *Engine) heartbeat(ctx context.Context) error {
	now := time.Now()
	if now.Sub(e.beaten) > e.opt.Silence-e.opt.Heartbeat*3/2 {
		e.judges = now.Add(e.opt.Silence)
	}
	due, err := store.HeartbeatAndPoll(ctx, e.db, e.opt.Env, e.ID, e.active.list(), e.opt.Silence)
	if err != nil {
		return err
	}
	e.beaten = now
	if !due || now.Before(e.judges) {
		return nil
	}
	return pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		n, err := store.Requeue(ctx, tx, e.opt.Env, e.opt.Silence)
		if n > 0 {
			e.opt.Log.Info("took up the work of a dead worker", "runs", n)
		}
		if err != nil {
			return err
		}
		n, err = store.Reclaim(ctx, tx, e.ID, e.active.list(), e.opt.Silence)
		if n > 0 {
			e.opt.Log.Info("took up runs whose end was not recorded", "runs", n)
		}
		if err != nil {
			return err
		}
		if err := e.adopt(ctx, tx); err != nil {
			return err
		}
		return store.WakeQueue(ctx, tx, e.opt.Env)
	})
}

// adopt puts runs into the queue that nobody works on, and that never were in it.
func (e *Engine) adopt(ctx context.Context, tx pgx.Tx) error {
	orphans, err := store.Orphans(ctx, tx, e.opt.Env, e.ID, e.active.list(), e.opt.Silence)
	if err != nil || len(orphans) == 0 {
		return err
	}
	e.opt.Log.Info("took up runs of calls", "runs", len(orphans))
	jobs := make([]river.InsertManyParams, len(orphans))
	for i, id := range orphans {
		jobs[i] = river.InsertManyParams{Args: jobArgs{Run: id}, InsertOpts: queued(e.opt.Env)}
	}
	_, err = e.river.InsertManyFastTx(ctx, tx, jobs)
	return err
}

// queued puts a job into the queue of an environment.
func queued(environment string) *river.InsertOpts {
	return &river.InsertOpts{Queue: store.Queue(environment)}
}

// enqueue makes some worker of its environment take a run on once the transaction commits.
func (e *Engine) enqueue(ctx context.Context, tx pgx.Tx, s store.Scope, run uuid.UUID) error {
	e.changedRun(s, run)
	_, err := e.river.InsertTx(ctx, tx, jobArgs{Run: run}, queued(s.Environment))
	e.wakeSoon()
	return err
}

// failedCases lists the titles of the cases of a flow's mappings that come out otherwise.
func failedCases(p *project.Project, flowID string) []string {
	var titles []string
	for _, r := range p.FlowCases(flowID) {
		if !r.OK() {
			titles = append(titles, r.Case.Title)
		}
	}
	return titles
}

// ErrFaults refuses to release a flow that has faults.
var ErrFaults = errors.New("the flow has faults; mend them before it is released")

// unfit is the first fault for which a flow's parts cannot be released. Operations that the flow does not ask for
// may miss their schemas: those are not part of the release.
func unfit(p *project.Project) error {
	for _, f := range p.Faults {
		if kind, _, ok := project.Kind(f.Place.Source); !ok || kind != project.Connections {
			return f
		}
	}
	return nil
}

// CreateRelease makes a release of the draft of a flow or an API, with all that it needs, and deploys it: new runs and calls in the
// environment take it. What is released is named as project.ReleaseID says.
func (e *Engine) CreateRelease(ctx context.Context, s store.Scope, id, note, by string) (int, error) {
	p, err := e.opt.Compiled.Draft(ctx, e.db, s.Project)
	if err != nil {
		return 0, err
	}
	part, there := p.Releasable(id)
	if !there {
		return 0, project.ErrNoPart
	}
	files := map[string]string{}
	for _, path := range p.Uses(id) {
		files[path] = p.Texts[path]
	}
	if f := unfit(project.Load(s.Project, files)); f != nil {
		return 0, fmt.Errorf("%w: %w", ErrFaults, f)
	}
	number := 0
	err = pgx.BeginFunc(ctx, e.db, func(tx pgx.Tx) error {
		var err error
		number, err = store.AddRelease(ctx, tx, store.Release{Project: s.Project, Flow: id, Title: part.Title, Note: note, MadeBy: by, FailedCases: failedCases(p, id)}, files)
		if err != nil {
			return err
		}
		if err := store.Deploy(ctx, tx, s, id, number, by); err != nil {
			return err
		}
		return e.releaseChannels(ctx, tx, s, p, id, note, by)
	})
	e.triggersChanged()
	return number, err
}
