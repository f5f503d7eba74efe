package xsd

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// ready is a simple type made ready for many texts.
type ready struct {
	lexical    func(string) string // what a text must look like; nil where any does
	steps      []step              // those derivations that constrain something, the newest first
	identifies bool                // it is an ID or refers to one
}

// step is one derivation with its facets.
type step struct {
	*facets
	bounds []bound
	codes  map[string]bool // the values of an enumeration, as they are written
	sized  bool
}

// bound is a least or greatest value.
type bound struct {
	name, words, text string
	number            value.Value // of a decimal
	holds             func(c int) bool
}

// ready makes the type ready, once; the result is the same whoever makes it.
func (s *Simple) ready() *ready {
	if r := s.made.Load(); r != nil {
		return r
	}
	r := &ready{lexical: lexicalOf(s.primitive)}
	for t := s; t != nil; t = t.base {
		if st, constrains := t.facets.step(s.primitive); constrains {
			r.steps = append(r.steps, st)
		}
		r.identifies = r.identifies || t == builtins["ID"] || t == builtins["IDREF"] || t == builtins["IDREFS"]
	}
	s.made.Store(r)
	return r
}

// quick are the ways of telling the most frequent texts at once. What they do not tell is for the
// whole rule of the type.
var quick = map[string]func(string) bool{"decimal": quickDecimal, "date": quickDate, "boolean": quickBoolean}

func lexicalOf(primitive string) func(string) string {
	if _, constrained := lexicals[primitive]; !constrained {
		return nil
	}
	fast := quick[primitive]
	return func(s string) string {
		if fast != nil && fast(s) {
			return ""
		}
		return lexical(primitive, s)
	}
}

// quickDecimal knows digits with at most one point between them.
func quickDecimal(s string) bool {
	point := false
	for i := 0; i < len(s); i++ {
		if s[i] == '.' && !point && i > 0 && i < len(s)-1 {
			point = true
		} else if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// quickDate knows days up to the 28th, which every month has.
func quickDate(s string) bool {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' || s[:4] < "0001" {
		return false
	}
	for _, i := range []int{0, 1, 2, 3, 5, 6, 8, 9} {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	month, day := s[5:7], s[8:]
	return month >= "01" && month <= "12" && day >= "01" && day <= "28"
}

func quickBoolean(s string) bool { return s == "true" || s == "false" || s == "1" || s == "0" }

// step makes the facets of one derivation ready; constrains is false where there are none.
func (f *facets) step(primitive string) (st step, constrains bool) {
	st = step{facets: f, sized: f.length != nil || f.minLength != nil || f.maxLength != nil}
	for _, b := range []struct {
		has bool
		bound
	}{
		{f.hasMinIn, bound{name: "minInclusive", words: "at least ", text: f.minIn, holds: func(c int) bool { return c >= 0 }}},
		{f.hasMaxIn, bound{name: "maxInclusive", words: "at most ", text: f.maxIn, holds: func(c int) bool { return c <= 0 }}},
		{f.hasMinEx, bound{name: "minExclusive", words: "more than ", text: f.minEx, holds: func(c int) bool { return c > 0 }}},
		{f.hasMaxEx, bound{name: "maxExclusive", words: "less than ", text: f.maxEx, holds: func(c int) bool { return c < 0 }}},
	} {
		if !b.has {
			continue
		}
		if primitive == "decimal" {
			b.number, _ = schema.ReadDecimal(b.text)
		}
		st.bounds = append(st.bounds, b.bound)
	}
	if f.enum != nil {
		st.codes = make(map[string]bool, len(f.enum))
		for _, e := range f.enum {
			st.codes[e] = true
		}
	}
	return st, st.sized || st.bounds != nil || f.patterns != nil || f.enum != nil || f.totalDigits != nil || f.fractionDigits != nil
}

// fault is what of a text does not fit the facets.
func (f *step) fault(s *Simple, text string) *fault.Fault {
	if f.sized {
		if ft := f.sizes(s, text); ft != nil {
			return ft
		}
	}
	if len(f.patterns) > 0 && !(s.primitive == "decimal" && f.place == nil && plainDigits(text)) && !matchesAny(f.patterns, text) {
		return f.at("pattern", fault.Expect(fault.Pattern, "text like "+strings.Join(f.patternText, " or "), fault.Quote(text)))
	}
	if f.enum != nil && !f.codes[text] && !s.among(text, f.enum) {
		return f.at("enumeration", fault.Expect(fault.Pattern, strings.Join(f.enum, " · "), fault.Quote(text)))
	}
	for i := range f.bounds {
		b := &f.bounds[i]
		if c, comparable := b.compare(s.primitive, text); !comparable || !b.holds(c) {
			return f.at(b.name, fault.Expect(fault.Range, b.words+b.text, text))
		}
	}
	return f.digits(text)
}

func (b *bound) compare(primitive, text string) (c int, ok bool) {
	if b.number.Kind() == value.Absent {
		return compare(primitive, text, b.text)
	}
	v, ok := schema.ReadDecimal(text)
	if !ok {
		return 0, false
	}
	c, err := value.Compare(v, b.number)
	return c, err == nil
}
