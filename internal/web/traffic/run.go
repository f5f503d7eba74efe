package traffic

import (
	"fmt"
	"html/template"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

var runView = page.Parse(files, "run.html")

// maxAsides bounds the set-aside records that one page shows.
const maxAsides = 200

type runPage struct {
	page.Frame
	Run           runRow
	Drawing       template.HTML
	Summary       []string
	Step          string
	MappingID     string // of the step, when it maps
	StepTitle     string
	Record        int // from 1
	Before, After string
	In, Out       []page.Row
	Changed, New  int
	Told          string
	Faults        []*fault.Fault
	Asides        []asideRow
	People        map[string]store.Person
	CanResume     bool
	Address       string
}

type asideRow struct {
	store.Aside
	StepTitle string
	Text      string
	Mendable  bool
}

// runOf gives the run that an address names, the project's draft, and the project as the run's
// release has it.
func (t traffic) runOf(c *gin.Context) (r store.Run, draft, released *project.Project, err error) {
	id, err := runID(c)
	if err != nil {
		return r, nil, nil, err
	}
	if r, err = store.RunByID(c, t.DB, id); err != nil {
		return r, nil, nil, err
	}
	if draft, err = t.Load(c); err != nil {
		return r, nil, nil, err
	}
	released, err = t.Engine.Release(c, r.Project, r.Flow, r.Release)
	return r, draft, released, err
}

func (t traffic) run(c *gin.Context) error {
	r, p, released, err := t.runOf(c)
	if err != nil {
		return err
	}
	plan := released.Flow(r.Flow)
	d := &runPage{
		Frame: t.Frame(c, "traffic", r.Reference, "← →", "choose a step", "[ ]", "record before, after"),
		Run:   t.row(c, p, r), Address: c.Request.URL.RequestURI(),
		CanResume: r.Fault != nil && (r.State == store.SetAside || r.State == store.Stopped && r.Fault.Code != fault.Required),
	}
	if d.People, err = store.People(c, t.DB); err != nil {
		return err
	}
	if err := t.asides(c, d, plan, r); err != nil {
		return err
	}
	d.choose(plan, c.Query("step"))
	if err := t.record(c, d, plan, c.Query("record")); err != nil {
		return err
	}
	g := plan.Layout(released, nil)
	d.Drawing = draw.Flow(g, draw.FlowOptions{
		Selected: d.Step, Counts: r.Counts, Read: r.Taken, Target: "#work",
		Href: func(step string) string {
			return fmt.Sprintf("/traffic/runs/%s?step=%s&record=%d", r.ID, step, d.Record)
		},
	})
	d.Summary = bench.Summary(g, r.Counts)
	if page.Partial(c) {
		runView.Part(c, "work", d)
		return nil
	}
	runView.Page(c, d)
	return nil
}

func (t traffic) asides(c *gin.Context, d *runPage, plan *flow.Plan, r store.Run) error {
	list, err := store.Asides(c, t.DB, r.ID, maxAsides)
	if err != nil {
		return err
	}
	for _, a := range list {
		row := asideRow{Aside: a, StepTitle: a.Step, Text: strings.ToValidUTF8(string(a.Raw), "\uFFFD"), Mendable: len(a.Raw) > 0 && engine.Mendable(plan)}
		if ps := plan.Planned(a.Step); ps != nil {
			row.StepTitle = ps.Step.Name
		}
		sort.SliceStable(row.Faults, func(i, j int) bool { return row.Faults[i].Place.Column < row.Faults[j].Place.Column })
		d.Asides = append(d.Asides, row)
	}
	return nil
}

// choose takes the step asked for; the last one otherwise.
func (d *runPage) choose(plan *flow.Plan, id string) {
	ps := plan.Planned(id)
	if ps == nil && id != "trigger" && len(plan.Steps) > 0 {
		ps = plan.Steps[len(plan.Steps)-1]
		if len(d.Asides) > 0 {
			ps = plan.Planned(d.Asides[0].Step)
		}
	}
	d.Step, d.StepTitle = "trigger", plan.Flow.Trigger.Name
	if ps != nil {
		d.Step, d.StepTitle, d.MappingID = ps.Step.ID, ps.Step.Name, ps.Step.Setting("mapping")
	}
}

// record shows one record of the journal at the chosen step.
func (t traffic) record(c *gin.Context, d *runPage, plan *flow.Plan, record string) error {
	r := d.Run
	if r.Taken == 0 {
		return nil
	}
	n, err := strconv.Atoi(record)
	if err != nil || n < 1 || n > r.Taken {
		n = 1
		if len(d.Asides) > 0 {
			n = d.Asides[0].Record + 1
		}
	}
	d.Record = n
	link := func(n int) string {
		return fmt.Sprintf("/traffic/runs/%s?step=%s&record=%d", r.ID, d.Step, n)
	}
	if n > 1 {
		d.Before = link(n - 1)
	}
	if n < r.Taken {
		d.After = link(n + 1)
	}
	entry, err := t.Engine.Journal(c, r.ID, n-1)
	if err != nil {
		return err
	}
	d.In, d.Out, d.Told, d.Faults = bench.Passage(plan, entry.Item(plan), d.Step)
	d.Changed, d.New = page.Mark(d.In, d.Out)
	return nil
}
