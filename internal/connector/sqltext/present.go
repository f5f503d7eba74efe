package sqltext

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Present are the columns that rows have a value for. What is absent is left out of a statement: an insert leaves it to the
// database's default, an update lets it be. Null is a value.
type Present struct {
	Row   *schema.Schema // only the columns that are there
	Slots []int          // where they stand in the rows
	Rows  []int          // the positions of the rows that have just these
}

// Group splits rows, named by their positions, by the columns that they have a value for, in the order in which each group
// comes first. Most often there is one.
func Group(row *schema.Schema, rows []value.Value, todo []int) []*Present {
	var groups []*Present
	var last *Present
	lastMask, byMask := "", map[string]*Present{}
	mask := make([]byte, len(row.Root.Fields))
	for _, i := range todo {
		for c := range mask {
			mask[c] = '1'
			if rows[i].Slot(c).Kind() == value.Absent {
				mask[c] = '0'
			}
		}
		if last == nil || string(mask) != lastMask {
			lastMask = string(mask)
			if last = byMask[lastMask]; last == nil {
				last = narrowed(row, lastMask)
				last.Rows = make([]int, 0, len(todo))
				byMask[lastMask] = last
				groups = append(groups, last)
			}
		}
		last.Rows = append(last.Rows, i)
	}
	return groups
}

// narrowed is a schema of those columns for which a mask has a 1.
func narrowed(row *schema.Schema, mask string) *Present {
	p := &Present{Row: row}
	var fields []*schema.Field
	for c, f := range row.Root.Fields {
		if mask[c] == '1' {
			own := *f // in another record it has another slot
			fields, p.Slots = append(fields, &own), append(p.Slots, c)
		}
	}
	if len(fields) < len(mask) {
		s := *row
		s.Root = schema.Record(row.Root.Name, fields...)
		p.Row = &s
	}
	return p
}

// KeyFault is why a row cannot be told from others by its key columns: one has no value.
func KeyFault(key []string, row value.Value) *fault.Fault {
	for _, k := range key {
		if v := row.Field(k); v.IsMissing() {
			return fault.Expect(fault.Required, "a value for the key column "+k, v.Kind().String()).
				WithFix("Give it a rule that always yields a value")
		}
	}
	return nil
}

// Row are the columns of a row that have a value, one a line.
func Row(row value.Value) string {
	var b strings.Builder
	for i, name := range row.Record().Layout.Names {
		if v := row.Record().Fields[i]; v.Kind() != value.Absent {
			b.WriteString(name + " = " + v.String() + "\n")
		}
	}
	return b.String()
}

// Statements are those of an operation, one for each set of columns that requests have values for.
type Statements struct {
	op   *connection.Operation
	make func(op *connection.Operation) (Statement, error)
	made map[string]made
}

type made struct {
	st  Statement
	err error
}

// NewStatements prepares for an operation; each statement is made by a function when it is first asked for.
func NewStatements(op *connection.Operation, make func(op *connection.Operation) (Statement, error)) *Statements {
	return &Statements{op, make, map[string]made{}}
}

// Of is the statement for a request. Operations whose statement is written by a person have one only.
func (s *Statements) Of(request value.Value) (Statement, error) {
	op, mask := s.op, ""
	if by := op.Kind.Name; (by == "insert" || by == "update") && op.Request != nil {
		g := Group(op.Request, []value.Value{request}, []int{0})[0]
		for _, i := range g.Slots {
			mask += "," + strconv.Itoa(i)
		}
		narrow := *op
		narrow.Request = g.Row
		op = &narrow
	}
	m, there := s.made[mask]
	if !there {
		m.st, m.err = s.make(op)
		s.made[mask] = m
	}
	return m.st, m.err
}
