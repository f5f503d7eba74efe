package system

import (
	"bytes"
	"context"
	"errors"
	"io"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Shaped reads a value that was read without a schema as a record of one: texts become dates, times and bytes
// where the schema says so. Without a schema it is given as it is.
func Shaped(ctx context.Context, v value.Value, s *schema.Schema) (value.Value, error) {
	if s == nil {
		return v, nil
	}
	var ignored notation.Ignored
	defer PassOver(ctx, &ignored)
	r, err := json.Kind.NewReader(bytes.NewReader(json.Bytes(v)), notation.Options{Source: "the answer", Schema: s, Ignored: &ignored})
	if err != nil {
		return v, err
	}
	out, err := r.Next()
	var faults fault.List
	switch {
	case errors.As(err, &faults):
		for _, f := range faults {
			f.Place.Line, f.Place.Column = 0, 0
		}
		return v, faults[0]
	case err == io.EOF:
		return v, fault.Expect(fault.Type, "a record of "+s.ID, "nothing")
	case err != nil:
		return v, fault.From(err, fault.Type)
	}
	return out, nil
}
