package script

import (
	"math"
	"math/big"
	"strconv"
	"time"

	"github.com/dop251/goja"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// safe is the greatest integer that every number of a script holds exactly.
const safe = 1<<53 - 1

// into gives a value to a script: absent as undefined; integers as numbers, large ones as BigInt;
// decimals as numbers, where a number holds them exactly; dates and timestamps as Date in UTC; times as
// text; bytes as a list of numbers.
func (m *machine) into(v value.Value, depth int) (goja.Value, error) {
	if depth > maxDepth {
		return nil, fault.New(fault.Limit, "the message is more than %d deep", maxDepth)
	}
	switch v.Kind() {
	case value.Absent:
		return goja.Undefined(), nil
	case value.Null:
		return goja.Null(), nil
	case value.Boolean:
		return m.vm.ToValue(v.IsTrue()), nil
	case value.Integer:
		return m.integer(v), nil
	case value.Decimal:
		return m.decimal(v)
	case value.Date, value.Timestamp:
		return m.date(v)
	case value.Binary:
		return m.vm.ToValue(numbers(v.Text())), nil
	case value.RecordKind:
		return m.record(v, depth)
	case value.ListKind:
		return m.list(v, depth)
	}
	return m.vm.ToValue(v.String()), nil
}

func numbers(bytes string) []any {
	out := make([]any, len(bytes))
	for i := range len(bytes) {
		out[i] = int64(bytes[i])
	}
	return out
}

func (m *machine) integer(v value.Value) goja.Value {
	if n, ok := v.Int64(); ok && n >= -safe && n <= safe {
		return m.vm.ToValue(n)
	}
	n, _ := new(big.Int).SetString(v.String(), 10)
	return m.vm.ToValue(n)
}

func (m *machine) decimal(v value.Value) (goja.Value, error) {
	f, err := strconv.ParseFloat(v.String(), 64)
	if back, ok := shortest(f); err != nil || !ok || !value.Equal(back, v) {
		return nil, fault.New(fault.Type, "the decimal %s cannot be held exactly by a number of a script", v.String()).
			Mended("Give it as text(…), or round it before")
	}
	return m.vm.ToValue(f), nil
}

// shortest is the decimal with the fewest digits that is a number of a script.
func shortest(f float64) (value.Value, bool) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return value.Value{}, false
	}
	return value.ParseDecimal(strconv.FormatFloat(f, 'f', -1, 64))
}

func (m *machine) date(v value.Value) (goja.Value, error) {
	t := time.Time{}
	if v.Kind() == value.Date {
		year, month, day := v.Civil()
		t = time.Date(year, time.Month(month), day, 0, 0, 0, 0, time.UTC)
	} else if t = v.GoTime(); t.Nanosecond()%1_000_000 != 0 {
		return nil, fault.New(fault.Type, "the timestamp %s is finer than a Date of a script, which counts milliseconds", v.String())
	}
	return m.vm.New(m.vm.Get("Date"), m.vm.ToValue(t.UnixMilli()))
}

func (m *machine) record(v value.Value, depth int) (goja.Value, error) {
	o := m.vm.NewObject()
	r := v.Record()
	for i, name := range r.Shape.Names {
		if r.Fields[i].Kind() == value.Absent {
			continue
		}
		x, err := m.into(r.Fields[i], depth+1)
		if err != nil {
			return nil, fault.From(err, fault.Type).In(name)
		}
		if err := o.Set(name, x); err != nil {
			return nil, err
		}
	}
	return o, nil
}

func (m *machine) list(v value.Value, depth int) (goja.Value, error) {
	items := make([]any, len(v.Items()))
	for i, item := range v.Items() {
		x, err := m.into(item, depth+1)
		if err != nil {
			return nil, err
		}
		items[i] = x
	}
	return m.vm.NewArray(items...), nil
}

// from takes what a script gives as a field's value; nil stands for any field.
func (m *machine) from(v goja.Value, f *schema.Field, depth int) (value.Value, error) {
	switch {
	case depth > maxDepth:
		return value.Value{}, fault.New(fault.Limit, "what the script gives is more than %d deep", maxDepth)
	case v == nil || goja.IsUndefined(v):
		return value.Value{}, nil
	case goja.IsNull(v):
		return value.NullValue, nil
	}
	if f != nil && f.List() || f == nil && isList(v) {
		return m.fromList(v, f, depth)
	}
	return m.one(v, f, depth)
}

func isList(v goja.Value) bool {
	o, ok := v.(*goja.Object)
	return ok && o.ClassName() == "Array"
}

func (m *machine) fromList(v goja.Value, f *schema.Field, depth int) (value.Value, error) {
	if !isList(v) {
		return value.Value{}, fault.Expect(fault.Type, "a list", described(v))
	}
	o := v.ToObject(m.vm)
	n := int(o.Get("length").ToInteger())
	if n > maxItems {
		return value.Value{}, fault.New(fault.Limit, "the list has more than %d items", maxItems)
	}
	items := make([]value.Value, n)
	for i := range items {
		x := o.Get(strconv.Itoa(i))
		item, err := value.Value{}, error(nil)
		if f == nil {
			item, err = m.from(x, nil, depth+1)
		} else if x != nil && !goja.IsUndefined(x) {
			item, err = m.one(x, f, depth+1)
		}
		if err != nil {
			return item, fault.From(err, fault.Type).In("item " + strconv.Itoa(i))
		}
		items[i] = item
	}
	return value.ListOf(items...), nil
}

// one takes a single value.
func (m *machine) one(v goja.Value, f *schema.Field, depth int) (value.Value, error) {
	want := value.Absent
	if f != nil {
		want = f.Kind
	}
	if want == value.Binary {
		return m.bytes(v)
	}
	if o, ok := v.(*goja.Object); ok {
		switch o.ClassName() {
		case "Date":
			return fromDate(o, want)
		case "Object":
			return m.fromRecord(o, f, depth)
		}
		return value.Value{}, fault.New(fault.Type, "%s cannot be a value of a message", described(v))
	}
	got, ok := scalar(v, want)
	if !ok {
		return got, fault.Expect(fault.Type, orAny(want), described(v))
	}
	return got, nil
}

func orAny(k value.Kind) string {
	if k == value.Absent {
		return "a value that can stand in a message"
	}
	return k.String()
}

func scalar(v goja.Value, want value.Kind) (value.Value, bool) {
	if _, symbol := v.(*goja.Symbol); symbol {
		return value.Value{}, false
	}
	any := want == value.Absent
	switch x := v.Export().(type) {
	case string:
		if want == value.Time {
			return value.ParseTime(x)
		}
		return value.Str(x), any || want == value.Text
	case bool:
		return value.Bool(x), any || want == value.Boolean
	case int64:
		if want == value.Decimal {
			return value.AsDecimal(value.Int(x)), true
		}
		return value.Int(x), any || want == value.Integer
	case float64:
		return number(x, want)
	case *big.Int:
		n, ok := value.ParseInteger(x.String())
		return n, ok && (any || want == value.Integer)
	}
	return value.Value{}, false
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

func (m *machine) bytes(v goja.Value) (value.Value, error) {
	list, err := m.fromList(v, nil, 0)
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

func fromDate(o *goja.Object, want value.Kind) (value.Value, error) {
	t, ok := o.Export().(time.Time)
	if !ok {
		return value.Value{}, fault.New(fault.Type, "an invalid Date cannot be a value of a message")
	}
	v := value.Instant(t.UTC())
	switch want {
	case value.Date:
		return v.DatePart(), nil
	case value.Absent, value.Timestamp:
		return v, nil
	}
	return v, fault.Expect(fault.Type, want.String(), "a Date")
}

// fromRecord takes an object as a record. One of a known field must have no other names than its fields.
func (m *machine) fromRecord(o *goja.Object, f *schema.Field, depth int) (value.Value, error) {
	keys := o.Keys()
	shape := value.NewShape(keys...)
	if f != nil {
		if f.Kind != value.RecordKind {
			return value.Value{}, fault.Expect(fault.Type, f.Kind.String(), "a record")
		}
		shape = f.Shape()
	}
	fields := make([]value.Value, len(shape.Names))
	for _, k := range keys {
		var inner *schema.Field
		at := shape.Slot(k)
		if f != nil {
			if inner = f.Field(k); inner == nil {
				return value.Value{}, fault.New(fault.Unknown, "there is no field %q in %s", k, f.Name)
			}
		}
		v, err := m.from(o.Get(k), inner, depth+1)
		if err != nil {
			return v, fault.From(err, fault.Type).In(k)
		}
		fields[at] = v
	}
	return value.Rec(shape, fields), nil
}

// described names what a script gave.
func described(v goja.Value) string {
	text := v.String()
	if len(text) > 60 {
		text = text[:60] + "…"
	}
	if o, ok := v.(*goja.Object); ok {
		return "a " + o.ClassName() + " (" + text + ")"
	}
	return text
}
