package group

import (
	"strconv"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Put writes one line of a type; v is the record.
type Put func(t *Type, v value.Value) *fault.Fault

// Write writes a record as its line and the lines of the records inside, in the order of the
// schema. It gives how many lines were put, the faulty one included.
func Write(t *Type, v value.Value, put Put) (lines int, ft *fault.Fault) {
	if v.Kind() != value.RecordKind {
		return 1, fault.Expect(fault.Type, "a record", v.Kind().String())
	}
	if t.Line {
		lines++
		if ft := put(t, v); ft != nil {
			return lines, ft
		}
	}
	for _, inner := range t.Inner {
		n, ft := inner.write(v.Field(inner.Field.Name), put)
		if lines += n; ft != nil {
			ft.Place.Path = "/" + schema.Escape(inner.Field.Name) + ft.Place.Path
			return lines, ft
		}
	}
	return lines, nil
}

// write writes all occurrences of a record inside of another.
func (t *Type) write(v value.Value, put Put) (lines int, ft *fault.Fault) {
	if ft := t.Field.CheckOccurs(v); ft != nil {
		return 1, ft
	}
	items := v.Items()
	if v.IsMissing() {
		return 0, nil
	}
	if v.Kind() != value.ListKind {
		return Write(t, v, put)
	}
	for i, item := range items {
		n, ft := Write(t, item, put)
		if lines += n; ft != nil {
			ft.Place.Path = "/" + strconv.Itoa(i) + ft.Place.Path
			return lines, ft
		}
	}
	return lines, nil
}

// Marked is the value of a field, or what marks its line when it has none.
func Marked(f *schema.Field, v value.Value) value.Value {
	if f.WireFormat.Discriminator == "" || !v.IsMissing() {
		return v
	}
	if marked, ok := f.Read(f.WireFormat.Discriminator); ok {
		return marked
	}
	return v
}
