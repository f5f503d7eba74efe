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
		sch.Check(v, note)
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
	out := sch.Root.Shaped(v, report)
	sch.Check(out, report)
	return out
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
