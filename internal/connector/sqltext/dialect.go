package sqltext

import (
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// Dialect is how one kind of database writes what its operations ask.
type Dialect struct {
	Written   func(text string) (Statement, error)              // a statement that a person has written
	Changing  func(op *connection.Operation) (Statement, error) // the statement of an operation that changes something
	Parameter func(v value.Value) any                           // a value as the database takes it
	Told      func(s Statement, args []any) string              // a statement with its arguments, to be shown
	Ident     func(name string) string                          // the name of a table, of its schema too, quoted
}

// Reading is the statement of an operation that reads.
func (d Dialect) Reading(op *connection.Operation) (Statement, error) {
	return d.Written(op.Setting("statement"))
}

// Arguments are the values for a statement, one for each of its places.
func (d Dialect) Arguments(s Statement, request value.Value) ([]any, error) {
	args := make([]any, len(s.Names))
	for i, name := range s.Names {
		r := request.Record()
		if r == nil || r.Layout.Slot(name) < 0 {
			return nil, fault.New(fault.Unknown, "the statement speaks of :%s; the request has no such field", name).
				WithFix("Add the field to the request's schema")
		}
		args[i] = d.Parameter(request.Field(name))
	}
	return args, nil
}

// Preview is what an operation would send for a request.
func (d Dialect) Preview(r system.Request) (running.Turn, error) {
	of := d.Changing
	switch {
	case r.Op.Kind.Reads:
		of = d.Reading
	case r.Op.Kind.Name == "upsert":
		return running.Turn{Head: "a row that is upserted", Text: Row(r.Value)}, nil
	}
	st, err := NewStatements(r.Op, of).Of(r.Value)
	if err != nil {
		return running.Turn{}, err
	}
	args, err := d.Arguments(st, r.Value)
	if err != nil {
		return running.Turn{Head: "statement"}, err
	}
	return running.Turn{Head: "statement", Text: d.Told(st, args)}, nil
}
