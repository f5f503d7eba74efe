package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"hollowreed/internal/connector/sqltext"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// within does something in a transaction.
func (db *DB) within(ctx context.Context, do func(tx *sql.Tx) error) error {
	tx, err := db.pool.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// Upsert inserts rows, or updates those whose key exists and that differ, in one transaction. A row that is refused
// is told apart; the others stand.
func (db *DB) Upsert(ctx context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	ctx, cancel := context.WithTimeout(ctx, db.env.Values.Timeout())
	defer cancel()
	out := make([]running.WriteResult, len(rows))
	err := db.within(ctx, func(tx *sql.Tx) error {
		writers := map[*sqltext.Present]*writer{}
		defer func() {
			for _, w := range writers {
				w.close()
			}
		}()
		of := make([]*sqltext.Present, len(rows)) // the columns of each, which are written in the rows' order
		for _, g := range sqltext.Group(u.Row, rows, all(len(rows))) {
			for _, i := range g.Rows {
				of[i] = g
			}
		}
		for i, row := range rows {
			if out[i].Fault = sqltext.KeyFault(u.Key, row); out[i].Fault != nil {
				continue
			}
			w := writers[of[i]]
			if w == nil {
				var err error
				if w, err = prepare(ctx, tx, u, of[i]); err != nil {
					return err
				}
				writers[of[i]] = w
			}
			if err := saved(ctx, tx, func() (err error) {
				out[i].Effect, err = w.write(ctx, row)
				return err
			}); err != nil {
				if out[i].Fault = refusedRow(u.Table, err); out[i].Fault == nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, told(err)
	}
	return out, nil
}

// all are the positions of a number of rows.
func all(n int) []int {
	list := make([]int, n)
	for i := range list {
		list[i] = i
	}
	return list
}

// saved does something with one row; what it began is taken back when it fails.
func saved(ctx context.Context, tx *sql.Tx, do func() error) error {
	if _, err := tx.ExecContext(ctx, "savepoint one_row"); err != nil {
		return err
	}
	if err := do(); err != nil {
		if _, back := tx.ExecContext(ctx, "rollback to savepoint one_row"); back != nil {
			return back
		}
		return err
	}
	return nil
}

// refusedRow is the fault of an error that is about one row's data; nil for any other.
func refusedRow(table string, err error) *fault.Fault {
	var refused *mysql.MySQLError
	if !errors.As(err, &refused) || !aboutRow[refused.Number] {
		return nil
	}
	return fault.New(fault.Outside, "%s refused the row: %s", table, refused.Message)
}

// writer writes rows by the keys that were chosen, whatever unique keys the table has beside.
type writer struct {
	update, there, insert *sql.Stmt
	keys, others, all     []int // slots of the row
}

// prepare makes the statements for rows that have just some columns.
func prepare(ctx context.Context, tx *sql.Tx, u running.Upsert, g *sqltext.Present) (*writer, error) {
	w := &writer{}
	var cols, marks, where, set, differs []string
	for n, f := range g.Row.Root.Fields {
		c, i := column(f.Name), g.Slots[n]
		cols, marks, w.all = append(cols, c), append(marks, "?"), append(w.all, i)
		if slices.Contains(u.Key, f.Name) {
			where, w.keys = append(where, c+" = ?"), append(w.keys, i)
			continue
		}
		set, differs, w.others = append(set, c+" = ?"), append(differs, "not ("+c+" <=> ?)"), append(w.others, i)
	}
	key := strings.Join(where, " and ")
	var err error
	if len(set) > 0 {
		if w.update, err = tx.PrepareContext(ctx, fmt.Sprintf("update %s set %s where %s and (%s)", ident(u.Table), strings.Join(set, ", "), key, strings.Join(differs, " or "))); err != nil {
			return nil, err
		}
	}
	if w.there, err = tx.PrepareContext(ctx, fmt.Sprintf("select 1 from %s where %s limit 1 for update", ident(u.Table), key)); err != nil {
		return nil, err
	}
	w.insert, err = tx.PrepareContext(ctx, fmt.Sprintf("insert into %s (%s) values (%s)", ident(u.Table), strings.Join(cols, ", "), strings.Join(marks, ", ")))
	return w, err
}

func (w *writer) close() {
	for _, s := range []*sql.Stmt{w.update, w.there, w.insert} {
		if s != nil {
			s.Close()
		}
	}
}

func values(row value.Value, slots ...[]int) []any {
	var args []any
	for _, list := range slots {
		for _, i := range list {
			args = append(args, param(row.Slot(i)))
		}
	}
	return args
}

func (w *writer) write(ctx context.Context, row value.Value) (running.Effect, error) {
	if w.update != nil {
		res, err := w.update.ExecContext(ctx, values(row, w.others, w.keys, w.others)...)
		if err != nil {
			return "", err
		}
		if n, err := res.RowsAffected(); err != nil || n > 0 {
			return running.Updated, err
		}
	}
	var one int
	err := w.there.QueryRowContext(ctx, values(row, w.keys)...).Scan(&one)
	if err == nil {
		return running.Unchanged, nil
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return "", err
	}
	_, err = w.insert.ExecContext(ctx, values(row, w.all)...)
	return running.Inserted, err
}

// Call does one statement. Rows that the database refuses are faults.
func (db *DB) Call(ctx context.Context, r system.Request) (v value.Value, err error) {
	if r.Op.Kind.Name == "query" {
		for v, err = range db.Read(ctx, r) {
			return v, err
		}
		return v, nil
	}
	done, _, err := db.CallAll(ctx, []system.Request{r})
	switch {
	case err != nil:
		return v, err
	case done[0].Fault != nil:
		return v, done[0].Fault
	}
	return done[0].Answer, nil
}

// CallAll does the requests in one transaction; rows that are refused are told apart.
func (db *DB) CallAll(ctx context.Context, requests []system.Request) ([]system.Result, bool, error) {
	op := requests[0].Op
	done := make([]system.Result, len(requests))
	if op.Kind.Name == "upsert" {
		return done, true, db.upserts(ctx, op, requests, done)
	}
	sts := sqltext.NewStatements(op, statementOf)
	if _, err := statementOf(op); err != nil {
		return nil, true, err
	}
	ctx, cancel := context.WithTimeout(ctx, db.env.Values.Timeout())
	defer cancel()
	err := db.within(ctx, func(tx *sql.Tx) error {
		for i, r := range requests {
			st, err := sts.Of(r.Value)
			if err != nil {
				done[i].Fault = fault.From(err, fault.Setting)
				continue
			}
			args, err := dialect.Arguments(st, r.Value)
			if err != nil {
				return err
			}
			system.ExchangeOf(ctx).Sent("statement, in a transaction", fmt.Sprintf("%s\n%v", st.Text, args))
			if err := saved(ctx, tx, func() error { return one(ctx, tx, op, st, args, &done[i]) }); err != nil {
				if done[i].Fault = refusedRow(op.Name, err); done[i].Fault == nil {
					return err
				}
			}
		}
		return nil
	})
	return done, true, told(err)
}

func (db *DB) upserts(ctx context.Context, op *connection.Operation, requests []system.Request, done []system.Result) error {
	if op.Request == nil {
		return fault.New(fault.Required, "the operation %s names no request schema", op.ID)
	}
	rows := make([]value.Value, len(requests))
	for i, r := range requests {
		rows[i] = r.Value
	}
	written, err := db.Upsert(ctx, running.Upsert{Table: op.Setting("table"), Key: sqltext.Columns(op.Setting("key")), Row: op.Request}, rows)
	for i, w := range written {
		n := int64(1)
		if w.Effect == running.Unchanged {
			n = 0
		}
		done[i] = system.Result{Answer: rowsDone(op, n), Fault: w.Fault}
	}
	return err
}

func rowsDone(op *connection.Operation, n int64) value.Value {
	return value.NewRecord(op.Response.Root.Layout(), []value.Value{value.Int(n)})
}

func one(ctx context.Context, tx *sql.Tx, op *connection.Operation, st sqltext.Statement, args []any, done *system.Result) error {
	if op.Kind.Name != "call" {
		res, err := tx.ExecContext(ctx, st.Text, args...)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		done.Answer = rowsDone(op, n)
		return err
	}
	var text sql.NullString
	if err := tx.QueryRowContext(ctx, st.Text, args...).Scan(&text); err != nil || op.Response == nil {
		return err
	}
	f := op.Response.Root.Fields[0]
	v, ok := value.NullValue, true
	if text.Valid {
		v, ok = read(f.Kind, text.String)
	}
	if !ok {
		return fault.Expect(fault.Type, f.Kind.String(), fault.Quote(text.String)).InField(f.Name)
	}
	fields := make([]value.Value, len(op.Response.Root.Fields))
	fields[0] = v
	done.Answer = value.NewRecord(op.Response.Root.Layout(), fields)
	return nil
}

// Preview is the statement of a request with its values; rows that are upserted stand in one statement for many.
func (db *DB) Preview(_ context.Context, r system.Request) (running.Turn, error) {
	return dialect.Preview(r)
}

// statementOf is the statement of an operation that changes something.
func statementOf(op *connection.Operation) (sqltext.Statement, error) {
	if op.Kind.Name == "run" {
		return statement(op.Setting("statement"))
	}
	if op.Kind.Name == "call" {
		s := sqltext.Statement{Names: sqltext.Columns(op.Setting("parameters"))}
		marks := strings.TrimSuffix(strings.Repeat("?, ", len(s.Names)), ", ")
		s.Text = fmt.Sprintf("select %s(%s)", ident(op.Setting("function")), marks)
		return s, nil
	}
	if op.Request == nil {
		return sqltext.Statement{}, fault.New(fault.Required, "the operation %s names no request schema", op.ID)
	}
	keys := sqltext.Columns(op.Setting("key"))
	var names, set, where, setNames, whereNames []string
	for _, f := range op.Request.Root.Fields {
		if slices.Contains(keys, f.Name) {
			where, whereNames = append(where, column(f.Name)+" = ?"), append(whereNames, f.Name)
			continue
		}
		names, set, setNames = append(names, column(f.Name)), append(set, column(f.Name)+" = ?"), append(setNames, f.Name)
	}
	if op.Kind.Name != "insert" && len(where) < len(keys) {
		return sqltext.Statement{}, fault.New(fault.Unknown, "the request of %s has not all fields of the key %s", op.ID, op.Setting("key"))
	}
	table := ident(op.Setting("table"))
	switch op.Kind.Name {
	case "update":
		if len(set) == 0 {
			return sqltext.Statement{}, fault.New(fault.Required, "nothing is to be changed: all columns but the key are absent")
		}
	}
	switch op.Kind.Name {
	case "insert":
		marks := strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", ")
		return sqltext.Statement{Text: fmt.Sprintf("insert into %s (%s) values (%s)", table, strings.Join(names, ", "), marks), Names: setNames}, nil
	case "update":
		return sqltext.Statement{Text: fmt.Sprintf("update %s set %s where %s", table, strings.Join(set, ", "), strings.Join(where, " and ")), Names: append(setNames, whereNames...)}, nil
	}
	return sqltext.Statement{Text: fmt.Sprintf("delete from %s where %s", table, strings.Join(where, " and ")), Names: whereNames}, nil
}
