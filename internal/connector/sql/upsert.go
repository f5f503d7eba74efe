package sql

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hollowreed/internal/connector/sqltext"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// Upsert inserts rows, or updates those whose key exists and that differ. Rows that the database
// refuses are told apart by writing them one by one. Where several rows have one key the last one
// stands in the end, as if they had been written in order. Columns that a row has no value for are not touched.
func (db *DB) Upsert(ctx context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	out := make([]running.WriteResult, len(rows))
	todo := make([]int, 0, len(rows))
	for i := range rows {
		if out[i].Fault = sqltext.KeyFault(u.Key, rows[i]); out[i].Fault == nil {
			todo = append(todo, i)
		}
	}
	for len(todo) > 0 {
		var later []int
		todo, later = splitKeys(u, rows, todo)
		for _, g := range sqltext.Group(u.Row, rows, todo) {
			u := u
			u.Row = g.Row
			if err := db.upsertAll(ctx, u, batch{rows, g.Slots, g.Rows}, out); err != nil {
				return nil, err
			}
		}
		todo = later
	}
	return out, nil
}

// batch is some of a number of rows, all with values for the same columns.
type batch struct {
	rows  []value.Value
	slots []int // of the columns in the rows
	todo  []int // the positions of the rows
}

// at is the value of a column of the row that is the nth to do.
func (b batch) at(n, column int) value.Value { return b.rows[b.todo[n]].Slot(b.slots[column]) }

// splitKeys keeps the first row of every key for now; one statement must not meet a key twice.
func splitKeys(u running.Upsert, rows []value.Value, todo []int) (now, later []int) {
	seen := map[string]bool{}
	for _, i := range todo {
		var b []byte
		for _, k := range u.Key {
			b = append(rows[i].Field(k).AppendText(b), 0)
		}
		if seen[string(b)] {
			later = append(later, i)
			continue
		}
		seen[string(b)] = true
		now = append(now, i)
	}
	return now, later
}

// upsertAll writes rows with one statement; where that is refused it writes them one by one.
func (db *DB) upsertAll(ctx context.Context, u running.Upsert, b batch, out []running.WriteResult) error {
	var err error
	if len(b.todo) >= copyFrom {
		if err = db.upsertCopied(ctx, u, b, out); err != nil { // the other way tells rows apart and needs no right to temporary tables
			err = db.upsert(ctx, u, b, out)
		}
	} else {
		err = db.upsert(ctx, u, b, out)
	}
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &pg) || errors.As(err, &connect) || temporary(pg.Code):
		return err
	case !aboutRow(pg.Code):
		return fault.New(fault.Setting, "%s cannot be written: %s", u.Table, pg.Message)
	case len(b.todo) == 1:
		out[b.todo[0]].Fault = refused(u, pg)
		return nil
	}
	for i := range b.todo {
		if err := db.upsertAll(ctx, u, batch{b.rows, b.slots, b.todo[i : i+1]}, out); err != nil {
			return err
		}
	}
	return nil
}

// aboutRow are the classes of SQLSTATE that are about one row's data: cardinality, data, integrity,
// and checks that triggers raise.
func aboutRow(code string) bool {
	switch code[:2] {
	case "21", "22", "23", "44", "P0":
		return true
	}
	return false
}

func refused(u running.Upsert, pg *pgconn.PgError) *fault.Fault {
	f := fault.New(fault.Outside, "%s refused the row: %s", u.Table, pg.Message)
	f.Field = pg.ColumnName
	f.Found = pg.Detail
	return f
}

func (db *DB) upsert(ctx context.Context, u running.Upsert, b batch, out []running.WriteResult) error {
	ctx, cancel := context.WithTimeout(ctx, Timeout)
	defer cancel()
	n := len(u.Row.Root.Fields)
	args := columns(n, b.at, len(b.todo))
	result, err := db.pool.Query(ctx, upsertSQL(u), args...)
	if err != nil {
		return err
	}
	return noted(result, b.todo, out)
}

// noted keeps what was done with each row: those that are not told of are as they should be.
func noted(result pgx.Rows, todo []int, out []running.WriteResult) error {
	defer result.Close()
	for _, i := range todo {
		out[i] = running.WriteResult{Effect: running.Unchanged}
	}
	for result.Next() {
		var at int64
		var inserted bool
		if err := result.Scan(&at, &inserted); err != nil {
			return err
		}
		out[todo[at-1]].Effect = running.Updated
		if inserted {
			out[todo[at-1]].Effect = running.Inserted
		}
	}
	return result.Err()
}

// upsertSQL writes all rows of the array parameters and returns the position of each row that was
// inserted or changed. A row that is as it should be is not touched. xmax is 0 in a new row.
func upsertSQL(u running.Upsert) string {
	var cols, args, casts, join []string
	for i, f := range u.Row.Root.Fields {
		c := column(f.Name)
		cols = append(cols, c)
		args = append(args, fmt.Sprintf("$%d::text[]", i+1))
		casts = append(casts, fmt.Sprintf("v.%s::%s", c, sqlTypes[f.Kind]))
	}
	for _, k := range u.Key {
		kind := sqlTypes[u.Row.Root.Field(k).Kind]
		join = append(join, fmt.Sprintf("w.%s = v.%s::%s", column(k), column(k), kind))
	}
	list := strings.Join(cols, ", ")
	return fmt.Sprintf(`with v as (select * from unnest(%s) with ordinality as v(%s, n)),
w as (insert into %s as t (%s) select %s from v order by n on conflict (%s) do %s returning %s, xmax = 0 as inserted)
select v.n, w.inserted from v join w on %s`,
		strings.Join(args, ", "), list, ident(u.Table), list, strings.Join(casts, ", "),
		quoted(u.Key), onConflict(u), list, strings.Join(join, " and "))
}

// onConflict is what is done with a row whose key is there: it is changed where a value differs.
func onConflict(u running.Upsert) string {
	var set, old, excluded []string
	for _, f := range u.Row.Root.Fields {
		if c := column(f.Name); !contains(u.Key, f.Name) {
			set = append(set, c+" = excluded."+c)
			old = append(old, "t."+c)
			excluded = append(excluded, "excluded."+c)
		}
	}
	if len(set) == 0 {
		return "nothing"
	}
	return fmt.Sprintf("update set %s where (%s) is distinct from (%s)", strings.Join(set, ", "), strings.Join(old, ", "), strings.Join(excluded, ", "))
}

func quoted(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = column(n)
	}
	return strings.Join(out, ", ")
}

func contains(names []string, name string) bool {
	for _, n := range names {
		if n == name {
			return true
		}
	}
	return false
}
