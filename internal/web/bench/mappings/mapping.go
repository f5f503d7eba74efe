// Package mappings holds the pages of a mapping: its rules, matching, its cases, where values come from, and what changed.
package mappings

import (
	"cmp"
	"embed"
	"regexp"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of mappings.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/mappings/:id", s.Do(b.mapping))
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
}

var mappingView = page.Parse(files, "mapping.html")

type mappingPage struct {
	page.Frame
	plan                         *mapping.Plan
	ID, MapTitle                 string
	Path                         string
	Draft                        store.Draft
	SavedBy                      string
	Sources                      []sourceRow
	Targets                      []targetRow // conditions, variables and fields
	OnFault                      mapping.OnFault
	LeftOut                      string // why the record at hand is skipped
	Links                        []link
	Done, All                    int
	Percent                      int
	Missing                      []string
	Faults                       int
	Selected                     *targetRow
	Sample                       string
	Script                       bool // the mapping is a script in place of rules
	ScriptText                   string
	ScriptFault                  *fault.Fault
	ScriptReads, ScriptMakes     []string
	Samples                      []string // of the first source, to choose from
	Record                       int
	Records                      int
	Before, After                string
	Told                         string
	Since                        time.Time // when what systems answered was answered; zero: no system was asked
	Show                         string    // open or made: only those target fields are listed
	FindSource, FindTarget       string    // what is sought in a tree that is too large to be drawn whole
	HiddenSources, HiddenTargets int       // rows that are not drawn
	Open, Unused                 int       // target fields that are still to be done, source fields that no rule reads
	Cases, Failed                int
	Schemas                      []project.Part
	Mends                        []mendRow
	Orphans                      []orphanRow
	NextOpen                     string // the target field to go on with
	OOB                          bool
	UsedBy                       []project.Part
	Unread                       int                            // records of the sample that cannot be read
	UnreadFor                    *fault.Fault                   // the first of them
	UnreadOf                     string                         // the schema of the sample
	InSample                     int                            // records, those that cannot be read among them
	sampleOf                     *schema.Schema                 // that the sample is of
	Maps                         int                            // records of the sample that are mapped without a fault
	Troubles                     []mapTrouble                   // what the others fail for
	Unsure                       []string                       // required fields whose rule may yield nothing
	fill                         func(n int, fr *mapping.Frame) // puts record n of the sample into a frame, from 0; nil where there is one only
	edited                       string                         // the row whose edit is answered; empty for a page that is opened
}

func (b pages) mapping(c *gin.Context) error {
	d, err := b.mappingPage(c, c.Param("id"), c.Query("field"), c.Query("record"), c.Query("show"))
	if err != nil {
		return err
	}
	if page.Partial(c) {
		mappingView.Part(c, "work", d)
		return nil
	}
	mappingView.Page(c, d)
	return nil
}

func (b pages) mappingPage(c *gin.Context, id, field, record, show string) (*mappingPage, error) {
	return b.mappingPageOf(c, id, field, record, show, "")
}

// mappingPageOf makes the page; with the row whose edit it answers.
func (b pages) mappingPageOf(c *gin.Context, id, field, record, show, edited string) (*mappingPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, err
	}
	plan := p.Mapping(id)
	if plan == nil {
		return nil, store.ErrNotFound
	}
	d := &mappingPage{
		Frame: b.Frame(c, "bench", plan.Mapping.Title, "↑ ↓", "choose a target field", "Enter", "write its rule", "[ ]", "record before, after", "F", "fold a record", "O", "go to the next open field", "M", "match by name"),
		plan:  plan, OnFault: plan.Mapping.OnFault,
		FindSource: asked(c, findSource), FindTarget: asked(c, findTarget),
		Show: show, ID: id, edited: edited, OOB: edited != "", MapTitle: plan.Mapping.Title, Path: project.Path(project.Mappings, id), Faults: len(plan.Faults),
	}
	d.UsedBy = flowsUsing(p, d.Path)
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, err
	}
	if d.SavedBy, err = b.Named(c, d.Draft.MadeBy); err != nil {
		return nil, err
	}
	fr := plan.NewFrame()
	d.message(c, b, p, plan, record, fr)
	d.targets(plan, fr, field)
	d.whole(p, plan, fr)
	d.sources(plan, fr)
	d.used()
	d.windowed()
	for _, one := range p.CasesOf(id) {
		d.Cases++
		if r := p.RunCase(one); !r.OK() {
			d.Failed++
		}
	}
	if d.Mends, err = b.mends(c, p, plan); err != nil {
		return nil, err
	}
	d.Orphans, d.Schemas = orphansOf(plan, d.Mends), p.Messages()
	d.Done, d.All = plan.Complete()
	d.Percent = 100 * d.Done / max(d.All, 1)
	return d, nil
}

// The texts that are sought in trees, as a request names them.
const (
	findSource = "find-source"
	findTarget = "find-target"
)

// asked is a text of a request, whether it opens a page or changes something.
func asked(c *gin.Context, name string) string { return cmp.Or(c.Query(name), c.PostForm(name)) }

// flowsUsing are the flows that need a part.
func flowsUsing(p *project.Project, path string) []project.Part {
	return slices.DeleteFunc(p.UsedBy(path), func(part project.Part) bool { return part.Kind != project.Flows })
}

// message puts a real message into the frame: what comes into the map step of a flow that uses the
// mapping, on its sample; else the first records of the sources' samples.
func (d *mappingPage) message(c *gin.Context, b pages, p *project.Project, plan *mapping.Plan, record string, fr *mapping.Frame) {
	var items []*running.Item
	var slots []int
	for _, part := range d.UsedBy {
		fp := p.Flow(part.ID)
		ps := stepOf(fp, d.ID)
		if ps == nil || fp.Source == nil || len(fp.Source.Samples) == 0 {
			continue
		}
		d.sample(c, fp.Source.Samples)
		d.sampleOf = fp.Source
		how, err := b.TestOptions(c, fp)
		if err != nil {
			d.Told = "The remembered answers cannot be read."
			return
		}
		trial := b.Engine.Tries.RunTest(c, p, part.ID, d.Sample, how)
		d.Since = base.RecordedSince(how.Recording, fp)
		if trial.Fault != nil {
			d.Told = trial.Fault.What()
		}
		for _, it := range trial.Items {
			if fp.HasReached(it, ps.Step.ID) {
				items = append(items, it)
			}
		}
		slots = sourceSlots(ps, plan)
		break
	}
	if len(items) == 0 || slots == nil {
		d.samples(c, p, plan, record, fr)
		return
	}
	d.page(record, len(items))
	d.fill = func(n int, fr *mapping.Frame) {
		it := items[n]
		fr.Slots[0] = it.Frame.Slots[running.RunSlot]
		for i, slot := range slots {
			fr.Slots[1+i] = it.Frame.Slots[slot]
		}
	}
	d.fill(d.Record-1, fr)
}

// mapTrouble is what several records of the sample fail for.
type mapTrouble struct {
	Field, What string
	Records     int
	First       int // record, from 1
}

// differing is what differs between faults of one cause.
var differing = regexp.MustCompile(`"[^"]*"|[0-9]+`)

// whole maps every record of the sample, as the flow does, and counts what fails.
func (d *mappingPage) whole(p *project.Project, plan *mapping.Plan, fr *mapping.Frame) {
	for _, f := range plan.Fields {
		if f.Program != nil && f.Program.Type.Maybe && f.Field.Required() && f.Rule != nil && f.Rule.Default.Value == "" {
			d.Unsure = append(d.Unsure, f.Name())
		}
	}
	if d.sampleOf != nil {
		d.UnreadOf = d.sampleOf.ID
		d.Unread, d.UnreadFor = p.Unread(d.sampleOf, d.Sample, 1000)
		d.InSample = d.Records + d.Unread
	}
	if d.fill == nil {
		return
	}
	own := &mapping.Frame{}
	*own = *plan.NewFrame()
	copy(own.Slots, fr.Slots)
	byCause := map[string]int{}
	for n := range d.Records {
		d.fill(n, own)
		res := plan.Apply(own)
		if len(res.Faults) == 0 {
			d.Maps++
			continue
		}
		f := res.Faults[0]
		field := schema.PlainPath(f.Place.Path)
		key := field + differing.ReplaceAllString(f.What(), "…")
		at, known := byCause[key]
		if !known {
			at = len(d.Troubles)
			byCause[key] = at
			d.Troubles = append(d.Troubles, mapTrouble{Field: field, What: f.What(), First: n + 1})
		}
		d.Troubles[at].Records++
	}
}

// sample takes the sample that is asked for; the first where it is none of them.
func (d *mappingPage) sample(c *gin.Context, all []string) {
	d.Samples, d.Sample = all, c.DefaultQuery("sample", c.PostForm("sample"))
	if !slices.Contains(all, d.Sample) {
		d.Sample = all[0]
	}
}

// sampledBy is a schema with one sample only.
func sampledBy(s *schema.Schema, sample string) *schema.Schema {
	one := *s
	one.Samples = []string{sample}
	return &one
}

func stepOf(fp *running.Plan, mappingID string) *running.PlannedStep {
	for _, ps := range fp.Steps {
		if ps.Step.Setting("mapping") == mappingID {
			return ps
		}
	}
	return nil
}

func sourceSlots(ps *running.PlannedStep, plan *mapping.Plan) []int {
	var slots []int
	for _, src := range plan.Mapping.From {
		for _, n := range ps.Before {
			if n.Name == src.Name.Value {
				slots = append(slots, n.Slot)
			}
		}
	}
	if len(slots) != len(plan.Mapping.From) {
		return nil
	}
	return slots
}

func (d *mappingPage) samples(c *gin.Context, p *project.Project, plan *mapping.Plan, record string, fr *mapping.Frame) {
	fr.Slots[0] = running.RunFacts("try", "sample", "sample", 1, value.Value{})
	for i, s := range plan.Sources {
		if i == 0 && len(s.Samples) > 0 {
			d.sample(c, s.Samples)
			d.sampleOf = s
			s = sampledBy(s, d.Sample)
		}
		records, err := p.SampleRecords(s, 1000)
		if err != nil || len(records) == 0 {
			continue
		}
		at := 0
		if i == 0 {
			d.page(record, len(records))
			at = d.Record - 1
			if !plan.Mapping.From[0].List {
				d.fill = func(n int, fr *mapping.Frame) { fr.Slots[1] = records[n] }
			}
		}
		if fr.Slots[1+i] = records[at]; plan.Mapping.From[i].List {
			fr.Slots[1+i] = value.ListOf(records...)
		}
	}
}

func (d *mappingPage) page(record string, n int) {
	d.Records = n
	d.Record, _ = strconv.Atoi(record)
	if d.Record < 1 || d.Record > n {
		d.Record = 1
	}
	if d.Record > 1 {
		d.Before = strconv.Itoa(d.Record - 1)
	}
	if d.Record < n {
		d.After = strconv.Itoa(d.Record + 1)
	}
}
