// Package traffic is the place where one sees what ran and what is running, and mends what was set
// aside.
package traffic

import (
	"embed"
	"html/template"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/operate"
	"hollowreed/internal/store"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type traffic struct{ *page.Site }

// Routes adds the place's addresses.
func Routes(r gin.IRouter, s *page.Site) {
	t := traffic{s}
	r.GET("/traffic", s.Do(t.list))
	r.GET("/traffic/runs/:run", s.Do(t.run))
	r.POST("/traffic/runs/:run/resume", s.Do(t.onRun(t.resume)))
	r.POST("/traffic/runs/:run/sample", s.Do(t.sample))
	r.POST("/traffic/runs/:run/case", s.Do(t.keepCase))
	r.POST("/traffic/runs/:run/flow-case", s.Do(t.keepRun))
	r.POST("/traffic/runs/:run/repeat", s.Do(t.onRun(t.rerun)))
	r.POST("/traffic/runs/:run/cancel", s.Do(t.onRun(t.cancel)))
	r.POST("/traffic/again", s.Do(t.again))
	r.GET("/traffic/runs/:run/journal.ndjson", s.Do(t.download))
	r.GET("/traffic/runs/:run/message", s.Do(t.message))
	r.GET("/traffic/runs/:run/file", s.Do(t.file))
	r.POST("/traffic/runs/:run/from", s.Do(t.onRun(t.rerunFrom)))
	r.GET("/traffic/aside", s.Do(t.asideList))
	r.POST("/traffic/aside", s.Do(t.runBulkAction))
	r.POST("/traffic/aside/:id/note", s.Do(t.noteAside))
	r.POST("/traffic/searches", s.Do(t.saveSearch))
	r.GET("/traffic/calls", s.Do(t.calls))
	r.GET("/traffic/calls/:call", s.Do(t.call))
	r.GET("/traffic/figures", s.Do(t.figures))
	r.GET("/traffic/alerts", s.Do(t.alerts))
	r.POST("/traffic/alerts", s.Do(t.saveAlert))
	r.POST("/traffic/aside/:id/mend", s.Do(t.mend))
	r.GET("/traffic/aside/:id/text", s.Do(t.mendText))
	r.POST("/traffic/runs/:run/open", s.Do(t.onRun(t.rerunOpen)))
	r.POST("/traffic/aside/:id/let-go", s.Do(t.discard))
}

var listView = page.Parse(files, "list.html", "views.html")

const (
	pageSize = 50
	minutes  = 60
)

type listPage struct {
	page.Frame
	views
	Text               string // that is looked for in messages
	Looked             int    // runs that were looked into
	Further            string // where the search goes on
	Searches           []store.Search
	QueryText          string // of this search
	Query, State, Flow string
	Flows              []project.Part
	States             []store.State
	Runs               []runRow
	Bars               template.HTML
	Tally              map[string]int
	Open               int
	Older              string
	Address            string
	Causes             []causeRow
	Cause              *store.Cause
	CauseKey           string
	Since              string
	Events             []eventRow
	Ended              int // runs in the list that can be run again
	OpenRecords        int // of the cause, that wait for somebody
	OpenRuns           int
	Narrowed           string // where all of it is run again
}

type causeRow struct {
	store.Cause
	FlowTitle, StepTitle, Href string
}

type eventRow struct {
	store.Event
	FlowTitle string
}

// Bounds of what is looked at.
const (
	maxCauses = 8
	maxEvents = 12
)

type runRow struct {
	store.Run
	FlowTitle string
	Stem      template.HTML
	What      string
	Took      string
	Class     string
}

func (t traffic) list(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	f := store.RunFilter{
		Scope: t.Scope, Flow: c.Query("flow"), State: store.State(c.Query("state")),
		Reference: strings.TrimSpace(c.Query("reference")), Most: pageSize + 1,
	}
	if err := t.narrow(c, &f); err != nil {
		return err
	}
	if before, err := time.Parse(time.RFC3339Nano, c.Query("before")); err == nil {
		f.Before = &before
	}
	text := strings.TrimSpace(c.Query("text"))
	found, err := t.Operator(c).Search(c, &f, text, pageSize)
	if err != nil {
		return err
	}
	runs, err := store.Runs(c, t.DB, f)
	if err != nil {
		return err
	}
	d := listPage{
		Frame: t.Frame(c, "traffic", "Traffic", "↑ ↓", "choose a run", "Enter", "open it"),
		Query: f.Reference, State: string(f.State), Flow: f.Flow, Flows: p.Parts(project.Flows), States: store.States,
		Address: c.Request.URL.RequestURI(), CauseKey: c.Query("cause"), Since: c.Query("since"),
	}
	d.Narrowed = "/traffic/again?" + c.Request.URL.RawQuery
	d.Text, d.QueryText = text, c.Request.URL.RawQuery
	if d.Looked = found.Looked; found.Last != nil {
		q := c.Request.URL.Query()
		q.Set("before", found.Last.Format(time.RFC3339Nano))
		d.Further = "/traffic?" + q.Encode()
	}
	if d.views, err = t.views(c, "Runs"); err != nil {
		return err
	}
	if d.Searches, err = store.Searches(c, t.DB, p.ID, page.Person(c).ID); err != nil {
		return err
	}
	if cause, ok := causeOf(c.Query("cause")); ok {
		d.Cause = &cause
		asides, runs, err := store.OpenOfCause(c, t.DB, t.Scope, cause, time.Now().Add(-operate.Recent), operate.MaxRerun)
		if err != nil {
			return err
		}
		d.OpenRecords, d.OpenRuns = len(asides), len(runs)
	}
	if len(runs) > pageSize {
		runs = runs[:pageSize]
		q := c.Request.URL.Query()
		q.Set("before", runs[pageSize-1].CreatedAt.Format(time.RFC3339Nano))
		d.Older = "/traffic?" + q.Encode()
	}
	for _, r := range runs {
		d.Runs = append(d.Runs, t.row(c, p, r))
		if r.Ended() {
			d.Ended++
		}
	}
	if err := t.overview(c, &d); err != nil {
		return err
	}
	if err := t.troubles(c, &d, p); err != nil {
		return err
	}
	if page.Partial(c) {
		listView.Part(c, "list", d)
		return nil
	}
	listView.Page(c, d)
	return nil
}

// sinces are the times to which the list can be narrowed.
var sinces = map[string]time.Duration{"hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour}

// narrow narrows the list to a cause and a time.
func (t traffic) narrow(c *gin.Context, f *store.RunFilter) error {
	if d, ok := sinces[c.Query("since")]; ok {
		since := time.Now().Add(-d)
		f.Since = &since
	}
	cause, ok := causeOf(c.Query("cause"))
	if !ok {
		return nil
	}
	return t.Operator(c).OfCause(c, f, cause)
}

// causeOf reads what store.Cause.Key writes.
func causeOf(key string) (store.Cause, bool) {
	parts := strings.SplitN(key, "|", 3)
	if len(parts) < 3 {
		return store.Cause{}, false
	}
	return store.Cause{Flow: parts[0], Step: parts[1], Text: parts[2]}, true
}

// troubles groups what has failed by its causes, and lists what steps told.
func (t traffic) troubles(c *gin.Context, d *listPage, p *project.Project) error {
	causes, err := store.Causes(c, t.DB, t.Scope, time.Now().Add(-operate.Recent), maxCauses)
	if err != nil {
		return err
	}
	for _, cause := range causes {
		row := causeRow{Cause: cause, FlowTitle: cause.Flow, StepTitle: cause.Step, Href: "/traffic?cause=" + url.QueryEscape(cause.Key())}
		if plan := p.Flow(cause.Flow); plan != nil {
			row.FlowTitle = plan.Flow.Title
			if ps := plan.Planned(cause.Step); ps != nil {
				row.StepTitle = ps.Step.Name
			}
		}
		d.Causes = append(d.Causes, row)
	}
	events, err := store.Events(c, t.DB, t.Scope, maxEvents)
	for _, e := range events {
		row := eventRow{Event: e, FlowTitle: e.Flow}
		if plan := p.Flow(e.Flow); plan != nil {
			row.FlowTitle = plan.Flow.Title
		}
		d.Events = append(d.Events, row)
	}
	return err
}

func (t traffic) overview(c *gin.Context, d *listPage) error {
	since := time.Now().Add(-minutes * time.Minute).Truncate(time.Minute)
	slices, err := store.Slices(c, t.DB, t.Scope, since, time.Minute)
	if err != nil {
		return err
	}
	bars := make([]draw.Bar, minutes+1)
	for i := range bars {
		bars[i].Label = since.Add(time.Duration(i) * time.Minute).UTC().Format("15:04")
	}
	for _, s := range slices {
		if s.Index >= 0 && s.Index < len(bars) {
			bars[s.Index].Runs += s.Runs
			bars[s.Index].Failed += s.Failed
		}
	}
	d.Bars = draw.Bars(bars)
	tallies, err := store.Tallies(c, t.DB, t.Scope, time.Now().Add(-24*time.Hour))
	if err != nil {
		return err
	}
	d.Tally = map[string]int{}
	for _, tally := range tallies {
		d.Tally[string(tally.State)] += tally.Runs
		d.Tally[""] += tally.Runs
	}
	d.Open, err = store.OpenAsides(c, t.DB, t.Scope)
	return err
}

func (t traffic) row(c *gin.Context, p *project.Project, r store.Run) runRow {
	row := runRow{Run: r, FlowTitle: r.Flow, What: page.What(r), Class: page.StateTags[r.State]}
	released, err := t.Engine.Release(c, p.ID, r.Of, r.Release)
	if err != nil {
		return row
	}
	if plan := released.Flow(r.Flow); plan != nil {
		row.FlowTitle = plan.Flow.Title
		row.Stem = draw.Steps(marks(plan, r))
	}
	switch {
	case r.EndedAt != nil && r.StartedAt != nil:
		row.Took = page.Took(r.EndedAt.Sub(*r.StartedAt))
	case r.StartedAt != nil && r.State == store.Running:
		row.Took = page.Took(time.Since(*r.StartedAt)) + " so far"
	}
	return row
}

// maxMarks bounds a run's small stem.
const maxMarks = 14

// marks says for each step of a run whether all passed, some were set aside, or it ended there.
func marks(plan *running.Plan, r store.Run) []string {
	var out []string
	for _, ps := range plan.Steps {
		if len(ps.Step.Branches) > 0 && ps.Op == nil && ps.File == nil || len(out) == maxMarks {
			continue
		}
		m := "waiting"
		if c := r.Counts[ps.Step.ID]; c != nil {
			m = "passed"
			if c.SetAside > 0 {
				m = "aside"
			}
		} else if r.State == store.Stopped && len(out) == 0 {
			m = "stopped"
		}
		out = append(out, m)
	}
	return out
}
