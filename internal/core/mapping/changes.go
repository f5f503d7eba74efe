package mapping

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Cause says in which way results differ.
type Cause string

// The causes.
const (
	Otherwise       Cause = "another value"
	Appears         Cause = "appears"
	Disappears      Cause = "disappears"
	NewFault        Cause = "fails now"
	NoFault         Cause = "fails no longer"
	OtherFault      Cause = "fails otherwise"
	NowSkipped      Cause = "left out now"
	SkippedNoLonger Cause = "left out no longer"
	OtherCount      Cause = "another number of entries"
)

// Change is one way in which a field of the target differs, over many messages.
type Change struct {
	Field    string // as rules write it, without the labels of feeds; empty for the message as a whole
	Cause    Cause
	Messages int // in how many of them
	Places   int // in how many places of them; a list has several
	Examples []Example
	last     int // the message in which it was last seen
}

// Example is one such place.
type Example struct {
	Message  string // where the message is found
	Path     string
	Was, Now string
}

const mostExamples = 3

// Changes compares what two states of a mapping make of the same messages.
type Changes struct {
	Target              *schema.Schema // of the newer state, for the fields of rules; nil: fields are told by their names in the message
	Messages, Different int
	byField             map[string]*Change
}

// Add compares the results of one message; message says where it is found.
func (c *Changes) Add(message string, was, now Result) {
	c.Messages++
	m := messageChanges{all: c, message: message}
	switch {
	case was.Faults != nil || now.Faults != nil:
		m.faults(was, now)
	case was.Skipped != now.Skipped && now.Skipped != "":
		m.note("", NowSkipped, "", was.Skipped, now.Skipped)
	case was.Skipped != now.Skipped:
		m.note("", SkippedNoLonger, "", was.Skipped, "")
	case now.Skipped == "":
		at := spot{}
		if c.Target != nil {
			at.field = c.Target.Root
		}
		m.value(at, was.Value, now.Value)
	}
	if m.found {
		c.Different++
	}
}

// List gives the changes, those of most messages first.
func (c *Changes) List() []*Change {
	var out []*Change
	for _, ch := range c.byField {
		out = append(out, ch)
	}
	slices.SortFunc(out, func(a, b *Change) int {
		return cmp.Or(cmp.Compare(b.Messages, a.Messages), strings.Compare(a.Field, b.Field), strings.Compare(string(a.Cause), string(b.Cause)))
	})
	return out
}

type messageChanges struct {
	all     *Changes
	message string
	found   bool
}

func (m *messageChanges) note(path string, cause Cause, place, was, now string) {
	m.found = true
	c := m.all
	if c.byField == nil {
		c.byField = map[string]*Change{}
	}
	key := path + "\x00" + string(cause)
	ch := c.byField[key]
	if ch == nil {
		ch = &Change{Field: path, Cause: cause}
		c.byField[key] = ch
	}
	if ch.Places++; ch.last != c.Messages {
		ch.last = c.Messages
		ch.Messages++
	}
	if len(ch.Examples) < mostExamples {
		ch.Examples = append(ch.Examples, Example{Message: m.message, Path: place, Was: was, Now: now})
	}
}

func (m *messageChanges) faults(was, now Result) {
	told := func(list fault.List) string {
		if list == nil {
			return ""
		}
		return list[0].What()
	}
	old, cur := told(was.Faults), told(now.Faults)
	field := ""
	if len(now.Faults) > 0 {
		field = now.Faults[0].Field
	} else {
		field = was.Faults[0].Field
	}
	switch {
	case old == "":
		m.note(field, NewFault, "", old, cur)
	case cur == "":
		m.note(field, NoFault, "", old, cur)
	case old != cur:
		m.note(field, OtherFault, "", old, cur)
	}
}

// spot is where two values stand.
type spot struct {
	path  string        // in the message, with positions and with the names of a map's entries
	plain string        // as rules write it
	field *schema.Field // of the target; nil where it has none for it
	one   bool          // one occurrence of a field that is a list
}

// below is a field of a record.
func (s spot) below(name string) spot {
	to := spot{path: s.path + "/" + name, plain: s.plain + "/" + name}
	switch f := s.field; {
	case f == nil:
	case f.Kind == value.MapKind:
		to.field, to.plain = f.Each(), s.plain+"/"+f.Each().Name
	case f.Kind == value.RecordKind:
		to.field = f.Field(name)
	}
	return to
}

// branch is the branch of a variant that a value is of, where its shape tells.
func (s spot) branch(v value.Value) spot {
	if s.field == nil || s.field.Kind != value.VariantKind {
		return s
	}
	for _, b := range s.field.Fields {
		if b.Kind == value.RecordKind && b.Layout() == v.Record().Layout {
			return spot{path: s.path, plain: s.plain + "/" + b.Name, field: b}
		}
	}
	return s
}

// item is an item of a list.
func (s spot) item(i int) spot {
	to := spot{path: s.path + "/" + strconv.Itoa(i), plain: s.plain, field: s.field, one: true}
	if f := s.field; f != nil && f.Kind == value.ListKind && s.one { // of a list inside
		to.field, to.plain = f.Each(), s.plain+"/"+f.Each().Name
	}
	return to
}

func (m *messageChanges) value(at spot, was, now value.Value) {
	switch {
	case was.Kind() == value.RecordKind && now.Kind() == value.RecordKind:
		m.record(at.branch(now), was, now)
	case was.Kind() == value.ListKind && now.Kind() == value.ListKind:
		m.list(at, was, now)
	case was.Kind() == value.Absent && now.Kind() == value.Absent:
	case was.Kind() == value.Absent:
		m.differs(at, Appears, was, now)
	case now.Kind() == value.Absent:
		m.differs(at, Disappears, was, now)
	case !value.Equal(was, now):
		m.differs(at, Otherwise, was, now)
	}
}

func (m *messageChanges) differs(at spot, cause Cause, was, now value.Value) {
	m.note(strings.Trim(at.plain, "/"), cause, at.path, brief(was), brief(now))
}

// record compares fields by name: the two states may be of different schemas.
func (m *messageChanges) record(at spot, was, now value.Value) {
	old, cur := was.Record(), now.Record()
	for i, name := range old.Layout.Names {
		m.value(at.below(name), old.Fields[i], now.Field(name))
	}
	for i, name := range cur.Layout.Names {
		if old.Layout.Slot(name) < 0 {
			m.value(at.below(name), value.Value{}, cur.Fields[i])
		}
	}
}

func (m *messageChanges) list(at spot, was, now value.Value) {
	a, b := was.Items(), now.Items()
	if len(a) != len(b) {
		m.note(strings.Trim(at.plain, "/"), OtherCount, at.path, strconv.Itoa(len(a)), strconv.Itoa(len(b)))
		return
	}
	for i := range a {
		m.value(at.item(i), a[i], b[i])
	}
}

// brief is a value in few words.
func brief(v value.Value) string {
	switch v.Kind() {
	case value.Text:
		return fault.Quote(v.Text())
	case value.RecordKind:
		return "a record"
	case value.ListKind:
		return strconv.Itoa(len(v.Items())) + " items"
	case value.Absent, value.Null:
		return v.Kind().String()
	}
	return v.String()
}
