package xsd

import (
	"encoding/xml"
	"fmt"
	"strings"
)

// models remembers what is left of content models behind each child element, so that a model is
// derived once for each way through it and not for each element of the document. It belongs to one
// validation.
type models struct {
	set    *Set
	types  map[*Type]*state
	states map[string]*state
}

// state is a content model, or what is left of one.
type state struct {
	model expr
	ends  bool // nothing more need come
	next  map[xml.Name]move
}

// move is what a child element leaves of a model.
type move struct {
	ok   bool
	to   *state
	by   *Element
	wild *wildcard
}

// Bounds on what is remembered.
const (
	maxStates = 10_000
	maxMoves  = 1_000 // of one state
	maxKey    = 8_000 // bytes of a model's key
)

func newModels(s *Set) *models {
	return &models{set: s, types: map[*Type]*state{}, states: map[string]*state{}}
}

// of is the content model of a type; nil when it has none.
func (m *models) of(t *Type) *state {
	if t.Content == nil {
		return nil
	}
	st := m.types[t]
	if st == nil {
		st = m.state(t.Content)
		m.types[t] = st
	}
	return st
}

func (m *models) state(e expr) *state {
	key := key(e)
	if st := m.states[key]; st != nil && key != "" {
		return st
	}
	st := &state{model: e, ends: e.nullable(), next: map[xml.Name]move{}}
	if len(m.states) >= maxStates {
		clear(m.states)
	}
	if key != "" {
		m.states[key] = st
	}
	return st
}

// step takes a child element.
func (m *models) step(st *state, name xml.Name) move {
	if mv, ok := st.next[name]; ok {
		return mv
	}
	rest, by, wild, ok := st.model.derive(m.set, name)
	mv := move{ok: ok, by: by, wild: wild}
	if ok {
		mv.to = m.state(rest)
	}
	if len(st.next) < maxMoves {
		st.next[name] = mv
	}
	return mv
}

// key tells models apart; empty for one that is too large to be told.
func key(e expr) string {
	var b strings.Builder
	writeKey(&b, e)
	if b.Len() > maxKey {
		return ""
	}
	return b.String()
}

func writeKey(b *strings.Builder, e expr) {
	if b.Len() > maxKey {
		return
	}
	many := func(kind byte, parts []expr) {
		b.WriteByte(kind)
		for _, p := range parts {
			writeKey(b, p)
		}
		b.WriteByte(')')
	}
	switch e := e.(type) {
	case nothing:
		b.WriteByte('-')
	case oneOf:
		fmt.Fprintf(b, "%p", e.decl)
	case *wildcard:
		fmt.Fprintf(b, "*%p", e)
	case sequence:
		many(',', e)
	case choice:
		many('|', e)
	case everyOne:
		many('&', e)
	case repeat:
		fmt.Fprintf(b, "{%d-%d", e.min, e.max)
		writeKey(b, e.inner)
		b.WriteByte('}')
	}
}
