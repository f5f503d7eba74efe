package script

import (
	"math"
	"strconv"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/script/internal/wire"
	"hollowreed/internal/core/value"
)

// safe is the greatest integer that every number of a script holds exactly.
const safe = 1<<53 - 1

// into adds a value to b as a script is given it: absent as undefined; integers as numbers, large ones
// as BigInt; decimals as numbers, where a number holds them exactly; dates and timestamps as Date in
// UTC; times as text; bytes as a list of numbers.
func into(b []byte, v value.Value, depth int) ([]byte, error) {
	if depth > maxDepth {
		return b, fault.New(fault.Limit, "the message is more than %d deep", maxDepth)
	}
	switch v.Kind() {
	case value.Absent:
		return wire.Append(b, wire.Undefined), nil
	case value.Null:
		return wire.Append(b, wire.Null), nil
	case value.Boolean:
		if v.IsTrue() {
			return wire.Append(b, wire.True), nil
		}
		return wire.Append(b, wire.False), nil
	case value.Integer:
		return integer(b, v), nil
	case value.Decimal:
		return decimal(b, v)
	case value.Date, value.Timestamp:
		return date(b, v)
	case value.Binary:
		return wire.AppendText(b, wire.Bytes, v.Text()), nil
	case value.RecordKind:
		return record(b, v.Record(), depth)
	case value.ListKind:
		return list(b, v.Items(), depth)
	}
	return wire.AppendText(b, wire.Text, v.String()), nil
}

func integer(b []byte, v value.Value) []byte {
	if n, ok := v.Int64(); ok && n >= -safe && n <= safe {
		return wire.AppendInt(b, wire.Int, n)
	}
	return wire.AppendText(b, wire.Big, v.String())
}

func decimal(b []byte, v value.Value) ([]byte, error) {
	f, err := strconv.ParseFloat(v.String(), 64)
	if back, ok := shortest(f); err != nil || !ok || !value.Equal(back, v) {
		return b, fault.New(fault.Type, "the decimal %s cannot be held exactly by a number of a script", v.String()).
			WithFix("Give it as text(…), or round it before")
	}
	return wire.AppendFloat(b, f), nil
}

// shortest is the decimal with the fewest digits that is a number of a script.
func shortest(f float64) (value.Value, bool) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return value.Value{}, false
	}
	return value.ParseDecimal(strconv.FormatFloat(f, 'f', -1, 64))
}

func date(b []byte, v value.Value) ([]byte, error) {
	t := time.Time{}
	if v.Kind() == value.Date {
		year, month, day := v.Civil()
		t = time.Date(year, time.Month(month), day, 0, 0, 0, 0, time.UTC)
	} else if t = v.GoTime(); t.Nanosecond()%1_000_000 != 0 {
		return b, fault.New(fault.Type, "the timestamp %s is finer than a Date of a script, which counts milliseconds", v.String())
	}
	return wire.AppendInt(b, wire.Date, t.UnixMilli()), nil
}

func record(b []byte, r *value.Record, depth int) ([]byte, error) {
	there := 0
	for _, v := range r.Fields {
		if v.Kind() != value.Absent {
			there++
		}
	}
	b = wire.AppendCount(b, wire.Record, there)
	for i, name := range r.Layout.Names {
		if r.Fields[i].Kind() == value.Absent {
			continue
		}
		var err error
		if b, err = into(wire.AppendName(b, name), r.Fields[i], depth+1); err != nil {
			return b, fault.From(err, fault.Type).InField(name)
		}
	}
	return b, nil
}

func list(b []byte, items []value.Value, depth int) ([]byte, error) {
	b, err := wire.AppendCount(b, wire.List, len(items)), error(nil)
	for i := 0; i < len(items) && err == nil; i++ {
		b, err = into(b, items[i], depth+1)
	}
	return b, err
}

// from takes what a script gives as a field's value; nil stands for any field.
func from(r *wire.Reader, f *schema.Field, depth int) (value.Value, error) {
	if depth > maxDepth {
		return value.Value{}, fault.New(fault.Limit, "what the script gives is more than %d deep", maxDepth)
	}
	switch t := r.Tag(); {
	case t == wire.Undefined:
		return value.Value{}, nil
	case t == wire.Null:
		return value.NullValue, nil
	case f != nil && f.List(), f == nil && t == wire.List:
		return fromList(r, t, f, depth)
	default:
		return one(r, t, f, depth)
	}
}

func fromList(r *wire.Reader, t wire.Tag, f *schema.Field, depth int) (value.Value, error) {
	if t != wire.List {
		return value.Value{}, fault.Expect(fault.Type, "a list", described(r, t))
	}
	n := r.Count()
	if n > maxItems {
		return value.Value{}, fault.New(fault.Limit, "the list has more than %d items", maxItems)
	}
	items := make([]value.Value, n)
	for i := range items {
		var err error
		if items[i], err = item(r, f, depth+1); err != nil {
			return value.Value{}, fault.From(err, fault.Type).InField("item " + strconv.Itoa(i))
		}
	}
	return value.ListOf(items...), nil
}

// item takes one item of a list of f.
func item(r *wire.Reader, f *schema.Field, depth int) (value.Value, error) {
	if f == nil {
		return from(r, nil, depth)
	}
	t := r.Tag()
	if t == wire.Undefined {
		return value.Value{}, nil
	}
	return one(r, t, f, depth)
}

// one takes a single value.
func one(r *wire.Reader, t wire.Tag, f *schema.Field, depth int) (value.Value, error) {
	want := value.Absent
	if f != nil {
		want = f.Kind
	}
	switch {
	case want == value.Binary:
		return fromBytes(r, t)
	case t == wire.Date:
		return fromDate(r.Int(), want)
	case t == wire.Record:
		return fromRecord(r, f, depth)
	case t == wire.Other:
		return value.Value{}, fault.New(fault.Type, "%s cannot be a value of a message", r.Text())
	case t == wire.List:
		return value.Value{}, fault.Expect(fault.Type, orAny(want), described(r, t))
	}
	got, ok, found := scalar(r, t, want)
	if !ok {
		return got, fault.Expect(fault.Type, orAny(want), found)
	}
	return got, nil
}

func orAny(k value.Kind) string {
	if k == value.Absent {
		return "a value that can stand in a message"
	}
	return k.String()
}

// scalar takes a value that has no parts; found shows it where it is not what is wanted.
func scalar(r *wire.Reader, t wire.Tag, want value.Kind) (v value.Value, ok bool, found string) {
	any := want == value.Absent
	switch t {
	case wire.Null:
		return v, false, "null"
	case wire.Text:
		return text(r.Text(), want)
	case wire.False, wire.True:
		v = value.Bool(t == wire.True)
		return v, any || want == value.Boolean, v.String()
	case wire.Int:
		v = value.Int(r.Int())
		if want == value.Decimal {
			return value.AsDecimal(v), true, ""
		}
		return v, any || want == value.Integer, v.String()
	case wire.Float:
		x := r.Float()
		v, ok = number(x, want)
		return v, ok, shown(x)
	case wire.Big:
		digits := r.Text()
		v, ok = value.ParseInteger(digits)
		return v, ok && (any || want == value.Integer), digits
	}
	return v, false, described(r, t)
}

func text(s string, want value.Kind) (value.Value, bool, string) {
	switch want {
	case value.Time, value.LocalTimestamp, value.ZonedTime, value.Duration, value.YearMonth:
		v, ok := schema.ParseScalar(want, s)
		return v, ok, s
	case value.AnyKind, value.VariantKind:
		want = value.Absent
	}
	return value.NewText(s), want == value.Absent || want == value.Text, short(s)
}

// number takes a number with a fraction, or a large one.
func number(x float64, want value.Kind) (value.Value, bool) {
	d, ok := shortest(x)
	if want != value.Integer {
		return d, ok && (want == value.Absent || want == value.Decimal)
	}
	n, whole := value.AsInteger(d)
	return n, ok && whole && math.Abs(x) <= safe
}

func fromBytes(r *wire.Reader, t wire.Tag) (value.Value, error) {
	list, err := fromList(r, t, nil, 0)
	if err != nil {
		return list, err
	}
	out := make([]byte, len(list.Items()))
	for i, item := range list.Items() {
		n, ok := item.Int64()
		if !ok || n < 0 || n > 255 {
			return value.Value{}, fault.Expect(fault.Type, "bytes from 0 to 255", item.String())
		}
		out[i] = byte(n)
	}
	return value.Bytes(string(out)), nil
}

// fromDate takes a Date by its milliseconds since 1970.
func fromDate(ms int64, want value.Kind) (value.Value, error) {
	v := value.Instant(time.UnixMilli(ms).UTC())
	switch want {
	case value.Date:
		return v.DatePart(), nil
	case value.Absent, value.Timestamp:
		return v, nil
	}
	return v, fault.Expect(fault.Type, want.String(), "a Date")
}

// fromRecord takes a record. One of a known field must have no other names than its fields.
func fromRecord(r *wire.Reader, f *schema.Field, depth int) (value.Value, error) {
	switch {
	case f == nil || f.Kind == value.AnyKind || f.Kind == value.VariantKind || f.Kind == value.MapKind:
		return anyRecord(r, depth)
	case f.Kind != value.RecordKind:
		return value.Value{}, fault.Expect(fault.Type, f.Kind.String(), "a record")
	}
	shape := f.Layout()
	fields := make([]value.Value, len(shape.Names))
	for range r.Count() {
		name := r.Text()
		inner := f.Field(name)
		if inner == nil {
			return value.Value{}, fault.New(fault.Unknown, "there is no field %q in %s", name, f.Name)
		}
		v, err := from(r, inner, depth+1)
		if err != nil {
			return v, fault.From(err, fault.Type).InField(name)
		}
		fields[shape.Slot(name)] = v
	}
	return value.NewRecord(shape, fields), nil
}

func anyRecord(r *wire.Reader, depth int) (value.Value, error) {
	n := r.Count()
	names, fields := make([]string, n), make([]value.Value, n)
	for i := range n {
		names[i] = r.Text()
		var err error
		if fields[i], err = from(r, nil, depth+1); err != nil {
			return value.Value{}, fault.From(err, fault.Type).InField(names[i])
		}
	}
	return value.NewRecord(value.NewLayout(names...), fields), nil
}

// described names what a script gave in place of something else.
func described(r *wire.Reader, t wire.Tag) string {
	switch t {
	case wire.List:
		return "a list"
	case wire.Record:
		return "a record"
	case wire.Date:
		return "a Date"
	case wire.Other:
		return r.Text()
	}
	_, _, found := scalar(r, t, value.RecordKind)
	return found
}

func shown(x float64) string {
	if math.IsInf(x, 0) {
		return strconv.FormatFloat(x, 'g', -1, 64)
	}
	return strconv.FormatFloat(x, 'f', -1, 64)
}

func short(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}
