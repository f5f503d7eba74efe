// Package bench is the place of design: the project's chart, its parts, and the screens on which
// a flow, a mapping and a schema are worked on.
package bench

import (
	"embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type bench struct {
	*page.Site
	tests    *probings
	trials   *trials
	consents *consents
}

// Routes adds the place's addresses.
func Routes(r gin.IRouter, s *page.Site) {
	b := bench{s, &probings{}, &trials{}, &consents{}}
	r.GET("/bench", s.Do(b.chart))
	r.GET("/bench/parts/delete", s.Do(b.askDelete))
	r.POST("/bench/parts/delete", s.Do(b.deletePart))
	r.GET("/bench/parts/rename", s.Do(b.askRename))
	r.POST("/bench/parts/rename", s.Do(b.renamePart))
	r.POST("/bench/parts/duplicate", s.Do(b.duplicatePart))
	r.POST("/bench/parts/restore", s.Do(b.restorePart))
	r.GET("/bench/export.zip", s.Do(b.exportProject))
	r.POST("/bench/import", s.Do(b.importProject))
	r.GET("/bench/parts", s.Do(b.parts))
	r.GET("/bench/text", s.Do(b.text))
	r.GET("/bench/flows/:id", s.Do(b.flow))
	r.POST("/bench/flows", s.Do(b.addFlow))
	r.GET("/bench/flows/new", s.Do(b.newFlow))
	r.GET("/bench/flows/:id/picker", s.Do(b.picker))
	r.GET("/bench/flows/:id/help", s.Do(b.flowHelp))
	r.POST("/bench/flows/:id/edit", s.Do(b.editFlow))
	r.POST("/bench/flows/:id/pause", s.Do(b.pause))
	r.POST("/bench/flows/:id/extract", s.Do(b.extract))
	r.POST("/bench/flows/:id/steps/:step", s.Do(b.setStep))
	r.POST("/bench/flows/:id/steps/:step/mapping", s.Do(b.addStepMapping))
	r.POST("/bench/flows/:id/run", s.Do(b.runNow))
	r.POST("/bench/flows/:id/try", s.Do(b.tryFlow))
	r.POST("/bench/flows/:id/with", s.Do(b.typeTry))
	r.GET("/bench/flows/:id/cases", s.Do(b.flowCases))
	r.POST("/bench/flows/:id/cases", s.Do(b.keepFlowCase))
	r.POST("/bench/flows/:id/cases/accept", s.Do(b.acceptFlowCase))
	r.POST("/bench/flows/:id/choice", s.Do(b.chooseTry))
	r.POST("/bench/flows/:id/walk", s.Do(b.beginWalk))
	r.GET("/bench/walks/:walk", s.Do(b.walk))
	r.POST("/bench/walks/:walk/move", s.Do(b.moveWalk))
	r.POST("/bench/walks/:walk/change", s.Do(b.changeWalk))
	r.POST("/bench/walks/:walk/mark", s.Do(b.markWalk))
	r.POST("/bench/undo", s.Do(b.undo))
	r.GET("/bench/flows/:id/release", s.Do(b.releasePage))
	r.POST("/bench/flows/:id/release", s.Do(b.release))
	r.GET("/bench/mappings/:id", s.Do(b.mapping))
	r.GET("/bench/steps", s.Do(b.stepReference))
	r.GET("/bench/formulas", s.Do(b.formulas))
	r.GET("/bench/mappings/new", s.Do(b.newMapping))
	r.POST("/bench/mappings", s.Do(b.addMapping))
	r.GET("/bench/mappings/:id/match", s.Do(b.match))
	r.GET("/bench/mappings/:id/cases", s.Do(b.cases))
	r.POST("/bench/mappings/:id/cases", s.Do(b.keepCase))
	r.POST("/bench/mappings/:id/cases/accept", s.Do(b.acceptCase))
	r.GET("/bench/mappings/:id/lineage", s.Do(b.lineage))
	r.GET("/bench/mappings/:id/specification", s.Do(b.specification))
	r.GET("/bench/mappings/:id/changes", s.Do(b.mappingChanges))
	r.GET("/bench/mappings/:id/help", s.Do(b.help))
	r.POST("/bench/mappings/:id/match", s.Do(b.accept))
	r.POST("/bench/mappings/:id/rule", s.Do(b.setRule))
	r.POST("/bench/mappings/:id/sources", s.Do(b.setSources))
	r.POST("/bench/mappings/:id/settings", s.Do(b.setMapping))
	r.POST("/bench/mappings/:id/feed", s.Do(b.feed))
	r.POST("/bench/mappings/:id/mend", s.Do(b.mend))
	r.GET("/bench/mappings/:id/apart", s.Do(b.apart))
	r.POST("/bench/mappings/:id/apart", s.Do(b.tellApart))
	r.GET("/bench/connections/new", s.Do(b.newConnection))
	r.POST("/bench/connections", s.Do(b.addConnection))
	r.GET("/bench/connections/:id", s.Do(b.connection))
	r.POST("/bench/connections/:id/settings", s.Do(b.setConnection))
	r.POST("/bench/connections/:id/test", s.Do(b.testConnection))
	r.GET("/bench/connections/:id/test/:test", s.Do(b.testSeen))
	r.POST("/bench/connections/:id/take", s.Do(b.take))
	r.GET("/bench/connections/:id/consent", s.Do(b.askConsent))
	r.GET(page.Callback, s.Do(b.consented))
	r.POST("/bench/connections/:id/operations", s.Do(b.addOperation))
	r.GET("/bench/connections/:id/operations/:op", s.Do(b.operation))
	r.GET("/bench/connections/:id/operations/:op/help", s.Do(b.operationHelp))
	r.POST("/bench/connections/:id/operations/:op", s.Do(b.setOperation))
	r.POST("/bench/connections/:id/operations/:op/remove", s.Do(b.removeOperation))
	r.POST("/bench/connections/:id/operations/:op/shape", s.Do(b.fetchShape))
	r.POST("/bench/connections/:id/operations/:op/table", s.Do(b.checkTable))
	r.POST("/bench/connections/:id/operations/:op/try", s.Do(b.tryOperation))
	r.GET("/bench/connections/:id/operations/:op/try/:trial", s.Do(b.tried))
	r.POST("/bench/connections/:id/operations/:op/try/:trial/keep", s.Do(b.keepAnswer))
	r.GET("/bench/tables/:id", s.Do(b.table))
	r.POST("/bench/tables", s.Do(b.addTable))
	r.POST("/bench/tables/:id", s.Do(b.setTable))
	r.POST("/bench/tables/:id/rows", s.Do(b.changeRows))
	r.POST("/bench/tables/:id/forget", s.Do(b.forgetChanged))
	r.GET("/bench/libraries/:id", s.Do(b.library))
	r.POST("/bench/libraries", s.Do(b.addLibrary))
	r.POST("/bench/libraries/:id/function", s.Do(b.setFunction))
	r.POST("/bench/libraries/:id/functions", s.Do(b.changeFunctions))
	r.POST("/bench/libraries/:id/publish", s.Do(b.publish))
	r.POST("/bench/libraries/:id/use", s.Do(b.useVersion))
	r.GET("/bench/samples/:id", s.Do(b.sample))
	r.POST("/bench/samples/:id", s.Do(b.saveSample))
	r.POST("/bench/samples/:id/check", s.Do(b.checkSample))
	r.POST("/bench/samples/:id/copy", s.Do(b.copyRecord))
	r.POST("/bench/samples/:id/liven", s.Do(b.livenSample))
	r.GET("/bench/schemas/new", s.Do(b.newSchema))
	r.POST("/bench/schemas", s.Do(b.addSchema))
	r.GET("/bench/schemas/:id", s.Do(b.schema))
	r.GET("/bench/schemas/:id/convert", s.Do(b.convertSchema))
	r.POST("/bench/schemas/:id/convert", s.Do(b.keepChoices))
	r.GET("/bench/schemas/:id/source", s.Do(b.source))
	r.POST("/bench/schemas/:id/source", s.Do(b.setSource))
	r.POST("/bench/schemas/:id/source/check", s.Do(b.checkSource))
	r.GET("/bench/schemas/:id/compare", s.Do(b.compareSchema))
	r.POST("/bench/schemas/:id/field", s.Do(b.setField))
	r.POST("/bench/schemas/:id/written", s.Do(b.setWritten))
	r.POST("/bench/schemas/:id/change", s.Do(b.change))
	r.POST("/bench/schemas/:id/share", s.Do(b.share))
	r.POST("/bench/schemas/:id/made", s.Do(b.makeSample))
	r.POST("/bench/schemas/:id/samples", s.Do(b.uploadSample))
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

func (b bench) chart(c *gin.Context) error {
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
		Tally: fmt.Sprintf("%s · %s · %s · %s", count(len(flows), "flow"), count(len(p.Parts(project.Connections)), "system"),
			count(len(p.Parts(project.Schemas)), "schema"), count(len(p.Parts(project.Mappings)), "mapping")),
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

func (b bench) chartFlows(c *gin.Context, p *project.Project) ([]draw.ChartFlow, error) {
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

func chartFlow(plan *flow.Plan, part project.Part) draw.ChartFlow {
	f := draw.ChartFlow{ID: part.ID, Title: part.Title, When: plan.Flow.Trigger.When()}
	if plan.Flow.Trigger.Of().Files {
		f.When = "each new file " + f.When
	}
	if c := plan.Flow.Trigger.Connection.Value; c != "" {
		f.Reads = []string{c}
	}
	plan.Flow.Walk(func(s *flow.Step) {
		if c := s.Setting("connection"); s.Of().Reads && c != "" {
			f.Reads = add(f.Reads, c)
		}
		if s.Of().Outside {
			f.Writes = add(f.Writes, s.Setting("connection"))
		}
	})
	return f
}

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
func (b bench) systems(c *gin.Context, p *project.Project, flows []draw.ChartFlow) (left, right []draw.ChartSystem) {
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
		s := draw.ChartSystem{ID: part.ID, Title: conn.Title, About: conn.About, Health: b.mood(healths[part.ID])}
		if reads[part.ID] || !writes[part.ID] {
			left = append(left, s)
		}
		if writes[part.ID] {
			right = append(right, s)
		}
	}
	return left, right
}

// mood is how a connection was when it was last looked at.
func (b bench) mood(h store.Health) string {
	switch {
	case h.Connection == "":
		return ""
	case h.Well:
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
	return fmt.Sprintf("uses %s, the schemas %s, and the mapping %s", count(len(n[project.Connections]), "connection"),
		strings.Join(n[project.Schemas], ", "), strings.Join(n[project.Mappings], ", "))
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return page.Number(n) + " " + what + "s"
}

// named is a person's name; the id when the person is not known.
func (b bench) named(c *gin.Context, id string) (string, error) {
	people, err := store.People(c, b.DB)
	if p, ok := people[id]; ok {
		return p.Name, err
	}
	return id, err
}

var partsView = page.Parse(files, "parts.html")

type partsPage struct {
	page.Frame
	Tab     string
	Parts   []partRow
	Path    string
	Text    string
	Faults  int
	Said    string
	Renamed string // the path of what was renamed, to take that back: to its id and title before
	Was     string
	Called  string
	Removed []store.Removed // parts that can be restored
}

type partRow struct {
	project.Part
	Href   string
	UsedBy []project.Part
	Faults int
}

func (b bench) partRows(p *project.Project) []partRow {
	var rows []partRow
	for _, part := range p.Parts("") {
		row := partRow{Part: part, UsedBy: p.UsedBy(part.Path)}
		row.Href = page.PartHref(part.Path)
		for _, f := range p.Faults {
			if f.Place.Source == part.Path {
				row.Faults++
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// maxRemoved bounds the deleted parts that are listed.
const maxRemoved = 50

func (b bench) parts(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	removed, err := store.RemovedParts(c, b.DB, p.ID, maxRemoved)
	if err != nil {
		return err
	}
	partsView.Page(c, partsPage{Frame: b.Frame(c, "bench", "Parts"), Tab: "parts", Parts: b.partRows(p), Faults: len(p.Faults), Said: c.Query("said"), Removed: removed, Renamed: c.Query("renamed"), Was: c.Query("was"), Called: c.Query("called")})
	return nil
}

func (b bench) text(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := partsPage{Frame: b.Frame(c, "bench", "Text files"), Tab: "text", Parts: b.partRows(p), Path: c.Query("path"), Faults: len(p.Faults)}
	if d.Path == "" && len(d.Parts) > 0 {
		d.Path = d.Parts[0].Path
	}
	text, ok := p.Texts[d.Path]
	if !ok {
		return store.ErrNotFound
	}
	d.Text = text
	partsView.Page(c, d)
	return nil
}
