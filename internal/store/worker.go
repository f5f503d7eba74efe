package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Worker is one process that runs flows.
type Worker struct {
	ID          string
	StartedAt   time.Time
	HeartbeatAt time.Time
}

// Heartbeat says that a worker of an environment is alive.
func Heartbeat(ctx context.Context, db DB, environment, id string) error {
	_, err := db.Exec(ctx, "insert into worker (id, environment) values ($1, $2) on conflict (id) do update set heartbeat_at = now()", id, environment)
	return err
}

// Deregister takes a worker off the list.
func Deregister(ctx context.Context, db DB, id string) error {
	_, err := db.Exec(ctx, "delete from worker where id = $1", id)
	return err
}

// Workers lists the living workers of an environment.
func Workers(ctx context.Context, db DB, environment string) ([]Worker, error) {
	rows, _ := db.Query(ctx, "select id, started_at, heartbeat_at from worker where environment = $1 order by started_at", environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Worker])
}

// WorkerOf says which worker has taken a run on, and whether it is alive; nobody where the run is not under way.
func WorkerOf(ctx context.Context, db DB, run uuid.UUID) (worker string, alive bool, err error) {
	err = db.QueryRow(ctx, `select coalesce(worker, ''), exists (select from worker w where w.id = run.worker) from run
		where id = $1 and state = 'running'`, run).Scan(&worker, &alive)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", false, nil
	}
	return worker, alive, err
}
