package flow

import "strconv"

// Geometry of a flow's drawing, in pixels. It knows nothing of how it is drawn.
type Geometry struct {
	Width, Height int
	Lanes         []Lane
	Nodes         []Node
	Links         []Link
	Spans         []Span
}

// Lane is the strip of one system, or of Hollow Reed itself.
type Lane struct {
	ID, Title, About string
	Y, Height        int
	Reed             bool
}

// Node is one step, or the trigger (ID "trigger").
type Node struct {
	ID, Title, Detail string
	X, Y, W, H        int
	Faults            int
}

// Link is the stem from one node to the next; its count stands at (CX, CY).
type Link struct {
	From, To string
	Points   []Point
	CX, CY   int
}

// Point of a link.
type Point struct{ X, Y int }

// Span is the bracket around the steps of an each.
type Span struct {
	ID, Title, Detail string
	X, Width          int
}

// Measures of the drawing.
const (
	laneHeight = 76
	headWidth  = 132
	nodeWidth  = 118
	nodeHeight = 36
	nodeGap    = 22
	spanRoom   = 62
	minWidth   = 1280
)

// ReedLane is the id of Hollow Reed's own lane.
const ReedLane = "reed"

type layout struct {
	g     Geometry
	parts Parts
	plan  *Plan
	lanes map[string]int
	x     int
	last  *Node
}

// Layout computes the drawing from the tree: the steps from left to right in their order, each on
// the lane of the system that it touches.
func (p *Plan) Layout(parts Parts) Geometry {
	l := &layout{parts: parts, plan: p, lanes: map[string]int{}, x: headWidth + 26}
	f := p.Flow
	at := f.Trigger.Connection.Value
	if at == "" {
		at = ReedLane
		if p.ReadStep != nil { // a system stands above the reed, so that there is room over the spans
			l.lane(laneOf(p.ReadStep))
		}
	}
	l.lane(at)
	l.lane(ReedLane)
	f.Walk(func(s *Step) { l.lane(laneOf(s)) })
	title := f.Trigger.Name
	if title == "" {
		title = triggerTitles[f.Trigger.Kind]
	}
	l.node(Node{ID: "trigger", Title: title, Detail: f.Trigger.When()}, at)
	l.steps(f.Steps)
	l.g.Width = max(minWidth, l.x+30)
	l.g.Height = len(l.g.Lanes) * laneHeight
	return l.g
}

var triggerTitles = map[string]string{"file": "Pick up file", "records": "New records", "schedule": "On time", "person": "By hand"}

// every says how long a number of seconds is: 2 h, 1 min, 90 s.
func every(seconds int) string {
	switch {
	case seconds%3600 == 0:
		return strconv.Itoa(seconds/3600) + " h"
	case seconds%60 == 0:
		return strconv.Itoa(seconds/60) + " min"
	}
	return strconv.Itoa(seconds) + " s"
}

// When says in a few words when a run starts.
func (t Trigger) When() string {
	switch t.Kind {
	case "records":
		return "new of " + t.Operation.Value
	case "schedule":
		return "every " + every(t.Every)
	case "person":
		return "when asked"
	}
	return t.Mask.Value
}

func laneOf(s *Step) string {
	if s.Kind == "read" && s.Setting("connection") != "" {
		return s.Setting("connection")
	}
	if k := kindOf(s.Kind); k != nil && k.Outside {
		return s.Setting("connection")
	}
	return ReedLane
}

func (l *layout) lane(id string) {
	if _, ok := l.lanes[id]; ok {
		return
	}
	lane := Lane{ID: id, Title: "In the reed", About: "Hollow Reed", Y: len(l.g.Lanes) * laneHeight, Height: laneHeight, Reed: id == ReedLane}
	if !lane.Reed {
		lane.Title, lane.About = id, "unknown"
		if c := l.parts.Connection(id); c != nil {
			lane.Title, lane.About = c.Title, c.About
		}
	}
	l.lanes[id] = len(l.g.Lanes)
	l.g.Lanes = append(l.g.Lanes, lane)
}

func (l *layout) node(n Node, lane string) {
	y := l.g.Lanes[l.lanes[lane]].Y
	n.X, n.Y, n.W, n.H = l.x, y+(laneHeight-nodeHeight)/2, nodeWidth, nodeHeight
	if l.last != nil {
		l.link(*l.last, n)
	}
	l.x += nodeWidth + nodeGap
	l.g.Nodes = append(l.g.Nodes, n)
	l.last = &n
}

// link runs from the right edge of one node to the left edge of the next, changing lanes half way.
func (l *layout) link(a, b Node) {
	ay, by := a.Y+a.H/2, b.Y+b.H/2
	mid := (a.X + a.W + b.X) / 2
	k := Link{From: a.ID, To: b.ID, CX: mid, CY: (ay + by) / 2}
	k.Points = []Point{{a.X + a.W, ay}}
	if ay != by {
		k.Points = append(k.Points, Point{mid, ay}, Point{mid, by})
	}
	k.Points = append(k.Points, Point{b.X, by})
	l.g.Links = append(l.g.Links, k)
}

func (l *layout) steps(steps []*Step) {
	for _, s := range steps {
		k := kindOf(s.Kind)
		if k == nil {
			continue
		}
		if k.Nests {
			l.span(s, k)
			continue
		}
		n := Node{ID: s.ID, Title: s.Name, Detail: k.Detail(s)}
		if ps := l.plan.Planned(s.ID); ps != nil {
			n.Faults = len(ps.Faults)
		}
		l.node(n, laneOf(s))
	}
}

func (l *layout) span(s *Step, k *Kind) {
	start := l.x - nodeGap + spanRoom/2
	l.x += spanRoom - nodeGap/2
	l.steps(s.Steps)
	end := l.x - nodeGap + 24
	l.g.Spans = append(l.g.Spans, Span{ID: s.ID, Title: s.Name, Detail: k.Detail(s), X: start, Width: end - start})
	l.x = end + 24
}
