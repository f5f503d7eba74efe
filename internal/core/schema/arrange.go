package schema

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Piece is a run of occurrences of one field, in the order in which they are written.
type Piece struct {
	Field    *Field
	From, To int // of the items, where the field is a list
}

// Arrange puts the elements of a record into the order of its model. It is a fault where they do not go together.
func (f *Field) Arrange(r *value.Record) ([]Piece, *fault.Fault) {
	m := f.model
	a := arranger{record: f, left: make([]int, len(f.Fields)), used: make([]int, len(f.Fields))}
	for i, c := range f.Fields {
		if c.WireFormat.Attribute || i >= len(r.Fields) {
			continue
		}
		switch v := r.Fields[i]; {
		case v.Kind() == value.Absent, c.WireFormat.Content && !f.WireFormat.Group:
		case c.HoldsOthers:
			a.left[i] = otherElements(v)
		case c.List():
			a.left[i] = len(v.Items())
		default:
			a.left[i] = 1
		}
	}
	missing := a.take(m)
	for i, n := range a.left {
		if n > 0 {
			c := f.Fields[i]
			return a.out, c.fault(fault.Unknown, "/"+Escape(c.Name), "what the content model allows together ("+m.inside(f)+")", count(a.used[i]+n, "time")+" "+c.Name)
		}
	}
	if missing != nil {
		return a.out, f.Asking(fault.Expect(fault.Required, f.NextText(missing), "none of it"))
	}
	return a.out, nil
}

func otherElements(v value.Value) (n int) {
	r := v.Record()
	if r == nil {
		return 0
	}
	for i, f := range r.Fields {
		if strings.HasPrefix(r.Layout.Names[i], "@") {
			continue
		}
		if f.Kind() == value.ListKind {
			n += len(f.Items())
		} else if f.Kind() != value.Absent {
			n++
		}
	}
	return n
}

// arranger goes through a model with how often each field is there.
type arranger struct {
	record     *Field
	left, used []int // by slot
	out        []Piece
}

// take takes what a model can have; it gives the part that is missing.
func (a *arranger) take(m *Model) (missing *Model) {
	switch {
	case m == nil:
		return nil
	case m.Join == 0:
		return a.field(m)
	case m.Min == 0 && !a.some(m):
		return nil
	case m.Join == '|':
		return a.choice(m)
	}
	for _, p := range m.Parts {
		if lack := a.take(p); lack != nil && missing == nil {
			missing = lack
		}
	}
	return missing
}

func (a *arranger) field(m *Model) *Model {
	i := m.Slot
	n := a.left[i]
	if m.Max != Many {
		n = min(n, m.Max)
	}
	if n > 0 {
		a.out = append(a.out, Piece{Field: a.record.Fields[i], From: a.used[i], To: a.used[i] + n})
		a.left[i], a.used[i] = a.left[i]-n, a.used[i]+n
	}
	if n < m.Min {
		return m
	}
	return nil
}

// choice takes the part of which the most is there.
func (a *arranger) choice(m *Model) *Model {
	var best *Model
	most := 0
	for _, p := range m.Parts {
		n := 0
		p.Fields(func(l *Model) {
			if a.left[l.Slot] > 0 {
				n++
			}
		})
		if n > most {
			best, most = p, n
		}
	}
	switch {
	case best != nil:
		return a.take(best)
	case m.Nullable():
		return nil
	}
	return m
}

func (a *arranger) some(m *Model) (some bool) {
	m.Fields(func(l *Model) { some = some || a.left[l.Slot] > 0 })
	return some
}
