package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// AuditEntry is something that a person has done.
type AuditEntry struct {
	ID      int64
	Person  string
	Action  string
	Run     *uuid.UUID
	Subject string
	At      time.Time
}

// AddAuditEntry keeps what a person has done; run may be nil.
func AddAuditEntry(ctx context.Context, db DB, s Scope, person, what string, run *uuid.UUID, about string) error {
	_, err := db.Exec(ctx, "insert into audit_log (project, environment, person, action, run, subject) values ($1, $2, $3, $4, $5, $6)", s.Project, s.Environment, person, what, run, about)
	return err
}

// AuditEntries lists what people have done, the newest first; of one run where that is given.
func AuditEntries(ctx context.Context, db DB, s Scope, run *uuid.UUID, most int) ([]AuditEntry, error) {
	rows, _ := db.Query(ctx, "select id, person, action, run, subject, at from audit_log where project = $1 and environment = $4 and ($2::uuid is null or run = $2) order by id desc limit $3", s.Project, run, most, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[AuditEntry])
}

// Search is a search that a person has saved: what stands behind the question mark of its address.
type Search struct{ Name, Query string }

// Href is the address that shows it.
func (s Search) Href() string { return "/traffic?" + s.Query }

// Searches lists a person's saved searches.
func Searches(ctx context.Context, db DB, project, person string) ([]Search, error) {
	rows, _ := db.Query(ctx, "select name, query from saved_search where project = $1 and person = $2 order by name", project, person)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Search])
}

// SaveSearch keeps a search, in place of one of its name; an empty query takes it away.
func SaveSearch(ctx context.Context, db DB, project, person string, s Search) error {
	if s.Query == "" {
		_, err := db.Exec(ctx, "delete from saved_search where project = $1 and person = $2 and name = $3", project, person, s.Name)
		return err
	}
	_, err := db.Exec(ctx, `insert into saved_search (project, person, name, query) values ($1, $2, $3, $4)
		on conflict (project, person, name) do update set query = excluded.query`, project, person, s.Name, s.Query)
	return err
}
