// Package chart shows the project as a chart: its flows between the systems that they read and write.
package chart

import (
	"embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of the chart.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench", s.Do(b.chart))
}

var chartView = page.Parse(files, "chart.html")

type chartPage struct {
	page.Frame
	Chart    template.HTML
	Flows    []draw.ChartFlow
	Selected *draw.ChartFlow
	Uses     string
	Tally    string
	Trouble  int
	Lately   []lately
}

// lately is one of the newest runs of the chosen flow.
type lately struct {
	store.Run
	What, Class string
}

// newest is how many runs stand below the chart.
const newest = 8

// span and number of spans of the small lines on the chart.
const (
	spans = 20
	span  = 3 * time.Minute
)

func (b pages) chart(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	flows, err := b.chartFlows(c, p)
	if err != nil {
		return err
	}
	d := chartPage{
		Frame: b.Frame(c, "bench", p.Title, "↑ ↓", "choose a flow", "Enter", "open it"),
		Flows: flows,
		Tally: fmt.Sprintf("%s · %s · %s · %s", base.Count(len(flows), "flow"), base.Count(len(p.Parts(project.Connections)), "system"),
			base.Count(len(p.Parts(project.Schemas)), "schema"), base.Count(len(p.Parts(project.Mappings)), "mapping")),
	}
	chosen := c.Query("flow")
	for i := range flows {
		if flows[i].Mood == "fault" {
			d.Trouble++
		}
		if flows[i].ID == chosen || chosen == "" && i == 0 {
			d.Selected = &flows[i]
		}
	}
	if d.Selected != nil {
		d.Uses = uses(p, d.Selected.ID)
		chosen = d.Selected.ID
		runs, err := store.Runs(c, b.DB, store.RunFilter{Scope: b.Scope, Flow: chosen, Most: newest})
		if err != nil {
			return err
		}
		for _, r := range runs {
			d.Lately = append(d.Lately, lately{Run: r, What: page.What(r), Class: page.StateTags[r.State]})
		}
	}
	left, right := b.systems(c, p, flows)
	d.Chart = draw.Chart(left, right, flows, chosen)
	if page.Partial(c) {
		chartView.Part(c, "chart", d)
		return nil
	}
	chartView.Page(c, d)
	return nil
}

func (b pages) chartFlows(c *gin.Context, p *project.Project) ([]draw.ChartFlow, error) {
	since := time.Now().Add(-spans * span)
	tallies, err := store.Tallies(c, b.DB, b.Scope, since)
	if err != nil {
		return nil, err
	}
	counts, err := store.Slices(c, b.DB, b.Scope, since, span)
	if err != nil {
		return nil, err
	}
	releases, err := store.Deployments(c, b.DB, b.Scope)
	if err != nil {
		return nil, err
	}
	released := map[string]bool{}
	for _, r := range releases {
		released[r.Flow] = true
	}
	var flows []draw.ChartFlow
	for _, part := range p.Parts(project.Flows) {
		f := chartFlow(p.Flow(part.ID), part)
		f.Slices = make([]int, spans+1)
		for _, s := range counts {
			if s.Flow == part.ID && s.Index >= 0 && s.Index <= spans {
				f.Slices[s.Index] = s.Runs
			}
		}
		status(&f, tallies, released[part.ID])
		flows = append(flows, f)
	}
	return flows, nil
}

func chartFlow(plan *running.Plan, part project.Part) draw.ChartFlow {
	f := draw.ChartFlow{ID: part.ID, Title: part.Title, When: plan.Flow.Trigger.When()}
	if plan.Flow.Trigger.Of().Files {
		f.When = "each new file " + f.When
	}
	if c := plan.Flow.Trigger.Connection.Value; c != "" {
		f.Reads = []string{c}
	}
	if plan.Channel != nil {
		f.Reads = []string{channelNode(plan.Channel.ID)}
	}
	for _, id := range plan.Publishes {
		f.Writes = add(f.Writes, channelNode(id))
	}
	plan.Flow.Walk(func(s *flow.Step) {
		if c := s.Setting("connection"); s.Of().Reads && c != "" {
			f.Reads = add(f.Reads, c)
		}
		if s.Of().OnConnection {
			f.Writes = add(f.Writes, s.Setting("connection"))
		}
	})
	return f
}

// channelNode is what a channel is called among the systems of the chart.
func channelNode(id string) string { return "channel:" + id }

func add(list []string, s string) []string {
	for _, l := range list {
		if l == s {
			return list
		}
	}
	return append(list, s)
}

// status says what a flow does now, in a word and a colour.
func status(f *draw.ChartFlow, tallies []store.Tally, released bool) {
	n := map[store.State]int{}
	all := 0
	for _, t := range tallies {
		if t.Flow == f.ID {
			n[t.State] = t.Runs
			all += t.Runs
		}
	}
	f.Rate = fmt.Sprintf("%s/h", page.Number(all))
	switch {
	case !released:
		f.Mood, f.Status, f.Rate = "draft", "not released", "draft"
	case n[store.Stopped] > 0:
		f.Mood, f.Status = "fault", fmt.Sprintf("%d stopped", n[store.Stopped])
	case n[store.Retrying] > 0:
		f.Mood, f.Status = "fault", fmt.Sprintf("%d retrying", n[store.Retrying])
	case n[store.SetAside] > 0:
		f.Mood, f.Status = "fault", fmt.Sprintf("%d set aside", n[store.SetAside])
	case n[store.Running] > 0:
		f.Mood, f.Status = "well", "running"
	case all == 0:
		f.Mood, f.Status = "well", "waiting"
	default:
		f.Mood, f.Status = "well", "in step"
	}
}

// systems puts what the flows read on the left and what they write on the right.
func (b pages) systems(c *gin.Context, p *project.Project, flows []draw.ChartFlow) (left, right []draw.ChartSystem) {
	reads, writes := map[string]bool{}, map[string]bool{}
	for _, f := range flows {
		for _, id := range f.Reads {
			reads[id] = true
		}
		for _, id := range f.Writes {
			writes[id] = true
		}
	}
	healths, err := store.Healths(c, b.DB, b.Scope)
	if err != nil {
		b.Log.Warn("the health of connections cannot be read", "error", err)
	}
	for _, part := range p.Parts(project.Connections) {
		conn := p.Connection(part.ID)
		s := draw.ChartSystem{ID: part.ID, Title: conn.Title, About: conn.About, Health: b.mood(healths[part.ID]), Href: page.PartHref(part.Path)}
		if reads[part.ID] || !writes[part.ID] {
			left = append(left, s)
		}
		if writes[part.ID] {
			right = append(right, s)
		}
	}
	for _, part := range p.Parts(project.Channels) {
		node := channelNode(part.ID)
		s := draw.ChartSystem{ID: node, Title: part.Title, About: string(p.Channel(part.ID).Kind), Health: "well", Href: page.PartHref(part.Path)}
		if reads[node] {
			left = append(left, s)
		}
		if writes[node] || !reads[node] {
			right = append(right, s)
		}
	}
	return left, right
}

// mood is how a connection was when it was last looked at.
func (b pages) mood(h store.Health) string {
	switch {
	case h.Connection == "":
		return ""
	case h.Healthy:
		return "well"
	}
	return "fault"
}

// uses says in words what a flow stands on.
func uses(p *project.Project, id string) string {
	n := map[string][]string{}
	for _, path := range p.Uses(id) {
		if kind, partID, ok := project.Kind(path); ok {
			n[kind] = append(n[kind], partID)
		}
	}
	return fmt.Sprintf("uses %s, the schemas %s, and the mapping %s", base.Count(len(n[project.Connections]), "connection"),
		strings.Join(n[project.Schemas], ", "), strings.Join(n[project.Mappings], ", "))
}
