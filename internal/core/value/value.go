// Package value holds messages as they are computed with: records, lists and exact scalars,
// with no trace of the notation that they were read from. Absent, null and empty are three
// different things; decimals are exact; the order of fields and items is kept.
package value

import (
	"strconv"
	"time"
	"unsafe"

	"github.com/cockroachdb/apd/v3"
)

// Kind is the type of a value.
type Kind uint8

// The kinds. The zero Value is Absent.
const (
	Absent Kind = iota
	Null
	Boolean
	Integer
	Decimal
	Text
	Date
	Time
	Timestamp
	Binary
	LocalTimestamp // a date and a time of day, of no time zone
	ZonedTime      // a time of day with its distance from UTC
	Duration       // ISO 8601
	YearMonth
	RecordKind
	ListKind

	// The kinds that only fields have, never values: a map's value is a record of names that nobody knew before, a variant's is
	// that of one of its branches, and any is a value of whatever kind.
	MapKind
	VariantKind
	AnyKind
)

var kindNames = [...]string{
	"absent", "null", "boolean", "integer", "decimal", "text",
	"date", "time", "timestamp", "binary", "local timestamp", "zoned time", "duration", "year-month", "record", "list", "map", "variant", "any",
}

// String is the kind's name as it is written in part files.
func (k Kind) String() string { return kindNames[k] }

// KindNamed finds a kind by the name that part files use.
func KindNamed(name string) (Kind, bool) {
	for i, n := range kindNames {
		if n == name && i >= int(Null) {
			return Kind(i), true
		}
	}
	return Absent, false
}

// Numeric says whether the kind is a number.
func (k Kind) Numeric() bool { return k == Integer || k == Decimal }

// Value is one value of any kind. It is small, immutable and passed by value; as in log/slog,
// one pointer holds what does not fit, and the kind and form say what it points to.
//
// What the members hold, by kind:
//
//	Boolean    num 0 or 1
//	Integer    num, or ref (*apd.Decimal with exponent 0) beyond int64
//	Decimal    num × 10^exp, or ref (*apd.Decimal), or a literal: ref and num are its text
//	Text       ref and num are the text's bytes and length
//	Binary     as Text
//	Date       num: days since 1970-01-01
//	Time       num: nanoseconds since midnight
//	Timestamp  num: seconds since 1970-01-01T00:00Z, exp: nanoseconds, ref (*time.Location) unless UTC
//	LocalTimestamp  as Timestamp in UTC
//	ZonedTime  num: nanoseconds since midnight, exp: minutes before UTC
//	Duration   as Text: in the form in which it was written
//	YearMonth  num: months since the beginning of the year 0
//	Record     ref (*Record)
//	List       ref (*List)
type Value struct {
	kind Kind
	form form
	exp  int32
	num  int64
	ref  unsafe.Pointer
}

// form says how a number is held.
type form uint8

const (
	small   form = iota // num × 10^exp
	large               // ref is an *apd.Decimal
	literal             // a decimal that is only known by its text
)

// textual makes a value that is held as text.
func textual(kind Kind, f form, s string) Value {
	return Value{kind: kind, form: f, num: int64(len(s)), ref: unsafe.Pointer(unsafe.StringData(s))}
}

// str is what textual was given.
func (v Value) str() string { return unsafe.String((*byte)(v.ref), v.num) }

// big is the number beyond int64 of a value whose form is large.
func (v Value) big() *apd.Decimal { return (*apd.Decimal)(v.ref) }

// Record is the fields of one record, by slot.
type Record struct {
	Layout *Layout
	Fields []Value
}

// List is an ordered list.
type List struct{ Items []Value }

// Layout gives the slots of a record their names. It is shared by all records of one schema.
type Layout struct {
	Names  []string
	Others int // one more than the slot whose record holds the fields that have no name of their own here; 0 when there is none
	index  map[string]int
}

// NewLayout makes a shape; the names must differ.
func NewLayout(names ...string) *Layout {
	s := &Layout{Names: names}
	if len(names) > 8 {
		s.index = make(map[string]int, len(names))
		for i, n := range names {
			s.index[n] = i
		}
	}
	return s
}

// Slot finds a name; -1 when the shape does not have it.
func (s *Layout) Slot(name string) int {
	if s.index != nil {
		if i, ok := s.index[name]; ok {
			return i
		}
		return -1
	}
	for i, n := range s.Names {
		if n == name {
			return i
		}
	}
	return -1
}

// NullValue is the explicit null.
var NullValue = Value{kind: Null}

// Bool makes a boolean.
func Bool(b bool) Value {
	if b {
		return Value{kind: Boolean, num: 1}
	}
	return Value{kind: Boolean}
}

// Int makes an integer.
func Int(i int64) Value { return Value{kind: Integer, num: i} }

// NewText makes a text.
func NewText(s string) Value { return textual(Text, small, s) }

// Bytes makes a binary value; the bytes are held as they are in s.
func Bytes(s string) Value { return textual(Binary, small, s) }

// NewDecimal makes the decimal coefficient × 10^exp.
func NewDecimal(coefficient int64, exp int32) Value {
	return Value{kind: Decimal, num: coefficient, exp: exp}
}

// NewRecord makes a record over a shape; fields has one value for each name.
func NewRecord(shape *Layout, fields []Value) Value {
	return Value{kind: RecordKind, ref: unsafe.Pointer(&Record{Layout: shape, Fields: fields})}
}

// RecordOf makes a value of an existing record.
func RecordOf(r *Record) Value { return Value{kind: RecordKind, ref: unsafe.Pointer(r)} }

// ListOf makes a list.
func ListOf(items ...Value) Value {
	return Value{kind: ListKind, ref: unsafe.Pointer(&List{Items: items})}
}

// Kind of the value.
func (v Value) Kind() Kind { return v.kind }

// IsMissing says whether the value is absent or null.
func (v Value) IsMissing() bool { return v.kind <= Null }

// IsTrue says whether the value is the boolean true.
func (v Value) IsTrue() bool { return v.kind == Boolean && v.num == 1 }

// Text is the content of a Text or Binary value; empty for any other kind.
func (v Value) Text() string {
	if v.kind == Text || v.kind == Binary {
		return v.str()
	}
	return ""
}

// Int64 is an Integer, Date or Time as a number; ok is false when it does not fit.
func (v Value) Int64() (n int64, ok bool) {
	switch v.kind {
	case Integer, Date, Time, Boolean:
		return v.num, v.form == small
	}
	return 0, false
}

// Record is the record inside; nil for any other kind.
func (v Value) Record() *Record {
	if v.kind != RecordKind {
		return nil
	}
	return (*Record)(v.ref)
}

// Items are the items of a list; nil for any other kind.
func (v Value) Items() []Value {
	if v.kind != ListKind {
		return nil
	}
	return (*List)(v.ref).Items
}

// SameList says whether two values are one list in memory, which says more than that they are equal.
func SameList(a, b Value) bool {
	return a.kind == ListKind && b.kind == ListKind && a.ref == b.ref
}

// Field reads a record's field by name; Absent when there is none.
func (v Value) Field(name string) Value {
	r := v.Record()
	if r == nil {
		return Value{}
	}
	if i := r.Layout.Slot(name); i >= 0 {
		return r.Fields[i]
	}
	return r.Others().Field(name)
}

// Others is the record of the fields that have no name of their own in the layout; Absent when it keeps none.
func (r *Record) Others() Value {
	if r.Layout.Others == 0 {
		return Value{}
	}
	return r.Fields[r.Layout.Others-1]
}

// Slot reads a record's field by slot; Absent when v is no record.
func (v Value) Slot(i int) Value {
	if v.kind != RecordKind {
		return Value{}
	}
	if r := (*Record)(v.ref); i < len(r.Fields) {
		return r.Fields[i]
	}
	return Value{}
}

// DateOf makes a date of the proleptic Gregorian calendar.
func DateOf(year, month, day int) Value {
	return Value{kind: Date, num: daysFromCivil(int64(year), int64(month), int64(day))}
}

// TimeOf makes a time of day.
func TimeOf(hour, minute, second, nano int) Value {
	return Value{kind: Time, num: ((int64(hour)*60+int64(minute))*60+int64(second))*1e9 + int64(nano)}
}

// Instant makes a timestamp; the zone of t is kept.
func Instant(t time.Time) Value {
	v := Value{kind: Timestamp, num: t.Unix(), exp: int32(t.Nanosecond())}
	if loc := t.Location(); loc != time.UTC {
		v.ref = unsafe.Pointer(loc)
	}
	return v
}

// GoTime is a Timestamp as a time.Time, or a Date as its midnight in UTC.
func (v Value) GoTime() time.Time {
	if v.kind == Date {
		return time.Unix(v.num*86400, 0).UTC()
	}
	t := time.Unix(v.num, int64(v.exp))
	if v.ref != nil {
		return t.In((*time.Location)(v.ref))
	}
	return t.UTC()
}

// At joins a date and a time of day to a timestamp in UTC.
func At(date, clock Value) Value {
	return Value{kind: Timestamp, num: date.num*86400 + clock.num/1e9, exp: int32(clock.num % 1e9)}
}

// AppendText appends the value as text: numbers in plain decimal notation, dates and times as
// in ISO 8601 (RFC 3339 for timestamps), text and bytes as they are. Records and lists append
// nothing, as do absent and null.
func (v Value) AppendText(b []byte) []byte {
	switch v.kind {
	case Boolean:
		return strconv.AppendBool(b, v.num == 1)
	case Integer, Decimal:
		return v.appendNumber(b)
	case Text, Binary:
		return append(b, v.str()...)
	case Date:
		y, m, d := civilFromDays(v.num)
		return appendDate(b, y, m, d)
	case Time:
		return appendClock(b, v.num)
	case Timestamp:
		return v.appendInstant(b)
	case LocalTimestamp:
		b = v.appendInstant(b)
		return b[:len(b)-1] // without the Z
	case ZonedTime:
		return appendOffset(appendClock(b, v.num), int(v.exp))
	case Duration:
		return append(b, v.str()...)
	case YearMonth:
		b = appendDate(b, floorDiv(v.num, 12), v.num-12*floorDiv(v.num, 12)+1, 1)
		return b[:len(b)-3] // without the day
	}
	return b
}

// String is AppendText as a string.
func (v Value) String() string {
	if v.kind == Text || v.kind == Binary || v.kind == Duration {
		return v.str()
	}
	return string(v.AppendText(nil))
}

// Size is about how many bytes a value takes, with all in it.
func Size(v Value) int {
	const one = int(unsafe.Sizeof(Value{}))
	switch v.kind {
	case Text, Binary, Duration:
		return one + int(v.num)
	case RecordKind:
		return one + sizes(v.Record().Fields)
	case ListKind:
		return one + sizes(v.Items())
	}
	return one
}

func sizes(list []Value) (n int) {
	for _, v := range list {
		n += Size(v)
	}
	return n
}
