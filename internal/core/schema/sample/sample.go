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
	m := &maker{kind: kind, schema: s, rand: rand.New(rand.NewPCG(seed, 0x5eed)), needed: needed(s.Root)}
	if m.needed == nil {
		return m.one(s.Root, "")
	}
	return m.keyed(s.Root)
}

type maker struct {
	kind             Kind
	schema           *schema.Schema
	rand             *rand.Rand
	made             int
	begins           string // what the text of the field at hand begins with
	whole            bool   // and that this is all of it
	day              int    // of the message, from the beginning of the year; 0 until one is needed
	around           string // the name of the record that is being made
	things           map[string]thing
	needed           map[*schema.Field]bool // fields that a key needs
	fresh            bool                   // values that must differ are made: none is an id that is known
	given            string                 // of the person of a record
	givenIn, records int                    // which that was, and how many there are
}

func (m *maker) record(f *schema.Field, path string) (value.Value, *fault.Fault) {
	fields := make([]value.Value, len(f.Fields))
	m.records++
	stands := m.chosen(f)
	for i, c := range f.Fields {
		m.begins, m.whole = m.schema.Discriminator(f, c)
		if stands != nil && !c.WireFormat.Attribute && (!c.WireFormat.Content || f.WireFormat.Group) {
			o := stands[i]
			if o.Max == 0 {
				continue
			}
			one := *c
			one.Min, one.Max = max(o.Min, min(c.Min, o.Min)), o.Max
			if c.List() && one.Max == 1 { // a list of at most one is one all the same
				one.Max, one.Constraints.MaxEntries = schema.Many, 1
			}
			c = &one
		}
		m.around = f.Name
		v, ft := m.field(c, path+"/"+c.Name)
		if ft != nil {
			return v, ft
		}
		fields[i] = v
	}
	return value.NewRecord(f.Layout(), fields), nil
}

// chosen says how often each field of a record stands by its content model, of which one of each choice is taken; nil where it has
// none.
func (m *maker) chosen(f *schema.Field) map[int]schema.Occurs {
	if f.Model() == nil {
		return nil
	}
	stands := map[int]schema.Occurs{}
	m.choose(f.Model(), stands)
	return stands
}

func (m *maker) choose(model *schema.Model, stands map[int]schema.Occurs) {
	switch {
	case model.Min == 0 && model.Join != 0 && m.kind == Minimal:
	case model.Join == 0:
		o := stands[model.Slot]
		o.Min += model.Min
		if model.Max == schema.Many || o.Max == schema.Many {
			o.Max = schema.Many
		} else {
			o.Max += model.Max
		}
		stands[model.Slot] = o
	case model.Join == '|' && m.kind == Minimal:
		m.choose(model.Parts[0], stands)
	case model.Join == '|':
		m.choose(model.Parts[m.rand.IntN(len(model.Parts))], stands)
	default:
		for _, p := range model.Parts {
			m.choose(p, stands)
		}
	}
}

func (m *maker) field(f *schema.Field, path string) (value.Value, *fault.Fault) {
	if f.HoldsOthers && m.kind != Maximal && f.Constraints.MinEntries == 0 {
		return value.Value{}, nil
	}
	n := m.occurs(f)
	if m.begins != "" && n == 0 {
		n = 1 // the line would not be told from others
	}
	if !f.List() {
		if n == 0 {
			return value.Value{}, nil
		}
		return m.one(f, path)
	}
	if n == 0 && !f.Required() && m.kind == Minimal {
		return value.Value{}, nil
	}
	return m.items(f, path, n)
}

// items makes a list of at most so many items, which differ where they must.
func (m *maker) items(f *schema.Field, path string, n int) (value.Value, *fault.Fault) {
	n = max(n, f.Constraints.MinEntries)
	if most := f.Constraints.MaxEntries; most > 0 && f.Kind != value.MapKind {
		n = min(n, most)
	}
	if n > maxOccurs {
		return value.Value{}, m.none(f, path, fmt.Sprintf("it must occur %d times", n))
	}
	items := make([]value.Value, 0, n)
	m.fresh = f.Scalar()
	defer func() { m.fresh = false }()
	for range attempts * n {
		if len(items) == n {
			break
		}
		v, ft := m.one(f, path)
		if ft != nil {
			return v, ft
		}
		if f.Constraints.Unique && slices.ContainsFunc(items, func(o value.Value) bool { return value.Equal(o, v) }) {
			continue
		}
		items = append(items, v)
	}
	if len(items) < max(f.Min, f.Constraints.MinEntries) {
		return value.Value{}, m.none(f, path, "there are not as many different items")
	}
	return value.ListOf(items...), nil
}

func (m *maker) occurs(f *schema.Field) int {
	most := f.Max
	if most == schema.Many {
		most = max(f.Min, fullOccurs)
	}
	switch {
	case m.kind == Minimal && m.needed[f]:
		return max(f.Min, 1)
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
	switch f.Kind {
	case value.RecordKind:
		return m.record(f, path)
	case value.MapKind:
		return m.entries(f, path)
	case value.ListKind:
		return m.items(f.Each(), path, m.occurs(f.Each()))
	case value.VariantKind:
		return m.branch(f, path)
	case value.AnyKind:
		return value.NewText(m.text(&schema.Field{Name: f.Name, Kind: value.Text, Constraints: schema.Constraints{FractionDigits: -1}})), nil
	case value.Null:
		return value.NullValue, nil
	}
	for range attempts {
		v, ok := m.scalar(f)
		if ok && m.fits(f, v) {
			m.keep(f, v)
			return v, nil
		}
	}
	return value.Value{}, m.none(f, path, f.Constraints.Text())
}

// entries makes a map: names as they must be, and what stands at each.
func (m *maker) entries(f *schema.Field, path string) (value.Value, *fault.Fault) {
	n := max(f.Constraints.MinEntries, map[Kind]int{Minimal: 0, Typical: 2, Maximal: fullOccurs}[m.kind])
	if f.Constraints.MaxEntries > 0 {
		n = min(n, f.Constraints.MaxEntries)
	}
	if n > maxOccurs {
		return value.Value{}, m.none(f, path, fmt.Sprintf("it must have %d entries", n))
	}
	name := &schema.Field{Name: f.Name, Kind: value.Text, Min: 1, Max: 1, Constraints: f.Constraints}
	var names []string
	var values []value.Value
	for range attempts * (n + 1) {
		if len(names) == n {
			break
		}
		m.fresh = true
		key, ft := m.one(name, path)
		m.fresh = false
		if ft != nil {
			return value.Value{}, ft
		}
		if slices.Contains(names, key.Text()) {
			continue
		}
		v, ft := m.field(f.Each(), path+"/"+key.Text())
		if ft != nil {
			return value.Value{}, ft
		}
		names, values = append(names, key.Text()), append(values, v)
	}
	if len(names) < f.Constraints.MinEntries {
		return value.Value{}, m.none(f, path, fmt.Sprintf("there are not %d different names", f.Constraints.MinEntries))
	}
	return value.NewRecord(value.NewLayout(names...), values), nil
}

// branch makes a variant: in a minimal sample the first branch of which a value can be made, else one by chance.
func (m *maker) branch(f *schema.Field, path string) (v value.Value, ft *fault.Fault) {
	first := 0
	if m.kind != Minimal {
		first = m.rand.IntN(len(f.Fields))
	}
	for i := range f.Fields {
		b := f.Fields[(first+i)%len(f.Fields)]
		if v, ft = m.field(b, path); ft != nil {
			continue
		}
		if is, none := f.Branch(v); none == nil && is == b && f.Alone(b, v) == nil {
			return v, nil
		}
	}
	if ft == nil {
		ft = m.none(f, path, "no value of a branch is told from the others")
	}
	return value.Value{}, ft
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
	if codes := f.Constraints.Codes; len(codes) > 0 && f.Kind != value.Text {
		n := 0
		if m.kind != Minimal {
			n = m.rand.IntN(len(codes))
		}
		return coded(f.Kind, codes[n].Value)
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

// coded is a code as a value of a kind.
func coded(kind value.Kind, code string) (value.Value, bool) {
	if v, ok := schema.ParseScalar(kind, code); ok {
		return v, true
	}
	v, whole := value.AsInteger(value.Number(code))
	return v, whole && kind == value.Integer
}
