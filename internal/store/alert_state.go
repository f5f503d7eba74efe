package store

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
)

// Incident is something that is the matter now, as alerts look for it.
type Incident struct {
	Cause            string // tells it from other matters of the same alert
	Text             string
	Flow, Connection string
	Since            time.Time
	Count            int          // how often it has come
	Newest           time.Time    // when it came last; zero for what lasts
	Fault            *fault.Fault // of the newest, where something has failed
	Run              *uuid.UUID   // the newest
	Reference        string       // of that run
}

// maxMatters bounds what one look at an alert finds.
const maxMatters = 50

// matters are those without runs that have failed.
func matters(rows pgx.Rows) ([]Incident, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m Incident, err error) {
		m.Count = 1
		return m, row.Scan(&m.Cause, &m.Text, &m.Flow, &m.Connection, &m.Since)
	})
}

// failures lists what flows have failed for and waits for somebody, with the newest of each cause. The conditions on runs and
// on records, and what follows the grouping, are put in.
const failures = `select cause, flow, n, began, newest, fault, run, reference from (
		select flow || ': ' || text as cause, flow, count(*) as n, min(at) as began, max(at) as newest, (array_agg(fault order by at desc))[1] as fault,
			(array_agg(run order by at desc))[1] as run, (array_agg(reference order by at desc))[1] as reference from (
			select flow, fault_cause(fault) as text, coalesce(ended_at, created_at) as at, fault, id as run, reference from run
			where project = $1 and environment = $4 and state in ('set aside', 'stopped') and resolution = '' and fault is not null and coalesce(fault->>'code', '') <> 'cancelled' and %s
			union all
			select r.flow, fault_cause(a.faults->0), a.made_at, a.faults->0, r.id, r.reference from set_aside a join run r on r.id = a.run
			where r.project = $1 and r.environment = $4 and a.state = 'open' and %s) x
		where ($2 = '' or flow = $2) and flow <> $3 group by flow, text) y %s`

func failed(rows pgx.Rows) ([]Incident, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m Incident, err error) {
		if err := row.Scan(&m.Cause, &m.Flow, &m.Count, &m.Since, &m.Newest, &m.Fault, &m.Run, &m.Reference); err != nil {
			return m, err
		}
		times := strconv.Itoa(m.Count) + " times"
		if m.Count == 1 {
			times = "1 time"
		}
		what := *m.Fault
		what.Fix = "" // how it is mended is told where it is
		m.Text = times + ": " + what.What() + ", in " + m.Reference + " (" + m.Flow + ")"
		return m, nil
	})
}

// FailedFlows lists causes for which a flow, or any when it is empty, has failed at least so many times since a time. Runs of
// the flow that is told of it do not count: they would tell of themselves.
func FailedFlows(ctx context.Context, db DB, s Scope, flow, except string, since time.Time, times int) ([]Incident, error) {
	rows, _ := db.Query(ctx, fmt.Sprintf(failures, "ended_at >= $5", "a.made_at >= $5", "where n >= $6 order by n desc limit $7"),
		s.Project, flow, except, s.Environment, since, times, maxMatters)
	return failed(rows)
}

// StillFailed is a cause as Failing lists it, however long ago it came, while anything of it waits for somebody; nil where
// nothing does.
func StillFailed(ctx context.Context, db DB, s Scope, cause, flow string) (*Incident, error) {
	rows, _ := db.Query(ctx, fmt.Sprintf(failures, "flow = $2", "r.flow = $2", "where cause = $5"), s.Project, flow, "", s.Environment, cause)
	list, err := failed(rows)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// FlowsWithoutRuns says whether no run of a flow has begun since a time, and it was released before that.
func FlowsWithoutRuns(ctx context.Context, db DB, s Scope, flow string, since time.Time) ([]Incident, error) {
	rows, _ := db.Query(ctx, `select flow, case when last is null then 'nothing has ever arrived' else 'nothing has arrived since ' || to_char(last at time zone 'UTC', 'DD Mon HH24:MI') || ' UTC' end, flow, '', $3::timestamptz
		from (select $2::text as flow, max(created_at) as last, (select made_at from deployment where project = $1 and environment = $4 and flow = $2) as deployed from run where project = $1 and environment = $4 and flow = $2) x
		where greatest(last, deployed) < $3`, s.Project, flow, since, s.Environment)
	return matters(rows)
}

// Backlogs lists flows of which more runs wait than so many.
func Backlogs(ctx context.Context, db DB, s Scope, flow, except string, most int) ([]Incident, error) {
	rows, _ := db.Query(ctx, `select flow, count(*) || ' runs wait', flow, '', min(created_at) from run
		where project = $1 and environment = $6 and state in ('waiting', 'retrying') and ($2 = '' or flow = $2) and flow <> $3 group by flow having count(*) > $4 limit $5`, s.Project, flow, except, most, maxMatters, s.Environment)
	return matters(rows)
}

// DownConnections lists connections that could be used before, and could not since a time. One that never could is not set up yet.
func DownConnections(ctx context.Context, db DB, s Scope, connection string, since time.Time) ([]Incident, error) {
	rows, _ := db.Query(ctx, `select connection, connection || ' cannot be used: ' || fault, '', connection, since from health
		where project = $1 and environment = $2 and ($3 = '' or connection = $3) and not healthy and last_ok_at is not null and since <= $4 order by since limit $5`, s.Project, s.Environment, connection, since, maxMatters)
	return matters(rows)
}

// LongRuns lists runs that have been under way since before a time.
func LongRuns(ctx context.Context, db DB, s Scope, flow, except string, since time.Time) ([]Incident, error) {
	rows, _ := db.Query(ctx, `select id::text, 'the run ' || reference || ' is under way since ' || to_char(started_at at time zone 'UTC', 'HH24:MI:SS') || ' UTC', flow, '', started_at from run
		where project = $1 and environment = $6 and state in ('running', 'retrying') and ($2 = '' or flow = $2) and flow <> $3 and started_at < $4 order by started_at limit $5`, s.Project, flow, except, since, maxMatters, s.Environment)
	return matters(rows)
}

// AlertState is a matter that was told.
type AlertState struct {
	ID            int64
	Alert         string
	Cause         string
	Since         time.Time
	NotifiedAt    time.Time
	NotifiedCount int
	Text          string
	Run           *uuid.UUID // the last one that told it
	ResolvedAt    *time.Time
	Count         int       // how often it has come
	Newest        time.Time // the last of those that were told
}

const alertStateColumns = "id, alert, cause, since, notified_at, notified_count, text, run, resolved_at, count, newest"

// OpenAlertStates lists what an alert has told and is not over.
func OpenAlertStates(ctx context.Context, db DB, s Scope, alert string) ([]AlertState, error) {
	rows, _ := db.Query(ctx, "select "+alertStateColumns+" from alert_state where project = $1 and environment = $2 and alert = $3 and resolved_at is null order by id", s.Project, s.Environment, alert)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[AlertState])
}

// AllOpenAlertStates lists what was told of all alerts and is not over.
func AllOpenAlertStates(ctx context.Context, db DB, s Scope) ([]AlertState, error) {
	rows, _ := db.Query(ctx, "select "+alertStateColumns+" from alert_state where project = $1 and environment = $2 and resolved_at is null order by id", s.Project, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[AlertState])
}

// AlertStates lists what was told, the newest first.
func AlertStates(ctx context.Context, db DB, s Scope, most int) ([]AlertState, error) {
	rows, _ := db.Query(ctx, "select "+alertStateColumns+" from alert_state where project = $1 and environment = $3 order by resolved_at is not null, id desc limit $2", s.Project, most, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[AlertState])
}

// RecordFirst keeps that a matter was told for the first time.
func RecordFirst(ctx context.Context, db DB, s Scope, alert string, m Incident, run uuid.UUID) error {
	_, err := db.Exec(ctx, "insert into alert_state (project, environment, alert, cause, since, text, run, count, newest) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
		s.Project, s.Environment, alert, m.Cause, m.Since, m.Text, run, m.Count, m.Newest)
	return err
}

// RecordRepeat keeps that a matter was told again.
func RecordRepeat(ctx context.Context, db DB, id int64, m Incident, run uuid.UUID) error {
	_, err := db.Exec(ctx, "update alert_state set notified_count = notified_count + 1, notified_at = now(), text = $2, run = $3, count = $4, newest = $5 where id = $1", id, m.Text, run, m.Count, m.Newest)
	return err
}

// Recount keeps how often a matter has come by now, without its being told.
func Recount(ctx context.Context, db DB, id int64, m Incident) error {
	_, err := db.Exec(ctx, "update alert_state set text = $2, count = $3 where id = $1", id, m.Text, m.Count)
	return err
}

// Resolve keeps that a matter is over; run is nil where nobody was told.
func Resolve(ctx context.Context, db DB, id int64, run *uuid.UUID) error {
	_, err := db.Exec(ctx, "update alert_state set resolved_at = now(), run = coalesce($2, run) where id = $1", id, run)
	return err
}
