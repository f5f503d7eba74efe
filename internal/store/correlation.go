package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow/running"
)

// SendMessages hands messages over, each once, and makes the runs that wait for them be taken on now.
func SendMessages(ctx context.Context, db DB, r Run, step string, of []EffectKey, letters []running.CorrelatedMessage) error {
	b := &pgx.Batch{}
	for i, l := range letters {
		b.Queue("insert into correlated_message (project, environment, name, correlation_key, content, run, step, record, path) values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict do nothing",
			r.Project, r.Environment, l.Name, l.CorrelationKey, l.Text, r.ID, step, of[i].Record, of[i].Path)
		b.Queue(wakeAwaiting, r.Project, l.Name, l.CorrelationKey, r.Environment)
	}
	b.Queue(wakeQueue, Queue(r.Environment))
	return db.SendBatch(ctx, b).Close()
}

// ReceiveMessage gives the message that was handed over for a record, and since when the record waits; nil where there is none
// yet. A record is noted as waiting before messages are looked for, so that whoever hands one over later finds it.
func ReceiveMessage(ctx context.Context, db DB, r Run, step string, of EffectKey, l running.CorrelatedMessage) (text *string, since time.Time, err error) {
	err = db.QueryRow(ctx, `insert into waiting_receive as a (run, step, record, path, project, name, correlation_key, environment) values ($1, $2, $3, $4, $5, $6, $7, $8)
		on conflict (run, step, record, path) do update set correlation_key = excluded.correlation_key returning since`,
		r.ID, step, of.Record, of.Path, r.Project, l.Name, l.CorrelationKey, r.Environment).Scan(&since)
	if err != nil {
		return nil, since, err
	}
	err = db.QueryRow(ctx, "select content from correlated_message where received_by_run = $1 and received_step = $2 and received_record = $3 and received_path = $4", r.ID, step, of.Record, of.Path).Scan(&text)
	if !errors.Is(err, pgx.ErrNoRows) {
		return text, since, err
	}
	err = db.QueryRow(ctx, `update correlated_message set received_by_run = $4, received_step = $5, received_record = $6, received_path = $7
		where id = (select id from correlated_message where project = $1 and environment = $8 and name = $2 and correlation_key = $3 and received_by_run is null order by id limit 1 for update skip locked) returning content`,
		r.Project, l.Name, l.CorrelationKey, r.ID, step, of.Record, of.Path, r.Environment).Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, since, nil
	}
	return text, since, err
}

// AggregateItem is one record of a step that gathers.
type AggregateItem struct {
	Step, Key, Text string
	Of              EffectKey
	Size            int
	Timeout         time.Duration
}

// Aggregate keeps what a record brings. It gives the texts of the group when the record goes on with it; otherwise until when
// the group waits for others, where this record is the one that does, zero where another one goes on. Until the
// transaction ends, no other worker gathers for the key.
func Aggregate(ctx context.Context, tx pgx.Tx, r Run, g AggregateItem) (texts []string, until time.Time, err error) {
	if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtextextended($1, 11))", r.Scope.String()+"/"+r.Flow+"/"+g.Step+"/"+g.Key); err != nil {
		return nil, until, err
	}
	var id int64
	var takenBy *uuid.UUID
	var takenRecord *int
	var takenPath *string
	err = tx.QueryRow(ctx, `insert into aggregate_item as g (project, flow, step, key, content, run, record, path, environment) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (run, step, record, path) do update set content = g.content returning id, completed_by_run, completed_record, completed_path`,
		r.Project, r.Flow, g.Step, g.Key, g.Text, r.ID, g.Of.Record, g.Of.Path, r.Environment).Scan(&id, &takenBy, &takenRecord, &takenPath)
	if err != nil {
		return nil, until, err
	}
	if takenBy == nil {
		whole, wait, err := wholeGroup(ctx, tx, r, g, id)
		if err != nil || !whole {
			return nil, wait, err
		}
	} else if *takenBy != r.ID || *takenRecord != g.Of.Record || *takenPath != g.Of.Path {
		return nil, until, nil
	}
	rows, _ := tx.Query(ctx, "select content from aggregate_item where completed_by_run = $1 and step = $2 and completed_record = $3 and completed_path = $4 order by id", r.ID, g.Step, g.Of.Record, g.Of.Path)
	texts, err = pgx.CollectRows(rows, pgx.RowTo[string])
	return texts, until, err
}

// wholeGroup takes the open group of a key for a record, when it is whole; otherwise until when the record waits, where it
// is the group's first.
func wholeGroup(ctx context.Context, tx pgx.Tx, r Run, g AggregateItem, id int64) (whole bool, until time.Time, err error) {
	var n int
	var first int64
	var began, now time.Time
	err = tx.QueryRow(ctx, "select count(*), min(id), min(at), clock_timestamp() from aggregate_item where project = $1 and environment = $5 and flow = $2 and step = $3 and key = $4 and completed_by_run is null",
		r.Project, r.Flow, g.Step, g.Key, r.Environment).Scan(&n, &first, &began, &now)
	if err != nil {
		return false, until, err
	}
	until = began.Add(g.Timeout)
	switch {
	case g.Size > 0 && n >= g.Size, n >= running.MaxGathered, g.Timeout > 0 && !now.Before(until):
	case g.Timeout > 0 && first == id:
		return false, until, nil
	default:
		return false, time.Time{}, nil
	}
	_, err = tx.Exec(ctx, "update aggregate_item set completed_by_run = $5, completed_record = $6, completed_path = $7 where project = $1 and environment = $8 and flow = $2 and step = $3 and key = $4 and completed_by_run is null",
		r.Project, r.Flow, g.Step, g.Key, r.ID, g.Of.Record, g.Of.Path, r.Environment)
	return err == nil, time.Time{}, err
}
