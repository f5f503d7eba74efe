// Package group puts records together whose lines are of several types, nested by order: a heading
// line with the detail lines that follow it. Fixed width and delimited share it; each says how one
// line is read and which type it is of.
package group

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Type is one type of line: a record with fields of its own, and the records whose lines follow.
type Type struct {
	Field *schema.Field
	Own   []*schema.Field // the fields of its own line
	Inner []*Type
	Line  bool // it has a line of its own; otherwise it begins with the first of Inner
	Index int  // in the order of the schema, from 0
}

// Types are the types of a message's lines, outermost first.
func Types(root *schema.Field) []*Type {
	var all []*Type
	add(root, &all)
	return all
}

func add(f *schema.Field, all *[]*Type) *Type {
	t := &Type{Field: f, Line: f.OwnLine(), Index: len(*all)}
	*all = append(*all, t)
	for _, c := range f.Fields {
		if c.Kind == value.RecordKind {
			t.Inner = append(t.Inner, add(c, all))
		} else {
			t.Own = append(t.Own, c)
		}
	}
	return t
}

// Told says for a person what tells the type's lines: lines that begin with "V".
func (t *Type) Told() string {
	if !t.Line {
		return t.Inner[0].Told()
	}
	var parts []string
	if b := t.Field.WireFormat.StartsWith; b != "" {
		parts = append(parts, "begin with "+strconv.Quote(b))
	}
	for _, c := range t.Own {
		if c.WireFormat.Discriminator != "" {
			parts = append(parts, "have "+strconv.Quote(c.WireFormat.Discriminator)+" as "+c.Name)
		}
	}
	return t.Field.Name + " (lines that " + strings.Join(parts, " and ") + ")"
}

// told lists what tells all lines that may stand inside of a type and of those around it.
func told(open []frame) string {
	var parts []string
	for i := len(open) - 1; i >= 0; i-- {
		for _, t := range open[i].kind.Inner {
			parts = append(parts, t.Told())
		}
	}
	if len(open) > 0 && open[0].kind.Line {
		parts = append(parts, open[0].kind.Told())
	}
	return strings.Join(parts, ", ")
}

// frame is a record whose lines are being read.
type frame struct {
	kind  *Type
	rec   *value.Record
	lists [][]value.Value // by the position of the inner type
	slot  int             // position of kind in the frame around it
}

func newFrame(t *Type, slot int) frame {
	return frame{kind: t, rec: &value.Record{Layout: t.Field.Layout(), Fields: make([]value.Value, len(t.Field.Fields))}, lists: make([][]value.Value, len(t.Inner)), slot: slot}
}

// room says whether one more of an inner type may stand in the frame; open, when one of it is
// being read.
func (f *frame) room(i int, open bool) bool {
	most, n := f.kind.Inner[i].Field.Max, len(f.lists[i])
	if open {
		n++
	}
	return most == schema.Many || n < most
}

// path is the place of the innermost open record in the message (RFC 6901).
func path(open []frame) string {
	var b strings.Builder
	for i := 1; i < len(open); i++ {
		f := open[i].kind.Field
		b.WriteString("/" + schema.Escape(f.Name))
		if f.List() {
			b.WriteString("/" + strconv.Itoa(len(open[i-1].lists[open[i].slot])))
		}
	}
	return b.String()
}

// missing notes what must stand in the record and does not.
func (f *frame) missing(path string, place fault.Place, faults fault.List) fault.List {
	for i, t := range f.kind.Inner {
		v := value.Value{}
		if n := len(f.lists[i]); n > 0 && !t.Field.List() {
			continue
		} else if n > 0 {
			v = value.ListOf(f.lists[i]...)
		}
		if ft := t.Field.CheckOccurs(v); ft != nil {
			place.Path = path + "/" + schema.Escape(t.Field.Name)
			ft = t.Field.LocateFault(ft).At(place)
			if len(f.lists[i]) == 0 {
				ft.Expected, ft.Found = t.Told(), "none"
			}
			faults.Add(ft)
		}
	}
	return faults
}

// close gives the record with the lists that were collected for it.
func (f *frame) close() value.Value {
	for i, t := range f.kind.Inner {
		items := f.lists[i]
		switch slot := t.Field.Slot(); {
		case len(items) == 0:
		case t.Field.List():
			f.rec.Fields[slot] = value.ListOf(items...)
		default:
			f.rec.Fields[slot] = items[0]
		}
	}
	return value.RecordOf(f.rec)
}
