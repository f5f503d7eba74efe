package step

import (
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// maxFaults bounds the faults that one message can have.
const maxFaults = 100

// checked gives the faults of a text or a record against a schema.
func checked(sch *schema.Schema, v value.Value, first bool) (faults fault.List) {
	most := maxFaults
	if first {
		most = 1
	}
	note := func(f *fault.Fault) {
		if len(faults) < most {
			faults = append(faults, f)
		}
	}
	if v.Kind() != value.Text && v.Kind() != value.Binary {
		Conform(sch, v, note)
		return faults
	}
	_, list := readAll(sch, v, most)
	for _, f := range list {
		note(f)
	}
	return faults
}

// Conform makes a record one of a schema's shape: fields of the same names. What the schema does not have, or has
// otherwise, is reported.
func Conform(sch *schema.Schema, v value.Value, report func(*fault.Fault)) value.Value {
	out := conform(sch.Root, v, "", report)
	sch.Check(out, report)
	return out
}

func conform(f *schema.Field, v value.Value, path string, report func(*fault.Fault)) value.Value {
	switch {
	case v.Kind() == value.ListKind:
		items := make([]value.Value, len(v.Items()))
		for i, item := range v.Items() {
			items[i] = conform(f, item, path, report)
		}
		return value.ListOf(items...)
	case f.Kind == value.Decimal && v.Kind() == value.Integer:
		return value.AsDecimal(v)
	case f.Kind != value.RecordKind || v.Kind() != value.RecordKind || v.Record().Layout == f.Layout():
		return v
	}
	fields := make([]value.Value, len(f.Fields))
	for i, name := range v.Record().Layout.Names {
		part := v.Slot(i)
		if part.Kind() == value.Absent {
			continue
		}
		field := f.Field(name)
		if field == nil {
			report(fault.New(fault.Unknown, "the schema has no field %q", name).At(fault.Place{Path: path + "/" + name}))
			continue
		}
		fields[field.Slot()] = conform(field, part, path+"/"+name, report)
	}
	return value.NewRecord(f.Layout(), fields)
}

// readAll reads all messages of a text, or of bytes, with up to a number of faults.
func readAll(sch *schema.Schema, from value.Value, most int) (list []value.Value, faults fault.List) {
	if from.Kind() == value.Text {
		sch = sch.InText()
	}
	text := from.Text()
	r, err := all.Of(sch).NewReader(strings.NewReader(text), notation.Options{Schema: sch, Check: true})
	if err != nil {
		return nil, fault.List{fault.From(err, fault.Syntax)}
	}
	for len(faults) < most {
		v, err := r.Next()
		if err == io.EOF {
			return list, faults
		}
		if more, ok := err.(fault.List); ok {
			faults = append(faults, more...)
			continue
		}
		if err != nil {
			return list, append(faults, fault.From(err, fault.Syntax))
		}
		if list = append(list, v); len(list) > MaxEntries {
			return list, append(faults, fault.New(fault.Limit, "the text has more than %d records", MaxEntries))
		}
	}
	return list, faults
}
