package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// APICaller is a program that calls APIs of a project in an environment.
type APICaller struct {
	ID       uuid.UUID
	Name     string
	APIs     []string // that it may call; none: all
	Disabled bool
	MadeBy   string
	MadeAt   time.Time
}

// CallerKey is a key of a caller, of which only the digest is kept (SHA-256).
type CallerKey struct {
	Digest      []byte
	Caller      uuid.UUID
	Hint        string // its first characters; of a certificate whose it is
	MadeBy      string
	MadeAt      time.Time
	EndsAt      *time.Time
	UsedOn      *time.Time // the day
	Certificate bool       // of a client, in place of a key that is sent
}

// Callers lists the callers of a scope by name.
func Callers(ctx context.Context, db DB, s Scope) ([]APICaller, error) {
	rows, _ := db.Query(ctx, "select id, name, apis, disabled, made_by, made_at from caller where project = $1 and environment = $2 order by name", s.Project, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[APICaller])
}

// CallerKeys lists the keys of all callers of a scope, the newest first.
func CallerKeys(ctx context.Context, db DB, s Scope) ([]CallerKey, error) {
	rows, _ := db.Query(ctx, `select k.digest, k.caller, k.hint, k.made_by, k.made_at, k.ends_at, k.used_on, k.certificate from caller_key k join caller c on c.id = k.caller
		where c.project = $1 and c.environment = $2 order by k.made_at desc`, s.Project, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[CallerKey])
}

// AddCaller adds a caller; false where there is one of the name.
func AddCaller(ctx context.Context, db DB, s Scope, c APICaller) (bool, error) {
	tag, err := db.Exec(ctx, "insert into caller (id, project, environment, name, apis, made_by) values ($1, $2, $3, $4, coalesce($5::text[], '{}'), $6) on conflict (project, environment, name) do nothing",
		c.ID, s.Project, s.Environment, c.Name, c.APIs, c.MadeBy)
	return tag.RowsAffected() > 0, err
}

// SetCaller says which APIs a caller may call, and whether it may call at all.
func SetCaller(ctx context.Context, db DB, s Scope, c APICaller) error {
	return callerChanged(ctx, db, s, "update caller set apis = coalesce($4::text[], '{}'), disabled = $5 where id = $1 and project = $2 and environment = $3", c.ID, s.Project, s.Environment, c.APIs, c.Disabled)
}

// RemoveCaller removes a caller with its keys.
func RemoveCaller(ctx context.Context, db DB, s Scope, id uuid.UUID) error {
	return callerChanged(ctx, db, s, "delete from caller where id = $1 and project = $2 and environment = $3", id, s.Project, s.Environment)
}

// AddCallerKey adds a key to a caller.
func AddCallerKey(ctx context.Context, db DB, s Scope, k CallerKey) error {
	return callerChanged(ctx, db, s, `insert into caller_key (digest, caller, hint, made_by, ends_at, certificate)
		select $4, id, $5, $6, $7, $8 from caller where id = $1 and project = $2 and environment = $3`, k.Caller, s.Project, s.Environment, k.Digest, k.Hint, k.MadeBy, k.EndsAt, k.Certificate)
}

// EndCallerKey lets a key end at a time.
func EndCallerKey(ctx context.Context, db DB, s Scope, digest []byte, at time.Time) error {
	return callerChanged(ctx, db, s, `update caller_key k set ends_at = $4 from caller c where k.digest = $1 and c.id = k.caller and c.project = $2 and c.environment = $3`, digest, s.Project, s.Environment, at)
}

// callerChanged does one thing to a caller and tells all processes; ErrNotFound where there is none.
func callerChanged(ctx context.Context, db DB, s Scope, sql string, args ...any) error {
	tag, err := db.Exec(ctx, sql, args...)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return Publish(ctx, db, "caller "+s.String())
}

// CallerByKey finds whose a key or a certificate is, with when it ends; ErrNotFound where it is nobody's. It notes the day on which it was
// used.
func CallerByKey(ctx context.Context, db DB, s Scope, digest []byte, certificate bool) (c APICaller, ends *time.Time, err error) {
	var used *time.Time
	row := db.QueryRow(ctx, `select c.id, c.name, c.apis, c.disabled, k.ends_at, k.used_on from caller_key k join caller c on c.id = k.caller
		where k.digest = $1 and c.project = $2 and c.environment = $3 and k.certificate = $4`, digest, s.Project, s.Environment, certificate)
	if _, err = one(c, row.Scan(&c.ID, &c.Name, &c.APIs, &c.Disabled, &ends, &used)); err != nil {
		return c, nil, err
	}
	if today := time.Now().UTC().Truncate(24 * time.Hour); used == nil || used.Before(today) {
		_, err = db.Exec(ctx, "update caller_key set used_on = $2 where digest = $1", digest, today)
	}
	return c, ends, err
}

// TakeQuota takes up to so much of a limit in a span of time that begins at a time, and says how much there was.
func TakeQuota(ctx context.Context, db DB, s Scope, name, span string, begins time.Time, want, limit int64) (got int64, err error) {
	b := &pgx.Batch{}
	b.Queue("insert into quota (project, environment, name, span, begins) values ($1, $2, $3, $4, $5) on conflict do nothing", s.Project, s.Environment, name, span, begins)
	b.Queue(`update quota q set given = greatest(o.given, least($7, o.given + $6)) from (
			select given from quota where project = $1 and environment = $2 and name = $3 and span = $4 and begins = $5 for update
		) o where q.project = $1 and q.environment = $2 and q.name = $3 and q.span = $4 and q.begins = $5 returning q.given - o.given`,
		s.Project, s.Environment, name, span, begins, want, limit).QueryRow(func(row pgx.Row) error { return row.Scan(&got) })
	return got, db.SendBatch(ctx, b).Close()
}

// SweepQuotas removes what is of spans that are over.
func SweepQuotas(ctx context.Context, db DB, environment string, before time.Time, most int) (int64, error) {
	tag, err := db.Exec(ctx, "delete from quota where ctid in (select ctid from quota where environment = $3 and begins < $1 limit $2)", before, most, environment)
	return tag.RowsAffected(), err
}
