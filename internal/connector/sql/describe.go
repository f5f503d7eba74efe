package sql

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"hollowreed/internal/connector/sqltext"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Describe gives the shape of a table's rows, or of a query's result, as the database itself says
// it; the statement is prepared, not run. Then up to rows of its rows are read, in a transaction
// that cannot write. What is a table's name and what a query is told by its first word.
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
	s, found, err := db.described(ctx, id, st, rows)
	if untyped(err) {
		if st, err = typed(query, nil); err == nil {
			s, found, err = db.described(ctx, id, st, rows)
		}
	}
	if err != nil {
		return nil, nil, described(err)
	}
	return s, found, nil
}

// tableColumns and tableKeys are the columns of a table, and those of its unique indexes that cover all rows.
const (
	tableColumns = `select attname::text from pg_attribute where attrelid = to_regclass($1) and attnum > 0 and not attisdropped order by attnum`
	tableKeys    = `select array_agg(a.attname::text order by k.n) from pg_index i
cross join unnest(i.indkey::int2[]) with ordinality as k(attnum, n)
join pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.attnum
where i.indrelid = to_regclass($1) and i.indisunique and i.indpred is null and i.indexprs is null and k.n <= i.indnkeyatts
group by i.indexrelid order by i.indexrelid`
)

// CheckUpsert holds an upsert against its table, as the database describes it.
func (db *DB) CheckUpsert(ctx context.Context, u running.Upsert) (fault.List, error) {
	ctx, cancel := context.WithTimeout(ctx, sqltext.DescribeTime)
	defer cancel()
	rows, err := db.pool.Query(ctx, tableColumns, ident(u.Table))
	if err != nil {
		return nil, classify(err)
	}
	columns, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, classify(err)
	}
	if len(columns) == 0 {
		return fault.List{fault.New(fault.Unknown, "the database has no table %s", u.Table)}, nil
	}
	rows, err = db.pool.Query(ctx, tableKeys, ident(u.Table))
	if err != nil {
		return nil, classify(err)
	}
	unique, err := pgx.CollectRows(rows, pgx.RowTo[[]string])
	if err != nil {
		return nil, classify(err)
	}
	return sqltext.Check(u, columns, append([][]string{}, unique...), func(a, b string) bool { return a == b }), nil
}

func (db *DB) described(ctx context.Context, id string, st sqltext.Statement, rows int) (s *schema.Schema, found []value.Value, err error) {
	err = pgx.BeginTxFunc(ctx, db.pool, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		d, err := tx.Prepare(ctx, "", st.Text)
		if err != nil {
			return err
		}
		if s, err = shapeOf(ctx, tx, id, st.Text, d.Fields); err != nil {
			return err
		}
		if len(st.Names) == 0 && rows > 0 { // values for the parameters are not known yet
			found, err = firstRows(ctx, tx, st.Text, s, rows)
		}
		return err
	})
	return s, found, err
}

// described puts what the database answered into a fault.
func described(err error) error {
	pg, ok := err.(*pgconn.PgError)
	if !ok {
		return classify(err)
	}
	f := fault.New(fault.Setting, "the database says: %s", pg.Message)
	if pg.Position > 0 {
		f.At(fault.Place{Column: int(pg.Position)})
	}
	if pg.Hint != "" {
		f.WithFix("%s", pg.Hint)
	}
	return f
}

// kindsOf are the types of columns; all others are read as text.
var kindsOf = map[uint32]value.Kind{
	pgtype.BoolOID: value.Boolean, pgtype.Int2OID: value.Integer, pgtype.Int4OID: value.Integer, pgtype.Int8OID: value.Integer,
	pgtype.NumericOID: value.Decimal, pgtype.Float4OID: value.Decimal, pgtype.Float8OID: value.Decimal, pgtype.DateOID: value.Date,
	pgtype.TimeOID: value.Time, pgtype.TimestamptzOID: value.Timestamp, pgtype.ByteaOID: value.Binary,
	pgtype.TimestampOID: value.LocalTimestamp, pgtype.TimetzOID: value.ZonedTime,
}

func shapeOf(ctx context.Context, tx pgx.Tx, id, statement string, columns []pgconn.FieldDescription) (*schema.Schema, error) {
	var fields []*schema.Field
	for _, c := range columns {
		f := sqltext.Column(c.Name)
		if k, ok := kindsOf[c.DataTypeOID]; ok {
			f.Kind = k
		}
		sized(f, c)
		if c.DataTypeOID == pgtype.UUIDOID {
			f.Constraints.Format = "uuid"
		}
		if c.TableOID != 0 {
			var required bool
			err := tx.QueryRow(ctx, "select attnotnull from pg_attribute where attrelid = $1 and attnum = $2", c.TableOID, c.TableAttributeNumber).Scan(&required)
			if err != nil {
				return nil, err
			}
			if required && !sqltext.Outer(statement) {
				f.Min, f.Nullable = 1, false
			}
		}
		fields = append(fields, f)
	}
	return sqltext.RowSchema(id, fields, nil)
}

// sized reads a column's size from its type modifier: numeric(p,s) and varchar(n).
func sized(f *schema.Field, c pgconn.FieldDescription) {
	mod := c.TypeModifier - 4
	if mod < 0 {
		return
	}
	switch c.DataTypeOID {
	case pgtype.NumericOID:
		f.Constraints.TotalDigits, f.Constraints.FractionDigits = int(mod>>16&0xffff), int(mod&0x7ff)
	case pgtype.VarcharOID, pgtype.BPCharOID:
		f.Constraints.MaxLength = int(mod)
	}
}

// firstRows reads some rows of a statement, as texts of the database's own.
func firstRows(ctx context.Context, tx pgx.Tx, statement string, s *schema.Schema, most int) ([]value.Value, error) {
	names := make([]string, len(s.Root.Fields))
	for i, f := range s.Root.Fields {
		names[i] = "x." + column(f.Name) + "::text"
	}
	rows, err := tx.Query(ctx, fmt.Sprintf("select %s from (%s) x limit %d", strings.Join(names, ", "), statement, most))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []value.Value
	for rows.Next() {
		v, err := textRow(rows, s)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

func textRow(rows pgx.Rows, s *schema.Schema) (value.Value, error) {
	texts := make([]*string, len(s.Root.Fields))
	into := make([]any, len(texts))
	for i := range texts {
		into[i] = &texts[i]
	}
	if err := rows.Scan(into...); err != nil {
		return value.Value{}, err
	}
	fields := make([]value.Value, len(texts))
	for i, f := range s.Root.Fields {
		if texts[i] == nil {
			fields[i] = value.NullValue
			continue
		}
		v, ok := readText(f.Kind, *texts[i])
		if !ok {
			v = value.NewText(*texts[i])
		}
		fields[i] = v
	}
	return value.NewRecord(s.Root.Layout(), fields), nil
}
