package sql

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"hollowreed/internal/connector/sqltext"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// statement is an operation's statement with its parameters numbered.
func statement(text string) (sqltext.Statement, error) {
	return sqltext.Parse(strings.TrimRight(strings.TrimSpace(text), "; \n"), true, func(n int) string { return fmt.Sprintf("$%d", n) })
}

// typed is a statement whose parameters say their types, as the request's fields are; text where nothing is known of
// them. PostgreSQL wants that where nothing else tells a type, as in :name is null.
func typed(text string, request *schema.Schema) (sqltext.Statement, error) {
	s, err := statement(text)
	if err != nil {
		return s, err
	}
	return sqltext.Parse(strings.TrimRight(strings.TrimSpace(text), "; \n"), true, func(n int) string {
		kind := "text"
		if request != nil && request.Root.Field(s.Names[n-1]) != nil && !request.Root.Field(s.Names[n-1]).List() {
			kind = sqlTypes[request.Root.Field(s.Names[n-1]).Kind]
		}
		return fmt.Sprintf("$%d::%s", n, kind)
	})
}

// untyped says whether a statement was refused since the type of a parameter is not known (42P18, 42P08).
func untyped(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "42P18" || pg.Code == "42P08")
}

// dialect is how PostgreSQL has its statements.
var dialect = sqltext.Dialect{Written: statement, Changing: statementOf, Parameter: argument, Told: told, Ident: ident}

// argument is a value for a place of a statement.
func argument(v value.Value) any {
	if v.Kind() == value.ListKind {
		return array(v)
	}
	if p := param(v); p != nil {
		return *p
	}
	return nil
}

// array is a list as the text of an array, for = any(:list).
func array(v value.Value) string {
	var b strings.Builder
	b.WriteByte('{')
	for i, item := range v.Items() {
		if i > 0 {
			b.WriteByte(',')
		}
		p := param(item)
		if p == nil {
			b.WriteString("NULL")
			continue
		}
		b.WriteString(`"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(*p) + `"`)
	}
	b.WriteByte('}')
	return b.String()
}

// Read gives the rows of a query as they arrive; the database sends on only as they are taken.
func (db *DB) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		if err := db.read(ctx, r, yield); err != nil {
			yield(value.Value{}, classify(err))
		}
	}
}

func (db *DB) read(ctx context.Context, r system.Request, yield func(value.Value, error) bool) error {
	s, err := statement(r.Op.Setting("statement"))
	if err != nil {
		return err
	}
	args, err := dialect.Arguments(s, r.Value)
	if err != nil {
		return err
	}
	err = db.rows(ctx, r, s, args, yield)
	if untyped(err) {
		if s, err = typed(r.Op.Setting("statement"), r.Op.Request); err == nil {
			err = db.rows(ctx, r, s, args, yield)
		}
	}
	return err
}

func (db *DB) rows(ctx context.Context, r system.Request, s sqltext.Statement, args []any, yield func(value.Value, error) bool) error {
	x := system.ExchangeOf(ctx)
	x.Sent("statement, read only", told(s, args))
	return pgx.BeginTxFunc(ctx, db.pool, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		d, err := tx.Prepare(ctx, s.Text, s.Text)
		if err != nil {
			return err
		}
		columns := make([]decoding, len(d.Fields))
		formats := make(pgx.QueryResultFormats, len(d.Fields))
		for i, f := range d.Fields {
			columns[i] = decoder(f.DataTypeOID)
			formats[i] = columns[i].format
		}
		rows, err := tx.Query(ctx, s.Text, append([]any{formats}, args...)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		shape, err := newShape(r.Op.Response, d.Fields, columns)
		if err != nil {
			return err
		}
		n := 0
		for ; rows.Next(); n++ {
			v, err := shape.row(rows.RawValues())
			if err != nil {
				return err
			}
			if !yield(v, nil) {
				break
			}
		}
		x.Received("rows", strconv.Itoa(n)+" read")
		return rows.Err()
	})
}

func told(s sqltext.Statement, args []any) string {
	var b strings.Builder
	b.WriteString(s.Text)
	for i, name := range s.Names {
		fmt.Fprintf(&b, "\n$%d = %v (:%s)", i+1, args[i], name)
	}
	return b.String()
}

// text is a value that the type of its column cannot hold, as the database writes it.
func (d decoding) text(b []byte) string {
	if d.format == pgx.TextFormatCode {
		return strings.ToValidUTF8(string(b), "\uFFFD")
	}
	switch d.kind {
	case value.Decimal:
		if len(b) >= 8 {
			if name := map[uint16]string{0xC000: "NaN", 0xD000: "Infinity", 0xF000: "-Infinity"}[binary.BigEndian.Uint16(b[4:])]; name != "" {
				return name
			}
		}
		return "a number that is too long"
	case value.Date, value.Timestamp:
		switch {
		case b[0]&0x80 == 0 && b[len(b)-1] == 0xff:
			return "infinity"
		case b[0]&0x80 != 0 && b[len(b)-1] == 0:
			return "-infinity"
		}
		return "a day outside of the years 1 to 9999"
	}
	v, _ := d.read(b)
	return v.String()
}

// decoding is how a column's values are read: in the format in which that is fast and exact.
type decoding struct {
	format int16
	read   func(b []byte) (value.Value, bool)
	kind   value.Kind
}

const postgresEpoch = 946_684_800 // 2000-01-01 in Unix seconds

func decoder(oid uint32) decoding {
	switch oid {
	case pgtype.Int2OID:
		return decoding{pgx.BinaryFormatCode, func(b []byte) (value.Value, bool) { return value.Int(int64(int16(binary.BigEndian.Uint16(b)))), true }, value.Integer}
	case pgtype.Int4OID:
		return decoding{pgx.BinaryFormatCode, func(b []byte) (value.Value, bool) { return value.Int(int64(int32(binary.BigEndian.Uint32(b)))), true }, value.Integer}
	case pgtype.Int8OID:
		return decoding{pgx.BinaryFormatCode, func(b []byte) (value.Value, bool) { return value.Int(int64(binary.BigEndian.Uint64(b))), true }, value.Integer}
	case pgtype.BoolOID:
		return decoding{pgx.BinaryFormatCode, func(b []byte) (value.Value, bool) { return value.Bool(b[0] == 1), true }, value.Boolean}
	case pgtype.ByteaOID:
		return decoding{pgx.BinaryFormatCode, func(b []byte) (value.Value, bool) { return value.Bytes(string(b)), true }, value.Binary}
	case pgtype.TimestamptzOID:
		return decoding{pgx.BinaryFormatCode, instant, value.Timestamp}
	case pgtype.NumericOID:
		return decoding{pgx.BinaryFormatCode, numeric, value.Decimal}
	case pgtype.DateOID:
		return decoding{pgx.BinaryFormatCode, date, value.Date}
	}
	kind, ok := kindsOf[oid]
	if !ok || kind == value.LocalTimestamp || kind == value.ZonedTime { // a field of a text takes them as the database writes them
		kind = value.Text
	}
	return decoding{pgx.TextFormatCode, func(b []byte) (value.Value, bool) { return readText(kind, string(b)) }, kind}
}

// instant reads microseconds since 2000; infinity is none that can be written.
func instant(b []byte) (value.Value, bool) {
	micros := int64(binary.BigEndian.Uint64(b))
	if micros == 1<<63-1 || micros == -1<<63 {
		return value.Value{}, false
	}
	t := time.Unix(postgresEpoch+micros/1e6, micros%1e6*1000).UTC()
	return value.Instant(t), value.ValidDate(t.Year(), 1, 1)
}

func date(b []byte) (value.Value, bool) {
	days := int32(binary.BigEndian.Uint32(b))
	if days == 1<<31-1 || days == -1<<31 {
		return value.Value{}, false
	}
	y, m, d := time.Unix(postgresEpoch+int64(days)*86_400, 0).UTC().Date()
	if !value.ValidDate(y, int(m), d) {
		return value.Value{}, false
	}
	return value.DateOf(y, int(m), d), true
}

// rowShape puts the columns of a result into the fields of a schema.
type rowShape struct {
	schema  *schema.Schema
	columns []decoding
	slots   []int // of each column; -1 is not taken
	slab    slab
}

// slab is the memory of some rows, taken at once.
type slab struct {
	records []value.Record
	values  []value.Value
	text    []byte
}

// Sizes of a slab.
const (
	slabRows = 64
	slabText = 8 << 10
)

// next gives a record with room for its fields.
func (s *slab) next(shape *value.Layout, fields int) *value.Record {
	if len(s.records) == 0 {
		s.records, s.values = make([]value.Record, slabRows), make([]value.Value, slabRows*fields)
	}
	r := &s.records[0]
	s.records = s.records[1:]
	r.Layout, r.Fields = shape, s.values[:fields:fields]
	s.values = s.values[fields:]
	return r
}

// copied gives a text that is the reader's own.
func (s *slab) copied(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	if len(b) > slabText/8 {
		return string(b)
	}
	if cap(s.text)-len(s.text) < len(b) {
		s.text = make([]byte, 0, slabText)
	}
	from := len(s.text)
	s.text = append(s.text, b...)
	return unsafe.String(&s.text[from], len(b)) // what is written once is never written again
}

// newShape finds the field of each column. Every required field needs one.
func newShape(s *schema.Schema, fields []pgconn.FieldDescription, columns []decoding) (*rowShape, error) {
	if s == nil {
		return nil, fault.New(fault.Required, "the operation names no response schema").WithFix("Fetch the shape of its result")
	}
	r := &rowShape{schema: s, columns: columns, slots: make([]int, len(fields))}
	there := map[string]bool{}
	for i, f := range fields {
		there[f.Name] = true
		r.slots[i] = s.Root.Layout().Slot(f.Name)
	}
	for _, f := range s.Root.Fields {
		if f.Required() && !there[f.Name] {
			return nil, fault.Expect(fault.Setting, "a column "+f.Name+" as "+s.ID+" says", "none in the result").WithFix("Fetch the shape anew, or mend the statement")
		}
	}
	return r, nil
}

// row makes a record of a row.
func (s *rowShape) row(raw [][]byte) (value.Value, error) {
	r := s.slab.next(s.schema.Root.Layout(), len(s.schema.Root.Fields))
	fields := r.Fields
	for i, b := range raw {
		slot := s.slots[i]
		if slot < 0 {
			continue
		}
		if b == nil {
			fields[slot] = value.NullValue
			continue
		}
		f := s.schema.Root.Fields[slot]
		if s.columns[i].kind == value.Text && f.Kind == value.Text {
			fields[slot] = value.NewText(s.slab.copied(b))
			continue
		}
		v, ok := s.columns[i].read(b)
		if ok && v.Kind() != f.Kind {
			v, ok = asKind(v, f.Kind)
		}
		if !ok { // its text stands there, which is a fault of this record where it is checked, and of no other
			v = value.NewText(s.columns[i].text(b))
		}
		fields[slot] = v
	}
	return value.RecordOf(r), nil
}

func asKind(v value.Value, kind value.Kind) (value.Value, bool) {
	if kind == value.Decimal && v.Kind() == value.Integer {
		return value.AsDecimal(v), true
	}
	return readText(kind, standardText(kind, v.String()))
}

// standardText is a date or time as ISO 8601 has it, of the form in which PostgreSQL writes it.
func standardText(kind value.Kind, s string) string {
	switch kind {
	case value.LocalTimestamp:
		return strings.Replace(s, " ", "T", 1)
	case value.ZonedTime:
		if at := strings.LastIndexAny(s, "+-"); at == len(s)-3 {
			return s + ":00"
		}
	}
	return s
}
