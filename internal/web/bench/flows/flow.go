// Package flows holds the pages of a flow: its editor, trying it, stepping through it, its cases and its release.
package flows

import (
	"embed"
	"fmt"
	"html/template"
	"maps"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/edit"
	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of flows: designing, trying and releasing them.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
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
	r.GET("/bench/flows/:id/steps/:step/origins", s.Do(b.origins))
	r.POST("/bench/flows/:id/steps/:step/origins", s.Do(b.fillField))
	r.GET("/bench/flows/:id/next-call", s.Do(b.nextCall))
	r.POST("/bench/flows/:id/next-call", s.Do(b.awaitCall))
	r.GET("/bench/walks/:walk", s.Do(b.walk))
	r.POST("/bench/walks/:walk/move", s.Do(b.moveWalk))
	r.POST("/bench/walks/:walk/change", s.Do(b.changeWalk))
	r.POST("/bench/walks/:walk/mark", s.Do(b.markWalk))
	r.GET("/bench/flows/:id/release", s.Do(b.releasePage))
	r.POST("/bench/flows/:id/release", s.Do(b.release))
	r.GET("/bench/steps", s.Do(b.stepReference))
}

var flowView = page.Parse(files, "flow.html")

// flowLook is what a page of a flow shows: the step, the record, the entry of a list in it, the sample, and what is
// folded.
type flowLook struct {
	id, step, record, entry, sample string
	walk                            string // that it was opened from
	count                           int
	folded                          map[string]bool
}

func lookOf(id string, get func(string) string) flowLook {
	l := flowLook{id: id, step: get("step"), record: get("record"), entry: get("entry"), sample: get("sample"), walk: get("walk"), folded: map[string]bool{}}
	l.count, _ = strconv.Atoi(get("count"))
	l.count = max(1, l.count)
	for _, f := range strings.Split(get("fold"), ",") {
		if f != "" {
			l.folded[f] = true
		}
	}
	return l
}

// fold writes what is folded.
func (l flowLook) fold() string {
	var list []string
	for id := range l.folded {
		list = append(list, id)
	}
	sort.Strings(list)
	return strings.Join(list, ",")
}

// address is the page that shows the same with another step or record.
func (l flowLook) address(step, record string) string {
	return "/bench/flows/" + l.id + "?" + l.query(step, record)
}

func (l flowLook) query(step, record string) string {
	q := url.Values{"step": {step}}
	for name, v := range map[string]string{"record": record, "sample": l.sample, "walk": l.walk, "fold": l.fold()} {
		if v != "" && v != "0" {
			q.Set(name, v)
		}
	}
	return q.Encode()
}

type flowPage struct {
	page.Frame
	ID, FlowTitle string
	Path          string
	Draft         store.Draft
	SavedBy       string
	Release       int
	Differs       bool
	Faults        []faultLink
	Needs         []faultLink // settings that are not there yet
	Notes         []faultLink // outcomes that nothing is done about
	Drawing       template.HTML
	Summary       []string // the drawing as text
	Trial         *tries.TestRun
	Files         []tries.TriedFile // that the chosen step would write
	Since         time.Time         // when the remembered answers of the chosen step were given; zero: there are none
	Step          *stepPanel
	Record        int // from 1
	Records       int
	PassedOver    []running.PassedOver // what was not read in the try because a schema lacks it
	Before, After string               // links to the records beside this one
	Nav           EntryNav
	EntryBefore   string
	EntryAfter    string
	In, Out       []page.Row
	Changed, New  int
	Told          string         // what became of the record where there is no result
	RecordFaults  []*fault.Fault // of the record at hand
	OOB           bool
	ByHand        bool // a person can start it
	Form          bool // and gives it a message
	Samples       []string
	Sample        string
	Fold          string
	Clip          string // the chosen steps as they are copied
	Again         string // this page
	Firing        *firing
	FoldHref      string // folds the chosen step, or unfolds it; empty where it holds none
	Folded        bool
	Begin         string // a message with which a run could begin, as JSON
	Cases, Failed int    // that are kept of the flow, and come out otherwise
	Walk          string // the walk that it was opened from
	item          *running.Item
	look          flowLook
	how           tries.TestOptions
	Typed         *typedForm // what tries begin with, where that can be typed
	Exchange      *Exchange  // what the chosen step sends for the record at hand; nil where it sends nothing
}

// faultLink is a fault with the way to where it is mended.
type faultLink struct {
	*fault.Fault
	Href, StepTitle string
	Label           string // of the setting that is not there yet
}

func (b pages) flow(c *gin.Context) error {
	d, err := b.flowPage(c, lookOf(c.Param("id"), c.Query))
	if err != nil {
		return err
	}
	if page.Partial(c) {
		flowView.Part(c, "work", d)
		return nil
	}
	flowView.Page(c, d)
	return nil
}

var flowKeys = []string{
	"← →", "choose a step", "[ ]", "record before, after", "T", "step through", "I", "put a step behind this one",
	"Shift ← →", "move the step", "Ctrl C, X, V", "copy, cut, paste", "D", "duplicate", "O", "switch off, on", "F", "fold, unfold", "Del", "take away",
}

func (b pages) flowPage(c *gin.Context, look flowLook) (*flowPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, err
	}
	id := look.id
	plan := p.Flow(id)
	if plan == nil {
		return nil, store.ErrNotFound
	}
	d := &flowPage{
		Frame: b.Frame(c, "bench", plan.Flow.Title, flowKeys...),
		ID:    id, FlowTitle: plan.Flow.Title, Path: project.Path(project.Flows, id), ByHand: plan.ByHand(), Form: plan.Input != nil, look: look, Fold: look.fold(), Walk: look.walk,
	}
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, err
	}
	if d.SavedBy, err = b.Named(c, d.Draft.MadeBy); err != nil {
		return nil, err
	}
	if d.Release, d.Differs, err = b.differs(c, p, id); err != nil {
		return nil, err
	}
	if d.Firing, err = b.firing(c, plan, d.Release); err != nil {
		return nil, err
	}
	d.Firing.schedule(plan, time.Now())
	how, err := b.TestOptions(c, plan)
	if err != nil {
		return nil, err
	}
	d.try(c, b, p, plan, how)
	d.Typed = d.typed(plan)
	d.choose(p, plan)
	d.record(plan)
	if d.item != nil {
		d.Exchange = ExchangeOf(c, b.Engine, b.Scope, plan, d.Step.ps, d.item)
	}
	d.panel(p, plan)
	d.faults(plan)
	d.draw(p, plan)
	d.Again = d.look.address(d.Step.ID, strconv.Itoa(d.Record))
	d.fold()
	if plan.Input != nil {
		d.Begin = beginWith(p, plan.Input)
	}
	for _, one := range p.CasesOfFlow(id) {
		d.Cases++
		if r := p.RunCase(one); !r.OK() {
			d.Failed++
		}
	}
	return d, nil
}

// fold says how the chosen step is folded or unfolded.
func (d *flowPage) fold() {
	if !d.Step.Holds {
		return
	}
	other := d.look
	other.folded = maps.Clone(d.look.folded)
	if d.Folded = other.folded[d.Step.ID]; d.Folded {
		delete(other.folded, d.Step.ID)
	} else {
		other.folded[d.Step.ID] = true
	}
	d.FoldHref = other.address(d.Step.ID, strconv.Itoa(d.Record))
}

// beginWith is a message of a schema: its sample, or one that is made up.
func beginWith(p *project.Project, sch *schema.Schema) string {
	v, err := p.Example(sch)
	if err != nil {
		return ""
	}
	return json.Indented(v)
}

// Wraps are the kinds of step that others can be put into.
func (d *flowPage) Wraps() (list []*flow.Kind) {
	for _, k := range flow.Kinds {
		if k.Wraps != nil {
			list = append(list, k)
		}
	}
	return list
}

// try runs the draft on a sample of what it begins with.
func (d *flowPage) try(c *gin.Context, b pages, p *project.Project, plan *running.Plan, how tries.TestOptions) {
	d.how = how
	of := plan.Source
	if plan.ReadStep == nil {
		of = plan.Input
	}
	if of != nil {
		d.Samples = of.Samples
	}
	for i, s := range d.Samples {
		if i == 0 || s == d.look.sample {
			d.Sample = s
		}
	}
	if plan.ReadStep != nil && d.Sample == "" {
		return
	}
	d.look.sample = d.Sample
	d.Trial = b.Engine.Tries.RunTest(c, p, d.ID, d.Sample, how)
	d.Records = len(d.Trial.Items)
	d.PassedOver = page.PassedOver(plan, p, d.Trial.Counts)
}

// choose finds the chosen step; the first step that works on records by default.
func (d *flowPage) choose(p *project.Project, plan *running.Plan) {
	d.Step = &stepPanel{ID: "trigger", plan: plan, p: p, Count: d.look.count}
	id := d.look.step
	ps := plan.Planned(id)
	for i := 0; ps == nil && id != "trigger" && i < len(plan.Steps); i++ {
		if k := plan.Steps[i].Step.Of(); !k.Reads && len(k.Branches) == 0 {
			ps = plan.Steps[i]
		}
	}
	if ps == nil && id != "trigger" && len(plan.Steps) > 0 {
		ps = plan.Steps[0]
	}
	if ps != nil {
		d.Step.ID, d.Step.ps = ps.Step.ID, ps
	}
	d.look.step = d.Step.ID
}

// faults lists the flow's faults, and what is pointed out, with the steps at which they are.
func (d *flowPage) faults(plan *running.Plan) {
	d.Notes = d.links(plan, plan.Notes)
	for _, l := range d.links(plan, plan.Faults) {
		if l.Setting == "" {
			d.Faults = append(d.Faults, l)
		} else {
			d.Needs = append(d.Needs, l)
		}
	}
}

// Told is the fault in the words of the form.
func (l faultLink) Told() string {
	if l.Setting == "" || !strings.HasSuffix(l.Message, " is missing") {
		return l.What()
	}
	return l.Label + " is still needed"
}

// labelOf is the label of a setting in the form of a step, or of the trigger where there is none.
func labelOf(plan *running.Plan, ps *running.PlannedStep, name string) string {
	var list setting.List
	if ps != nil {
		list = flow.KindOf(ps.Step.Kind).Settings
	} else if k := flow.TriggerOf(plan.Flow.Trigger.Kind); k != nil {
		list = k.Settings
	}
	if set := list.Find(name); set != nil {
		return set.Label
	}
	return map[string]string{"if": "A condition", "steps": "A step", "formula": "A formula"}[name]
}

func (d *flowPage) links(plan *running.Plan, faults fault.List) (list []faultLink) {
	for _, f := range faults {
		l := faultLink{Fault: f, Href: d.look.address("trigger", ""), StepTitle: "the flow"}
		if ps := plan.Planned(f.Place.Step); ps != nil {
			l.Href, l.StepTitle = d.look.address(ps.Step.ID, ""), ps.Step.Name
		}
		if f.Setting != "" {
			l.Label = labelOf(plan, plan.Planned(f.Place.Step), f.Setting)
		}
		list = append(list, l)
	}
	return list
}

func (d *flowPage) draw(p *project.Project, plan *running.Plan) {
	g := layout.Of(plan, p, d.look.folded)
	record := strconv.Itoa(d.Record)
	o := draw.FlowOptions{
		Selected: d.Step.ID, Target: "#work",
		Href: func(step string) string { return d.look.address(step, record) },
		Insert: func(gap *flow.Gap) string {
			return "/bench/flows/" + d.ID + "/picker?" + d.look.query(d.Step.ID, record) + "&gap=" + url.QueryEscape(draw.GapKey(gap))
		},
	}
	if d.Trial != nil {
		o.Counts, o.Read = d.Trial.Counts, d.Records
	}
	d.Drawing = draw.Flow(g, o)
	d.Summary = Summary(g, o.Counts)
	if d.Step.ps != nil {
		if text, err := edit.Copy(plan.Flow, []byte(d.Draft.Text), edit.Range{Step: d.Step.ID, Count: d.look.count}); err == nil {
			d.Clip = string(text)
		}
	}
}

// Summary is a flow's drawing as a list of sentences.
func Summary(g layout.Geometry, counts map[string]*running.Counts) []string {
	var lines []string
	for i, n := range g.Nodes {
		line := fmt.Sprintf("%d. %s: %s", i+1, n.Title, n.Detail)
		if c := counts[n.ID]; c != nil {
			line += fmt.Sprintf(" (%d in, %d out, %d skipped, %d set aside)", c.In, c.Out, c.Skipped, c.SetAside)
		}
		lines = append(lines, line)
	}
	return lines
}

// differs tells the release of a flow that the environment runs, and whether the draft is another.
func (b pages) differs(c *gin.Context, p *project.Project, id string) (number int, differs bool, err error) {
	releases, err := store.Deployments(c, b.DB, b.Scope)
	if err != nil {
		return 0, false, err
	}
	for _, r := range releases {
		if r.Flow == id {
			number = r.Number
		}
	}
	if number == 0 {
		return 0, true, nil
	}
	released, err := store.ReleaseFiles(c, b.DB, p.ID, id, number)
	if err != nil {
		return 0, false, err
	}
	return number, len(changes(p, id, released)) > 0, nil
}

// changes lists the paths that differ between a release and the draft.
func changes(p *project.Project, id string, released map[string]string) []string {
	paths := map[string]bool{}
	for _, path := range p.Uses(id) {
		old, ok := released[path]
		if !ok || old != p.Texts[path] && p.Matters(id, path, old) != p.Matters(id, path, p.Texts[path]) {
			paths[path] = true
		}
	}
	used := map[string]bool{}
	for _, path := range p.Uses(id) {
		used[path] = true
	}
	for path := range released {
		if !used[path] {
			paths[path] = true
		}
	}
	var list []string
	for path := range paths {
		list = append(list, path)
	}
	sort.Strings(list)
	return list
}

func with(path []any, names ...string) []any {
	out := append([]any{}, path...)
	for _, n := range names {
		out = append(out, n)
	}
	return out
}
