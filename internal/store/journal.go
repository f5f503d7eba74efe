package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
)

// AddJournal keeps what happened to the records of a batch; first is the batch's first record, from 0.
func AddJournal(ctx context.Context, db DB, run uuid.UUID, first, records int, entries []byte) error {
	_, err := db.Exec(ctx, "insert into journal (run, first, records, entries) values ($1, $2, $3, $4)", run, first, records, entries)
	return err
}

// JournalBatch reads the batch that holds a record, counted from 0.
func JournalBatch(ctx context.Context, db DB, run uuid.UUID, record int) (first int, entries []byte, err error) {
	err = db.QueryRow(ctx, "select first, entries from journal where run = $1 and first <= $2 order by first desc limit 1", run, record).
		Scan(&first, &entries)
	_, err = one(0, err)
	return first, entries, err
}

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
}

// AddAside keeps records that were set aside.
func AddAside(ctx context.Context, db DB, list []Aside) error {
	if len(list) == 0 {
		return nil
	}
	b := &pgx.Batch{}
	for _, a := range list {
		b.Queue("insert into set_aside (run, record, line, step, raw, faults) values ($1, $2, $3, $4, $5, $6)",
			a.Run, a.Record, a.Line, a.Step, a.Raw, a.Faults)
	}
	return db.SendBatch(ctx, b).Close()
}

const asideColumns = "id, run, record, line, step, raw, faults, state, rerun, handled_by, handled_at"

// Asides lists what a run set aside, by line.
func Asides(ctx context.Context, db DB, run uuid.UUID, most int) ([]Aside, error) {
	rows, _ := db.Query(ctx, "select "+asideColumns+" from set_aside where run = $1 order by line, id limit $2", run, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Aside])
}

// AsideByID reads one.
func AsideByID(ctx context.Context, db DB, id int64) (Aside, error) {
	rows, _ := db.Query(ctx, "select "+asideColumns+" from set_aside where id = $1", id)
	return one(pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Aside]))
}

// HandleAside marks an open one as run again or let go. It is ErrChanged when it is no longer open.
func HandleAside(ctx context.Context, db DB, id int64, state string, rerun *uuid.UUID, by string) error {
	tag, err := db.Exec(ctx, `update set_aside set state = $2, rerun = $3, handled_by = $4, handled_at = now() where id = $1 and state = 'open'`,
		id, state, rerun, by)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrChanged
	}
	return err
}

// OpenAsides counts what still waits for somebody.
func OpenAsides(ctx context.Context, db DB, project string) (n int, err error) {
	err = db.QueryRow(ctx, "select count(*) from set_aside a join run r on r.id = a.run where r.project = $1 and a.state = 'open'", project).Scan(&n)
	return n, err
}
