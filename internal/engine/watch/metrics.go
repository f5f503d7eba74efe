package watch

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/prometheus/client_golang/prometheus"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
)

// Metrics count what this process does: for the figures of a minute, which all processes add up in the database, and for
// who scrapes this one.
type Metrics struct {
	mu       sync.Mutex
	counted  map[store.Scope]map[[2]string]*store.Metric // by kind and name
	calls    map[store.Scope]map[string]*store.Metric    // by connection
	taken    time.Time                                   // when all was taken last
	runs     *prometheus.CounterVec
	records  *prometheus.CounterVec
	took     *prometheus.HistogramVec
	asked    *prometheus.CounterVec
	askTook  *prometheus.HistogramVec
	Registry *prometheus.Registry
}

// NewMetrics makes figures with nothing counted.
func NewMetrics() *Metrics {
	spans := prometheus.ExponentialBuckets(0.001, 2, 18)
	t := &Metrics{
		counted: map[store.Scope]map[[2]string]*store.Metric{}, calls: map[store.Scope]map[string]*store.Metric{}, Registry: prometheus.NewRegistry(),
		runs:    prometheus.NewCounterVec(prometheus.CounterOpts{Name: "hollowreed_runs_total", Help: "Runs that ended, by outcome."}, []string{"project", "flow", "outcome"}),
		records: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "hollowreed_records_total", Help: "Records of runs that ended, by what became of them."}, []string{"project", "flow", "outcome"}),
		took:    prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "hollowreed_run_seconds", Help: "From a run's beginning to its end.", Buckets: spans}, []string{"project", "flow"}),
		asked:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "hollowreed_calls_total", Help: "Uses of connections, by outcome."}, []string{"project", "connection", "outcome"}),
		askTook: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "hollowreed_call_seconds", Help: "How long systems took to answer.", Buckets: spans}, []string{"project", "connection"}),
	}
	t.Registry.MustRegister(t.runs, t.records, t.took, t.asked, t.askTook)
	return t
}

// RunEnded counts a run that has ended.
func (t *Metrics) RunEnded(r store.Run, state store.State, took time.Duration) {
	failed := state != store.Done
	t.runs.WithLabelValues(r.Project, r.Flow, string(state)).Inc()
	t.took.WithLabelValues(r.Project, r.Flow).Observe(took.Seconds())
	t.records.WithLabelValues(r.Project, r.Flow, string(running.SetAside)).Add(float64(r.RecordsSetAside))
	t.records.WithLabelValues(r.Project, r.Flow, string(running.Done)).Add(float64(max(0, r.RecordsRead-r.RecordsSetAside)))
	t.Counted(r.Scope, "flow", r.Flow, took, failed)
}

// Counted counts one thing of a kind that was done.
func (t *Metrics) Counted(s store.Scope, kind, name string, took time.Duration, failed bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	of := t.counted[s]
	if of == nil {
		of = map[[2]string]*store.Metric{}
		t.counted[s] = of
	}
	key := [2]string{kind, name}
	if of[key] == nil {
		of[key] = &store.Metric{Kind: kind, Name: name}
	}
	of[key].Add(took, failed)
}

// Called counts a use of a connection.
func (t *Metrics) Called(s store.Scope, id string, took time.Duration, failed bool) {
	outcome := "answered"
	if failed {
		outcome = "failed"
	}
	t.asked.WithLabelValues(s.Project, id, outcome).Inc()
	t.askTook.WithLabelValues(s.Project, id).Observe(took.Seconds())
	t.mu.Lock()
	defer t.mu.Unlock()
	of := t.calls[s]
	if of == nil {
		of = map[string]*store.Metric{}
		t.calls[s] = of
	}
	if of[id] == nil {
		of[id] = &store.Metric{Kind: "connection", Name: id}
	}
	of[id].Add(took, failed)
}

// callsWait is how long uses of connections wait to be kept where no run has ended: connections are polled all the time.
const callsWait = 30 * time.Second

// take gives what was counted since it was last taken.
func (t *Metrics) take() map[store.Scope][]store.Metric {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.counted) == 0 && time.Since(t.taken) < callsWait {
		return nil
	}
	t.taken = time.Now()
	out := map[store.Scope][]store.Metric{}
	for s, figures := range t.counted {
		for _, f := range figures {
			out[s] = append(out[s], *f)
		}
	}
	for s, calls := range t.calls {
		for _, id := range slices.Sorted(maps.Keys(calls)) {
			out[s] = append(out[s], *calls[id])
		}
	}
	clear(t.counted)
	clear(t.calls)
	return out
}

// Save adds what was counted to the figures of this minute. What cannot be kept is lost: figures are no messages.
func (t *Metrics) Save(ctx context.Context, db store.DB) error {
	for s, list := range t.take() {
		if err := store.AddMetrics(ctx, db, s, list); err != nil {
			return err
		}
	}
	return nil
}

// backlog is collected when somebody asks.
type backlog struct {
	db              *pgxpool.Pool
	env             string
	runs, up, aside *prometheus.Desc
}

// NewBacklog makes the collector of what waits in an environment.
func NewBacklog(db *pgxpool.Pool, env string) prometheus.Collector {
	return &backlog{
		db: db, env: env,
		runs:  prometheus.NewDesc("hollowreed_backlog_runs", "Runs that wait or are tried again.", []string{"project", "flow"}, nil),
		up:    prometheus.NewDesc("hollowreed_workers", "Workers of the environment that live.", nil, nil),
		aside: prometheus.NewDesc("hollowreed_aside_records", "Records that wait for somebody.", []string{"project"}, nil),
	}
}

// Describe names the metrics.
func (b *backlog) Describe(ch chan<- *prometheus.Desc) {
	ch <- b.runs
	ch <- b.up
	ch <- b.aside
}

// Collect asks the database.
func (b *backlog) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if workers, err := store.Workers(ctx, b.db, b.env); err == nil {
		ch <- prometheus.MustNewConstMetric(b.up, prometheus.GaugeValue, float64(len(workers)))
	}
	projects, err := store.Projects(ctx, b.db)
	if err != nil {
		return
	}
	for _, id := range projects {
		b.collect(ctx, ch, store.Scope{Project: id, Environment: b.env})
	}
}

// collect asks the database for what waits in a scope.
func (b *backlog) collect(ctx context.Context, ch chan<- prometheus.Metric, s store.Scope) {
	if waiting, err := store.Backlog(ctx, b.db, s); err == nil {
		for name, n := range waiting {
			ch <- prometheus.MustNewConstMetric(b.runs, prometheus.GaugeValue, float64(n), s.Project, name)
		}
	}
	if open, err := store.OpenAsides(ctx, b.db, s); err == nil {
		ch <- prometheus.MustNewConstMetric(b.aside, prometheus.GaugeValue, float64(open), s.Project)
	}
}
