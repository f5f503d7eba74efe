package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow/running"
)

// GetState reads what is kept in a space under keys; what is over is left out.
func GetState(ctx context.Context, db DB, s Scope, space string, keys []string) (map[string]string, error) {
	rows, err := db.Query(ctx, "select key, content from flow_state where project = $1 and environment = $2 and namespace = $3 and key = any($4) and (expires_at is null or expires_at > now())", s.Project, s.Environment, space, keys)
	if err != nil {
		return nil, err
	}
	known := map[string]string{}
	var key, content string
	_, err = pgx.ForEachRow(rows, []any{&key, &content}, func() error {
		known[key] = content
		return nil
	})
	return known, err
}

// PutState keeps texts in a space, in place of what is there.
func PutState(ctx context.Context, db DB, s Scope, space string, notes []running.StateEntry) error {
	b := &pgx.Batch{}
	for _, n := range notes {
		b.Queue(`insert into flow_state (project, environment, namespace, key, content, expires_at) values ($1, $2, $3, $4, $5, nullif($6, '0001-01-01 00:00:00Z'::timestamptz))
			on conflict (project, environment, namespace, key) do update set content = excluded.content, expires_at = excluded.expires_at`, s.Project, s.Environment, space, n.Key, n.Text, n.ExpiresAt)
	}
	return db.SendBatch(ctx, b).Close()
}

// StateEntry is one text of a space.
type StateEntry struct{ Key, Content string }

// ListState lists what is kept in a space, by key.
func ListState(ctx context.Context, db DB, s Scope, space string, most int) ([]StateEntry, error) {
	rows, _ := db.Query(ctx, "select key, content from flow_state where project = $1 and environment = $2 and namespace = $3 and (expires_at is null or expires_at > now()) order by key limit $4", s.Project, s.Environment, space, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[StateEntry])
}

// DeleteState takes what is under keys out of a space, or all where none are named.
func DeleteState(ctx context.Context, db DB, s Scope, space string, keys ...string) error {
	_, err := db.Exec(ctx, "delete from flow_state where project = $1 and environment = $2 and namespace = $3 and ($4::text[] is null or key = any($4))", s.Project, s.Environment, space, keys)
	return err
}

// SweepKept removes some of what is over in an environment, and says how much.
func SweepKept(ctx context.Context, db DB, environment string, most int) (int64, error) {
	tag, err := db.Exec(ctx, "delete from flow_state where ctid in (select ctid from flow_state where expires_at < now() and environment = $2 limit $1)", most, environment)
	return tag.RowsAffected(), err
}
