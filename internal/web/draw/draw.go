// Package draw turns geometry into SVG. It is the only place that makes template.HTML, and it
// escapes every label.
package draw

import (
	"fmt"
	"html"
	"html/template"
	"strings"

	"hollowreed/internal/core/flow"
)

// The colours of the drawings; the same as the tokens of app.css.
const (
	ink, ink2, ink3 = "#1e2a2f", "#4d5a5f", "#667070"
	reedDeep        = "#435812"
	stem            = "#5f7a1f"
	paleStem        = "#8fa35a"
	clay            = "#ad4427"
	pollenStem      = "#c9b98a"
	light           = "#fbfaf3"
	rule            = "#d9d3c3"
	strong          = "#8d8672"
	sheet           = "#fffefa"
	reedLane        = "#eef1df"
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
	Counts   map[string]*flow.Counts // nil before a try or a run
	Read     int                     // records that came in
	Href     func(step string) string
	Target   string // selector of what a click fetches anew
}

// Flow draws a flow on its lanes.
func Flow(g flow.Geometry, o FlowOptions) template.HTML {
	var s svg
	s.f(`<svg width="%d" height="%d" viewBox="0 0 %d %d" preserveAspectRatio="xMinYMin" role="group" aria-label="The flow on its lanes" font-family="Atkinson" font-size="12">`, g.Width, g.Height, g.Width, g.Height)
	for i, l := range g.Lanes {
		if l.Reed {
			s.f(`<rect x="0" y="%d" width="%d" height="%d" fill="%s"/>`, l.Y, g.Width, l.Height, reedLane)
		}
		if i > 0 {
			s.f(`<path d="M0 %dH%d" stroke="#ebe6d9"/>`, l.Y, g.Width)
		}
		s.text(18, l.Y+35, `font-weight="650" font-size="13" fill="`+ink+`"`, cut(l.Title, 17))
		s.text(18, l.Y+51, `font-size="11" fill="`+ink3+`"`, cut(l.About, 19))
	}
	s.f(`<path d="M132 0V%d" stroke="%s"/>`, g.Height, rule)
	s.spans(g)
	for _, k := range g.Links {
		s.stem(points(k.Points), stem)
	}
	for _, n := range g.Nodes {
		s.node(n, o)
	}
	if o.Counts != nil {
		s.counts(g, o)
	}
	s.f(`</svg>`)
	return template.HTML(s.String())
}

// points makes a path with rounded corners.
func points(p []flow.Point) string {
	if len(p) == 2 {
		return fmt.Sprintf("M%d %dL%d %d", p[0].X, p[0].Y, p[1].X, p[1].Y)
	}
	const r = 8
	dir := 1
	if p[2].Y < p[1].Y {
		dir = -1
	}
	return fmt.Sprintf("M%d %dH%dQ%d %d %d %dV%dQ%d %d %d %dH%d",
		p[0].X, p[0].Y, p[1].X-r, p[1].X, p[1].Y, p[1].X, p[1].Y+dir*r,
		p[2].Y-dir*r, p[2].X, p[2].Y, p[2].X+r, p[2].Y, p[3].X)
}

// stem draws the two lines with light between.
func (s *svg) stem(d, colour string) {
	s.f(`<path d="%s" fill="none" stroke="%s" stroke-width="7"/><path d="%s" fill="none" stroke="%s" stroke-width="3.4"/>`, d, colour, d, light)
}

func (s *svg) spans(g flow.Geometry) {
	for _, sp := range g.Spans {
		for _, x := range []int{sp.X, sp.X + sp.Width} {
			s.f(`<path d="M%d 6V%dM%d 6V%d" stroke="%s" stroke-width="1.6"/>`, x-3, g.Height-6, x+3, g.Height-6, ink2)
		}
		s.text(sp.X+16, 20, `font-weight="650" fill="`+ink2+`"`, sp.Title)
		s.text(sp.X+16, 34, `font-size="11" fill="`+ink3+`"`, sp.Detail)
	}
}

func (s *svg) node(n flow.Node, o FlowOptions) {
	class := "node"
	if n.Faults > 0 {
		class += " bad"
	}
	label := n.Title + ", " + n.Detail
	if n.Faults > 0 {
		label += fmt.Sprintf(", %d faults", n.Faults)
	}
	current := ""
	if n.ID == o.Selected {
		class += " sel"
		current = ` aria-current="true"`
	}
	href := html.EscapeString(o.Href(n.ID))
	s.f(`<a class="%s" id="node-%s" data-pick="step" href="%s" hx-get="%s" hx-target="%s" hx-swap="outerHTML" hx-push-url="true" aria-label="%s"%s>`,
		class, html.EscapeString(n.ID), href, href, o.Target, html.EscapeString(label), current)
	s.f(`<rect x="%d" y="%d" width="%d" height="%d" rx="3"/>`, n.X, n.Y, n.W, n.H)
	s.text(n.X+n.W/2, n.Y+15, `text-anchor="middle" font-weight="650"`, cut(n.Title, 18))
	s.text(n.X+n.W/2, n.Y+29, `text-anchor="middle" font-size="10.5" fill="`+ink2+`"`, cut(n.Detail, 22))
	if n.Faults > 0 {
		s.f(`<circle cx="%d" cy="%d" r="8" fill="%s"/>`, n.X+n.W, n.Y, clay)
		s.text(n.X+n.W, n.Y+4, `text-anchor="middle" fill="#fff" font-weight="700" font-size="11"`, fmt.Sprint(n.Faults))
	}
	s.f(`</a>`)
}

// counts writes how many records pass each link, and beneath a step how many left the way there.
func (s *svg) counts(g flow.Geometry, o FlowOptions) {
	for _, k := range g.Links {
		n := o.Read
		if k.From == "trigger" {
			n = 1
		} else if c := o.Counts[k.From]; c != nil {
			n = c.Out
		} else if o.Counts[k.To] == nil {
			continue
		}
		label := fmt.Sprint(n)
		w := 14 + 7*len(label)
		s.f(`<rect x="%d" y="%d" width="%d" height="17" rx="8.5" fill="%s" stroke="%s"/>`, k.CX-w/2, k.CY-9, w, sheet, reedDeep)
		s.text(k.CX, k.CY+4, `text-anchor="middle" font-weight="700" font-size="11" fill="`+reedDeep+`"`, label)
	}
	for _, n := range g.Nodes {
		c := o.Counts[n.ID]
		if c == nil {
			continue
		}
		if c.LeftOut > 0 {
			s.text(n.X+n.W/2, n.Y+n.H+13, `text-anchor="middle" font-size="11" fill="`+ink2+`"`, fmt.Sprintf("%d left out", c.LeftOut))
		}
		if c.SetAside > 0 {
			s.text(n.X+n.W/2, n.Y-5, `text-anchor="middle" font-size="11" font-weight="650" fill="`+clay+`"`, fmt.Sprintf("%d set aside", c.SetAside))
		}
	}
}
