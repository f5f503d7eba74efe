package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow/running"
)

// EffectKey tells an effect of a step: the record, and the path of the entry inside it.
type EffectKey struct {
	Record int
	Path   string
}

// Effects reads what effects of a step answered for records, by their positions in the message.
func Effects(ctx context.Context, db DB, run uuid.UUID, step string, records []int) (map[EffectKey]string, error) {
	rows, err := db.Query(ctx, "select record, path, answer from effect where run = $1 and step = $2 and record = any($3)", run, step, records)
	if err != nil {
		return nil, err
	}
	known := map[EffectKey]string{}
	var of EffectKey
	var answer []byte
	_, err = pgx.ForEachRow(rows, []any{&of.Record, &of.Path, &answer}, func() error {
		known[of] = string(answer)
		return nil
	})
	return known, err
}

// positions are the columns of a list of effects.
func positions(of []EffectKey) (records []int, paths []string) {
	records, paths = make([]int, len(of)), make([]string, len(of))
	for i, e := range of {
		records[i], paths[i] = e.Record, e.Path
	}
	return records, paths
}

// SaveEffects notes what effects answered.
func SaveEffects(ctx context.Context, db DB, run uuid.UUID, step string, of []EffectKey, answers []string) error {
	if len(of) == 0 {
		return nil
	}
	records, paths := positions(of)
	_, err := db.Exec(ctx, `insert into effect (run, step, record, path, answer) select $1, $2, l, p, convert_to(a, 'UTF8') from unnest($3::int[], $4::text[], $5::text[]) as x(l, p, a) on conflict do nothing`,
		run, step, records, paths, answers)
	return err
}

// DeleteEffects forgets what effects answered that were taken back.
func DeleteEffects(ctx context.Context, db DB, run uuid.UUID, list []running.Compensated) error {
	if len(list) == 0 {
		return nil
	}
	b := &pgx.Batch{}
	for _, u := range list {
		b.Queue("delete from effect where run = $1 and step = any($2) and record = $3 and path = $4", run, u.Steps, u.Record, u.Path)
	}
	return db.SendBatch(ctx, b).Close()
}

// MarkSeen notes keys of a step's records and says which of them other records had before, within a time where it is
// not 0. The keys must differ from each other.
func MarkSeen(ctx context.Context, db DB, r Run, step string, of []EffectKey, keys []string, within time.Duration) (map[string]bool, error) {
	records, paths := positions(of)
	rows, err := db.Query(ctx, `with fresh as (
			insert into duplicate_key as s (project, environment, flow, step, key, run, record, path)
			select $1, $9, $2, $3, k, $4, n, p from unnest($5::text[], $6::int[], $7::text[]) as x(k, n, p)
			on conflict (project, environment, flow, step, key) do update set run = excluded.run, record = excluded.record, path = excluded.path, at = now()
			where (s.run, s.record, s.path) = (excluded.run, excluded.record, excluded.path) or $8::float8 > 0 and s.at < now() - make_interval(secs => $8::float8)
			returning key)
		select k from unnest($5::text[]) as k where k not in (select key from fresh)`,
		r.Project, r.Flow, step, r.ID, keys, records, paths, within.Seconds(), r.Environment)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	var key string
	_, err = pgx.ForEachRow(rows, []any{&key}, func() error {
		seen[key] = true
		return nil
	})
	return seen, err
}
