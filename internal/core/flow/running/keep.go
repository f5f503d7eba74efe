package running

import (
	"io"
	"strings"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// KeptOf describes a value that is kept as JSON and read back.
func KeptOf(n Named) Kept {
	k := Kept{Key: n.Name, Named: n}
	if n.Schema == nil && n.Type.Kind != value.Absent {
		k.Holder = Described(n.Name, schema.Record(n.Name, FieldOf("value", n.Type)))
	}
	return k
}

// Write writes a value as JSON.
func (k Kept) Write(v value.Value) string { return json.Text(v) }

// Read reads back what Write wrote; absent where it cannot be read any more.
func (k Kept) Read(text string) value.Value {
	of := k.Holder
	if k.Schema != nil {
		of = k.Schema.As(json.Kind.Notation)
	} else {
		text = `{"value":` + text + `}`
	}
	rows, ok := rowsOf(of, text)
	switch {
	case !ok:
		return value.Value{}
	case k.Schema != nil && k.List:
		return value.ListOf(rows...)
	case len(rows) == 0:
		return value.Value{}
	case k.Schema != nil:
		return rows[0]
	}
	return rows[0].Field("value")
}

// ReadKept reads the text of a value that the journal keeps for a slot; ok is false where it cannot be read.
func (p *Plan) ReadKept(slot int, text string) (v value.Value, ok bool) {
	for _, k := range p.Kept {
		if k.Slot == slot {
			v = k.Read(text)
		}
	}
	return v, v.Kind() != value.Absent
}

// rowsOf reads the records of a JSON text without checking what they must be.
func rowsOf(of *schema.Schema, text string) (rows []value.Value, ok bool) {
	r, err := json.NewReader(strings.NewReader(text), notation.Options{Schema: of})
	if err != nil {
		return nil, false
	}
	for {
		v, err := r.Next()
		if err == io.EOF {
			return rows, true
		}
		if err != nil {
			return nil, false
		}
		rows = append(rows, v)
	}
}
