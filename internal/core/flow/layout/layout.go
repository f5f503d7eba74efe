// Package layout computes the drawing of a flow from its tree: lanes, nodes, links and spans, as plain geometry.
package layout

import (
	"slices"
	"strconv"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
)

// Geometry of a flow's drawing, in pixels. It knows nothing of how it is drawn.
type Geometry struct {
	Width, Height int
	Lanes         []Lane
	Nodes         []Node
	Links         []Link
	Spans         []Span
	Joints        []Point // where branches join
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
	Needs             int // settings that are not there yet
	Off               bool
	Comment           string
	Holds             int // the steps inside it
	Folded            bool
}

// Link is the stem from one node to the next; its count stands at (CX, CY).
type Link struct {
	From, To string
	Points   []Point
	CX, CY   int
	Label    string // of a branch: its condition, or its name
	Trouble  bool   // the way of what failed
	Count    string // the step whose count it shows: of what comes in, or with Out of what goes out
	Out      bool
	Gap      *flow.Gap // where a step that is put here stands; nil where none can be
}

// Point of a link.
type Point struct{ X, Y int }

// Span is the bracket around the steps of an each or an attempt at the top.
type Span struct {
	ID, Title, Detail string
	X, Y, Width       int
	Depth             int
	Faults, Needs     int
	Attempt, Off      bool
}

// Measures of the drawing.
const (
	laneHeight = 76
	rowHeight  = 60
	headWidth  = 132
	nodeWidth  = 118
	nodeHeight = 36
	nodeGap    = 28
	column     = nodeWidth + nodeGap
	spanRoom   = 54
	headLine   = 32 // of the titles of spans above the lanes
	minWidth   = 1280
	sideways   = 9 // between the ways of branches that change lanes at the same place
)

// ReedLane is the id of Hollow Reed's own lane.
const ReedLane = "reed"

// spot is where something stands before the lanes have their heights.
type spot struct {
	x1, x2 int
	lane   string
	row    int
}

// end is a loose end of the stem.
type end struct {
	spot
	id, label string
	trouble   bool
	gap       *flow.Gap
}

// joined is a link before the lanes have their heights.
type joined struct {
	from, to spot
	fork     bool // at the side of a fork or a joint: its branches change lanes at the same place
	joint    bool // it runs on to a joint
	link     Link
}

type layout struct {
	g      Geometry
	parts  compile.Parts
	plan   *running.Plan
	folded map[string]bool
	lanes  map[string]int
	rows   map[string][]int // of each lane, those that are used
	nodes  []spot
	links  []joined
	joints []spot
	ends   []end
	x      int
	row    int // of the branch at hand
	next   int // the first row that no branch has
	group  int // how many forks and attempts are around
	spans  int // how many spans are around
	deep   int // the most spans in each other
	trail  int // how far right a branch below reaches
}

// Of computes the drawing from the tree: the steps from left to right in their order, each on
// the lane of the system that it touches; branches beside each other have rows of their own in the lanes that they
// touch. Of folded steps only the outline is drawn.
func Of(p *running.Plan, parts compile.Parts, folded map[string]bool) Geometry {
	l := &layout{parts: parts, plan: p, folded: folded, lanes: map[string]int{}, rows: map[string][]int{}, x: headWidth + 26, next: 1}
	f := p.Flow
	at := f.Trigger.Connection.Value
	if at == "" {
		at = ReedLane
	}
	l.lane(at)
	l.lane(ReedLane)
	f.Walk(func(s *flow.Step) { l.lane(laneOf(s)) })
	title := f.Trigger.Name
	if title == "" {
		title = f.Trigger.Of().Drawn
	}
	l.node(Node{ID: "trigger", Title: title, Detail: f.Trigger.When()}, at, nil)
	l.steps(f.Steps, []any{"steps"})
	l.tail()
	l.place()
	return l.g
}

func laneOf(s *flow.Step) string {
	k := flow.KindOf(s.Kind)
	if k != nil && (k.OnConnection || k.Reads) && s.Setting("connection") != "" {
		return s.Setting("connection")
	}
	return ReedLane
}

func (l *layout) lane(id string) {
	if _, ok := l.lanes[id]; ok {
		return
	}
	lane := Lane{ID: id, Title: "In the reed", About: "Hollow Reed", Reed: id == ReedLane}
	if !lane.Reed {
		lane.Title, lane.About = id, "unknown"
		if c := l.parts.Connection(id); c != nil {
			lane.Title, lane.About = c.Title, c.About
		}
	}
	l.lanes[id] = len(l.g.Lanes)
	l.g.Lanes = append(l.g.Lanes, lane)
}

// at is a spot in the branch at hand.
func (l *layout) at(x, width int, lane string) spot {
	if !slices.Contains(l.rows[lane], l.row) {
		l.rows[lane] = append(l.rows[lane], l.row)
	}
	return spot{x, x + width, lane, l.row}
}

// node places the next node and ties the loose ends to it.
func (l *layout) node(n Node, lane string, gap *flow.Gap) {
	n.X, n.W, n.H = l.x, nodeWidth, nodeHeight
	s := l.at(l.x, nodeWidth, lane)
	l.tie(s, n.ID, gap, false)
	l.g.Nodes, l.nodes = append(l.g.Nodes, n), append(l.nodes, s)
	l.ends = []end{{spot: s, id: n.ID}}
	l.x += column
}

// tie links all loose ends to a spot.
func (l *layout) tie(to spot, id string, gap *flow.Gap, joint bool) {
	for _, e := range l.ends {
		k := Link{From: e.id, To: id, Label: e.label, Trouble: e.trouble, Gap: gap}
		if e.gap != nil {
			k.Gap = e.gap
		}
		k.Count, k.Out = id, false
		if joint || l.plan.Planned(id) == nil {
			k.Count, k.Out = e.id, true
		}
		l.links = append(l.links, joined{from: e.spot, to: to, fork: joint || len(l.ends) > 1 || e.label != "" || e.trouble, joint: joint, link: k})
	}
}

// joint brings the loose ends together. Where branches lie beside it, it keeps to the columns, so that nothing runs
// through their steps.
func (l *layout) joint(id string, width int, gap *flow.Gap) {
	lane := ReedLane
	if len(l.ends) == 1 && l.ends[0].row == l.row && l.group == 0 {
		lane = l.ends[0].lane // it stays where it is
	}
	s := l.at(l.jointAt(width), 0, lane)
	l.tie(s, id, gap, true)
	if len(l.ends) > 0 {
		l.joints = append(l.joints, s)
		l.ends = []end{{spot: s, id: id}}
	}
	l.x += width
}

func (l *layout) jointAt(width int) int {
	if width == column {
		return l.x
	}
	return l.x + width/2
}

func (l *layout) steps(steps []*flow.Step, path []any) {
	for i, s := range steps {
		l.step(s, &flow.Gap{Path: path, At: i})
	}
}

func (l *layout) step(s *flow.Step, gap *flow.Gap) {
	k := flow.KindOf(s.Kind)
	if k == nil {
		l.node(Node{ID: s.ID, Title: s.Name, Detail: "unknown", Faults: 1}, ReedLane, gap)
		return
	}
	n := Node{ID: s.ID, Title: s.Name, Detail: k.Detail(s), Off: s.Disabled, Comment: s.Comment}
	if ps := l.plan.Planned(s.ID); ps != nil {
		n.Faults, n.Needs = running.Needs(ps.Faults)
	}
	flow.WalkSteps(heldBy(s), func(*flow.Step) { n.Holds++ })
	switch {
	case l.folded[s.ID] && n.Holds > 0:
		n.Folded, n.Detail = true, folded(n.Holds)
		for _, inner := range heldBy(s) {
			flow.WalkSteps([]*flow.Step{inner}, func(s *flow.Step) {
				if ps := l.plan.Planned(s.ID); ps != nil {
					faults, needs := running.Needs(ps.Faults)
					n.Faults, n.Needs = n.Faults+faults, n.Needs+needs
				}
			})
		}
		l.node(n, ReedLane, gap)
	case k.Drawn == flow.AsSpan && l.group == 0:
		l.span(s, n, gap)
	case k.Drawn == flow.AsAttempt:
		l.attempt(s, n, gap)
	case k.Drawn == flow.AsSpan:
		l.node(n, laneOf(s), gap)
		l.steps(s.Branches[0].Steps, s.Branches[0].Path)
		l.joint("end-"+s.ID, column, &flow.Gap{Path: s.Branches[0].Path, At: len(s.Branches[0].Steps)})
	case k.Drawn == flow.AsFork:
		l.fork(s, n, gap)
	default:
		l.node(n, laneOf(s), gap)
		l.undo(s)
	}
	if k.Ends && !s.Disabled {
		l.ends = nil
	}
}

// folded says how many steps a node stands for.
func folded(n int) string {
	if n == 1 {
		return "1 step folded"
	}
	return strconv.Itoa(n) + " steps folded"
}

// heldBy are the steps inside a step.
func heldBy(s *flow.Step) (list []*flow.Step) {
	for _, t := range s.Branches {
		list = append(list, t.Steps...)
	}
	return list
}

// span draws an each at the top as a bracket through all lanes.
func (l *layout) span(s *flow.Step, n Node, gap *flow.Gap) {
	start := l.open(s.ID, gap)
	t := s.Branches[0]
	l.steps(t.Steps, t.Path)
	l.close(s, n, start, &flow.Gap{Path: t.Path, At: len(t.Steps)}, false)
}

// open begins a span: the stem runs on through it.
func (l *layout) open(id string, gap *flow.Gap) int {
	l.spans++
	l.deep = max(l.deep, l.spans)
	l.joint("begin-"+id, spanRoom, gap)
	return l.x - spanRoom/2
}

func (l *layout) close(s *flow.Step, n Node, start int, gap *flow.Gap, attempt bool) {
	l.x = max(l.x, l.trail)
	l.joint("end-"+s.ID, spanRoom, gap)
	l.g.Spans = append(l.g.Spans, Span{ID: s.ID, Title: n.Title, Detail: n.Detail, X: start, Width: l.x - spanRoom/2 - start, Depth: l.spans, Faults: n.Faults, Needs: n.Needs, Attempt: attempt, Off: s.Disabled})
	l.spans--
}

// fork draws branches beside each other, from a node to a joint.
func (l *layout) fork(s *flow.Step, n Node, gap *flow.Gap) {
	l.node(n, laneOf(s), gap)
	l.tracks(s.Branches, l.ends[0], nil)
	l.meet("end-" + s.ID)
}

// meet ends a group of branches.
func (l *layout) meet(id string) {
	width := column
	if l.group == 0 {
		width = spanRoom
		l.next, l.trail = l.row+1, 0
	}
	l.joint(id, width, nil)
}

// branches draws branches from one loose end, each on rows of its own, and leaves their ends loose.
func (l *layout) tracks(tracks []*flow.Branch, from end, below []*flow.Branch) {
	row, x, far := l.row, l.x, l.x
	var loose []end
	l.group++
	for i, t := range append(tracks[:len(tracks):len(tracks)], below...) {
		if l.x, l.row = x, row; i > 0 {
			l.row = l.next
			l.next++
		}
		begin := from
		begin.label, begin.trouble = labelOf(t, i), i >= len(tracks)
		l.ends = []end{begin}
		l.steps(t.Steps, t.Path)
		gap := &flow.Gap{Path: t.Path, At: len(t.Steps)}
		if len(t.Steps) == 0 { // the way around
			s := l.at(l.x, 0, ReedLane)
			l.tie(s, "", gap, false)
			for i := range l.links {
				if l.links[i].to == s && l.links[i].link.To == "" {
					l.links[i].link.Count = ""
				}
			}
			l.ends = []end{{spot: s}}
			l.x += column
		}
		for _, e := range l.ends {
			e.gap = gap
			if len(t.Steps) == 0 {
				e.gap = nil
			}
			e.trouble = begin.trouble
			loose = append(loose, e)
		}
		far = max(far, l.x)
	}
	l.group--
	l.row, l.x, l.ends = row, max(far, l.trail), loose
}

func labelOf(t *flow.Branch, i int) string {
	switch {
	case t.Name != "":
		return t.Name
	case t.If.Value != "":
		return t.If.Value
	case t.Kind.Many:
		return t.Kind.Title + " " + strconv.Itoa(i+1)
	}
	return t.Kind.Title
}

// attempt draws what is attempted with the branch of what failed below, and finally behind both.
func (l *layout) attempt(s *flow.Step, n Node, gap *flow.Gap) {
	top := l.group == 0
	start := 0
	if top {
		start = l.open(s.ID, gap)
	} else {
		l.node(n, ReedLane, gap)
	}
	from := end{}
	if len(l.ends) > 0 {
		from = l.ends[0]
	}
	main, other, last := s.Branch("steps"), s.Branch("on fault"), s.Branch("finally")
	l.tracks([]*flow.Branch{main}, from, []*flow.Branch{other})
	if len(last.Steps) > 0 {
		ended := len(l.ends) == 0 // what ended inside passes the last steps, too
		if ended {
			l.ends = []end{{spot: l.at(l.x, 0, ReedLane)}}
		}
		l.joint("join-"+s.ID, column, nil)
		l.ends[0].label = last.Kind.Title
		l.steps(last.Steps, last.Path)
		if ended {
			l.tie(l.at(l.x, 0, ReedLane), "", &flow.Gap{Path: last.Path, At: len(last.Steps)}, false)
			l.ends = nil
		}
		for i := range l.ends {
			l.ends[i].gap = &flow.Gap{Path: last.Path, At: len(last.Steps)}
		}
	}
	if top {
		l.close(s, n, start, nil, true)
		l.next, l.trail = l.row+1, 0
		return
	}
	l.meet("end-" + s.ID)
}

// undo draws what takes a step back as a branch below it that leads nowhere.
func (l *layout) undo(s *flow.Step) {
	t := s.Branch("compensate")
	if t == nil || len(t.Steps) == 0 {
		return
	}
	ends, x, row := l.ends, l.x, l.row
	l.row = l.next
	l.next++
	begin := ends[0]
	begin.label, begin.trouble = t.Kind.Title, true
	l.ends = []end{begin}
	l.group++
	l.steps(t.Steps, t.Path)
	l.group--
	l.trail = max(l.trail, l.x)
	if l.group == 0 { // in no attempt: a fault, but drawn
		x = l.trail
	}
	l.ends, l.x, l.row = ends, x, row
}

// tail lets the stem run on at the end, so that a step can be put there.
func (l *layout) tail() {
	f := l.plan.Flow
	if len(l.ends) > 0 {
		lane := ReedLane
		if len(l.ends) == 1 {
			lane = l.ends[0].lane
		}
		l.tie(l.at(l.x+spanRoom, 0, lane), "end", &flow.Gap{Path: []any{"steps"}, At: len(f.Steps)}, false)
	}
	l.g.Width = max(minWidth, l.x+spanRoom+30, l.trail)
}

// place gives lanes their heights and everything its height in them.
func (l *layout) place() {
	y := l.deep * headLine
	for i := range l.g.Lanes {
		lane := &l.g.Lanes[i]
		slices.Sort(l.rows[lane.ID])
		lane.Y, lane.Height = y, laneHeight+max(0, len(l.rows[lane.ID])-1)*rowHeight
		y += lane.Height
	}
	l.g.Height = y
	for i, s := range l.nodes {
		l.g.Nodes[i].Y = l.middle(s) - nodeHeight/2
	}
	for _, s := range l.joints {
		l.g.Joints = append(l.g.Joints, Point{s.x1, l.middle(s)})
	}
	for i := range l.g.Spans {
		l.g.Spans[i].Y = (l.g.Spans[i].Depth - 1) * headLine
	}
	for _, k := range l.links {
		l.g.Links = append(l.g.Links, l.link(k))
	}
	l.g.clearMarks()
}

// middle is the height of the stem at a spot.
func (l *layout) middle(s spot) int {
	i := slices.Index(l.rows[s.lane], s.row)
	return l.g.Lanes[l.lanes[s.lane]].Y + laneHeight/2 + i*rowHeight
}

// link runs from the right edge of one spot to the left edge of the next, changing lanes just before it.
func (l *layout) link(k joined) Link {
	ay, by := l.middle(k.from), l.middle(k.to)
	side := 0
	if !k.fork {
		side = (k.to.row%3 - 1) * sideways
		if k.to.row == 0 && k.from.row == 0 {
			side = 0
		}
	}
	if k.link.Trouble {
		side = -sideways
	}
	mid := k.to.x1 - nodeGap/2 + side
	out := k.link
	out.Points = []Point{{k.from.x2, ay}}
	if ay != by {
		out.Points = append(out.Points, Point{mid, ay}, Point{mid, by})
	}
	out.Points = append(out.Points, Point{k.to.x1, by})
	out.CX, out.CY = (k.from.x2+k.to.x1)/2, by
	switch {
	case ay == by && k.to.x1-k.from.x2 > 2*column:
		out.CX = k.from.x2 + nodeGap/2 + 2
	case ay == by:
	case k.joint:
		out.CX, out.CY = min(k.from.x2+nodeGap/2+2, mid), ay
	case k.fork && by > ay:
		out.CX, out.CY = mid, by-26
	case k.fork:
		out.CX, out.CY = mid, by+26
	default:
		out.CX, out.CY = mid, (ay+by)/2
	}
	return out
}
