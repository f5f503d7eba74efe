package store

import (
	"context"
	"time"
)

// SweepRuns removes some runs of a flow that ended before a time, with all that belongs to them, and says how many. One
// that waits for somebody, or has records that do, stays.
func SweepRuns(ctx context.Context, db DB, s Scope, flow string, before time.Time, most int) (int64, error) {
	tag, err := db.Exec(ctx, `delete from run where id in (select id from run r where project = $1 and environment = $5 and flow = $2 and created_at < $3 and ended_at < $3
		and not (state <> 'done' and fault is not null and resolution = '')
		and not exists (select from set_aside a where a.run = r.id and a.state = 'open') order by created_at limit $4)`, s.Project, flow, before, most, s.Environment)
	return tag.RowsAffected(), err
}

// SweepMessages takes the messages out of some runs of a flow that ended well before a time, and says of how many; what
// became of their records stays.
func SweepMessages(ctx context.Context, db DB, s Scope, flow string, before time.Time, most int) (n int64, err error) {
	err = db.QueryRow(ctx, `with swept as (update run set content = null, input = null, answer = null, request = null, totals = null
			where id in (select id from run where project = $1 and environment = $5 and flow = $2 and created_at < $3 and ended_at < $3 and state = 'done'
				and (content is not null or input is not null or answer is not null or request is not null or totals is not null) order by created_at limit $4) returning id)
		, pieces as (delete from run_content where run in (select id from swept))
		, files as (delete from file_record where run in (select id from swept))
		, effects as (delete from effect where run in (select id from swept))
		select count(*) from swept`, s.Project, flow, before, most, s.Environment).Scan(&n)
	return n, err
}

// SweepMeetings removes some messages and parts of groups that were taken in an environment before a time, and says how many.
func SweepMeetings(ctx context.Context, db DB, environment string, before time.Time, most int) (n int64, err error) {
	for _, sql := range []string{
		"delete from correlated_message where ctid in (select ctid from correlated_message where received_by_run is not null and environment = $3 and at < $1 limit $2)",
		"delete from aggregate_item where ctid in (select ctid from aggregate_item where completed_by_run is not null and environment = $3 and at < $1 limit $2)",
	} {
		tag, err := db.Exec(ctx, sql, before, most, environment)
		if err != nil {
			return n, err
		}
		n += tag.RowsAffected()
	}
	return n, nil
}

// TryLock takes a lock of the whole database until the transaction ends; false when another process has it.
func TryLock(ctx context.Context, db DB, name string) (ok bool, err error) {
	err = db.QueryRow(ctx, "select pg_try_advisory_xact_lock(hashtextextended($1, 23))", name).Scan(&ok)
	return ok, err
}
