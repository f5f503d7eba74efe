package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
)

// WorkItem is a record that was set aside, or a run that failed as a whole: somebody has to deal with it.
type WorkItem struct {
	Aside           int64 // 0: the run as a whole
	Run             uuid.UUID
	Flow, Reference string
	Record, Line    int
	Path, Step      string
	Fault           *fault.Fault
	Owner           *string
	Note            string
	At              time.Time
	Times           int // how often it came
}

// WorkFilter narrows the list of work. Zero members do not.
type WorkFilter struct {
	Scope
	Flow, Owner string // the owner nobody is "-"
	Text        string // in the cause
	Before      *time.Time
	Most        int
}

// WorkItems lists what waits for somebody, the newest first.
func WorkItems(ctx context.Context, db DB, f WorkFilter) ([]WorkItem, error) {
	rows, _ := db.Query(ctx, `select * from (
			select a.id, r.id, r.flow, r.reference, a.record, a.line, a.path, a.step, a.faults->0 as fault, a.owner, a.note, r.created_at as at, a.times
			from set_aside a join run r on r.id = a.run where r.project = $1 and r.environment = $7 and a.state = 'open'
			union all
			select 0, id, flow, reference, -1, 0, '', coalesce(fault->'place'->>'step', ''), fault, owner, note, created_at, 1
			from run where project = $1 and environment = $7 and state in ('set aside', 'stopped') and fault is not null and resolution = '') x
		where ($2 = '' or flow = $2) and ($3 = '' or owner = $3 or $3 = '-' and owner is null) and ($4 = '' or fault_cause(fault) ilike '%' || $4 || '%')
			and ($5::timestamptz is null or at < $5) order by at desc, 1 desc limit $6`,
		f.Project, f.Flow, f.Owner, likeText(f.Text), f.Before, f.Most, f.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[WorkItem])
}

// OpenWork counts what waits for somebody.
func OpenWork(ctx context.Context, db DB, s Scope) (n int, err error) {
	err = db.QueryRow(ctx, `select (select count(*) from set_aside a join run r on r.id = a.run where r.project = $1 and r.environment = $2 and a.state = 'open')
		+ (select count(*) from run where project = $1 and environment = $2 and state in ('set aside', 'stopped') and fault is not null and resolution = '')`, s.Project, s.Environment).Scan(&n)
	return n, err
}

// Assign makes records and runs somebody's work; an empty owner gives them back.
func Assign(ctx context.Context, db DB, s Scope, asides []int64, runs []uuid.UUID, owner string) (int64, error) {
	a, err := db.Exec(ctx, "update set_aside a set owner = nullif($3, '') from run r where r.id = a.run and r.project = $1 and r.environment = $4 and a.id = any($2) and a.state = 'open'", s.Project, asides, owner, s.Environment)
	if err != nil {
		return 0, err
	}
	b, err := db.Exec(ctx, "update run set owner = nullif($3, '') where project = $1 and environment = $4 and id = any($2)", s.Project, runs, owner, s.Environment)
	return a.RowsAffected() + b.RowsAffected(), err
}

// SetWorkNote writes what is to be known of a record that was set aside.
func SetWorkNote(ctx context.Context, db DB, s Scope, id int64, note string) error {
	tag, err := db.Exec(ctx, "update set_aside a set note = $3 from run r where r.id = a.run and r.project = $1 and r.environment = $4 and a.id = $2", s.Project, id, note, s.Environment)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// NoteRun writes what is to be known of a run that failed.
func NoteRun(ctx context.Context, db DB, s Scope, id uuid.UUID, note string) error {
	tag, err := db.Exec(ctx, "update run set note = $3 where project = $1 and environment = $4 and id = $2", s.Project, id, note, s.Environment)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// ResolveRun marks a run that failed as run again or let go: it waits for nobody any more.
func ResolveRun(ctx context.Context, db DB, id uuid.UUID, how string) error {
	_, err := db.Exec(ctx, "update run set resolution = $2 where id = $1 and fault is not null", id, how)
	return err
}
