// Package draw turns geometry into SVG. It is the only place that makes template.HTML, and it
// escapes every label.
package draw

import (
	"fmt"
	"html"
	"html/template"
	"strings"
	"time"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/core/flow/running"
)

// The colours of the drawings; the same as the tokens of app.css.
const (
	ink, ink2, ink3 = "var(--color-ink)", "var(--color-ink-2)", "var(--color-ink-3)"
	reedDeep        = "var(--color-reed-deep)"
	stem            = "var(--color-reed)"
	paleStem        = "var(--color-reed-soft)"
	clay            = "var(--color-clay)"
	pollenStem      = "var(--color-pollen-soft)"
	light           = "var(--color-light)"
	rule            = "var(--color-rule)"
	strong          = "var(--color-rule-strong)"
	sheet           = "var(--color-sheet)"
	reedLane        = "var(--color-reed-lane)"
)

type svg struct{ strings.Builder }

func (s *svg) f(format string, args ...any) { fmt.Fprintf(&s.Builder, format, args...) }

func (s *svg) text(x, y int, attrs, label string) {
	s.f(`<text x="%d" y="%d" %s>%s</text>`, x, y, attrs, html.EscapeString(label))
}

// cut shortens a label to about the number of characters that fit.
func cut(s string, most int) string {
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	return string(r[:most-1]) + "…"
}

// FlowOptions say what is shown on a flow's drawing.
type FlowOptions struct {
	Selected string
	Counts   map[string]*running.Counts // nil before a try or a run
	Read     int                        // records that came in
	Href     func(step string) string
	Insert   func(g *flow.Gap) string // where a gap leads; nil where nothing can be put into the flow
	Target   string                   // selector of what a click fetches anew
	Stops    map[string]bool          // steps before which stepping through stops
}

// Flow draws a flow on its lanes.
func Flow(g layout.Geometry, o FlowOptions) template.HTML {
	var s svg
	s.f(`<svg width="%d" height="%d" viewBox="0 0 %d %d" preserveAspectRatio="xMinYMin" role="group" aria-label="The flow on its lanes" font-family="Atkinson, system-ui, sans-serif" font-size="12">`, g.Width, g.Height, g.Width, g.Height)
	for i, l := range g.Lanes {
		s.lane(l, g.Width, i > 0)
	}
	if len(g.Lanes) > 0 {
		s.f(`<path d="M132 %dV%d" stroke="%s"/>`, g.Lanes[0].Y, g.Height, rule)
	}
	for _, sp := range g.Spans {
		s.bars(sp, g.Height)
	}
	s.links(g.Links)
	for _, p := range g.Joints {
		s.f(`<circle cx="%d" cy="%d" r="4.5" fill="%s" stroke="%s" stroke-width="1.8"/>`, p.X, p.Y, light, stem)
	}
	for _, n := range g.Nodes {
		s.node(n, o)
	}
	for _, sp := range g.Spans {
		s.span(sp, o)
	}
	if o.Counts != nil {
		s.counts(g, o)
	}
	if o.Insert != nil {
		s.gaps(g, o)
	}
	s.f(`</svg>`)
	return template.HTML(s.String())
}

func (s *svg) lane(l layout.Lane, width int, line bool) {
	if l.Reed {
		s.f(`<rect x="0" y="%d" width="%d" height="%d" fill="%s"/>`, l.Y, width, l.Height, reedLane)
	}
	if line {
		s.f(`<path d="M0 %dH%d" stroke="var(--color-rule-pale)"/>`, l.Y, width)
	}
	s.text(18, l.Y+35, `font-weight="650" font-size="13" fill="`+ink+`"`, cut(l.Title, 17))
	s.text(18, l.Y+51, `font-size="11" fill="`+ink3+`"`, cut(l.About, 19))
}

// links draws the stem, and the thin ways of what failed. Stems that part or join flow into each other: the light of
// all of them comes over the lines of all. Others cross like pipes, one over the other.
func (s *svg) links(links []layout.Link) {
	for _, meeting := range meetings(links) {
		for _, k := range meeting {
			s.f(`<path d="%s" fill="none" stroke="%s" stroke-width="7"/>`, points(k.Points), stem)
		}
		for _, k := range meeting {
			s.f(`<path d="%s" fill="none" stroke="%s" stroke-width="3.4"/>`, points(k.Points), light)
		}
	}
	for _, k := range links {
		if k.Trouble {
			s.f(`<path d="%s" fill="none" stroke="%s" stroke-width="1.8" stroke-dasharray="5 4"/>`, points(k.Points), clay)
		}
		s.label(k)
	}
}

// meetings are the stems by the steps at which they part, or the joints at which they join.
func meetings(links []layout.Link) [][]layout.Link {
	from, to := map[string]int{}, map[string]int{}
	for _, k := range links {
		from[k.From]++
		to[k.To]++
	}
	at := map[string]int{}
	var out [][]layout.Link
	for i, k := range links {
		key := fmt.Sprint(i)
		switch {
		case k.Trouble:
			continue
		case k.From != "" && from[k.From] > 1:
			key = "from " + k.From
		case k.To != "" && to[k.To] > 1:
			key = "to " + k.To
		}
		n, there := at[key]
		if !there {
			n = len(out)
			at[key] = n
			out = append(out, nil)
		}
		out[n] = append(out[n], k)
	}
	return out
}

// label writes the name of the track that a link leads to.
func (s *svg) label(k layout.Link) {
	if k.Label == "" {
		return
	}
	to, colour := k.Points[len(k.Points)-1], reedDeep
	if k.Trouble {
		colour = clay
	}
	s.text(to.X-6, to.Y-24, `font-size="11" font-weight="650" fill="`+colour+`"`, cut(k.Label, 21))
}

// points makes a path with rounded corners.
func points(p []layout.Point) string {
	if len(p) == 2 {
		return fmt.Sprintf("M%d %dL%d %d", p[0].X, p[0].Y, p[1].X, p[1].Y)
	}
	dir := 1
	if p[2].Y < p[1].Y {
		dir = -1
	}
	r := max(0, min(8, p[1].X-p[0].X, p[3].X-p[2].X, dir*(p[2].Y-p[1].Y)/2))
	return fmt.Sprintf("M%d %dH%dQ%d %d %d %dV%dQ%d %d %d %dH%d",
		p[0].X, p[0].Y, p[1].X-r, p[1].X, p[1].Y, p[1].X, p[1].Y+dir*r,
		p[2].Y-dir*r, p[2].X, p[2].Y, p[2].X+r, p[2].Y, p[3].X)
}

// bars draws the two ends of a span through all lanes.
func (s *svg) bars(sp layout.Span, height int) {
	for _, x := range []int{sp.X, sp.X + sp.Width} {
		if sp.Attempt {
			s.f(`<path d="M%d %dV%d" stroke="%s" stroke-width="1.6" stroke-dasharray="9 4"/>`, x, sp.Y+30, height-6, ink2)
			continue
		}
		s.f(`<path d="M%d %dV%dM%d %dV%d" stroke="%s" stroke-width="1.6"/>`, x-3, sp.Y+30, height-6, x+3, sp.Y+30, height-6, ink2)
	}
}

// anchor begins the link of a step.
func (s *svg) anchor(id, class string, o FlowOptions) {
	current := ""
	if id == o.Selected {
		class += " sel"
		current = ` aria-current="true"`
	}
	href := html.EscapeString(o.Href(id))
	s.f(`<a class="%s" id="node-%s" data-pick="step" data-step="%s" href="%s" hx-get="%s" hx-target="%s" hx-swap="outerHTML" hx-push-url="true"%s>`,
		class, html.EscapeString(id), html.EscapeString(id), href, href, o.Target, current)
}

// nodeClass says how a step is drawn: with faults, or with settings that are still needed.
func nodeClass(faults, needs int, off bool) string {
	class := "node"
	switch {
	case faults > 0:
		class += " bad"
	case needs > 0:
		class += " needs"
	}
	if off {
		class += " off"
	}
	return class
}

// span draws the title of a span above its first bar.
func (s *svg) span(sp layout.Span, o FlowOptions) {
	class := nodeClass(sp.Faults, sp.Needs, sp.Off)
	title, detail := cut(sp.Title, 30), cut(sp.Detail, 34)
	if 26+7*len([]rune(title))+6*len([]rune(detail)) > sp.Width {
		title, detail = cut(title, max(8, (sp.Width-26)/7)), ""
	}
	width := 26 + 7*len([]rune(title)) + 6*len([]rune(detail))
	s.anchor(sp.ID, class, o)
	s.f(`<rect x="%d" y="%d" width="%d" height="22" rx="3"/>`, sp.X-3, sp.Y+6, width)
	s.f(`<text x="%d" y="%d"><tspan font-weight="650">%s</tspan><tspan dx="8" font-size="11" class="dimmer">%s</tspan></text>`, sp.X+7, sp.Y+21, html.EscapeString(title), html.EscapeString(detail))
	s.badge(sp.X-3+width, sp.Y+9, sp.Faults)
	s.f(`</a>`)
}

func (s *svg) node(n layout.Node, o FlowOptions) {
	class := nodeClass(n.Faults, n.Needs, n.Off)
	s.anchor(n.ID, class, o)
	if n.Comment != "" {
		s.f(`<title>%s</title>`, html.EscapeString(n.Comment))
	}
	if n.Folded {
		s.f(`<rect x="%d" y="%d" width="%d" height="%d" rx="3"/>`, n.X+4, n.Y+4, n.W, n.H)
	}
	s.f(`<rect x="%d" y="%d" width="%d" height="%d" rx="3"/>`, n.X, n.Y, n.W, n.H)
	s.text(n.X+n.W/2, n.Y+15, `text-anchor="middle" font-weight="650"`, cut(n.Title, 18))
	detail := n.Detail
	if n.Off {
		detail = "disabled"
	}
	s.text(n.X+n.W/2, n.Y+29, `text-anchor="middle" font-size="10.5" class="dimmer"`, cut(detail, 22))
	if n.Comment != "" {
		s.f(`<path d="M%d %dh9v9z" fill="%s"/>`, n.X+n.W-9, n.Y, pollenStem)
	}
	s.badge(n.X+n.W, n.Y, n.Faults)
	s.f(`</a>`)
	if o.Stops[n.ID] {
		s.f(`<path d="M%d %dv%d" stroke="%s" stroke-width="4"><title>stops here</title></path>`, n.X-7, n.Y-2, n.H+4, ink)
	}
}

// badge writes how many faults a step has.
func (s *svg) badge(x, y, faults int) {
	word := "faults"
	switch faults {
	case 0:
		return
	case 1:
		word = "fault"
	}
	s.f(`<circle cx="%d" cy="%d" r="8" fill="%s"/>`, x, y, clay)
	s.f(`<text x="%d" y="%d" text-anchor="middle" class="badge" font-weight="700" font-size="11">%d<title> %s</title></text>`, x, y+4, faults, word)
}

// counted is how many records pass a link; -1 where that is not known.
func (o FlowOptions) counted(k layout.Link) int {
	c := o.Counts[k.Count]
	switch {
	case k.From == "trigger":
		return 1
	case c == nil:
		return -1
	case k.Out:
		return c.Out
	}
	return c.In
}

// counts writes how many records pass each link, and beneath a step how many left the way there.
func (s *svg) counts(g layout.Geometry, o FlowOptions) {
	for _, k := range g.Links {
		n := o.counted(k)
		if n < 0 {
			continue
		}
		colour := reedDeep
		if k.Trouble {
			colour = clay
		}
		label := fmt.Sprint(n)
		w := 14 + 7*len(label)
		s.f(`<rect x="%d" y="%d" width="%d" height="17" rx="8.5" fill="%s" stroke="%s"/>`, k.CX-w/2, k.CY-9, w, sheet, colour)
		s.text(k.CX, k.CY+4, `text-anchor="middle" font-weight="700" font-size="11" fill="`+colour+`"`, label)
	}
	for _, n := range g.Nodes {
		if c := o.Counts[n.ID]; c != nil {
			s.left(n, c)
		}
	}
}

// tookText writes a duration as briefly as it fits beneath a step.
func tookText(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// left writes beneath a step how many records left the way there.
func (s *svg) left(n layout.Node, c *running.Counts) {
	var parts []string
	if c.Skipped > 0 {
		parts = append(parts, fmt.Sprintf("%d skipped", c.Skipped))
	}
	if c.SetAside > 0 {
		parts = append(parts, fmt.Sprintf("%d set aside", c.SetAside))
	}
	if c.Caught > 0 {
		parts = append(parts, fmt.Sprintf("%d failed", c.Caught))
	}
	if c.Duration >= time.Millisecond {
		parts = append(parts, tookText(c.Duration))
	}
	if len(parts) == 0 {
		return
	}
	attrs := `text-anchor="middle" font-size="11" fill="` + ink2 + `"`
	if c.SetAside > 0 {
		attrs = `text-anchor="middle" font-size="11" font-weight="650" fill="` + clay + `"`
	}
	s.text(n.X+n.W/2, n.Y+n.H+13, attrs, strings.Join(parts, " · "))
}

// gaps draws the places at which a step can be put.
func (s *svg) gaps(g layout.Geometry, o FlowOptions) {
	for _, k := range g.Links {
		if k.Gap == nil {
			continue
		}
		y := k.CY
		if o.Counts != nil && o.counted(k) >= 0 {
			y -= 20
		}
		href := html.EscapeString(o.Insert(k.Gap))
		s.f(`<a class="gap" data-gap="%s" href="%s" hx-get="%s" hx-target="#panel" hx-swap="outerHTML" aria-label="Add step"><circle cx="%d" cy="%d" r="8.5"/><path d="M%d %dh8M%d %dv8"/></a>`,
			html.EscapeString(GapKey(k.Gap)), href, href, k.CX, y, k.CX-4, y, k.CX, y-4)
	}
}

// GapKey writes a gap as text: the path of its list, and behind a colon the position.
func GapKey(g *flow.Gap) string {
	parts := make([]string, len(g.Path))
	for i, p := range g.Path {
		parts[i] = fmt.Sprint(p)
	}
	return strings.Join(parts, "/") + ":" + fmt.Sprint(g.At)
}
