// Package store keeps everything in PostgreSQL: parts and their drafts, releases, runs, journals
// and what was set aside. Each aggregate has its file; functions take a DB, which a pool and a
// transaction both are.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// DB is what a pool and a transaction share.
type DB interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
}

// Pool are the connections to the database.
type Pool = pgxpool.Pool

// Channel is the notification channel on which changes are told; see Tell.
const Channel = "hollowreed"

// Listen gives what is told on the channel, until the context ends or the connection does. Ready is called once nothing is
// missed any more.
func Listen(ctx context.Context, db *pgxpool.Pool, ready func(), tell func(what string)) error {
	conn, err := db.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	defer conn.Conn().Close(context.WithoutCancel(ctx)) // a listening connection is not for others
	if _, err := conn.Exec(ctx, "listen "+Channel); err != nil {
		return err
	}
	ready()
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		tell(n.Payload)
	}
}

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrChanged  = errors.New("somebody else changed it meanwhile")
	ErrTakenOn  = errors.New("another worker has taken the run on")
	ErrExists   = errors.New("there is one of that name already")
)

// bounds keep one session from holding up all others: a statement, a wait for a lock, a transaction in which nothing happens.
var bounds = map[string]string{"statement_timeout": "60s", "lock_timeout": "30s", "idle_in_transaction_session_timeout": "120s"}

// Long excepts a transaction from the bounds: one that waits for an outside system, or works through all there is. An
// administrator sees it by its name, as that of its application (pg_stat_activity).
func Long(ctx context.Context, db DB, name string) error {
	_, err := db.Exec(ctx, `select set_config('application_name', $1, true), set_config('statement_timeout', '0', true),
		set_config('lock_timeout', '0', true), set_config('idle_in_transaction_session_timeout', '0', true)`, "hollowreed: "+name)
	return err
}

// pingAfter is how long a connection is idle before it is tried with a ping when it is used again. That a server went away is
// seen at once by who listens.
const pingAfter = 5 * time.Minute

// Open connects and brings the database to the newest migration.
func Open(ctx context.Context, url string) (*pgxpool.Pool, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the database address cannot be read")
	}
	config.MaxConns = 24
	config.MaxConnIdleTime = time.Minute // what a burst has needed is given back
	config.ShouldPing = func(_ context.Context, p pgxpool.ShouldPingParams) bool { return p.IdleDuration > pingAfter }
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	config.ConnConfig.RuntimeParams["application_name"] = "hollowreed"
	config.AfterConnect = sentAsBytes
	unbounded := config.Copy()
	unbounded.ConnConfig.RuntimeParams["application_name"] = "hollowreed: migrations"
	for name, bound := range bounds {
		config.ConnConfig.RuntimeParams[name] = bound
	}
	if err := migrateWith(ctx, unbounded); err != nil {
		return nil, err
	}
	return pgxpool.NewWithConfig(ctx, config)
}

func migrateWith(ctx context.Context, config *pgxpool.Config) error {
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return err
	}
	defer pool.Close()
	return migrate(ctx, pool)
}

// migrationLock keeps two starting processes from migrating at once.
const migrationLock = 718_293_001

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("the database cannot be reached: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", migrationLock); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", migrationLock)
	river, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return err
	}
	if _, err := river.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return err
	}
	if err := own(ctx, pool); err != nil {
		return err
	}
	return AddPartitions(ctx, pool, time.Now())
}

// own applies our migrations that are not applied yet, each in a transaction.
func own(ctx context.Context, pool *pgxpool.Pool) error {
	if _, err := pool.Exec(ctx, "create table if not exists migration (name text primary key, applied_at timestamptz not null default now())"); err != nil {
		return err
	}
	names, err := fs.Glob(migrations, "migrations/*.up.sql")
	if err != nil {
		return err
	}
	sort.Strings(names)
	for _, name := range names {
		sql, err := migrations.ReadFile(name)
		if err != nil {
			return err
		}
		err = pgx.BeginFunc(ctx, pool, func(tx pgx.Tx) error { return apply(ctx, tx, name, string(sql)) })
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func apply(ctx context.Context, tx pgx.Tx, name, sql string) error {
	tag, err := tx.Exec(ctx, "insert into migration (name) values ($1) on conflict do nothing", strings.TrimSuffix(name, ".up.sql"))
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	_, err = tx.Exec(ctx, sql)
	return err
}

// Publish announces a change to all listening processes, when the transaction commits.
func Publish(ctx context.Context, db DB, what string) error {
	_, err := db.Exec(ctx, "select pg_notify($1, $2)", Channel, what)
	return err
}

// one turns "no rows" into ErrNotFound.
func one[T any](v T, err error) (T, error) {
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}
