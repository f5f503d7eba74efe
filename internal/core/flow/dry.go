package flow

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

// Dry is an Outside that reaches nothing: rows are looked up among samples, and what would be
// written is only told.
type Dry struct {
	Rows  func(row *schema.Schema) ([]value.Value, error) // the sample rows of a schema
	Tell  func(u Upsert, row value.Value)                 // may be nil
	cache map[string][]value.Value
}

// Lookup finds rows among the samples of the row's schema.
func (d *Dry) Lookup(_ context.Context, l Lookup, keys [][]value.Value) ([]value.Value, error) {
	rows, ok := d.cache[l.Row.ID]
	if !ok {
		var err error
		if rows, err = d.Rows(l.Row); err != nil {
			return nil, err
		}
		if d.cache == nil {
			d.cache = map[string][]value.Value{}
		}
		d.cache[l.Row.ID] = rows
	}
	if len(rows) == 0 {
		return nil, fault.New(fault.Setting, "the schema %s has no sample rows to look into", l.Row.ID).Mended("Keep a sample with it, or run really")
	}
	out := make([]value.Value, len(keys))
	for i, key := range keys {
		out[i] = match(rows, l.Columns, key)
	}
	return out, nil
}

// Call asks nobody; the answers are made up.
func (d *Dry) Call(_ context.Context, c Call, requests []value.Value) ([]Answered, error) {
	out := make([]Answered, len(requests))
	for i := range out {
		out[i].NotDone = true
		if c.Op.Response != nil { // something as it would be, for the steps that come after
			if v, f := sample.Make(c.Op.Response, sample.Typical, uint64(i)); f == nil {
				out[i].Answer = v
			}
		}
	}
	return out, nil
}

func match(rows []value.Value, columns []string, key []value.Value) value.Value {
next:
	for _, row := range rows {
		for i, c := range columns {
			if !value.Equal(row.Field(c), key[i]) {
				continue next
			}
		}
		return row
	}
	return value.Value{}
}

// Upsert writes nothing.
func (d *Dry) Upsert(_ context.Context, u Upsert, rows []value.Value) ([]Written, error) {
	out := make([]Written, len(rows))
	for i, row := range rows {
		out[i].Effect = NotDone
		if d.Tell != nil {
			d.Tell(u, row)
		}
	}
	return out, nil
}
