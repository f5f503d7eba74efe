// Package formula is the expression language of rules, filters, conditions and templates. The
// syntax is parsed by github.com/expr-lang/expr; types, exact arithmetic and evaluation are our
// own: a formula is checked against the shapes in scope and compiled once to closures that read
// fields by slot. A compiled Program is immutable and used by many goroutines, each with a Frame
// of its own.
//
// Something that is absent or null makes the operations and functions on it absent or null, too,
// save for those that say otherwise (??, coalesce, ==). Nothing is converted in silence.
package formula

import (
	"strconv"
	"strings"
	"unicode"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Type is what is known of a value before it is computed. Kind Absent means nothing is known.
type Type struct {
	Kind   value.Kind
	Maybe  bool          // may be absent or null
	Fields *schema.Field // the fields of a record, if known; of a map and of a variant the field itself
	Item   *Type         // of a list, and of what stands at the names of a map, if known
}

// Of is the type of a schema's field.
func Of(f *schema.Field) Type {
	t := single(f)
	if f.List() {
		item := t
		return Type{Kind: value.ListKind, Item: &item, Maybe: f.Min == 0}
	}
	t.Maybe = f.Min == 0 || f.Nullable
	return t
}

// ItemOf is the type of the items of a list of messages.
func ItemOf(root *schema.Field) *Type {
	t := Of(root)
	return &t
}

// single is the type of one occurrence of a field.
func single(f *schema.Field) Type {
	t := Type{Kind: f.Kind}
	switch f.Kind {
	case value.RecordKind, value.VariantKind:
		t.Fields = f
	case value.MapKind:
		each := Of(f.Each())
		t.Fields, t.Item = f, &each
	case value.ListKind:
		return Of(f.Each())
	case value.AnyKind:
		return Type{Maybe: true}
	}
	return t
}

// Record says whether the fields of the type's values are known by name.
func (t Type) Record() bool { return t.Kind == value.RecordKind && t.Fields != nil }

// branches are the names of a variant's branches.
func (t Type) branches() []string { return t.Fields.Layout().Names }

// String describes the type for a person.
func (t Type) String() string {
	s := t.Kind.String()
	switch {
	case t.Kind == value.Absent:
		return "anything"
	case t.Kind == value.ListKind && t.Item != nil:
		s = "list of " + strings.TrimSuffix(t.Item.String(), ", may be absent")
	case t.Kind == value.MapKind && t.Item != nil:
		s = "map of " + strings.TrimSuffix(t.Item.String(), ", may be absent")
	case t.Kind == value.VariantKind && t.Fields != nil:
		s = "one of " + strings.Join(t.branches(), ", ")
	}
	if t.Maybe {
		s += ", may be absent"
	}
	return s
}

func (t Type) unknown() bool { return t.Kind == value.Absent }

func (t Type) is(kinds ...value.Kind) bool {
	for _, k := range kinds {
		if t.Kind == k {
			return true
		}
	}
	return false
}

// Fits says whether a value of type t can stand where kind is wanted.
func (t Type) Fits(kind value.Kind) bool {
	switch kind {
	case value.AnyKind:
		return true
	case value.Decimal:
		return t.unknown() || t.Kind.Numeric()
	case value.RecordKind, value.MapKind:
		return t.unknown() || t.Kind == value.RecordKind || t.Kind == value.MapKind
	}
	return t.unknown() || t.Kind == kind
}

// Scope gives names their slots and types.
type Scope struct {
	names  map[string]binding
	opened []binding
	order  []string
	size   int
	temps  int // where the slots for what formulas compute in between begin, at least
	env    *Env
}

type binding struct {
	slot int
	typ  Type
	name string
	path []string // of an item at hand: what its list reads
}

// NewScope makes an empty scope without tables and libraries.
func NewScope() *Scope { return Env{}.Scope() }

// Scope makes an empty scope in which formulas can use the tables and libraries.
func (e Env) Scope() *Scope { return &Scope{names: map[string]binding{}, env: &e} }

// Define gives a name the next slot. A name that exists is replaced.
func (s *Scope) Define(name string, t Type) int {
	slot := s.size
	s.size++
	s.names[name] = binding{slot: slot, typ: t, name: name}
	s.order = append(s.order, name)
	return slot
}

// Take takes the next slot without giving it a name.
func (s *Scope) Take() int {
	s.size++
	return s.size - 1
}

// Bind gives a name a slot that was taken before.
func (s *Scope) Bind(name string, slot int, t Type) {
	s.names[name] = binding{slot: slot, typ: t, name: name}
	s.order = append(s.order, name)
}

// Open makes the fields of a name's record usable without its name. What is opened last is
// looked into first.
func (s *Scope) Open(name string) {
	if b, ok := s.names[name]; ok && b.typ.Record() {
		s.opened = append([]binding{b}, s.opened...)
	}
}

// Inner is a copy that can be added to without changing s.
func (s *Scope) Inner() *Scope {
	c := &Scope{names: make(map[string]binding, len(s.names)), size: s.size, temps: s.temps, env: s.env}
	for k, v := range s.names {
		c.names[k] = v
	}
	c.opened = append(c.opened, s.opened...)
	c.order = append(c.order, s.order...)
	return c
}

// Size is the number of slots.
func (s *Scope) Size() int { return s.size }

// Reserve keeps slots for names that are defined later: what formulas compute in between stands behind them.
func (s *Scope) Reserve(slots int) { s.temps = slots }

// ExtendTo lets names that are defined from now on have slots behind those of an inner scope that was left.
func (s *Scope) ExtendTo(inner *Scope) { s.size = max(s.size, inner.size) }

// Slot finds a name's slot and type.
func (s *Scope) Slot(name string) (slot int, t Type, ok bool) {
	b, ok := s.names[name]
	return b.slot, b.typ, ok
}

// Names lists the names in the order of their definition.
func (s *Scope) Names() []string { return s.order }

// find resolves a name: a name of the scope, or a field of an opened record.
func (s *Scope) find(name string) (b binding, field *schema.Field, ok bool) {
	if b, ok = s.names[name]; ok {
		return b, nil, true
	}
	for _, b := range s.opened {
		if f := b.typ.Fields.Field(name); f != nil {
			return b, f, true
		}
	}
	return binding{}, nil, false
}

// candidates are all names that could have been meant, for faults and completion.
func (s *Scope) candidates() []string {
	var names []string
	for _, b := range s.opened {
		names = append(names, b.typ.Fields.Layout().Names...)
	}
	return append(names, s.order...)
}

// ResolveName says to which record in scope a bare name leads, by the name of that record; ok is false
// where the name is none of a field's.
func (s *Scope) ResolveName(name string) (record string, ok bool) {
	b, field, ok := s.find(name)
	return b.name, ok && field != nil
}

// Name says whether a name can stand in a formula as it is.
func Name(s string) bool {
	for i, r := range s {
		if r != '_' && !unicode.IsLetter(r) && (i == 0 || !unicode.IsDigit(r)) {
			return false
		}
	}
	return s != "" && !reserved[s]
}

var reserved = map[string]bool{"and": true, "or": true, "not": true, "in": true, "let": true, "if": true, "else": true, "nil": true, "true": true, "false": true, "matches": true, "contains": true, "startsWith": true, "endsWith": true}

// Path writes the path of a field as a formula: booking.line, or booking["ev:id"] for a name that
// cannot stand by itself. The first name must be one that can.
func Path(names []string) string {
	var b strings.Builder
	for i, n := range names {
		switch {
		case i == 0:
			b.WriteString(n)
		case Name(n):
			b.WriteString("." + n)
		default:
			b.WriteString("[" + strconv.Quote(n) + "]")
		}
	}
	return b.String()
}
