// Package sample makes messages from a schema: the least that it allows, a typical one, and one
// in which everything stands. The same seed makes the same message; every constraint is kept.
package sample

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Kind is how much stands in a sample.
type Kind string

// The kinds of sample.
const (
	Minimal Kind = "minimal" // only what must be there
	Typical Kind = "typical" // all fields, lists of two or three
	Maximal Kind = "maximal" // all fields, as long and as often as may be, within bounds
)

// Kinds lists the kinds.
var Kinds = []Kind{Minimal, Typical, Maximal}

// older are the names that kinds had before.
var older = map[string]Kind{"least": Minimal, "full": Maximal}

// KindNamed finds a kind by its name, or by the one that it had before.
func KindNamed(name string) (Kind, bool) {
	if k, was := older[name]; was {
		return k, true
	}
	return Kind(name), slices.Contains(Kinds, Kind(name))
}

// Bounds on what is made.
const (
	fullOccurs = 5   // of a field that may occur any number of times
	fullLength = 60  // characters of a text without a longest length
	maxOccurs  = 100 // of a field that must occur more often than that, samples are refused
	maxFields  = 200_000
	maxText    = 64 << 10 // bytes of a text made from a pattern
)

// Make makes one message. It gives a fault where a field's constraints leave no value, or none
// that could be found.
func Make(s *schema.Schema, kind Kind, seed uint64) (value.Value, *fault.Fault) {
	m := &maker{kind: kind, schema: s, rand: rand.New(rand.NewPCG(seed, 0x5eed))}
	return m.record(s.Root, "")
}

type maker struct {
	kind   Kind
	schema *schema.Schema
	rand   *rand.Rand
	made   int
	begins string // what the text of the field at hand begins with
	whole  bool   // and that this is all of it
}

func (m *maker) record(f *schema.Field, path string) (value.Value, *fault.Fault) {
	fields := make([]value.Value, len(f.Fields))
	for i, c := range f.Fields {
		m.begins, m.whole = m.schema.Discriminator(f, c)
		v, ft := m.field(c, path+"/"+c.Name)
		if ft != nil {
			return v, ft
		}
		fields[i] = v
	}
	return value.NewRecord(f.Layout(), fields), nil
}

func (m *maker) field(f *schema.Field, path string) (value.Value, *fault.Fault) {
	n := m.occurs(f)
	if m.begins != "" && n == 0 {
		n = 1 // the line would not be told from others
	}
	if n > maxOccurs {
		return value.Value{}, m.none(f, path, fmt.Sprintf("it must occur %d times", n))
	}
	if !f.List() {
		if n == 0 {
			return value.Value{}, nil
		}
		return m.one(f, path)
	}
	if n == 0 && f.Min == 0 && m.kind == Minimal {
		return value.Value{}, nil
	}
	items := make([]value.Value, n)
	for i := range items {
		v, ft := m.one(f, path)
		if ft != nil {
			return v, ft
		}
		items[i] = v
	}
	return value.ListOf(items...), nil
}

func (m *maker) occurs(f *schema.Field) int {
	most := f.Max
	if most == schema.Many {
		most = max(f.Min, fullOccurs)
	}
	switch {
	case m.kind == Minimal:
		return f.Min
	case m.kind == Maximal, !f.List():
		return min(most, max(f.Min, fullOccurs))
	}
	return min(most, max(f.Min, 2+m.rand.IntN(2)))
}

// one makes one occurrence. What is made is checked: whatever the maker got wrong is a fault here
// and never a sample that does not fit.
func (m *maker) one(f *schema.Field, path string) (value.Value, *fault.Fault) {
	if m.made++; m.made > maxFields {
		return value.Value{}, fault.New(fault.Limit, "the sample has more than %d fields", maxFields)
	}
	if f.Kind == value.RecordKind {
		return m.record(f, path)
	}
	for range attempts {
		v, ok := m.scalar(f)
		if ok && m.fits(f, v) {
			return v, nil
		}
	}
	return value.Value{}, m.none(f, path, f.Constraints.Text())
}

// attempts is how often a value is made anew that did not fit by chance.
const attempts = 20

func (m *maker) none(f *schema.Field, path, why string) *fault.Fault {
	return fault.New(fault.Setting, "no value could be made: %s", why).InField(f.Name).At(fault.Place{Path: path})
}

// fits says whether a value passes the field's check and can be written and read again.
func (m *maker) fits(f *schema.Field, v value.Value) bool {
	ok := true
	single := *f
	single.Min, single.Max = 1, 1
	single.CheckField(v, func(*fault.Fault) { ok = false })
	if !ok {
		return false
	}
	text, ft := f.AppendWire(nil, v)
	if ft != nil {
		return false
	}
	width := width(f)
	if width > 0 && len([]rune(string(text))) > width {
		return false
	}
	if m.schema.Notation.Columns && f.Kind == value.Text && f.Constraints.Codes == nil {
		s := v.Text()
		if s != strings.Trim(s, string(f.WireFormat.Padding)) {
			return false // its ends would be taken for filling
		}
	}
	if !strings.HasPrefix(string(text), strings.TrimRight(m.begins, " ")) {
		return false
	}
	back, ok := f.Read(string(text))
	return ok && value.Equal(back, v)
}

// width is how many characters a fixed-width field has; 0 for any other.
func width(f *schema.Field) int {
	if f.WireFormat.From == 0 {
		return 0
	}
	return f.WireFormat.To - f.WireFormat.From + 1
}

func (m *maker) scalar(f *schema.Field) (value.Value, bool) {
	if m.whole {
		return f.Read(strings.TrimRight(m.begins, " "))
	}
	switch f.Kind {
	case value.Text:
		s := m.text(f)
		return value.NewText(m.begins + s[min(len(m.begins), len(s)):]), true
	case value.Integer, value.Decimal:
		return m.number(f)
	case value.Boolean:
		return value.Bool(m.rand.IntN(2) == 1), true
	case value.Binary:
		return value.Bytes(m.letters(f)), true
	}
	return m.temporal(f)
}
