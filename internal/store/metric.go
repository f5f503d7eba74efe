package store

import (
	"context"
	"math/bits"
	"time"

	"github.com/jackc/pgx/v5"
)

// Spans is how many spans of duration are counted: up to 1 ms, 2 ms, 4 ms and so on; the last one has all that took longer.
const Spans = 24

// Metric is how much was done in a time, how much of it failed, and how long it took.
type Metric struct {
	Kind, Name string
	Count      int
	Failed     int
	Durations  []int32 // counts of durations, by their span
}

// DurationBucket is the span of a duration.
func DurationBucket(d time.Duration) int {
	ms := d.Milliseconds()
	if ms <= 0 {
		return 0
	}
	return min(bits.Len64(uint64(ms-1)), Spans-1)
}

// Add counts one thing that was done.
func (f *Metric) Add(took time.Duration, failed bool) {
	if f.Durations == nil {
		f.Durations = make([]int32, Spans)
	}
	f.Count++
	f.Durations[DurationBucket(took)]++
	if failed {
		f.Failed++
	}
}

// Quantile is a duration within which a share of all was done, from 0 to 1: the upper end of its span. Zero where nothing was.
func (f *Metric) Quantile(share float64) time.Duration {
	var all, so int32
	for _, n := range f.Durations {
		all += n
	}
	for i, n := range f.Durations {
		if so += n; n > 0 && float64(so) >= share*float64(all) {
			return time.Millisecond << i
		}
	}
	return 0
}

// AddMetrics adds to what was counted in this minute.
func AddMetrics(ctx context.Context, db DB, s Scope, list []Metric) error {
	b := &pgx.Batch{}
	for _, f := range list {
		b.Queue(`insert into metric as f (project, environment, kind, name, minute, count, failed, duration_buckets) values ($1, $2, $3, $4, date_trunc('minute', now()), $5, $6, $7)
			on conflict (project, environment, kind, name, minute) do update set count = f.count + excluded.count, failed = f.failed + excluded.failed, duration_buckets = add_counts(f.duration_buckets, excluded.duration_buckets)`,
			s.Project, s.Environment, f.Kind, f.Name, f.Count, f.Failed, f.Durations)
	}
	return db.SendBatch(ctx, b).Close()
}

// MetricAt is what was counted in a span of time.
type MetricAt struct {
	Kind, Name string
	At         time.Time
	Count      int
	Failed     int
	Durations  []int32
}

// Metrics lists what was counted since a time, in steps of so many minutes, by kind, name and time.
func Metrics(ctx context.Context, db DB, s Scope, since time.Time, minutes int) ([]MetricAt, error) {
	rows, _ := db.Query(ctx, `select kind, name, date_bin(make_interval(mins => $3), minute, 'epoch') as at, sum(count)::int, sum(failed)::int, sum_counts(duration_buckets)
		from metric where project = $1 and environment = $4 and minute >= $2 group by 1, 2, 3 order by 1, 2, 3`, s.Project, since, minutes, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[MetricAt])
}

// SweepMetrics removes some of what was counted in an environment before a time, and says how much.
func SweepMetrics(ctx context.Context, db DB, environment string, before time.Time, most int) (int64, error) {
	tag, err := db.Exec(ctx, "delete from metric where ctid in (select ctid from metric where environment = $3 and minute < $1 limit $2)", before, most, environment)
	return tag.RowsAffected(), err
}

// Backlog counts the runs of each flow that wait, rest or are tried again.
func Backlog(ctx context.Context, db DB, s Scope) (map[string]int, error) {
	rows, err := db.Query(ctx, "select flow, count(*) from run where project = $1 and environment = $2 and state in ('waiting', 'retrying') group by flow", s.Project, s.Environment)
	if err != nil {
		return nil, err
	}
	backlog := map[string]int{}
	var flow string
	var n int
	_, err = pgx.ForEachRow(rows, []any{&flow, &n}, func() error {
		backlog[flow] = n
		return nil
	})
	return backlog, err
}
