package traffic

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/url"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/excerpt"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/bench/flows"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

var runView = page.Parse(files, "run.html")

// Bounds on what is set aside and one page shows: records, and bytes of one that can be mended among the others.
const (
	maxAsides  = 200
	mostInline = 4_000
)

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
	Whole         bool // the step works on the run as a whole
	Nav           flows.EntryNav
	EntryBefore   string
	EntryAfter    string
	Children      []runRow
	MoreChildren  bool
	Parent        *runRow  // that started it
	Reruns        []runRow // in which it, or something of it, was done again
	Open          int      // records of it that wait for somebody
	Effects       []string // what would be done a second time if the whole message was run again
	References    []running.Reference
	Deeds         []deedRow
	Raw           bool // messages are shown as JSON
	RawIn, RawOut string
	RawHref       string
	Files         []store.RunFile // that the chosen step has written
	Unwritten     string          // what became of records that were collected, where no file was written
	From          string          // the step from which the run can begin again; empty where it cannot
	Input, Answer string
	PassedOver    []running.PassedOver // what was not read because a schema lacks it; the schemas that the project still has
	BlankLines    string
	Exchange      *flows.Exchange // with the step's system, for the record; nil where there is none
}

// maxChildren and maxReferences bound what one page shows.
const (
	maxChildren   = 50
	maxReferences = 20
)

type asideRow struct {
	store.Aside
	StepTitle string
	Text      string
	Number    string // of an entry, from 1
	Inline    bool   // its text is one line, which is mended in place
}

// runOf gives the run that an address names, the project's draft, and the project as the run's
// release has it.
func (t traffic) runOf(c *gin.Context) (r store.Run, draft, released *project.Project, err error) {
	id, err := runID(c)
	if err != nil {
		return r, nil, nil, err
	}
	if r, err = store.RunOf(c, t.DB, t.Scope, id); err != nil {
		return r, nil, nil, err
	}
	if draft, err = t.Load(c); err != nil {
		return r, nil, nil, err
	}
	released, err = t.Engine.Release(c, r.Project, r.Of, r.Release)
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
		CanResume: r.Fault != nil && (r.State == store.SetAside || r.State == store.Stopped && r.Fault.Code != fault.Required) && r.Resolution == "",
	}
	if d.People, err = store.People(c, t.DB); err != nil {
		return err
	}
	if err := t.asides(c, d, plan, r); err != nil {
		return err
	}
	if err := t.kin(c, d, p, r); err != nil {
		return err
	}
	d.passedOver(plan, p, r)
	d.choose(plan, c.Query("step"))
	if d.Deeds, err = t.deeds(c, d.People, &r.ID); err != nil {
		return err
	}
	if top := plan.RestartStep(d.Step); top != nil && r.Ended() && plan.Flow.Retention == flow.StoreAll {
		d.From = top.Step.Name
	}
	if err := t.written(c, d, plan, r); err != nil {
		return err
	}
	d.Raw = c.Query("view") == "raw"
	if err := t.record(c, d, plan, c.Query("record"), c.Query("entry")); err != nil {
		return err
	}
	g := layout.Of(plan, released, nil)
	d.Drawing = draw.Flow(g, draw.FlowOptions{
		Selected: d.Step, Counts: r.Counts, Read: r.RecordsRead, Target: "#work",
		Href: func(step string) string {
			return fmt.Sprintf("/traffic/runs/%s?step=%s&record=%d", r.ID, step, d.Record)
		},
	})
	d.Summary = flows.Summary(g, r.Counts)
	if page.Partial(c) {
		runView.Part(c, "work", d)
		return nil
	}
	runView.Page(c, d)
	return nil
}

func (t traffic) asides(c *gin.Context, d *runPage, plan *running.Plan, r store.Run) error {
	list, err := store.Asides(c, t.DB, r.ID, maxAsides)
	if err != nil {
		return err
	}
	for _, a := range list {
		row := asideRow{Aside: a, StepTitle: a.Step, Number: running.EntryNumber(a.Path)}
		if a.Path == "" && len(a.Raw) > 0 && plan.Source != nil {
			row.Text = all.Decode(plan.Source, a.Raw)
			row.Inline = len(row.Text) <= mostInline && !strings.ContainsAny(row.Text, "\r\n") && (plan.Spooled() || excerpt.Kept(plan.Source))
		}
		if ps := plan.Planned(a.Step); ps != nil {
			row.StepTitle = ps.Step.Name
		}
		sort.SliceStable(row.Faults, func(i, j int) bool { return row.Faults[i].Place.Column < row.Faults[j].Place.Column })
		if a.State == "open" {
			d.Open++
		}
		d.Asides = append(d.Asides, row)
	}
	for _, ps := range plan.Steps {
		if c := r.Counts[ps.Step.ID]; c != nil {
			if done := effectsOf(c); done != "" {
				d.Effects = append(d.Effects, ps.Step.Name+": "+done)
			}
		}
	}
	return nil
}

// passedOver tells what was not read of the run's message, and of what systems have answered.
func (d *runPage) passedOver(plan *running.Plan, p *project.Project, r store.Run) {
	d.PassedOver = page.PassedOver(plan, p, r.Counts)
	if plan.ReadStep == nil || r.Counts[plan.ReadStep.ID] == nil {
		return
	}
	if n := r.Counts[plan.ReadStep.ID].Blank; n > 0 {
		d.BlankLines = plural(n, "blank line was skipped", "blank lines were skipped")
	}
}

// effectsOf tells what a step has done outside.
func effectsOf(c *running.Counts) string {
	var parts []string
	for _, e := range []struct {
		n         int
		one, many string
	}{
		{c.Called, "call", "calls"}, {c.Inserted, "row inserted", "rows inserted"}, {c.Updated, "row updated", "rows updated"}, {c.Collected, "record for a file", "records for files"},
	} {
		if e.n > 0 {
			parts = append(parts, plural(e.n, e.one, e.many))
		}
	}
	return strings.Join(parts, ", ")
}

// choose takes the step asked for; the last one otherwise.
func (d *runPage) choose(plan *running.Plan, id string) {
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

// kin finds the runs that belong to a run, what it was given and by what it is found.
func (t traffic) kin(c *gin.Context, d *runPage, p *project.Project, r store.Run) error {
	children, err := store.Children(c, t.DB, r.ID, maxChildren+1)
	if err != nil {
		return err
	}
	d.MoreChildren = len(children) > maxChildren
	for _, child := range children[:min(len(children), maxChildren)] {
		d.Children = append(d.Children, t.row(c, p, child))
	}
	reruns, err := store.Reruns(c, t.DB, r.ID, maxChildren)
	if err != nil {
		return err
	}
	for _, again := range reruns {
		d.Reruns = append(d.Reruns, t.row(c, p, again))
	}
	if r.Parent != nil && r.Caller.Step != "" {
		parent, err := store.RunOf(c, t.DB, t.Scope, *r.Parent)
		if err != nil {
			return err
		}
		row := t.row(c, p, parent)
		d.Parent = &row
	}
	d.Input, d.Answer = pretty(r.Input), pretty(r.Answer)
	d.References, err = store.References(c, t.DB, r.ID, maxReferences)
	return err
}

// pretty indents a JSON text.
func pretty(text []byte) string {
	var out bytes.Buffer
	if len(text) == 0 || json.Indent(&out, text, "", "  ") != nil {
		return ""
	}
	return out.String()
}

// record shows the run as a whole or one record of the journal at the chosen step.
func (t traffic) record(c *gin.Context, d *runPage, plan *running.Plan, record, entryPath string) error {
	r, ps := d.Run, plan.Planned(d.Step)
	n := running.WholeRun + 1
	if d.Whole = !flows.InBody(plan, ps) && (ps != nil || plan.ReadStep == nil); !d.Whole {
		if r.RecordsRead == 0 {
			return nil
		}
		n = d.position(record)
	}
	entry, err := journal.Of(c, t.DB, r.ID, n-1)
	if errors.Is(err, store.ErrNotFound) && d.Whole {
		d.Told = "The run has not come here yet."
		return nil
	}
	if err != nil {
		return err
	}
	it := entry.Item(plan)
	if d.Whole && plan.Input != nil && r.Input != nil {
		if rows, err := project.ReadJSON(plan.Input, string(r.Input)); err == nil {
			it.Frame.Slots[running.InputSlot] = rows[0]
		}
	}
	it.Frame.Slots[running.RequestSlot] = plan.RequestValue(plan.ReadStarted(r.Request))
	it, d.Nav = flows.EntryOf(it, ps, entryPath)
	link := func(path string) string {
		if path == "" {
			return ""
		}
		return fmt.Sprintf("/traffic/runs/%s?step=%s&record=%d&entry=%s", r.ID, d.Step, d.Record, path)
	}
	d.EntryBefore, d.EntryAfter = link(d.Nav.Before), link(d.Nav.After)
	d.In, d.Out, d.Told, d.Faults = flows.Passage(plan, it, d.Step)
	d.Exchange = flows.ExchangeOf(c, t.Engine, t.Scope, plan, ps, it)
	view := "raw"
	if d.Raw {
		view = ""
		d.RawIn, d.RawOut = flows.RawPassage(plan, it, d.Step)
	}
	d.RawHref = fmt.Sprintf("/traffic/runs/%s?step=%s&record=%d&view=%s", r.ID, d.Step, d.Record, view)
	d.Changed, d.New = page.Mark(d.In, d.Out)
	return nil
}

// maxFiles bounds the files that one page names.
const maxFiles = 200

// written finds the files that the chosen step has written, or says why there are none.
func (t traffic) written(c *gin.Context, d *runPage, plan *running.Plan, r store.Run) error {
	ps := plan.Planned(d.Step)
	if ps == nil || ps.File == nil {
		return nil
	}
	list, err := store.RunFiles(c, t.DB, r.ID, maxFiles+1)
	if err != nil {
		return err
	}
	for _, f := range list {
		if f.Step == d.Step {
			d.Files = append(d.Files, f)
		}
	}
	n := 0
	if counts := r.Counts[d.Step]; counts != nil {
		n = counts.Collected
	}
	switch {
	case n == 0 || len(d.Files) > 0:
	case r.Ended():
		d.Unwritten = fmt.Sprintf("%s collected, but no file was written: the run was %s before it came to its end.", plural(n, "record was", "records were"), r.State)
	default:
		d.Unwritten = fmt.Sprintf("%s collected. The files are written when the run ends.", plural(n, "record is", "records are"))
	}
	return nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return page.Number(n) + " " + many
}

var fileView = page.Parse(files, "runfile.html")

// filePage is a file that a run has written.
type filePage struct {
	page.Frame
	Run         runRow
	StepTitle   string
	File        store.RunFile
	Text        string
	Part        bool // the text is only the first part
	Rows        []page.Row
	Fault       *fault.Fault
	ContentHref string
}

// Bounds of what the page of a file shows.
const (
	maxFileText    = 64 << 10 // bytes
	maxFileRecords = 20
)

// file shows a file that a run has written, as text and by its fields, or sends it as a whole.
func (t traffic) file(c *gin.Context) error {
	r, p, released, err := t.runOf(c)
	if err != nil {
		return err
	}
	ps := released.Flow(r.Flow).Planned(c.Query("step"))
	if ps == nil || ps.File == nil {
		return store.ErrNotFound
	}
	d := &filePage{Frame: t.Frame(c, "traffic", c.Query("name")), Run: t.row(c, p, r), StepTitle: ps.Step.Name}
	list, err := store.RunFiles(c, t.DB, r.ID, 2*maxFiles)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(f store.RunFile) bool { return f.Step == ps.Step.ID && f.Name == c.Query("name") })
	if at < 0 {
		return store.ErrNotFound
	}
	d.File = list[at]
	content, err := t.Engine.RunFile(c, r, ps.File, d.File.Name)
	if err != nil {
		return err
	}
	defer content.Close()
	if c.Query("download") != "" {
		c.Header("Content-Disposition", `attachment; filename="`+base.FileName(path.Base(strings.TrimSuffix(strings.TrimSuffix(d.File.Name, ".gz"), ".zip")))+`"`)
		c.Header("Content-Type", "application/octet-stream")
		_, err := io.Copy(c.Writer, content.Reader())
		return err
	}
	q := url.Values{"step": {d.File.Step}, "name": {d.File.Name}, "download": {"yes"}}
	d.ContentHref = "/traffic/runs/" + r.ID.String() + "/file?" + q.Encode()
	text, err := io.ReadAll(io.LimitReader(content.Reader(), maxFileText))
	if err != nil {
		return err
	}
	d.Text, d.Part = strings.ToValidUTF8(string(text), "\uFFFD"), content.Size() > maxFileText
	d.read(content.Reader(), ps.File.Schema)
	fileView.Page(c, d)
	return nil
}

// read reads the first records of the file as whoever gets it does.
func (d *filePage) read(in io.Reader, s *schema.Schema) {
	reader, err := all.Of(s).NewReader(in, notation.Options{Source: d.File.Name, Schema: s})
	for i := 1; err == nil && i <= maxFileRecords; i++ {
		var v value.Value
		if v, err = reader.Next(); err == nil {
			d.Rows = append(d.Rows, page.Tree("record "+strconv.Itoa(i), v)...)
		}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		d.Fault = fault.From(err, fault.Syntax)
	}
}

// position is the record that is looked at, from 1; the first that was set aside where none is asked for.
func (d *runPage) position(record string) int {
	r := d.Run
	n, err := strconv.Atoi(record)
	if err != nil || n < 1 || n > r.RecordsRead {
		n = 1
		if len(d.Asides) > 0 && d.Asides[0].Record >= 0 {
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
	if n < r.RecordsRead {
		d.After = link(n + 1)
	}
	return n
}
