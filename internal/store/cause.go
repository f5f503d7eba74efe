package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Cause is what several records or runs failed for, with what differs between them left out.
type Cause struct {
	Flow    string
	Step    string
	Text    string // … stands for what differs: numbers and quoted texts
	Records int    // that are set aside and open
	Runs    int    // that are set aside or stopped as a whole
	Newest  time.Time
}

// Key tells a cause from others.
func (c Cause) Key() string { return c.Flow + "|" + c.Step + "|" + c.Text }

// Causes groups what has failed since a time and waits for somebody, the most frequent first.
func Causes(ctx context.Context, db DB, s Scope, since time.Time, most int) ([]Cause, error) {
	rows, _ := db.Query(ctx, `select flow, step, text, count(*) filter (where record), count(*) filter (where not record), max(at) from (
			select r.flow, a.step, fault_cause(a.faults->0) as text, true as record, r.created_at as at
			from set_aside a join run r on r.id = a.run where r.project = $1 and r.environment = $4 and a.state = 'open' and r.created_at >= $2
			union all
			select flow, coalesce(fault->'place'->>'step', ''), fault_cause(fault), false, created_at
			from run where project = $1 and environment = $4 and state in ('set aside', 'stopped') and fault is not null and resolution = '' and created_at >= $2) x
		group by flow, step, text order by count(*) desc, max(at) desc limit $3`, s.Project, since, most, s.Environment)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Cause])
}

// RunsOfCause are the runs that have failed for a cause since a time, the newest first.
func RunsOfCause(ctx context.Context, db DB, s Scope, c Cause, since time.Time, most int) ([]uuid.UUID, error) {
	rows, _ := db.Query(ctx, `select id from run where project = $1 and environment = $7 and flow = $2 and created_at >= $5
			and (state in ('set aside', 'stopped') and fault is not null and resolution = '' and fault_cause(fault) = $4 and coalesce(fault->'place'->>'step', '') = $3
				or exists (select from set_aside a where a.run = run.id and a.state = 'open' and a.step = $3 and fault_cause(a.faults->0) = $4))
		order by created_at desc, id limit $6`, s.Project, c.Flow, c.Step, c.Text, since, most, s.Environment)
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}

// OpenOfCause are the records and runs that wait for somebody for a cause since a time, the oldest first.
func OpenOfCause(ctx context.Context, db DB, s Scope, c Cause, since time.Time, most int) (asides []int64, runs []uuid.UUID, err error) {
	rows, _ := db.Query(ctx, `select a.id from set_aside a join run r on r.id = a.run where r.project = $1 and r.environment = $7 and r.flow = $2 and a.step = $3 and a.state = 'open'
		and fault_cause(a.faults->0) = $4 and r.created_at >= $5 order by r.created_at, a.record, a.id limit $6`, s.Project, c.Flow, c.Step, c.Text, since, most, s.Environment)
	if asides, err = pgx.CollectRows(rows, pgx.RowTo[int64]); err != nil {
		return nil, nil, err
	}
	rows, _ = db.Query(ctx, `select id from run where project = $1 and environment = $7 and flow = $2 and state in ('set aside', 'stopped') and fault is not null and resolution = ''
		and fault_cause(fault) = $4 and coalesce(fault->'place'->>'step', '') = $3 and created_at >= $5 order by created_at, id limit $6`, s.Project, c.Flow, c.Step, c.Text, since, most, s.Environment)
	runs, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	return asides, runs, err
}
