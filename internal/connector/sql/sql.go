// Package sql reaches PostgreSQL databases: rows are looked up by key and upserted by key, many
// in one statement. Values travel as text with their types named in the statement, so that
// decimals stay exact; names are quoted, values are always parameters.
package sql

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Timeout of one statement.
const Timeout = 30 * time.Second

// DB is one database.
type DB struct {
	pool *pgxpool.Pool
	env  system.Env
}

// Open opens a database by its address alone.
func Open(address string) (*DB, error) {
	s, err := OpenSystem(system.Env{Values: system.Values{"by": "address", "address": address}})
	if err != nil {
		return nil, err
	}
	return s.(*DB), nil
}

// Close closes the pool.
func (db *DB) Close() { db.pool.Close() }

// Ping asks whether the database answers.
func (db *DB) Ping(ctx context.Context) error { return db.pool.Ping(ctx) }

var sqlTypes = map[value.Kind]string{
	value.Text: "text", value.Integer: "numeric", value.Decimal: "numeric", value.Boolean: "boolean", value.Date: "date",
	value.Time: "time", value.Timestamp: "timestamptz", value.Binary: "bytea",
	value.LocalTimestamp: "timestamp", value.ZonedTime: "timetz", value.Duration: "interval", value.YearMonth: "text",
}

func ident(name string) string { return pgx.Identifier(strings.Split(name, ".")).Sanitize() }

func column(name string) string { return pgx.Identifier{name}.Sanitize() }

// param is a value as the text that PostgreSQL reads for its type; nil for absent and null.
func param(v value.Value) *string {
	if v.IsMissing() {
		return nil
	}
	s := v.String()
	if v.Kind() == value.Binary {
		s = fmt.Sprintf(`\x%x`, v.Text())
	}
	return &s
}

// columns turns rows into one array parameter for each column.
func columns(n int, at func(row, col int) value.Value, rows int) []any {
	args := make([]any, n)
	for c := range args {
		col := make([]*string, rows)
		for r := range col {
			col[r] = param(at(r, c))
		}
		args[c] = col
	}
	return args
}

// Lookup finds one row for each key with one statement.
func (db *DB) Lookup(ctx context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error) {
	ctx, cancel := context.WithTimeout(ctx, Timeout)
	defer cancel()
	distinct, at := unique(keys)
	args := columns(len(l.Columns), func(r, c int) value.Value { return askable(distinct[r][c]) }, len(distinct))
	rows, err := db.pool.Query(ctx, lookupSQL(l), args...)
	if err != nil {
		return nil, classify(err)
	}
	defer rows.Close()
	found := make([]value.Value, len(distinct))
	for rows.Next() {
		if err := scanRow(rows, l.Row, found); err != nil {
			return nil, err
		}
	}
	if err := rows.Err(); err != nil {
		return nil, classify(err)
	}
	out := make([]value.Value, len(keys))
	for i, k := range at {
		out[i] = found[k]
	}
	return out, nil
}

// askable is a key as it can be asked for. What no column can hold (a NUL in a text, an integer
// beyond 64 bits) equals no row; it must not make the database refuse the whole batch.
func askable(v value.Value) value.Value {
	_, small := v.Int64()
	if v.Kind() == value.Text && strings.ContainsRune(v.Text(), 0) || v.Kind() == value.Integer && !small {
		return value.Value{}
	}
	return v
}

// unique drops keys that stand there twice; at tells for each key which of the rest it is.
func unique(keys [][]value.Value) (distinct [][]value.Value, at []int) {
	seen := map[string]int{}
	at = make([]int, len(keys))
	for i, key := range keys {
		var b []byte
		for _, v := range key {
			b = append(v.AppendText(append(b, byte(v.Kind()))), 0)
		}
		k, ok := seen[string(b)]
		if !ok {
			k = len(distinct)
			seen[string(b)] = k
			distinct = append(distinct, key)
		}
		at[i] = k
	}
	return distinct, at
}

func lookupSQL(l running.Lookup) string {
	var cols, args, names, on []string
	for _, f := range l.Row.Root.Fields {
		cols = append(cols, "t."+column(f.Name)+"::text")
	}
	for i, name := range l.Columns {
		kind := sqlTypes[l.Row.Root.Field(name).Kind]
		if kind == "numeric" && l.Row.Root.Field(name).Kind == value.Integer {
			kind = "bigint" // as the column most likely is, so that its index serves
		}
		args = append(args, fmt.Sprintf("$%d::text[]", i+1))
		names = append(names, fmt.Sprintf("k%d", i))
		on = append(on, fmt.Sprintf("t.%s = k.k%d::%s", column(name), i, kind))
	}
	return fmt.Sprintf("select k.n, %s from unnest(%s) with ordinality as k(%s, n) cross join lateral (select * from %s t where %s limit 1) t",
		strings.Join(cols, ", "), strings.Join(args, ", "), strings.Join(names, ", "), ident(l.Table), strings.Join(on, " and "))
}

func scanRow(rows pgx.Rows, s *schema.Schema, found []value.Value) error {
	texts := make([]*string, len(s.Root.Fields))
	var n int64
	dest := []any{&n}
	for i := range texts {
		dest = append(dest, &texts[i])
	}
	if err := rows.Scan(dest...); err != nil {
		return err
	}
	fields := make([]value.Value, len(texts))
	for i, f := range s.Root.Fields {
		if texts[i] == nil {
			fields[i] = value.NullValue
			continue
		}
		v, ok := readText(f.Kind, *texts[i])
		if !ok { // a fault of this row where it is checked
			v = value.NewText(*texts[i])
		}
		fields[i] = v
	}
	found[n-1] = value.NewRecord(s.Root.Layout(), fields)
	return nil
}

func readText(kind value.Kind, s string) (value.Value, bool) {
	switch kind {
	case value.Boolean:
		return value.Bool(s == "t" || s == "true"), s == "t" || s == "true" || s == "f" || s == "false"
	case value.Binary:
		raw, err := hex.DecodeString(strings.TrimPrefix(s, `\x`))
		return value.Bytes(string(raw)), err == nil
	case value.Timestamp:
		t, err := time.Parse("2006-01-02 15:04:05.999999999Z07", s)
		if err != nil {
			t, err = time.Parse("2006-01-02 15:04:05.999999999Z07:00", s)
		}
		return value.Instant(t.UTC()), err == nil
	}
	return schema.ParseScalar(kind, s)
}

// classify tells a statement that can never work from a database that cannot be reached now.
func classify(err error) error {
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	if !errors.As(err, &pg) || errors.As(err, &connect) || temporary(pg.Code) {
		return err
	}
	return fault.New(fault.Setting, "the database refuses the statement: %s", pg.Message)
}

// temporary are the classes of SQLSTATE (PostgreSQL manual, appendix A) that pass by themselves:
// connection, transaction rollback, resources, operator intervention, system error.
func temporary(code string) bool {
	switch code[:2] {
	case "08", "40", "53", "57", "58":
		return true
	}
	return code == "55P03" || code == "25006"
}
