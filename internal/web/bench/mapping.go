package bench

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var mappingView = page.Parse(files, "mapping.html")

type mappingPage struct {
	page.Frame
	ID, MapTitle  string
	Path          string
	Draft         store.Draft
	SavedBy       string
	Sources       []sourceRow
	Targets       []targetRow
	Links         []link
	Done, All     int
	Percent       int
	Missing       []string
	Faults        int
	Selected      *targetRow
	Sample        string
	Record        int
	Records       int
	Before, After string
	Told          string
	Show          string // open or made: only those target fields are listed
	Open, Unused  int    // target fields that are still to be done, source fields that no rule reads
	Cases, Failed int
	NextOpen      string // the target field to go on with
	OOB           bool
	UsedBy        []project.Part
}

type sourceRow struct {
	Path, Insert, Name, Type, Value string
	Indent                          int
	Head, List, Used                bool
}

type targetRow struct {
	Name, Label, Type, Rule, Result string
	As                              string // the item's name, of an each
	Kind                            mapping.RuleKind
	Indent                          int
	Head, Required, Missing, Chosen bool
	Formula, List                   bool
	RuleType                        string
	Fault                           *fault.Fault
	Href                            string
}

type link struct{ From, To, Kind string }

func (b bench) mapping(c *gin.Context) error {
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

func (b bench) mappingPage(c *gin.Context, id, field, record, show string) (*mappingPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, err
	}
	plan := p.Mapping(id)
	if plan == nil {
		return nil, store.ErrNotFound
	}
	d := &mappingPage{
		Frame: b.Frame(c, "bench", plan.Mapping.Title, "↑ ↓", "choose a target field", "Enter", "write its rule", "[ ]", "record before, after", "O", "go to the next open field", "M", "match by name", "Ctrl Z, Y", "undo, redo"),
		Show:  show, ID: id, MapTitle: plan.Mapping.Title, Path: project.Path(project.Mappings, id), Faults: len(plan.Faults),
	}
	d.UsedBy = p.UsedBy(d.Path)
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, err
	}
	if d.SavedBy, err = b.named(c, d.Draft.MadeBy); err != nil {
		return nil, err
	}
	fr := plan.NewFrame()
	d.message(c, b, p, plan, record, fr)
	d.sources(plan, fr)
	d.targets(plan, fr, field)
	d.used()
	for _, one := range p.CasesOf(id) {
		d.Cases++
		if r := p.RunCase(one); !r.OK() {
			d.Failed++
		}
	}
	d.Done, d.All = plan.Complete()
	d.Percent = 100 * d.Done / max(d.All, 1)
	return d, nil
}

// message puts a real message into the frame: what comes into the map step of a flow that uses the
// mapping, on its sample; else the first records of the sources' samples.
func (d *mappingPage) message(c *gin.Context, b bench, p *project.Project, plan *mapping.Plan, record string, fr *mapping.Frame) {
	var items []*flow.Item
	var slots []int
	for _, part := range d.UsedBy {
		fp := p.Flow(part.ID)
		ps := stepOf(fp, d.ID)
		if ps == nil || fp.Source == nil || len(fp.Source.Samples) == 0 {
			continue
		}
		d.Sample = fp.Source.Samples[0]
		trial := b.Engine.Try(c, p, part.ID, d.Sample)
		if trial.Fault != nil {
			d.Told = trial.Fault.What()
		}
		for _, it := range trial.Items {
			if fp.Passed(it, ps.Step.ID) {
				items = append(items, it)
			}
		}
		slots = sourceSlots(ps, plan)
		break
	}
	if len(items) == 0 || slots == nil {
		d.samples(p, plan, record, fr)
		return
	}
	d.page(record, len(items))
	it := items[d.Record-1]
	fr.Slots[0] = it.Frame.Slots[flow.RunSlot]
	for i, slot := range slots {
		fr.Slots[1+i] = it.Frame.Slots[slot]
	}
}

func stepOf(fp *flow.Plan, mappingID string) *flow.PlannedStep {
	for _, ps := range fp.Steps {
		if ps.Step.Setting("mapping") == mappingID {
			return ps
		}
	}
	return nil
}

func sourceSlots(ps *flow.PlannedStep, plan *mapping.Plan) []int {
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

func (d *mappingPage) samples(p *project.Project, plan *mapping.Plan, record string, fr *mapping.Frame) {
	fr.Slots[0] = flow.RunFacts("try", "sample", 1, value.Value{})
	for i, s := range plan.Sources {
		records, err := p.SampleRecords(s, 1000)
		if err != nil || len(records) == 0 {
			continue
		}
		at := 0
		if i == 0 {
			d.page(record, len(records))
			d.Sample = s.Samples[0]
			at = d.Record - 1
		}
		fr.Slots[1+i] = records[at]
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

func (d *mappingPage) sources(plan *mapping.Plan, fr *mapping.Frame) {
	for i, src := range plan.Mapping.From {
		name := src.Name.Value
		s := plan.Sources[i]
		d.Sources = append(d.Sources, sourceRow{Path: name, Name: name, Type: s.Notation, Head: true, Insert: name})
		s.Root.Walk(func(path []string, f *schema.Field) {
			if len(path) == 0 {
				return
			}
			full := name + "." + strings.Join(path, ".")
			row := sourceRow{Path: full, Insert: full, Name: f.Name, Type: typeName(f), Indent: len(path), Head: f.Kind == value.RecordKind, List: f.List()}
			if i == 0 {
				row.Insert = strings.Join(path, ".")
			}
			v := fr.Slots[1+i]
			for _, n := range path {
				if items := v.Items(); len(items) > 0 {
					v = items[0]
				}
				v = v.Field(n)
			}
			if f.Kind != value.RecordKind || f.List() {
				row.Value = page.Show(v)
			}
			d.Sources = append(d.Sources, row)
		})
	}
}

func typeName(f *schema.Field) string {
	t := f.Kind.String()
	switch {
	case f.List():
		t = "list"
	case f.Must.Places > 0:
		t += " " + strconv.Itoa(f.Must.Places)
	case f.Must.MaxLength > 0:
		t += " " + strconv.Itoa(f.Must.MaxLength)
	}
	if f.Min == 0 {
		t += " 0..1"
	}
	return t
}

func (d *mappingPage) targets(plan *mapping.Plan, fr *mapping.Frame, field string) {
	results := map[*mapping.Field]value.Value{}
	wrong := map[string]*fault.Fault{}
	res := plan.ApplyTraced(fr, func(f *mapping.Field, v value.Value, _ *fault.Fault) { results[f] = v })
	for _, f := range append(res.Faults, res.Notes...) {
		if name := schema.PlainPath(f.Place.Path); wrong[name] == nil {
			wrong[name] = f
		}
	}
	for _, f := range plan.Fields {
		row := targetRow{
			Name: f.Name(), Label: f.Path[len(f.Path)-1], Type: typeName(f.Field), Indent: len(f.Path) - 1,
			Head: f.Field.Kind == value.RecordKind, List: f.Field.Kind == value.RecordKind && f.Field.List(), Required: f.Field.Required(), Missing: f.Missing,
			Kind: mapping.Formula, Href: fmt.Sprintf("/bench/mappings/%s?field=%s&record=%d&show=%s", d.ID, f.Name(), d.Record, d.Show),
		}
		if f.Missing {
			d.Missing = append(d.Missing, row.Name)
		}
		if f.Rule != nil {
			row.Kind, row.Rule, row.As = f.Rule.Kind, f.Rule.Text.Value, f.Rule.As
			row.Result = page.Show(results[f])
			row.Fault = wrong[row.Name]
			d.link(f)
		}
		if len(f.Faults) > 0 {
			row.Fault = f.Faults[0]
		}
		if f.Program != nil {
			row.Formula, row.RuleType = !f.Program.Reference(), f.Program.Type.String()
		}
		if row.open() {
			d.Open++
		}
		if d.Show == "open" && !row.open() && row.Name != field || d.Show == "made" && row.Rule == "" && row.Name != field {
			continue
		}
		d.Targets = append(d.Targets, row)
	}
	d.choose(field)
	d.next()
}

// open says whether something is left to do: a required field without a rule, or a rule with a fault.
func (r *targetRow) open() bool { return r.Missing || r.Fault != nil }

// next is the open field behind the selected one, or else the first.
func (d *mappingPage) next() {
	var open []string
	behind := -1
	for i := range d.Targets {
		if d.Targets[i].Chosen {
			behind = len(open)
		} else if d.Targets[i].open() {
			open = append(open, d.Targets[i].Name)
		}
	}
	if len(open) > 0 {
		d.NextOpen = open[max(behind, 0)%len(open)]
	}
}

// FieldName is the path of the selected target field; empty when there is none.
func (d *mappingPage) FieldName() string {
	if d.Selected == nil {
		return ""
	}
	return d.Selected.Name
}

// used marks the source fields that rules read, and those around them.
func (d *mappingPage) used() {
	reads := map[string]bool{}
	for _, l := range d.Links {
		reads[l.From] = true
	}
	for i := range d.Sources {
		row := &d.Sources[i]
		if row.Used = reads[row.Path]; !row.Used && !row.Head {
			d.Unused++
		}
	}
}

func (d *mappingPage) choose(field string) {
	for i := range d.Targets {
		if d.Targets[i].Name == field {
			d.Selected = &d.Targets[i]
		}
	}
	if d.Selected == nil && len(d.Targets) > 0 {
		d.Selected = &d.Targets[0]
	}
	if d.Selected != nil {
		d.Selected.Chosen = true
	}
}

// link joins a target to the source fields that its rule reads.
func (d *mappingPage) link(f *mapping.Field) {
	if f.Program == nil {
		return
	}
	kind := "reference"
	if !f.Program.Reference() {
		kind = "formula"
	}
	for _, path := range f.Reads {
		d.Links = append(d.Links, link{From: strings.Join(path, "."), To: f.Name(), Kind: kind})
	}
}

// setRule changes, adds or (with an empty text) removes the rule of a target field.
func (b bench) setRule(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	id, field := c.Param("id"), c.PostForm("field")
	plan := p.Mapping(id)
	if plan == nil {
		return store.ErrNotFound
	}
	if len(c.PostForm("rule")) > formula.MaxSource {
		return store.ErrChanged
	}
	err = b.save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		return editRule(plan, field, mapping.RuleKind(c.PostForm("kind")), strings.TrimSpace(c.PostForm("rule")), strings.TrimSpace(c.PostForm("as")), text)
	})
	if err != nil {
		return err
	}
	d, err := b.mappingPage(c, id, field, c.PostForm("record"), c.PostForm("show"))
	if err != nil {
		return err
	}
	d.OOB = true
	mappingView.Part(c, "changed", d)
	return nil
}

func editRule(plan *mapping.Plan, field string, kind mapping.RuleKind, rule, as string, text []byte) ([]byte, error) {
	if kind != mapping.Constant && kind != mapping.Each {
		kind = mapping.Formula
	}
	if !formula.Name(as) {
		as = ""
	}
	at := -1
	for i, r := range plan.Mapping.Rules {
		if r.Field.Value == field {
			at = i
		}
	}
	switch {
	case at < 0 && rule == "":
		return text, nil
	case at < 0:
		item := doc.Out{{Key: "field", Value: field}, {Key: string(kind), Value: rule}}
		if kind == mapping.Each {
			item.Add("as", as)
		}
		return doc.Insert(text, []any{"rules"}, -1, item)
	case rule == "":
		return doc.Remove(text, []any{"rules"}, at)
	}
	if old := plan.Mapping.Rules[at].Kind; old != kind {
		var err error
		if text, err = doc.Set(text, []any{"rules", at, string(old)}, ""); err != nil {
			return nil, err
		}
	}
	if old := plan.Mapping.Rules[at]; kind != mapping.Each || as != "" && as != old.As {
		var err error
		if kind != mapping.Each {
			as = ""
		}
		if text, err = doc.Set(text, []any{"rules", at, "as"}, as); err != nil {
			return nil, err
		}
	}
	return doc.Set(text, []any{"rules", at, string(kind)}, rule)
}
