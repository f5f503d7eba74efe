package xsd

import (
	"encoding/xml"
	"strings"
)

// expr is what may still come inside of an element: a content model, of which every child element
// that is read leaves the rest (its derivative). Models are immutable and shared.
type expr interface {
	// nullable says whether nothing more need come.
	nullable() bool
	// derive takes a child element; the declaration is nil for a wildcard.
	derive(s *Set, name xml.Name) (rest expr, by *Element, wild *wildcard, ok bool)
	// firsts adds the names that may come next.
	firsts(add func(string))
}

type (
	nothing  struct{}
	oneOf    struct{ decl *Element }
	sequence []expr
	choice   []expr
	everyOne []expr // xs:all: each at most once, in any order
	repeat   struct {
		inner    expr
		min, max int // max -1: any number
	}
)

// wildcard is xs:any or xs:anyAttribute.
type wildcard struct {
	not     string // every namespace but this one and none
	any     bool
	in      map[string]bool
	process string // strict, lax or skip
}

func (w *wildcard) accepts(space string) bool {
	switch {
	case w.any:
		return true
	case w.in != nil:
		return w.in[space]
	}
	return space != w.not && space != ""
}

func (nothing) nullable() bool { return true }
func (nothing) derive(*Set, xml.Name) (expr, *Element, *wildcard, bool) {
	return nil, nil, nil, false
}
func (nothing) firsts(func(string)) {}

func (oneOf) nullable() bool { return false }

func (o oneOf) derive(s *Set, name xml.Name) (expr, *Element, *wildcard, bool) {
	if o.decl.Name == name {
		return nothing{}, o.decl, nil, true
	}
	if o.decl.global {
		if member := s.substitute(o.decl, name); member != nil {
			return nothing{}, member, nil, true
		}
	}
	return nil, nil, nil, false
}

func (o oneOf) firsts(add func(string)) { add(o.decl.Name.Local) }

func (w *wildcard) nullable() bool { return false }

func (w *wildcard) derive(_ *Set, name xml.Name) (expr, *Element, *wildcard, bool) {
	if w.accepts(name.Space) {
		return nothing{}, nil, w, true
	}
	return nil, nil, nil, false
}

func (w *wildcard) firsts(add func(string)) { add("any element") }

func (q sequence) nullable() bool {
	for _, e := range q {
		if !e.nullable() {
			return false
		}
	}
	return true
}

func (q sequence) derive(s *Set, name xml.Name) (expr, *Element, *wildcard, bool) {
	for i, e := range q {
		if rest, by, wild, ok := e.derive(s, name); ok {
			return join(rest, q[i+1:]), by, wild, true
		}
		if !e.nullable() {
			break
		}
	}
	return nil, nil, nil, false
}

// join is a sequence of a rest and what comes behind it.
func join(rest expr, behind []expr) expr {
	if _, done := rest.(nothing); done {
		if len(behind) == 1 {
			return behind[0]
		}
		return sequence(behind)
	}
	if len(behind) == 0 {
		return rest
	}
	return append(sequence{rest}, behind...)
}

func (q sequence) firsts(add func(string)) {
	for _, e := range q {
		e.firsts(add)
		if !e.nullable() {
			return
		}
	}
}

func (c choice) nullable() bool {
	for _, e := range c {
		if e.nullable() {
			return true
		}
	}
	return false
}

func (c choice) derive(s *Set, name xml.Name) (expr, *Element, *wildcard, bool) {
	for _, e := range c {
		if rest, by, wild, ok := e.derive(s, name); ok {
			return rest, by, wild, true
		}
	}
	return nil, nil, nil, false
}

func (c choice) firsts(add func(string)) {
	for _, e := range c {
		e.firsts(add)
	}
}

func (a everyOne) nullable() bool { return sequence(a).nullable() }

func (a everyOne) derive(s *Set, name xml.Name) (expr, *Element, *wildcard, bool) {
	for i, e := range a {
		if _, by, wild, ok := e.derive(s, name); ok {
			return append(append(everyOne{}, a[:i]...), a[i+1:]...), by, wild, true
		}
	}
	return nil, nil, nil, false
}

func (a everyOne) firsts(add func(string)) { choice(a).firsts(add) }

func (r repeat) nullable() bool { return r.min == 0 || r.inner.nullable() }

func (r repeat) derive(s *Set, name xml.Name) (expr, *Element, *wildcard, bool) {
	if r.max == 0 {
		return nil, nil, nil, false
	}
	rest, by, wild, ok := r.inner.derive(s, name)
	if !ok {
		return nil, nil, nil, false
	}
	left := repeat{r.inner, max(r.min-1, 0), r.max}
	if r.max > 0 {
		left.max--
	}
	if left.max == 0 {
		return rest, by, wild, true
	}
	return join(rest, []expr{left}), by, wild, true
}

func (r repeat) firsts(add func(string)) { r.inner.firsts(add) }

// maxModel bounds the particles of a group with all groups inside of it.
const maxModel = 20_000

// size counts the particles of a model, and stops behind most.
func size(e expr, most int) int {
	var parts []expr
	switch e := e.(type) {
	case sequence:
		parts = e
	case choice:
		parts = e
	case everyOne:
		parts = e
	case repeat:
		parts = []expr{e.inner}
	}
	n := 1
	for _, p := range parts {
		if n > most {
			break
		}
		n += size(p, most-n)
	}
	return n
}

// expected names what may come next, for a person.
func expected(e expr) string {
	seen := map[string]bool{}
	var names []string
	e.firsts(func(n string) {
		if !seen[n] {
			seen[n] = true
			names = append(names, n)
		}
	})
	if len(names) > 12 {
		names = append(names[:12], "…")
	}
	if len(names) == 0 {
		return "the end of the element"
	}
	if e.nullable() {
		names = append(names, "the end of the element")
	}
	return strings.Join(names, " or ")
}
