package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// SentCall is a call of an API that somebody sent from its page.
type SentCall struct {
	ID        int64
	API       string
	Operation string
	MadeBy    string
	MadeAt    time.Time
	Request   string // parameters, media type and body, as JSON
	Status    int
	Took      int // milliseconds
	Fits      bool
	Response  string
}

// callsKept is how many calls of an API are kept.
const callsKept = 100

// AddSentCall keeps a call, and lets the oldest ones of the API go.
func AddSentCall(ctx context.Context, db DB, s Scope, c SentCall) error {
	b := &pgx.Batch{}
	b.Queue("insert into api_call (project, environment, api, operation, made_by, request, status, took, fits, response) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
		s.Project, s.Environment, c.API, c.Operation, c.MadeBy, c.Request, c.Status, c.Took, c.Fits, c.Response)
	b.Queue(`delete from api_call where project = $1 and environment = $2 and api = $3 and id <= (
		select id from api_call where project = $1 and environment = $2 and api = $3 order by id desc offset $4 limit 1)`, s.Project, s.Environment, c.API, callsKept)
	return db.SendBatch(ctx, b).Close()
}

// SentCalls lists the last calls of an API, the newest first.
func SentCalls(ctx context.Context, db DB, s Scope, api string, most int) ([]SentCall, error) {
	rows, _ := db.Query(ctx, `select id, api, operation, made_by, made_at, request, status, took, fits, response from api_call
		where project = $1 and environment = $2 and api = $3 order by id desc limit $4`, s.Project, s.Environment, api, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[SentCall])
}

// SentCallByID finds a call of an API; ErrNotFound where there is none.
func SentCallByID(ctx context.Context, db DB, s Scope, api string, id int64) (SentCall, error) {
	rows, _ := db.Query(ctx, `select id, api, operation, made_by, made_at, request, status, took, fits, response from api_call
		where project = $1 and environment = $2 and api = $3 and id = $4`, s.Project, s.Environment, api, id)
	c, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[SentCall])
	return one(c, err)
}
