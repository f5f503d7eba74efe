package bench

import (
	"fmt"
	"html/template"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

var flowView = page.Parse(files, "flow.html")

type flowPage struct {
	page.Frame
	ID, FlowTitle string
	Path          string
	Draft         store.Draft
	SavedBy       string
	Release       int
	Differs       bool
	Faults        fault.List
	Drawing       template.HTML
	Summary       []string // the drawing as text
	Trial         *engine.Trial
	Step          *stepPanel
	Record        int // from 1
	Records       int
	Before, After string // links to the records beside this one
	In, Out       []page.Row
	Changed, New  int
	Told          string         // what became of the record where there is no result
	RecordFaults  []*fault.Fault // of the record at hand
	OOB           bool
	ByHand        bool // a person can start it
	Samples       []string
	Sample        string
}

type stepPanel struct {
	ID, Title, Kind, About string
	Number                 int
	Settings               []settingField
	Faults                 fault.List
	MappingID              string
	Rules                  []ruleRow
}

type settingField struct {
	flow.Setting
	Value   string
	Options []project.Part
	Match   []flow.Match
}

type ruleRow struct {
	Field, Rule, Result string
	Formula             bool
}

func (b bench) flow(c *gin.Context) error {
	d, err := b.flowPage(c, c.Param("id"), c.Query("step"), c.Query("record"), c.Query("sample"))
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

func (b bench) flowPage(c *gin.Context, id, step, record, sample string) (*flowPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, err
	}
	plan := p.Flow(id)
	if plan == nil {
		return nil, store.ErrNotFound
	}
	d := &flowPage{
		Frame: b.Frame(c, "bench", plan.Flow.Title, "← →", "choose a step", "[ ]", "record before, after", "Ctrl Enter", "try with sample", "Ctrl Z, Y", "undo, redo"),
		ID:    id, FlowTitle: plan.Flow.Title, Path: project.Path(project.Flows, id), Faults: plan.Faults, ByHand: plan.ByHand(),
	}
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, err
	}
	if d.SavedBy, err = b.named(c, d.Draft.MadeBy); err != nil {
		return nil, err
	}
	if d.Release, d.Differs, err = b.differs(c, p, id); err != nil {
		return nil, err
	}
	d.try(c, b, p, plan, sample)
	d.choose(p, plan, step)
	d.record(plan, record)
	d.draw(p, plan)
	return d, nil
}

// try runs the draft on a sample of what it reads.
func (d *flowPage) try(c *gin.Context, b bench, p *project.Project, plan *flow.Plan, sample string) {
	if plan.Source == nil || len(plan.Source.Samples) == 0 {
		return
	}
	d.Samples = plan.Source.Samples
	d.Sample = d.Samples[0]
	for _, s := range d.Samples {
		if s == sample {
			d.Sample = s
		}
	}
	d.Trial = b.Engine.Try(c, p, d.ID, d.Sample)
	d.Records = len(d.Trial.Items)
}

// choose fills the panel of the selected step; the first step that works on records by default.
func (d *flowPage) choose(p *project.Project, plan *flow.Plan, id string) {
	ps := plan.Planned(id)
	for i := 0; ps == nil && i < len(plan.Steps); i++ {
		if s := plan.Steps[i]; id != "trigger" && s.Step.Kind == "keep" {
			ps = s
		}
	}
	if ps == nil {
		if id != "trigger" && len(plan.Steps) > 0 {
			ps = plan.Steps[0]
		} else {
			d.Step = triggerPanel(plan)
			return
		}
	}
	k := flow.KindOf(ps.Step.Kind)
	d.Step = &stepPanel{ID: ps.Step.ID, Title: ps.Step.Name, Kind: k.Title, About: k.About, Faults: ps.Faults}
	for i, s := range plan.Steps {
		if s == ps {
			d.Step.Number = i + 2
		}
	}
	for _, set := range k.Settings {
		f := settingField{Setting: set, Value: ps.Step.Setting(set.Name)}
		if set.Type == flow.Part {
			f.Options = p.Parts(set.Of + "s")
		}
		if set.Type == flow.Matches {
			f.Match = ps.Step.Match
		}
		d.Step.Settings = append(d.Step.Settings, f)
	}
	if ps.Mapping != nil {
		d.Step.MappingID = ps.Mapping.Mapping.ID
	}
}

// triggerAbouts say what each kind of trigger does.
var triggerAbouts = map[string][2]string{
	"file":     {"New file", "Looks into the folder every %s. A file is picked up when it rests; it is moved to the done folder once its run is recorded."},
	"records":  {"New records", "Asks for records every %s and starts a run with those whose rising field is beyond the last one that was taken; none is taken twice."},
	"schedule": {"Schedule", "Starts a run every %s; of several workers one does."},
	"person":   {"A person", "Starts a run when somebody presses Run now."},
}

func triggerPanel(plan *flow.Plan) *stepPanel {
	t := plan.Flow.Trigger
	about := triggerAbouts[t.Kind]
	d := &stepPanel{ID: "trigger", Title: t.Name, Kind: about[0], Number: 1, About: about[1]}
	field := func(name, label, help, v string) {
		d.Settings = append(d.Settings, settingField{Setting: flow.Setting{Name: name, Label: label, Type: flow.Text, Help: help}, Value: v})
	}
	if t.Kind == "file" {
		field("mask", "Files named", "* stands for any characters", t.Mask.Value)
	}
	if t.Kind == "records" {
		field("rising", "Rising field", "Greater in each new record: a number, a time", t.Rising.Value)
	}
	if t.Kind != "person" {
		d.About = fmt.Sprintf(about[1], time.Duration(t.Every)*time.Second)
		field("every", "Every (seconds)", "", strconv.Itoa(t.Every))
	}
	return d
}

// record fills what comes in and what goes out for the record at hand.
func (d *flowPage) record(plan *flow.Plan, record string) {
	if d.Records == 0 {
		return
	}
	n, err := strconv.Atoi(record)
	if err != nil || n < 1 || n > d.Records {
		n = d.firstPassed(plan)
	}
	d.Record = n
	link := func(n int) string {
		return fmt.Sprintf("/bench/flows/%s?step=%s&record=%d&sample=%s", d.ID, d.Step.ID, n, url.QueryEscape(d.Sample))
	}
	if n > 1 {
		d.Before = link(n - 1)
	}
	if n < d.Records {
		d.After = link(n + 1)
	}
	it := d.Trial.Items[n-1]
	d.In, d.Out, d.Told, d.RecordFaults = Passage(plan, it, d.Step.ID)
	d.Changed, d.New = page.Mark(d.In, d.Out)
	if d.Step.MappingID != "" {
		d.rules(plan, it)
	}
}

// firstPassed is the first record that reaches the end, else the first.
func (d *flowPage) firstPassed(plan *flow.Plan) int {
	for i, it := range d.Trial.Items {
		if it.State == flow.Done || it.State == flow.Live {
			return i + 1
		}
	}
	return 1
}

// Passage is what comes into a step for one record and what goes out of it, or what became of the
// record instead.
func Passage(plan *flow.Plan, it *flow.Item, step string) (in, out []page.Row, told string, faults []*fault.Fault) {
	ps := plan.Planned(step)
	if ps == nil {
		return nil, nil, "The file comes in as it stands.", nil
	}
	if !plan.Passed(it, step) {
		left := plan.Planned(it.Step)
		return nil, nil, fmt.Sprintf("This record did not come so far: it was %s at %s. %s", it.State, left.Step.Name, it.Reason), it.Faults
	}
	for _, n := range ps.Before {
		if n.Name != "run" && n.Slot < len(it.Frame.Slots) && it.Frame.Slots[n.Slot].Kind() != value.Absent {
			in = append(in, page.Tree(n.Name, it.Frame.Slots[n.Slot])...)
		}
	}
	if len(in) == 0 && it.Raw != "" {
		in = []page.Row{{Name: "line " + strconv.Itoa(it.Place.Line), Text: strconv.Quote(it.Raw)}}
	}
	if it.Step == step && it.State != flow.Done {
		return in, nil, strings.TrimSpace(fmt.Sprintf("%s. %s", strings.ToUpper(string(it.State[0]))+string(it.State[1:]), it.Reason)), it.Faults
	}
	if ps.Result != nil {
		notes := notesOf(it, step)
		if len(notes) > 0 {
			told = "Left out, as the mapping says:"
		}
		if ps.Op != nil && ps.Op.Verb.Effect && it.Effect == flow.NotDone {
			told = "Nothing was asked: a try changes no system. This answer is made up."
		}
		return in, page.Tree(ps.Result.Name, it.Frame.Slots[ps.Result.Slot]), told, notes
	}
	if it.Effect != "" && flow.KindOf(ps.Step.Kind).Effect {
		told = "The row would be written; in a try nothing is."
		if it.Effect != flow.NotDone {
			told = "The row was " + string(it.Effect) + "."
		}
		return in, nil, told, nil
	}
	return in, nil, "The record passes unchanged.", nil
}

func notesOf(it *flow.Item, step string) (notes []*fault.Fault) {
	for _, f := range it.Notes {
		if f.Place.Step == step {
			notes = append(notes, f)
		}
	}
	return notes
}

func (d *flowPage) rules(plan *flow.Plan, it *flow.Item) {
	ps := plan.Planned(d.Step.ID)
	if ps.Result == nil {
		return
	}
	row := it.Frame.Slots[ps.Result.Slot]
	for _, f := range ps.Mapping.Fields {
		if f.Rule == nil || len(f.Path) != 1 {
			continue
		}
		r := ruleRow{Field: f.Name(), Rule: f.Rule.Text.Value, Formula: f.Program != nil && !f.Program.Reference()}
		if row.Kind() != value.Absent {
			r.Result = page.Show(row.Field(f.Path[0]))
		}
		d.Step.Rules = append(d.Step.Rules, r)
	}
}

func (d *flowPage) draw(p *project.Project, plan *flow.Plan) {
	g := plan.Layout(p, nil)
	o := draw.FlowOptions{
		Selected: d.Step.ID, Target: "#work",
		Href: func(step string) string {
			return fmt.Sprintf("/bench/flows/%s?step=%s&record=%d&sample=%s", d.ID, step, d.Record, url.QueryEscape(d.Sample))
		},
	}
	if d.Trial != nil {
		o.Counts, o.Read = d.Trial.Counts, d.Records
	}
	d.Drawing = draw.Flow(g, o)
	d.Summary = Summary(g, o.Counts)
}

// Summary is a flow's drawing as a list of sentences.
func Summary(g flow.Geometry, counts map[string]*flow.Counts) []string {
	var lines []string
	for i, n := range g.Nodes {
		line := fmt.Sprintf("%d. %s: %s", i+1, n.Title, n.Detail)
		if c := counts[n.ID]; c != nil {
			line += fmt.Sprintf(" (%d in, %d out, %d left out, %d set aside)", c.In, c.Out, c.LeftOut, c.SetAside)
		}
		lines = append(lines, line)
	}
	return lines
}

// differs tells the newest release of a flow and whether the draft is another.
func (b bench) differs(c *gin.Context, p *project.Project, id string) (number int, differs bool, err error) {
	releases, err := store.NewestReleases(c, b.DB, p.ID)
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
		if old, ok := released[path]; !ok || old != p.Texts[path] {
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

// save writes a changed part, from the revision that the form was made of.
func (b bench) save(c *gin.Context, path string, edit func(text []byte) ([]byte, error)) error {
	from, err := strconv.ParseInt(c.PostForm("revision"), 10, 64)
	if err != nil {
		return store.ErrChanged
	}
	draft, err := store.PartDraft(c, b.DB, b.Project, path)
	if err != nil {
		return err
	}
	if draft.Revision != from {
		return store.ErrChanged
	}
	text, err := edit([]byte(draft.Text))
	if err != nil {
		return err
	}
	if string(text) == draft.Text {
		return nil
	}
	return pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error {
		return store.SavePart(c, tx, b.Project, path, string(text), from, b.Person.ID)
	})
}

// runNow starts a run of the newest release because somebody asks for it, and shows it.
func (b bench) runNow(c *gin.Context) error {
	id, err := b.Engine.Begin(c, b.Project, c.Param("id"), b.Person.ID, nil)
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+id.String())
	return nil
}

// setStep changes the settings of a step and answers with all that this changes on the page.
func (b bench) setStep(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	id, step := c.Param("id"), c.Param("step")
	plan := p.Flow(id)
	if plan == nil {
		return store.ErrNotFound
	}
	err = b.save(c, project.Path(project.Flows, id), func(text []byte) ([]byte, error) { return editStep(c, plan, step, text) })
	if err != nil {
		return err
	}
	d, err := b.flowPage(c, id, step, c.PostForm("record"), c.PostForm("sample"))
	if err != nil {
		return err
	}
	d.OOB = true
	flowView.Part(c, "changed", d)
	return nil
}

func editStep(c *gin.Context, plan *flow.Plan, step string, text []byte) ([]byte, error) {
	if step == "trigger" {
		var err error
		for _, name := range []string{"mask", "rising", "every"} {
			if _, there := c.GetPostForm(name); !there {
				continue
			}
			if text, err = doc.Set(text, []any{"trigger", name}, strings.TrimSpace(c.PostForm(name))); err != nil {
				return nil, err
			}
		}
		return text, nil
	}
	s := plan.Flow.Step(step)
	if s == nil {
		return nil, store.ErrNotFound
	}
	for _, set := range flow.KindOf(s.Kind).Settings {
		var err error
		if text, err = editSetting(c, s, set, text); err != nil {
			return nil, err
		}
	}
	return text, nil
}

// editSetting leaves a setting alone that stands at its default already.
func editSetting(c *gin.Context, s *flow.Step, set flow.Setting, text []byte) ([]byte, error) {
	if set.Type == flow.Matches {
		var err error
		for _, m := range s.Match {
			if v, ok := c.GetPostForm(set.Name + "/" + m.Column.Value); ok && v != m.Formula.Value {
				if text, err = doc.Set(text, with(s.Path, set.Name, m.Column.Value), v); err != nil {
					return nil, err
				}
			}
		}
		return text, nil
	}
	v, ok := c.GetPostForm(set.Name)
	if !ok || v == s.Setting(set.Name) {
		return text, nil
	}
	return doc.Set(text, with(s.Path, set.Name), v)
}

func with(path []any, names ...string) []any {
	out := append([]any{}, path...)
	for _, n := range names {
		out = append(out, n)
	}
	return out
}

// undo goes a change back or forward in a part, and then back to the page it was asked from.
func (b bench) undo(c *gin.Context) error {
	from, err := strconv.ParseInt(c.PostForm("revision"), 10, 64)
	if err != nil {
		return store.ErrChanged
	}
	step := store.Undo
	if c.PostForm("way") == "redo" {
		step = store.Redo
	}
	err = pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error { return step(c, tx, b.Project, c.PostForm("path"), from) })
	if err != nil {
		return err
	}
	back := c.PostForm("back")
	if !strings.HasPrefix(back, "/bench/") {
		back = "/bench"
	}
	c.Redirect(303, back)
	return nil
}
