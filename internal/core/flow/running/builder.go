package running

import (
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// RequestBuilder makes the request of an operation of the values in scope.
type RequestBuilder struct {
	Op     *connection.Operation
	Filled *Filled // nil where the operation needs nothing
}

// Request makes the request; nothing where the operation needs nothing.
func (a *RequestBuilder) Request(fr *formula.Frame) (value.Value, *fault.Fault) {
	if a.Filled == nil {
		return value.Value{}, nil
	}
	return a.Filled.Make(fr)
}

// Fitted makes one value a list of one where the field is a list, and a whole number a decimal where it is one.
func Fitted(v value.Value, f *schema.Field) value.Value {
	if f.List() && !v.IsMissing() && v.Kind() != value.ListKind {
		v = value.ListOf(v)
	}
	if f.Kind == value.Decimal && v.Kind() == value.Integer {
		return value.AsDecimal(v)
	}
	return v
}

// Filled makes a record of a schema by formulas for its fields, or takes one in scope that is it already.
type Filled struct {
	Schema *schema.Schema
	From   int                // the slot of the record in scope; -1: by fields
	Slots  []int              // the fields that formulas fill
	Progs  []*formula.Program // of these fields
	Check  bool               // the record is not of the schema itself
}

// Make makes the record.
func (a *Filled) Make(fr *formula.Frame) (value.Value, *fault.Fault) {
	if a.From >= 0 && a.Check {
		return fr.Slots[a.From], FirstFault(a.Schema, fr.Slots[a.From])
	}
	if a.From >= 0 {
		return fr.Slots[a.From], nil
	}
	fields := make([]value.Value, len(a.Schema.Root.Fields))
	for i, prog := range a.Progs {
		fr.Reset()
		v, f := prog.Eval(fr)
		if f != nil {
			return v, f.InField(a.Schema.Root.Fields[a.Slots[i]].Name)
		}
		fields[a.Slots[i]] = Fitted(v, a.Schema.Root.Fields[a.Slots[i]])
	}
	made := value.NewRecord(a.Schema.Root.Layout(), fields)
	return made, FirstFault(a.Schema, made)
}
