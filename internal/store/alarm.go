package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Matter is something that is the matter now, as alerts look for it.
type Matter struct {
	Cause            string // tells it from other matters of the same alert
	Text             string
	Flow, Connection string
	Since            time.Time
}

// maxMatters bounds what one look at an alert finds.
const maxMatters = 50

func matters(rows pgx.Rows) ([]Matter, error) {
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Matter])
}

// Failing lists causes for which a flow, or any when it is empty, has failed at least so many times since a time. Runs of
// the flow that is told of it do not count: they would tell of themselves.
func Failing(ctx context.Context, db DB, project, flow, except string, since time.Time, times int) ([]Matter, error) {
	rows, _ := db.Query(ctx, `select flow || ': ' || text, n || case n when 1 then ' time: ' else ' times: ' end || text || ' (' || flow || ')', flow, '', began from (
			select flow, text, count(*) as n, min(at) as began from (
				select flow, fault_cause(fault) as text, coalesce(ended_at, created_at) as at from run
				where project = $1 and state in ('set aside', 'stopped') and fault is not null and coalesce(fault->>'code', '') <> 'cancelled' and ended_at >= $4
				union all
				select r.flow, fault_cause(a.faults->0), coalesce(r.ended_at, r.created_at) from set_aside a join run r on r.id = a.run
				where r.project = $1 and a.state = 'open' and coalesce(r.ended_at, now()) >= $4 and r.created_at >= $4 - interval '7 days') x
			where ($2 = '' or flow = $2) and flow <> $3 group by flow, text having count(*) >= $5) y order by n desc limit $6`, project, flow, except, since, times, maxMatters)
	return matters(rows)
}

// Missing says whether no run of a flow has begun since a time, and it was released before that.
func Missing(ctx context.Context, db DB, project, flow string, since time.Time) ([]Matter, error) {
	rows, _ := db.Query(ctx, `select flow, case when last is null then 'nothing has ever arrived' else 'nothing has arrived since ' || to_char(last at time zone 'UTC', 'DD Mon HH24:MI') || ' UTC' end, flow, '', $3::timestamptz
		from (select $2::text as flow, max(created_at) as last, (select max(made_at) from release where project = $1 and flow = $2) as released from run where project = $1 and flow = $2) x
		where greatest(last, released) < $3`, project, flow, since)
	return matters(rows)
}

// Piling lists flows of which more runs wait than so many.
func Piling(ctx context.Context, db DB, project, flow, except string, most int) ([]Matter, error) {
	rows, _ := db.Query(ctx, `select flow, count(*) || ' runs wait', flow, '', min(created_at) from run
		where project = $1 and state in ('waiting', 'retrying') and ($2 = '' or flow = $2) and flow <> $3 group by flow having count(*) > $4 limit $5`, project, flow, except, most, maxMatters)
	return matters(rows)
}

// Down lists connections that could be used before, and could not since a time. One that never could is not set up yet.
func Down(ctx context.Context, db DB, project, environment, connection string, since time.Time) ([]Matter, error) {
	rows, _ := db.Query(ctx, `select connection, connection || ' cannot be used: ' || fault, '', connection, since from health
		where project = $1 and environment = $2 and ($3 = '' or connection = $3) and not well and good_at is not null and since <= $4 order by since limit $5`, project, environment, connection, since, maxMatters)
	return matters(rows)
}

// Lasting lists runs that have been under way since before a time.
func Lasting(ctx context.Context, db DB, project, flow, except string, since time.Time) ([]Matter, error) {
	rows, _ := db.Query(ctx, `select id::text, 'the run ' || reference || ' is under way since ' || to_char(began_at at time zone 'UTC', 'HH24:MI:SS') || ' UTC', flow, '', began_at from run
		where project = $1 and state in ('running', 'retrying') and ($2 = '' or flow = $2) and flow <> $3 and began_at < $4 order by began_at limit $5`, project, flow, except, since, maxMatters)
	return matters(rows)
}

// Alarm is a matter that was told.
type Alarm struct {
	ID        int64
	Alert     string
	Cause     string
	Since     time.Time
	ToldAt    time.Time
	Told      int
	Text      string
	Run       *uuid.UUID // the last one that told it
	ClearedAt *time.Time
}

const alarmColumns = "id, alert, cause, since, told_at, told, text, run, cleared_at"

// OpenAlarms lists what an alert has told and is not over.
func OpenAlarms(ctx context.Context, db DB, project, alert string) ([]Alarm, error) {
	rows, _ := db.Query(ctx, "select "+alarmColumns+" from alarm where project = $1 and alert = $2 and cleared_at is null order by id", project, alert)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Alarm])
}

// Alarms lists what was told, the newest first.
func Alarms(ctx context.Context, db DB, project string, most int) ([]Alarm, error) {
	rows, _ := db.Query(ctx, "select "+alarmColumns+" from alarm where project = $1 order by cleared_at is not null, id desc limit $2", project, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Alarm])
}

// Raise keeps that a matter was told for the first time.
func Raise(ctx context.Context, db DB, project, alert string, m Matter, run uuid.UUID) error {
	_, err := db.Exec(ctx, "insert into alarm (project, alert, cause, since, text, run) values ($1, $2, $3, $4, $5, $6)", project, alert, m.Cause, m.Since, m.Text, run)
	return err
}

// Remind keeps that a matter was told again.
func Remind(ctx context.Context, db DB, id int64, text string, run uuid.UUID) error {
	_, err := db.Exec(ctx, "update alarm set told = told + 1, told_at = now(), text = $2, run = $3 where id = $1", id, text, run)
	return err
}

// Clear keeps that a matter is over; run is nil where nobody was told.
func Clear(ctx context.Context, db DB, id int64, run *uuid.UUID) error {
	_, err := db.Exec(ctx, "update alarm set cleared_at = now(), run = coalesce($2, run) where id = $1", id, run)
	return err
}
