package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// LoggedCall is a call of an API in its log.
type LoggedCall struct {
	ID uuid.UUID
	Scope
	API, Operation, Caller string
	At                     time.Time
	Method, Path           string
	Status                 int
	Took                   int // microseconds
	Trace                  string
	Run                    *uuid.UUID
	Fault                  string
	Request, Response      []byte // bodies; nil where they are not kept
	Until                  time.Time
}

const loggedColumns = "id, project, environment, api, operation, caller, at, method, path, status, took, trace, run, fault, request_body, response_body, until"

// AddLoggedCalls adds calls to the log.
func AddLoggedCalls(ctx context.Context, db *Pool, list []LoggedCall) error {
	_, err := db.CopyFrom(ctx, pgx.Identifier{"api_log"}, []string{"id", "project", "environment", "api", "operation", "caller", "at", "method", "path", "status", "took", "trace", "run", "fault", "request_body", "response_body", "until"},
		pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
			c := list[i]
			return []any{c.ID, c.Project, c.Environment, c.API, c.Operation, c.Caller, c.At, c.Method, c.Path, c.Status, c.Took, c.Trace, c.Run, c.Fault, c.Request, c.Response, c.Until}, nil
		}))
	return err
}

// LogQuery is which calls of the log are looked for; what is empty is any.
type LogQuery struct {
	API, Operation, Caller, Trace string
	Status                        int       // from 1 to 5: all of that hundred
	Before                        uuid.UUID // those before this one
}

// LoggedCalls finds calls in the log, the newest first.
func LoggedCalls(ctx context.Context, db DB, s Scope, q LogQuery, most int) ([]LoggedCall, error) {
	rows, _ := db.Query(ctx, `select `+loggedColumns+` from api_log where project = $1 and environment = $2
		and ($3 = '' or api = $3) and ($4 = '' or operation = $4) and ($5 = '' or caller = $5) and ($6 = '' or trace = $6)
		and ($7 = 0 or $7 < 10 and status / 100 = $7 or status = $7) and ($8 = '00000000-0000-0000-0000-000000000000'::uuid or id < $8)
		order by id desc limit $9`, s.Project, s.Environment, q.API, q.Operation, q.Caller, q.Trace, q.Status, q.Before, most)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[LoggedCall])
}

// LoggedCallByID finds a call in the log; ErrNotFound where there is none.
func LoggedCallByID(ctx context.Context, db DB, s Scope, id uuid.UUID) (LoggedCall, error) {
	rows, _ := db.Query(ctx, "select "+loggedColumns+" from api_log where id = $1 and project = $2 and environment = $3", id, s.Project, s.Environment)
	c, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[LoggedCall])
	return one(c, err)
}

// SweepLog removes calls from the log that are no longer kept.
func SweepLog(ctx context.Context, db DB, environment string, now time.Time, most int) (int64, error) {
	tag, err := db.Exec(ctx, "delete from api_log where ctid in (select ctid from api_log where environment = $3 and until < $1 limit $2)", now, most, environment)
	return tag.RowsAffected(), err
}
