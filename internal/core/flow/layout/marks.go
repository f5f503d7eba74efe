package layout

import (
	"cmp"
	"slices"
)

// markRadius is the room around the middle of a mark: a count on a link, or the sign for putting a step there.
const markRadius = 12

// marker places the marks of a drawing.
type marker struct {
	g     *Geometry
	boxes []box   // around each link
	taken []Point // where marks stand already
}

// box is a part of the drawing, its edges included.
type box struct{ left, right, top, bottom int }

func (b box) has(p Point, room int) bool {
	return within(p.X, b.left, b.right, room) && within(p.Y, b.top, b.bottom, room)
}

// clearMarks moves marks along their links to where they cover no node, no other mark and no line but their own, as far as
// there is such a place; the nearest is taken. Short links have the least choice: theirs are settled first.
func (g *Geometry) clearMarks() {
	m := marker{g: g, boxes: make([]box, len(g.Links))}
	var marked []int
	for i, k := range g.Links {
		m.boxes[i] = k.box()
		if k.Gap != nil || k.Count != "" {
			marked = append(marked, i)
		}
	}
	slices.SortStableFunc(marked, func(a, b int) int { return cmp.Compare(g.Links[a].length(), g.Links[b].length()) })
	for _, i := range marked {
		k := &g.Links[i]
		p := m.clearest(i, Point{k.CX, k.CY})
		k.CX, k.CY = p.X, p.Y
		m.taken = append(m.taken, p)
	}
}

// clearest is the place on a link at which a mark covers the least: where it was, or the nearest to that.
func (m *marker) clearest(link int, was Point) Point {
	best, least := was, m.covered(link, was)
	if least == 0 {
		return was
	}
	for _, p := range m.g.Links[link].places() {
		if n := m.covered(link, p); n < least || n == least && best != was && apart(p, was) < apart(best, was) {
			best, least = p, n
		}
	}
	return best
}

// box is the part of the drawing that a link runs through.
func (k *Link) box() box {
	b := box{k.Points[0].X, k.Points[0].X, k.Points[0].Y, k.Points[0].Y}
	for _, p := range k.Points {
		b = box{min(b.left, p.X), max(b.right, p.X), min(b.top, p.Y), max(b.bottom, p.Y)}
	}
	return b
}

// length is how long a link is.
func (k *Link) length() (n int) {
	for i := 1; i < len(k.Points); i++ {
		n += apart(k.Points[i-1], k.Points[i])
	}
	return n
}

// places are points along a link from its start, those in the middle of its pieces among them.
func (k *Link) places() (list []Point) {
	const step = 6
	for i := 1; i < len(k.Points); i++ {
		a, b := k.Points[i-1], k.Points[i]
		length := max(distance(a.X, b.X), distance(a.Y, b.Y))
		list = append(list, Point{(a.X + b.X) / 2, (a.Y + b.Y) / 2})
		for at := step; at < length && len(list) < 60; at += step {
			list = append(list, Point{a.X + (b.X-a.X)*at/length, a.Y + (b.Y-a.Y)*at/length})
		}
	}
	return list
}

// covered counts what a mark of a link would cover.
func (m *marker) covered(link int, p Point) (n int) {
	g := m.g
	for _, node := range g.Nodes {
		if within(p.X, node.X, node.X+node.W, markRadius-2) && within(p.Y, node.Y, node.Y+node.H, markRadius-2) {
			n += 3
		}
	}
	for _, t := range m.taken {
		if distance(p.X, t.X) < 2*markRadius && distance(p.Y, t.Y) < 44 { // a sign stands above a count
			n += 5
		}
	}
	for _, s := range g.Spans {
		if distance(p.X, s.X) < markRadius || distance(p.X, s.X+s.Width) < markRadius {
			n++
		}
	}
	for i := range g.Links {
		if i != link && m.boxes[i].has(p, markRadius) && g.Links[i].near(p) && !g.Links[link].shares(&g.Links[i], p) {
			n++
		}
	}
	return n
}

// near says whether a link passes under a mark.
func (k *Link) near(p Point) bool {
	for i := 1; i < len(k.Points); i++ {
		a, b := k.Points[i-1], k.Points[i]
		if within(p.X, min(a.X, b.X), max(a.X, b.X), markRadius) && within(p.Y, min(a.Y, b.Y), max(a.Y, b.Y), markRadius) {
			return true
		}
	}
	return false
}

// shares says whether two links run as one where a mark stands.
func (k *Link) shares(other *Link, p Point) bool {
	return other.through(p) && k.through(p) && k.along(p) == other.along(p)
}

// through says whether a link runs through a point.
func (k *Link) through(p Point) bool { _, ok := k.piece(p); return ok }

// along says whether the piece of a link that runs through a point is a level one.
func (k *Link) along(p Point) bool {
	i, _ := k.piece(p)
	return k.Points[i-1].Y == k.Points[i].Y
}

func (k *Link) piece(p Point) (i int, ok bool) {
	for i := 1; i < len(k.Points); i++ {
		a, b := k.Points[i-1], k.Points[i]
		if within(p.X, min(a.X, b.X), max(a.X, b.X), 0) && within(p.Y, min(a.Y, b.Y), max(a.Y, b.Y), 0) {
			return i, true
		}
	}
	return 1, false
}

func within(x, low, high, room int) bool { return x > low-room-1 && x < high+room+1 }

func distance(a, b int) int { return max(a-b, b-a) }

func apart(a, b Point) int { return distance(a.X, b.X) + distance(a.Y, b.Y) }
