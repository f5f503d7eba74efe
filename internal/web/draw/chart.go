package draw

import (
	"fmt"
	"html"
	"html/template"
)

// ChartFlow is one flow on the chart.
type ChartFlow struct {
	ID, Title, When string
	Reads, Writes   []string // ids of systems
	Rate, Status    string
	Mood            string // well, fault or draft
	Slices          []int  // runs in the last spans of time
}

// ChartSystem is one system on the chart.
type ChartSystem struct {
	ID, Title, About string
	Health           string // well, fault or unknown
	Href             string // its page; empty: none
}

const (
	chartWidth = 1244
	systemW    = 170
	systemH    = 44
	flowX      = 420
	flowW      = 400
	flowH      = 54
	rowH       = 82
)

var moods = map[string][2]string{ // stem and word
	"well": {paleStem, reedDeep}, "fault": {clay, clay}, "draft": {pollenStem, "var(--color-pollen)"},
}

// Chart draws the project: systems that are read on the left, flows, systems that are written on
// the right.
func Chart(left, right []ChartSystem, flows []ChartFlow, selected string) template.HTML {
	var s svg
	rows := max(len(left), len(right), len(flows), 1)
	height := rows*rowH + 20
	s.f(`<svg width="100%%" viewBox="0 0 %d %d" data-max-width="%dpx" role="group" aria-label="Systems and flows" font-family="Atkinson, system-ui, sans-serif" font-size="12.5">`, chartWidth, height, chartWidth+100)
	ly, ry := places(left, height), places(right, height)
	for i, f := range flows {
		y := flowY(i, len(flows), height) + flowH/2
		colour := moods[f.Mood][0]
		for _, id := range f.Reads {
			if sy, ok := ly[id]; ok {
				s.curve(systemW, sy, flowX, y, colour)
			}
		}
		for _, id := range f.Writes {
			if sy, ok := ry[id]; ok {
				s.curve(flowX+flowW, y, chartWidth-systemW, sy, colour)
			}
		}
	}
	for _, sys := range left {
		s.system(sys, 0, ly[sys.ID], systemW-16)
	}
	for _, sys := range right {
		s.system(sys, chartWidth-systemW, ry[sys.ID], 14)
	}
	for i, f := range flows {
		s.flow(f, flowY(i, len(flows), height), f.ID == selected)
	}
	s.f(`</svg>`)
	return template.HTML(s.String())
}

func flowY(i, n, height int) int { return (height-n*rowH)/2 + i*rowH + (rowH-flowH)/2 }

func places(list []ChartSystem, height int) map[string]int {
	y := map[string]int{}
	for i, s := range list {
		y[s.ID] = (height-len(list)*rowH)/2 + i*rowH + rowH/2
	}
	return y
}

func (s *svg) curve(x1, y1, x2, y2 int, colour string) {
	m := (x1 + x2) / 2
	d := fmt.Sprintf("M%d %dC%d %d %d %d %d %d", x1, y1, m, y1, m, y2, x2, y2)
	s.f(`<path d="%s" fill="none" stroke="%s" stroke-width="6"/><path d="%s" fill="none" stroke="%s" stroke-width="2.8"/>`, d, colour, d, light)
}

func (s *svg) system(sys ChartSystem, x, y, dot int) {
	colour := map[string]string{"well": stem, "fault": clay}[sys.Health]
	if colour == "" {
		colour = strong
	}
	tx := x + 14
	if dot < systemW/2 {
		tx = x + 28
	}
	if sys.Href != "" {
		s.f(`<a href="%s">`, html.EscapeString(sys.Href))
		defer s.f(`</a>`)
	}
	s.f(`<g><title>%s: %s</title><rect x="%d" y="%d" width="%d" height="%d" rx="3" fill="%s" stroke="%s"/>`,
		html.EscapeString(sys.Title), html.EscapeString(sys.Health), x, y-systemH/2, systemW, systemH, sheet, strong)
	s.text(tx, y-2, `font-weight="650" fill="`+ink+`"`, cut(sys.Title, 20))
	about := sys.About
	if sys.Health == "fault" {
		about = "not usable"
	}
	s.text(tx, y+13, `font-size="11.5" fill="`+ink3+`"`, cut(about, 26))
	s.f(`<circle cx="%d" cy="%d" r="4" fill="%s"/></g>`, x+dot, y, colour)
}

func (s *svg) flow(f ChartFlow, y int, selected bool) {
	stroke, width, current := strong, "1", ""
	class := "chartflow"
	if selected {
		stroke, width, current, class = ink, "2.2", ` aria-current="true"`, "chartflow sel"
	}
	s.f(`<a class="%s" data-pick="row" href="/bench?flow=%s"%s><rect x="%d" y="%d" width="%d" height="%d" rx="3" fill="%s" stroke="%s" stroke-width="%s"/>`,
		class, html.EscapeString(f.ID), current, flowX, y, flowW, flowH, sheet, stroke, width)
	s.text(flowX+18, y+22, `font-weight="660" font-size="13.5" fill="`+ink+`"`, cut(f.Title, 30))
	s.text(flowX+18, y+40, `fill="`+ink2+`" font-size="12"`, cut(f.When, 34))
	s.spark(f.Slices, flowX+226, y+8, 78, 18)
	s.text(flowX+flowW-16, y+22, `text-anchor="end" font-size="12" fill="`+ink2+`"`, f.Rate)
	s.text(flowX+flowW-16, y+40, `text-anchor="end" font-size="12" font-weight="650" fill="`+moods[f.Mood][1]+`"`, f.Status)
	s.f(`</a>`)
}

// spark is a small line of counts.
func (s *svg) spark(counts []int, x, y, w, h int) {
	most := 0
	for _, n := range counts {
		most = max(most, n)
	}
	if most == 0 || len(counts) < 2 {
		return
	}
	s.f(`<polyline points="`)
	for i, n := range counts {
		s.f("%d,%d ", x+i*w/(len(counts)-1), y+h-n*h/most)
	}
	s.f(`" fill="none" stroke="%s" stroke-width="1.3"/>`, ink3)
}

// Bar is one span of time in the histogram.
type Bar struct {
	Label        string
	Runs, Failed int
}

// Bars draws runs over time; what failed stands at the foot of each bar.
func Bars(bars []Bar) template.HTML {
	var s svg
	const w, h = 1244, 86
	most := 1
	for _, b := range bars {
		most = max(most, b.Runs)
	}
	s.f(`<svg width="100%%" height="%d" viewBox="0 0 %d %d" preserveAspectRatio="none" role="img" aria-label="Runs in the last hour, by minute">`, h, w, h)
	for i, b := range bars {
		x, width := i*w/len(bars), w/len(bars)-3
		tall, failed := b.Runs*60/most, b.Failed*60/most
		if b.Failed > 0 {
			failed = max(failed, 4)
		}
		s.f(`<g><title>%s: %d runs, %d with trouble</title><rect x="%d" y="%d" width="%d" height="%d" fill="var(--color-reed-bar)"/><rect x="%d" y="%d" width="%d" height="%d" fill="%s"/></g>`,
			html.EscapeString(b.Label), b.Runs, b.Failed, x+1, 66-tall, width, tall, x+1, 66-failed, width, failed, clay)
		if i%10 == 0 && i < len(bars)-4 {
			s.text(x+2, 80, `font-family="AtkinsonMono, ui-monospace, monospace" font-size="11" fill="`+ink3+`"`, b.Label)
		}
	}
	s.f(`<path d="M0 66H%d" stroke="%s"/></svg>`, w, rule)
	return template.HTML(s.String())
}

// Spark draws a small line of bars: what was done over a time, and what of it failed.
func Spark(bars []Bar) template.HTML {
	var s svg
	const w, h = 180, 22
	most := 1
	for _, b := range bars {
		most = max(most, b.Runs)
	}
	s.f(`<svg width="%d" height="%d" viewBox="0 0 %d %d" aria-hidden="true">`, w, h, w, h)
	step := float64(w) / float64(max(1, len(bars)))
	for i, b := range bars {
		if b.Runs == 0 {
			continue
		}
		tall, failed := max(2, b.Runs*(h-2)/most), b.Failed*(h-2)/most
		if b.Failed > 0 {
			failed = max(failed, 2)
		}
		s.f(`<rect x="%.1f" y="%d" width="%.1f" height="%d" fill="%s"/><rect x="%.1f" y="%d" width="%.1f" height="%d" fill="%s"/>`,
			float64(i)*step, h-1-tall, max(1, step-1), tall, paleStem, float64(i)*step, h-1-failed, max(1, step-1), failed, clay)
	}
	s.f(`<path d="M0 %d.5H%d" stroke="%s"/></svg>`, h-1, w, rule)
	return template.HTML(s.String())
}

// Steps draws a run's small stem: one mark for each step, filled where records left the way.
func Steps(marks []string) template.HTML {
	var s svg
	w := 20 + 16*len(marks)
	s.f(`<svg width="%d" height="18" viewBox="0 0 %d 18" aria-hidden="true"><path d="M2 9H%d" stroke="%s" stroke-width="5"/><path d="M2 9H%d" stroke="%s" stroke-width="2"/>`, w, w, w-4, stem, w-4, light)
	fill := map[string]string{"passed": sheet, "aside": "var(--color-pollen-pale)", "stopped": clay, "waiting": "var(--color-sand)"}
	for i, m := range marks {
		s.f(`<rect x="%d" y="3" width="11" height="12" rx="2" fill="%s" stroke="%s"/>`, 6+16*i, fill[m], ink2)
		if m == "aside" || m == "stopped" {
			s.f(`<path d="M%d 6v4M%d 12v.5" stroke="%s" stroke-width="1.6"/>`, 11+16*i, 11+16*i, ink)
		}
	}
	s.f(`</svg>`)
	return template.HTML(s.String())
}
