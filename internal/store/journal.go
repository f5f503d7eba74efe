package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
)

// AddJournal keeps what happened to the records of a batch; first is the batch's first record, from 0.
func AddJournal(ctx context.Context, db DB, run uuid.UUID, first, records int, entries []byte) error {
	_, err := db.Exec(ctx, `insert into journal (run, first, records, entries) values ($1, $2, $3, $4)
		on conflict (run, first) do update set records = excluded.records, entries = excluded.entries where excluded.first = -1`, run, first, records, entries)
	return err
}

// AddReferences gives a run business keys by which it is found.
func AddReferences(ctx context.Context, db DB, r Run, list []running.Reference) error {
	if len(list) == 0 {
		return nil
	}
	records, texts := make([]int, len(list)), make([]string, len(list))
	for i, ref := range list {
		records[i], texts[i] = ref.Record, ref.Text
	}
	_, err := db.Exec(ctx, "insert into reference (run, project, environment, record, text) select $1, $2, $5, n, t from unnest($3::int[], $4::text[]) as x(n, t) on conflict do nothing", r.ID, r.Project, records, texts, r.Environment)
	return err
}

// References lists the business keys of a run's records.
func References(ctx context.Context, db DB, run uuid.UUID, most int) ([]running.Reference, error) {
	rows, _ := db.Query(ctx, "select record, text from reference where run = $1 order by record, text limit $2", run, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[running.Reference])
}

// Event is what a step of a run told.
type Event struct {
	ID     int64
	Flow   string
	Run    uuid.UUID
	Step   string
	Record int
	Text   string
	Fault  *fault.Fault
	At     time.Time
}

// AddEvents keeps what steps told.
func AddEvents(ctx context.Context, db DB, r Run, list []running.Event) error {
	if len(list) == 0 {
		return nil
	}
	b := &pgx.Batch{}
	for _, e := range list {
		b.Queue("insert into event (project, environment, flow, run, step, record, text, fault) values ($1, $2, $3, $4, $5, $6, $7, $8)", r.Project, r.Environment, r.Flow, r.ID, e.Step, e.Record, e.Text, e.Fault)
	}
	return db.SendBatch(ctx, b).Close()
}

// DeleteEvents removes what steps told for the run as a whole, which tells it anew.
func DeleteEvents(ctx context.Context, db DB, run uuid.UUID, steps []string) error {
	_, err := db.Exec(ctx, "delete from event where run = $1 and record = -1 and step = any($2)", run, steps)
	return err
}

// Events lists what steps told, the newest first.
func Events(ctx context.Context, db DB, s Scope, most int) ([]Event, error) {
	rows, _ := db.Query(ctx, "select id, flow, run, step, record, text, fault, at from event where project = $1 and environment = $3 order by at desc, id desc limit $2", s.Project, most, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Event])
}

// JournalBatch reads the batch that holds a record, counted from 0, or the last one before it.
func JournalBatch(ctx context.Context, db DB, run uuid.UUID, record int) (first int, entries []byte, err error) {
	err = db.QueryRow(ctx, "select first, entries from journal where run = $1 and first <= $2 order by first desc limit 1", run, record).
		Scan(&first, &entries)
	_, err = one(0, err)
	return first, entries, err
}

// What becomes of what was set aside, once somebody has dealt with it; before, it is open.
const (
	AsideRerun     = "rerun"
	AsideDiscarded = "discarded"
)

// Aside is one record that was set aside.
type Aside struct {
	ID        int64
	Run       uuid.UUID
	Record    int
	Line      int
	Step      string
	Raw       []byte
	Faults    fault.List
	State     string
	Rerun     *uuid.UUID
	HandledBy *string
	HandledAt *time.Time
	Path      string // of an entry inside the record
	Owner     *string
	Note      string
	Byte      int64 // of its message, at which the record begins
	Times     int   // how often it has come and failed, where a system gives it again and again
}

// AddAside keeps records that were set aside.
func AddAside(ctx context.Context, db DB, list []Aside) error {
	if len(list) == 0 {
		return nil
	}
	b := &pgx.Batch{}
	for _, a := range list {
		b.Queue("insert into set_aside (run, record, path, line, step, raw, faults, at_byte) values ($1, $2, $3, $4, $5, $6, $7, $8)",
			a.Run, a.Record, a.Path, a.Line, a.Step, a.Raw, a.Faults, a.Byte)
	}
	return db.SendBatch(ctx, b).Close()
}

// JoinAsides makes records that a run has just set aside, from one on, one entry with the same records that earlier runs of its
// flow have set aside and that still wait: the newest, with how often they came, and with whose they are. It is meant for what
// a system gives again; a message that comes twice is two.
func JoinAsides(ctx context.Context, tx pgx.Tx, r Run, from int) error {
	_, err := tx.Exec(ctx, `with twin as (
			select distinct on (n.id) n.id as now, o.id as was, o.times, o.owner, o.note from set_aside n
			join set_aside o on o.step = n.step and md5(o.raw) = md5(n.raw) and o.raw = n.raw and o.path = n.path and o.state = 'open' and o.run <> n.run
			join run r on r.id = o.run and r.project = $2 and r.environment = $5 and r.flow = $3
			where n.run = $1 and n.state = 'open' and n.record >= $4 and length(n.raw) > 0 order by n.id, o.id desc),
		past as (update set_aside s set state = 'repeated', rerun = $1, handled_at = now() from twin where s.id = twin.was)
		update set_aside s set times = twin.times + 1, owner = coalesce(s.owner, twin.owner), note = case when s.note = '' then twin.note else s.note end
		from twin where s.id = twin.now`, r.ID, r.Project, r.Flow, from, r.Environment)
	return err
}

// ReplaceAsides keeps what the run as a whole set aside, in place of what it set aside when it was done before and still
// waits for somebody. It says by how many more records are set aside now.
func ReplaceAsides(ctx context.Context, db DB, run uuid.UUID, list []Aside) (more int, err error) {
	gone, err := db.Exec(ctx, "delete from set_aside where run = $1 and record = -1 and state = 'open'", run)
	if err != nil {
		return 0, err
	}
	for _, a := range list {
		tag, err := db.Exec(ctx, `insert into set_aside (run, record, path, line, step, raw, faults) values ($1, $2, $3, $4, $5, $6, $7)
			on conflict (run, record, path) do nothing`, a.Run, a.Record, a.Path, a.Line, a.Step, a.Raw, a.Faults)
		if err != nil {
			return 0, err
		}
		more += int(tag.RowsAffected())
	}
	return more - int(gone.RowsAffected()), nil
}

const asideColumns = "id, run, record, line, step, raw, faults, state, rerun, handled_by, handled_at, path, owner, note, at_byte, times"

// Asides lists what a run set aside, by line.
func Asides(ctx context.Context, db DB, run uuid.UUID, most int) ([]Aside, error) {
	rows, _ := db.Query(ctx, "select "+asideColumns+" from set_aside where run = $1 order by line, id limit $2", run, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Aside])
}

// AsideOf reads one of a scope; one of another scope is not found.
func AsideOf(ctx context.Context, db DB, s Scope, id int64) (Aside, error) {
	rows, _ := db.Query(ctx, "select "+asideColumns+" from set_aside a where id = $1 and exists (select from run r where r.id = a.run and r.project = $2 and r.environment = $3)", id, s.Project, s.Environment)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Aside]))
}

// AsideByID reads one, of whatever scope: for who has its id of the database, and not of a person.
func AsideByID(ctx context.Context, db DB, id int64) (Aside, error) {
	rows, _ := db.Query(ctx, "select "+asideColumns+" from set_aside where id = $1", id)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Aside]))
}

// CloseAside marks an open one as run again or let go. It is ErrChanged when it is no longer open.
func CloseAside(ctx context.Context, db DB, id int64, state string, rerun *uuid.UUID, by string) error {
	tag, err := db.Exec(ctx, `update set_aside set state = $2, rerun = $3, handled_by = $4, handled_at = now() where id = $1 and state = 'open'`,
		id, state, rerun, by)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrChanged
	}
	return err
}

// CloseAsides marks the open ones of a run at some steps as run again by another.
func CloseAsides(ctx context.Context, db DB, run uuid.UUID, steps []string, rerun uuid.UUID, by string) error {
	_, err := db.Exec(ctx, "update set_aside set state = 'rerun', rerun = $3, handled_by = $4, handled_at = now() where run = $1 and step = any($2) and state = 'open'", run, steps, rerun, by)
	return err
}

// CloseAllAsides marks all open ones of a run as run again by another, which does all of it.
func CloseAllAsides(ctx context.Context, db DB, run, rerun uuid.UUID, by string) error {
	_, err := db.Exec(ctx, "update set_aside set state = 'rerun', rerun = $2, handled_by = $3, handled_at = now() where run = $1 and state = 'open'", run, rerun, by)
	return err
}

// ReopenAsides opens those again that a run was to do again and did not come to, because it was let go.
func ReopenAsides(ctx context.Context, db DB, rerun uuid.UUID) error {
	_, err := db.Exec(ctx, `update set_aside a set state = 'open', rerun = null, handled_by = null, handled_at = null from run r
		where r.id = $1 and a.rerun = r.id and a.state = 'rerun' and r.state in ('set aside', 'stopped') and r.fault is not null
			and (a.record < 0 or a.record >= r.records_read or r.entry is not null or r.read_as <> '')`, rerun)
	return err
}

// OpenAsides counts what still waits for somebody.
func OpenAsides(ctx context.Context, db DB, s Scope) (n int, err error) {
	err = db.QueryRow(ctx, "select count(*) from set_aside a join run r on r.id = a.run where r.project = $1 and r.environment = $2 and a.state = 'open'", s.Project, s.Environment).Scan(&n)
	return n, err
}

// JournalBatches gives the batches of a run's journal, in their order, to use until that is false.
func JournalBatches(ctx context.Context, db DB, run uuid.UUID, use func(entries []byte) (bool, error)) error {
	for first := -2; ; {
		var entries []byte
		err := db.QueryRow(ctx, "select first, entries from journal where run = $1 and first > $2 order by first limit 1", run, first).Scan(&first, &entries)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		if more, err := use(entries); err != nil || !more {
			return err
		}
	}
}
