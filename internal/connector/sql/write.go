package sql

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hollowreed/internal/connector/sqltext"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Call does one statement. Rows that the database refuses are faults.
func (db *DB) Call(ctx context.Context, r system.Request) (value.Value, error) {
	if r.Op.Kind.Name == "query" {
		return db.first(ctx, r)
	}
	done, _, err := db.CallAll(ctx, []system.Request{r})
	if err != nil {
		return value.Value{}, err
	}
	if done[0].Fault != nil {
		return value.Value{}, done[0].Fault
	}
	return done[0].Answer, nil
}

// first gives the first row of a query; absent where it has none.
func (db *DB) first(ctx context.Context, r system.Request) (v value.Value, err error) {
	for v, err = range db.Read(ctx, r) {
		return v, err
	}
	return v, nil
}

// CallAll does the requests in one transaction. When the database refuses one of them they are done again
// each in a transaction of its own, so that the others stand.
func (db *DB) CallAll(ctx context.Context, requests []system.Request) ([]system.Result, bool, error) {
	op := requests[0].Op
	ctx, cancel := context.WithTimeout(ctx, db.timeout())
	defer cancel()
	if op.Kind.Name == "upsert" {
		done, err := db.upserts(ctx, op, requests)
		return done, true, err
	}
	st := sqltext.NewStatements(op, statementOf)
	if _, err := statementOf(op); err != nil {
		return nil, true, err
	}
	done, err := db.transaction(ctx, op, st, requests)
	var pg *pgconn.PgError
	if err == nil || len(requests) == 1 && !errors.As(err, &pg) {
		return done, true, err
	}
	if !errors.As(err, &pg) || temporary(pg.Code) || !aboutRow(pg.Code) {
		return nil, true, classify(err)
	}
	done = make([]system.Result, len(requests))
	for i := range requests {
		one, err := db.transaction(ctx, op, st, requests[i:i+1])
		switch {
		case err == nil:
			done[i] = one[0]
		case errors.As(err, &pg) && !temporary(pg.Code) && aboutRow(pg.Code):
			done[i].Fault = refused(running.Upsert{Table: op.Name}, pg)
		default:
			return nil, true, classify(err)
		}
	}
	return done, true, nil
}

// transaction does all requests, sent together, or none.
func (db *DB) transaction(ctx context.Context, op *connection.Operation, st *sqltext.Statements, requests []system.Request) ([]system.Result, error) {
	done := make([]system.Result, len(requests))
	x := system.ExchangeOf(ctx)
	err := pgx.BeginFunc(ctx, db.pool, func(tx pgx.Tx) error {
		batch := &pgx.Batch{}
		for i, r := range requests {
			st, err := st.Of(r.Value)
			if err != nil {
				done[i].Fault = fault.From(err, fault.Setting)
				continue
			}
			args, err := dialect.Arguments(st, r.Value)
			if err != nil {
				return err
			}
			x.Sent("statement, in a transaction", told(st, args))
			q := batch.Queue(st.Text, args...)
			if op.Kind.Name == "call" && op.Response != nil {
				q.Query(func(rows pgx.Rows) (err error) {
					done[i].Answer, err = result(rows, op.Response)
					return err
				})
				continue
			}
			q.Exec(func(tag pgconn.CommandTag) error {
				x.Received("done", tag.String())
				if op.Response != nil {
					done[i].Answer = value.NewRecord(op.Response.Root.Layout(), []value.Value{value.Int(tag.RowsAffected())})
				}
				return nil
			})
		}
		return tx.SendBatch(ctx, batch).Close()
	})
	return done, err
}

// result is the first row that a function gives; absent where it gives none.
func result(rows pgx.Rows, s *schema.Schema) (v value.Value, err error) {
	for rows.Next() {
		if v.Kind() != value.Absent {
			continue
		}
		if v, err = textRow(rows, s); err != nil {
			return v, err
		}
	}
	return v, rows.Err()
}

// Preview is the statement of a request with its values; rows that are upserted stand in one statement for many.
func (db *DB) Preview(_ context.Context, r system.Request) (running.Turn, error) {
	return dialect.Preview(r)
}

// statementOf is the statement of an operation that changes something.
func statementOf(op *connection.Operation) (sqltext.Statement, error) {
	table := op.Setting("table")
	switch op.Kind.Name {
	case "run":
		return statement(op.Setting("statement"))
	case "call":
		return callOf(op)
	}
	if op.Request == nil {
		return sqltext.Statement{}, fault.New(fault.Required, "the operation %s names no request schema", op.ID)
	}
	s := sqltext.Statement{}
	place := func(f *schema.Field) string {
		s.Names = append(s.Names, f.Name)
		return fmt.Sprintf("$%d::%s", len(s.Names), sqlTypes[f.Kind])
	}
	keys := sqltext.Columns(op.Setting("key"))
	var names, values, where []string
	for _, f := range op.Request.Root.Fields {
		switch {
		case contains(keys, f.Name):
			where = append(where, column(f.Name)+" = "+place(f))
		case op.Kind.Name == "update":
			values = append(values, column(f.Name)+" = "+place(f))
		case op.Kind.Name == "insert":
			names, values = append(names, column(f.Name)), append(values, place(f))
		}
	}
	if op.Kind.Name == "insert" && len(names) == 0 {
		s.Text = fmt.Sprintf("insert into %s default values", ident(table))
		return s, nil
	}
	if op.Kind.Name != "insert" && len(where) < len(keys) {
		return s, fault.New(fault.Unknown, "the request of %s has not all fields of the key %s", op.ID, op.Setting("key"))
	}
	switch op.Kind.Name {
	case "insert":
		s.Text = fmt.Sprintf("insert into %s (%s) values (%s)", ident(table), strings.Join(names, ", "), strings.Join(values, ", "))
	case "update":
		if len(values) == 0 {
			return s, fault.New(fault.Required, "nothing is to be changed: all columns but the key are absent")
		}
		s.Text = fmt.Sprintf("update %s set %s where %s", ident(table), strings.Join(values, ", "), strings.Join(where, " and "))
	case "delete":
		s.Text = fmt.Sprintf("delete from %s where %s", ident(table), strings.Join(where, " and "))
	}
	return s, nil
}

// callOf is a call of a function with parameters in its order; its columns are read as texts.
func callOf(op *connection.Operation) (sqltext.Statement, error) {
	s := sqltext.Statement{Names: sqltext.Columns(op.Setting("parameters"))}
	places := make([]string, len(s.Names))
	for i, name := range s.Names {
		places[i] = fmt.Sprintf("$%d", i+1)
		if op.Request != nil && op.Request.Root.Field(name) != nil {
			if kind := op.Request.Root.Field(name).Kind; kind != value.Integer {
				places[i] += "::" + sqlTypes[kind]
			}
		}
	}
	call := fmt.Sprintf("%s(%s)", ident(op.Setting("function")), strings.Join(places, ", "))
	if op.Response == nil {
		s.Text = "select " + call
		return s, nil
	}
	columns := make([]string, len(op.Response.Root.Fields))
	for i, f := range op.Response.Root.Fields {
		columns[i] = "x." + column(f.Name) + "::text"
	}
	s.Text = fmt.Sprintf("select %s from %s as x", strings.Join(columns, ", "), call)
	if len(columns) == 1 {
		s.Text = fmt.Sprintf("select x::text from %s as x", call)
	}
	return s, nil
}

func (db *DB) upserts(ctx context.Context, op *connection.Operation, requests []system.Request) ([]system.Result, error) {
	rows := make([]value.Value, len(requests))
	for i, r := range requests {
		rows[i] = r.Value
	}
	u := running.Upsert{Connection: op.Connection, Table: op.Setting("table"), Key: sqltext.Columns(op.Setting("key")), Row: op.Request}
	if u.Row == nil {
		return nil, fault.New(fault.Required, "the operation %s names no request schema", op.ID)
	}
	written, err := db.Upsert(ctx, u, rows)
	done := make([]system.Result, len(requests))
	for i, w := range written {
		changed := int64(1)
		if w.Effect == running.Unchanged {
			changed = 0
		}
		done[i] = system.Result{Answer: value.NewRecord(op.Response.Root.Layout(), []value.Value{value.Int(changed)}), Fault: w.Fault}
	}
	return done, err
}
