package store

import (
	"context"
	"errors"
	"io"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/spool"
)

// addInput keeps the content that a run reads: its first piece with the run, the others in a table of their own, so that
// no row is large.
func addInput(ctx context.Context, db DB, run uuid.UUID, content *spool.Spool) error {
	n := 0
	err := content.Chunks(func(chunk []byte) error {
		sql := "insert into run_content (run, n, chunk) values ($1, $3, $2)"
		if n == 0 {
			sql = "update run set content = $2 where id = $1 and $3 = 0"
		}
		_, err := db.Exec(ctx, sql, run, chunk, n)
		n++
		return err
	})
	if err == nil && n == 0 {
		_, err = db.Exec(ctx, "update run set content = '' where id = $1", run)
	}
	return err
}

// SaveInput keeps the records that a run reads, unless another worker has taken the run on.
func SaveInput(ctx context.Context, tx pgx.Tx, r Run, content *spool.Spool) error {
	tag, err := tx.Exec(ctx, "update run set content = null where id = $1 and claim_version = $2", r.ID, r.ClaimVersion)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrTakenOn
	}
	if err == nil {
		_, err = tx.Exec(ctx, "delete from run_content where run = $1", r.ID)
	}
	if err != nil {
		return err
	}
	return addInput(ctx, tx, r.ID, content)
}

// CopyInput gives a run the content that another one reads.
func CopyInput(ctx context.Context, tx pgx.Tx, from, to uuid.UUID) error {
	if _, err := tx.Exec(ctx, "update run set content = (select content from run where id = $1) where id = $2", from, to); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "insert into run_content (run, n, chunk) select $2, n, chunk from run_content where run = $1", from, to)
	return err
}

// OpenInput reads the content that is kept with a run, piece by piece.
func OpenInput(ctx context.Context, db DB, run uuid.UUID) io.ReadCloser {
	return &input{ctx: ctx, db: db, run: run}
}

type input struct {
	ctx  context.Context
	db   DB
	run  uuid.UUID
	n    int // the piece that comes next
	rest []byte
}

// Read reads on, and fetches the next piece when one is used up.
func (in *input) Read(p []byte) (int, error) {
	for len(in.rest) == 0 {
		sql := "select chunk from run_content where run = $1 and n = $2"
		if in.n == 0 {
			sql = "select coalesce(content, '') from run where id = $1 and $2 = 0"
		}
		err := in.db.QueryRow(in.ctx, sql, in.run, in.n).Scan(&in.rest)
		if errors.Is(err, pgx.ErrNoRows) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		in.n++
	}
	n := copy(p, in.rest)
	in.rest = in.rest[n:]
	return n, nil
}

// Close has nothing to let go.
func (in *input) Close() error { return nil }
