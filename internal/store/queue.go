package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// What River's own tables are asked, and what is changed in them, stands here and nowhere else: jobs that are to be taken on now,
// and those that workers have left.

// WakeQueue lets all workers of an environment look at its queue now: what is put into it tells them, what is made available again does not.
func WakeQueue(ctx context.Context, db DB, environment string) error {
	_, err := db.Exec(ctx, wakeQueue, Queue(environment))
	return err
}

// wakeQueue is the notification that River sends when jobs are inserted into a queue.
const wakeQueue = `select pg_notify(current_schema() || '.river_insert', json_build_object('queue', $1::text)::text)`

// WakeCancelled makes runs of an environment be taken on now that rest, and that somebody asked to stop.
func WakeCancelled(ctx context.Context, db DB, environment string) error {
	tag, err := db.Exec(ctx, `update river_job j set scheduled_at = now(), state = 'available' from run r
		where r.cancel_by is not null and r.environment = $1 and r.state in ('waiting', 'retrying') and j.args @> jsonb_build_object('run', r.id) and j.kind = 'run' and j.state in ('scheduled', 'available') and j.scheduled_at > now()`, environment)
	if err == nil && tag.RowsAffected() > 0 {
		err = WakeQueue(ctx, db, environment)
	}
	return err
}

// wakeAwaiting makes the runs be taken on now that wait for a message of a kind and reference.
const wakeAwaiting = `update river_job j set state = 'available', scheduled_at = now() from waiting_receive a
	where a.project = $1 and a.environment = $4 and a.name = $2 and a.correlation_key = $3
		and j.args @> jsonb_build_object('run', a.run) and j.kind = 'run' and j.state in ('scheduled', 'available')`

// HeartbeatAndPoll says that a worker is alive, and whether somebody's work in its environment is to be given back: that of a worker that has been
// silent for too long, a run that nobody works on, or a job of its own on which it does not work.
func HeartbeatAndPoll(ctx context.Context, db DB, environment, id string, active []uuid.UUID, silence time.Duration) (due bool, err error) {
	err = db.QueryRow(ctx, `with beat as (insert into worker (id, environment) values ($1, $4) on conflict (id) do update set heartbeat_at = now())
		select exists (select from worker where id <> $1 and environment = $4 and heartbeat_at < now() - make_interval(secs => $3))
			or exists (select from river_job where state = 'running' and queue = $5 and attempted_by[array_upper(attempted_by, 1)] <> $1
				and not exists (select from worker w where w.id = attempted_by[array_upper(attempted_by, 1)]))
			or exists (select from run r where state = 'running' and environment = $4 and worker <> $1 and not exists (select from worker w where w.id = r.worker))
			or exists (select from river_job where state = 'running' and kind = 'run' and attempted_by[array_upper(attempted_by, 1)] = $1
				and attempted_at < now() - make_interval(secs => $3) and not coalesce((args->>'run')::uuid = any($2), false))
			or exists (select from run r where state = 'running' and worker = $1 and parent_step = '' and started_at < now() - make_interval(secs => $3)
				and not id = any($2) and not `+hasJob+`)`,
		id, active, silence.Seconds(), environment, Queue(environment)).Scan(&due)
	return due, err
}

// Reclaim gives a worker's own jobs back to the queue on which it does not work: their end could not be recorded, since the
// database was away. It says how many.
func Reclaim(ctx context.Context, db DB, worker string, active []uuid.UUID, after time.Duration) (int64, error) {
	tag, err := db.Exec(ctx, `update river_job set state = 'available', scheduled_at = now(), attempt = greatest(attempt - 1, 0)
		where state = 'running' and kind = 'run' and attempted_by[array_upper(attempted_by, 1)] = $1 and attempted_at < now() - make_interval(secs => $3)
			and not (args->>'run')::uuid = any($2)`, worker, active, after.Seconds())
	return tag.RowsAffected(), err
}

// hasJob says of a run r whether there is, or was, a job of the queue for it.
const hasJob = `exists (select from river_job j where j.kind = 'run' and j.args @> jsonb_build_object('run', r.id))`

// Orphans are runs of an environment under way without a job, which were done where they came in: those of workers that are gone, each of which counts
// as a death, and those that this worker has given up without being able to record it.
func Orphans(ctx context.Context, tx pgx.Tx, environment, worker string, active []uuid.UUID, after time.Duration) ([]uuid.UUID, error) {
	rows, _ := tx.Query(ctx, `update run r set attempt = greatest(attempt - 1, 0),
			deaths = case when worker = $1 then deaths else case when deaths_behind = records_read then deaths else 0 end + 1 end, deaths_behind = records_read
		where state = 'running' and environment = $4 and parent_step = '' and not `+hasJob+`
			and (not exists (select from worker w where w.id = r.worker) or worker = $1 and started_at < now() - make_interval(secs => $3) and not id = any($2))
		returning id`, worker, active, after.Seconds(), environment)
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// Requeue gives the jobs of an environment's workers that have been silent for too long back to its queue and
// says how many; so also a job that has ended although its run is under way with nobody left who works on it. A dead worker's
// try does not count as one, but its death is counted.
func Requeue(ctx context.Context, tx pgx.Tx, environment string, silence time.Duration) (int64, error) {
	if _, err := tx.Exec(ctx, "delete from worker where environment = $2 and heartbeat_at < now() - make_interval(secs => $1)", silence.Seconds(), environment); err != nil {
		return 0, err
	}
	if _, err := tx.Exec(ctx, `update run set attempt = greatest(attempt - 1, 0),
			deaths = case when deaths_behind = records_read then deaths else 0 end + 1, deaths_behind = records_read where state = 'running' and id in (select (args->>'run')::uuid from river_job
		where state = 'running' and queue = $1 and not exists (select 1 from worker w where w.id = attempted_by[array_upper(attempted_by, 1)]))`, Queue(environment)); err != nil {
		return 0, err
	}
	silent, err := tx.Exec(ctx, `update river_job set state = 'available', scheduled_at = now(), attempt = greatest(attempt - 1, 0)
		where state = 'running' and queue = $1 and not exists (select 1 from worker w where w.id = attempted_by[array_upper(attempted_by, 1)])`, Queue(environment))
	if err != nil {
		return 0, err
	}
	lost, err := tx.Exec(ctx, `update river_job j set state = 'available', finalized_at = null, scheduled_at = now(), attempt = greatest(j.attempt - 1, 0)
		from run r where r.state = 'running' and r.environment = $1 and not exists (select 1 from worker w where w.id = r.worker)
			and j.kind = 'run' and j.state in ('completed', 'discarded', 'cancelled') and j.args @> jsonb_build_object('run', r.id)`, environment)
	return silent.RowsAffected() + lost.RowsAffected(), err
}
