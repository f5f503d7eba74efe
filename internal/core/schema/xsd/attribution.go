package xsd

import (
	"encoding/xml"
	"slices"

	"hollowreed/internal/core/fault"
)

// Bounds of the check of unique particle attribution: larger models are not checked.
const (
	maxPositions = 2_000
	maxCopies    = 20
)

// position is a place in a content model at which one particle takes an element. The copies of one that must occur several times
// are of one particle.
type position struct {
	particle int
	decl     *Element
	wild     *wildcard
}

// follows is a content model as its positions: those that may come first and last, and which may follow each (Glushkov 1961).
type follows struct {
	positions []position
	next      []map[int]bool
	particles int
	large     bool
}

// ends are the positions with which a model may begin and end.
type ends struct {
	nullable    bool
	first, last []int
}

// add goes through a model; particles count its leaves in the order in which they stand in the schema.
func (g *follows) add(e expr) ends {
	switch e := e.(type) {
	case oneOf:
		return g.leaf(position{decl: e.decl})
	case *wildcard:
		return g.leaf(position{wild: e})
	case sequence:
		out := ends{nullable: true}
		for _, part := range e {
			out = g.chain(out, g.add(part))
		}
		return out
	case choice:
		out := ends{nullable: len(e) == 0}
		for _, part := range e {
			s := g.add(part)
			out = ends{out.nullable || s.nullable, append(out.first, s.first...), append(out.last, s.last...)}
		}
		return out
	case everyOne:
		return g.anyOrder(e)
	case repeat:
		return g.repeated(e)
	}
	return ends{nullable: true}
}

func (g *follows) leaf(p position) ends {
	g.particles++
	if len(g.positions) >= maxPositions {
		g.large = true
		return ends{nullable: true}
	}
	p.particle = g.particles
	g.positions, g.next = append(g.positions, p), append(g.next, map[int]bool{})
	at := []int{len(g.positions) - 1}
	return ends{first: at, last: at}
}

func (g *follows) link(from, to []int) {
	for _, a := range from {
		for _, b := range to {
			g.next[a][b] = true
		}
	}
}

func (g *follows) chain(a, b ends) ends {
	g.link(a.last, b.first)
	out := ends{nullable: a.nullable && b.nullable, first: a.first, last: b.last}
	if a.nullable {
		out.first = append(slices.Clone(a.first), b.first...)
	}
	if b.nullable {
		out.last = append(slices.Clone(b.last), a.last...)
	}
	return out
}

func (g *follows) anyOrder(list everyOne) ends {
	out := ends{nullable: true}
	for _, part := range list {
		s := g.add(part)
		g.link(out.last, s.first)
		g.link(s.last, out.first)
		out = ends{out.nullable && s.nullable, append(out.first, s.first...), append(out.last, s.last...)}
	}
	return out
}

// repeated unrolls what must occur, so that a particle that stands an exact number of times is left behind it.
func (g *follows) repeated(e repeat) ends {
	if e.max == 0 {
		return ends{nullable: true}
	}
	particles := g.particles
	out := g.add(e.inner)
	copies := min(max(e.min, 1), maxCopies)
	for range copies - 1 {
		g.particles = particles // the same particles once more
		out = g.chain(out, g.add(e.inner))
	}
	if e.max < 0 || e.max > copies {
		g.particles = particles
		more := g.add(e.inner)
		g.link(more.last, more.first)
		more.nullable = true
		out = g.chain(out, more)
	}
	out.nullable = out.nullable || e.min == 0
	return out
}

// attribution refuses content models in which an element may be of two particles (XML Schema 1.0, part 1, section 3.8.6).
func (l *loader) attribution() {
	for _, t := range l.complex {
		if t.Content == nil {
			continue
		}
		g := &follows{}
		whole := g.add(t.Content)
		if g.large {
			continue
		}
		name, twice := g.twice(l.set, whole.first)
		for at := 0; at < len(g.next) && !twice; at++ {
			next := make([]int, 0, len(g.next[at]))
			for to := range g.next[at] {
				next = append(next, to)
			}
			slices.Sort(next)
			name, twice = g.twice(l.set, next)
		}
		if twice {
			l.faults = append(l.faults, fault.New(fault.Setting, "the content model is ambiguous: %s may be of two particles (unique particle attribution)", name).At(t.place))
		}
	}
}

// twice finds an element that may be of two particles of some positions.
func (g *follows) twice(s *Set, positions []int) (name string, twice bool) {
	byName := map[xml.Name]int{}
	var wilds []position
	for _, at := range positions {
		p := g.positions[at]
		if p.wild != nil {
			wilds = append(wilds, p)
			continue
		}
		for _, n := range s.namesOf(p.decl) {
			if other, there := byName[n]; there && other != p.particle {
				return n.Local, true
			}
			byName[n] = p.particle
		}
	}
	for i, w := range wilds {
		for n := range byName {
			if w.wild.accepts(n.Space) {
				return n.Local, true
			}
		}
		for _, o := range wilds[:i] {
			if o.particle != w.particle && o.wild.overlaps(w.wild) {
				return "an element of any name", true
			}
		}
	}
	return "", false
}

// namesOf are the names of the elements that a particle takes: its own, and those that stand for it.
func (s *Set) namesOf(e *Element) []xml.Name {
	names := []xml.Name{e.Name}
	if e.global {
		for _, m := range s.standFor[e.Name] {
			names = append(names, m.Name)
		}
	}
	return names
}

// overlaps says whether two wildcards take elements of one namespace.
func (w *wildcard) overlaps(o *wildcard) bool {
	switch {
	case w.in != nil:
		for space := range w.in {
			if o.accepts(space) {
				return true
			}
		}
		return false
	case o.in != nil:
		return o.overlaps(w)
	}
	return true // each leaves out one or two of all namespaces
}
