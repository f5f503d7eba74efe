package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"strings"
	"time"

	"hollowreed/internal/connector/sqltext"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func statement(text string) (sqltext.Statement, error) {
	return sqltext.Parse(strings.TrimRight(strings.TrimSpace(text), "; \n"), false, func(int) string { return "?" })
}

// param is a value as the database takes it: texts, so that decimals stay exact.
func param(v value.Value) any {
	switch {
	case v.IsMissing():
		return nil
	case v.Kind() == value.Boolean:
		return v.IsTrue()
	case v.Kind() == value.Timestamp:
		return v.GoTime().UTC().Format("2006-01-02 15:04:05.999999")
	case v.Kind() == value.Binary:
		return []byte(v.Text())
	}
	return v.String()
}

// dialect is how MariaDB has its statements.
var dialect = sqltext.Dialect{
	Written: statement, Changing: statementOf, Parameter: param, Ident: ident,
	Told: func(s sqltext.Statement, args []any) string { return fmt.Sprintf("%s\n%v", s.Text, args) },
}

// read reads a column's text as a value of a kind. Timestamps are in UTC, as the session is.
func read(kind value.Kind, text string) (value.Value, bool) {
	switch kind {
	case value.Boolean:
		return value.Bool(text != "0" && text != "\x00"), true
	case value.Binary:
		return value.Bytes(text), true
	case value.Timestamp:
		t, err := time.ParseInLocation("2006-01-02 15:04:05.999999", text, time.UTC)
		return value.Instant(t), err == nil
	}
	if kind == value.LocalTimestamp {
		text = strings.Replace(text, " ", "T", 1)
	}
	return schema.ParseScalar(kind, text)
}

// kinds are the types of columns by the driver's names; all others are read as text.
var kinds = map[string]value.Kind{
	"TINYINT": value.Integer, "SMALLINT": value.Integer, "MEDIUMINT": value.Integer, "INT": value.Integer, "BIGINT": value.Integer, "YEAR": value.Integer,
	"UNSIGNED TINYINT": value.Integer, "UNSIGNED SMALLINT": value.Integer, "UNSIGNED MEDIUMINT": value.Integer, "UNSIGNED INT": value.Integer, "UNSIGNED BIGINT": value.Integer,
	"DECIMAL": value.Decimal, "FLOAT": value.Decimal, "DOUBLE": value.Decimal, "DATE": value.Date, "TIME": value.Time, "TIMESTAMP": value.Timestamp, "DATETIME": value.LocalTimestamp,
	"BLOB": value.Binary, "BINARY": value.Binary, "VARBINARY": value.Binary, "LONGBLOB": value.Binary, "MEDIUMBLOB": value.Binary, "TINYBLOB": value.Binary,
}

// Describe gives the shape of a table's rows or of a query's result; the statement is asked for no row.
func (db *DB) Describe(ctx context.Context, id, what string, rows int) (*schema.Schema, []value.Value, error) {
	ctx, cancel := context.WithTimeout(ctx, sqltext.DescribeTime)
	defer cancel()
	query, err := dialect.QueryOf(what)
	if err != nil {
		return nil, nil, err
	}
	st, err := statement(query)
	if err != nil {
		return nil, nil, err
	}
	s, err := db.shape(ctx, id, st)
	if err != nil || rows == 0 || len(st.Names) > 0 {
		return s, nil, err
	}
	var found []value.Value
	err = db.each(ctx, fmt.Sprintf("select * from (%s) x limit %d", st.Text, rows), nil, s, func(v value.Value) bool {
		found = append(found, v)
		return true
	})
	return s, found, told(err)
}

// CheckUpsert holds an upsert against the columns of its table. The key needs no constraint: its row is looked for and locked.
func (db *DB) CheckUpsert(ctx context.Context, u running.Upsert) (fault.List, error) {
	s, _, err := db.Describe(ctx, "row", u.Table, 0)
	var f *fault.Fault
	if errors.As(err, &f) {
		return fault.List{f}, nil
	}
	if err != nil {
		return nil, err
	}
	return sqltext.Check(u, s.Root.Layout().Names, nil, strings.EqualFold), nil
}

func (db *DB) shape(ctx context.Context, id string, st sqltext.Statement) (*schema.Schema, error) {
	result, err := db.pool.QueryContext(ctx, fmt.Sprintf("select * from (%s) x limit 0", st.Text), make([]any, len(st.Names))...)
	if err != nil {
		return nil, told(err)
	}
	defer result.Close()
	types, err := result.ColumnTypes()
	if err != nil {
		return nil, err
	}
	var columns []*schema.Field
	var leftOut []string
	for _, t := range types {
		f := sqltext.Column(t.Name())
		if k, ok := kinds[t.DatabaseTypeName()]; ok {
			f.Kind = k
		}
		if digits, places, ok := t.DecimalSize(); ok && f.Kind == value.Decimal && places < 31 {
			f.Constraints.TotalDigits, f.Constraints.FractionDigits = int(digits), int(places)
		}
		if null, ok := t.Nullable(); ok && !null && !sqltext.Outer(st.Text) {
			f.Min, f.Nullable = 1, false
		}
		columns = append(columns, f)
	}
	if err := result.Err(); err != nil {
		return nil, told(err)
	}
	return sqltext.RowSchema(id, columns, leftOut)
}

// each gives the rows of a statement as records, as they arrive.
func (db *DB) each(ctx context.Context, text string, args []any, s *schema.Schema, use func(value.Value) bool) error {
	rows, err := db.pool.QueryContext(ctx, text, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	slots := make([]int, len(names))
	raw, into := make([]sql.RawBytes, len(names)), make([]any, len(names))
	for i, name := range names {
		slots[i], into[i] = s.Root.Layout().Slot(name), &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		v, err := record(s, slots, raw)
		if err != nil {
			return err
		}
		if !use(v) {
			return nil
		}
	}
	return rows.Err()
}

func record(s *schema.Schema, slots []int, raw []sql.RawBytes) (value.Value, error) {
	fields := make([]value.Value, len(s.Root.Fields))
	for i, b := range raw {
		if slots[i] < 0 {
			continue
		}
		f := s.Root.Fields[slots[i]]
		if b == nil {
			fields[slots[i]] = value.NullValue
			continue
		}
		v, ok := read(f.Kind, string(b))
		if !ok { // its text stands there, which is a fault of this record where it is checked, and of no other
			v = value.NewText(strings.ToValidUTF8(string(b), "\uFFFD"))
		}
		fields[slots[i]] = v
	}
	return value.NewRecord(s.Root.Layout(), fields), nil
}

// Read gives the rows of a query as they arrive.
func (db *DB) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		st, err := statement(r.Op.Setting("statement"))
		var args []any
		if err == nil {
			args, err = dialect.Arguments(st, r.Value)
		}
		if err == nil && r.Op.Response == nil {
			err = fault.New(fault.Required, "the operation names no response schema").WithFix("Fetch the shape of its result")
		}
		if err == nil {
			system.ExchangeOf(ctx).Sent("statement", fmt.Sprintf("%s\n%v", st.Text, args))
			err = db.each(ctx, st.Text, args, r.Op.Response, func(v value.Value) bool { return yield(v, nil) })
		}
		if err != nil {
			yield(value.Value{}, told(err))
		}
	}
}

// Lookup finds one row for each key.
func (db *DB) Lookup(ctx context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error) {
	var cols, where []string
	for _, f := range l.Row.Root.Fields {
		cols = append(cols, column(f.Name))
	}
	for _, name := range l.Columns {
		where = append(where, column(name)+" = ?")
	}
	text := fmt.Sprintf("select %s from %s where %s limit 1", strings.Join(cols, ", "), ident(l.Table), strings.Join(where, " and "))
	out := make([]value.Value, len(keys))
	known := map[string]value.Value{}
	for i, key := range keys {
		args := make([]any, len(key))
		id := ""
		for j, v := range key {
			args[j] = param(v)
			id += v.String() + "\x00"
		}
		if v, ok := known[id]; ok {
			out[i] = v
			continue
		}
		err := db.each(ctx, text, args, l.Row, func(v value.Value) bool {
			out[i] = v
			return false
		})
		if err != nil {
			return nil, told(err)
		}
		known[id] = out[i]
	}
	return out, nil
}

// Catalogue lists the tables, views and functions whose names have a text in them.
func (db *DB) Catalogue(ctx context.Context, find string) ([]system.CatalogueEntry, error) {
	rows, err := db.pool.QueryContext(ctx, `select t.table_name, case t.table_type when 'VIEW' then 'view' else 'table' end, concat(count(*), ' columns')
		from information_schema.tables t join information_schema.columns c using (table_schema, table_name)
		where t.table_schema = database() and locate(lower(?), lower(t.table_name)) > 0 group by 1, 2
		union all select routine_name, 'function', coalesce(dtd_identifier, '') from information_schema.routines
		where routine_schema = database() and locate(lower(?), lower(routine_name)) > 0 order by 2 desc, 1 limit 500`, find, find)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	var list []system.CatalogueEntry
	for rows.Next() {
		var o system.CatalogueEntry
		if err := rows.Scan(&o.Name, &o.Kind, &o.Detail); err != nil {
			return nil, err
		}
		list = append(list, o)
	}
	return list, rows.Err()
}
