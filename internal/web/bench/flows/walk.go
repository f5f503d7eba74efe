package flows

import (
	"fmt"
	"html/template"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/store"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

var walkView = page.Parse(files, "walk.html")

// walkPage is a draft that somebody steps through.
type walkPage struct {
	page.Frame
	ID, FlowID, FlowTitle string
	In                    string // the flow in which it halts: another one where a step calls it
	InTitle               string
	Halted                bool
	Failed                bool
	Told                  string // how it ended
	Faults                []*fault.Fault
	Drawing               template.HTML
	Step                  string // at which it halts
	StepTitle             string
	Of                    string // the record, and the entry in it
	Values                []walkRow
	Rows                  []page.Row // what the chosen step yielded
	Look                  string     // the step that is looked at
	LookTitle             string
	Marked                bool
	Condition             string
	Passed                bool // the walk was there
	Here                  bool // it is there now
	Changes               []trial.Change
	Change, Now           string // the value that is being changed, and a formula for what it is
	Bad                   *fault.Fault
	Formula, Result       string
	Trace                 []traceRow
	OnFault               bool
	Settings              string // where the settings of the step are
}

// walkRow is a value in scope, with its place for who changes it.
type walkRow struct {
	page.Row
	Path, Href string
}

// traceRow is a stop that was passed.
type traceRow struct {
	running.Stop
	Title  string
	Number string // of an entry, as people count
	Here   bool
}

// maxTrace bounds the stops that are shown.
const maxTrace = 60

// stepKey names a step in addresses.
func stepKey(f, step string) string { return f + "/" + step }

// beginWalk begins to step through a draft with the record at hand.
func (b pages) beginWalk(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	record := 0
	if plan.ReadStep != nil {
		record, _ = strconv.Atoi(look.record)
		record = max(1, record)
	}
	how, err := b.TestOptions(c, plan)
	if err != nil {
		return err
	}
	w, err := b.Engine.Tries.StartDebug(c, p, look.id, look.sample, record, how)
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/walks/"+w.ID)
	return nil
}

func (b pages) walkOf(c *gin.Context) (*tries.DebugSession, *project.Project, error) {
	w := b.Engine.Tries.DebugSessionByID(c.Param("walk"))
	if w == nil {
		return nil, nil, fault.New(fault.InputGone, "this walk is over: it was not used for long, or the server was started anew").WithFix("Open the flow and step through it again")
	}
	p, err := b.Load(c)
	return w, p, err
}

// walk shows where a walk is.
func (b pages) walk(c *gin.Context) error {
	w, p, err := b.walkOf(c)
	if err != nil {
		return err
	}
	return b.showWalk(c, w, p, nil)
}

// moveWalk goes on, or back.
func (b pages) moveWalk(c *gin.Context) error {
	w, p, err := b.walkOf(c)
	if err != nil {
		return err
	}
	if err := b.Engine.Tries.Advance(c, p, w, c.PostForm("move"), c.PostForm("to")); err != nil {
		return err
	}
	return b.showWalk(c, w, p, nil)
}

// changeWalk changes a value in scope.
func (b pages) changeWalk(c *gin.Context) error {
	w, p, err := b.walkOf(c)
	if err != nil {
		return err
	}
	bad := b.Engine.Tries.Change(c, p, w, strings.TrimSpace(c.PostForm("name")), strings.TrimSpace(c.PostForm("formula")))
	return b.showWalk(c, w, p, bad)
}

// markWalk makes the walk halt before a step each time, or no longer.
func (b pages) markWalk(c *gin.Context) error {
	w, p, err := b.walkOf(c)
	if err != nil {
		return err
	}
	f, step, _ := strings.Cut(c.PostForm("look"), "/")
	switch c.PostForm("do") {
	case "faults":
		if err := w.Do(func() error { w.OnFault = !w.OnFault; return nil }); err != nil {
			return err
		}
	case "unmark":
		w.SetBreakpoint(tries.StepRef{Flow: f, Step: step}, false, "")
	default:
		w.SetBreakpoint(tries.StepRef{Flow: f, Step: step}, true, strings.TrimSpace(c.PostForm("condition")))
	}
	return b.showWalk(c, w, p, nil)
}

func (b pages) showWalk(c *gin.Context, w *tries.DebugSession, p *project.Project, bad *fault.Fault) error {
	d := &walkPage{
		Frame: b.Frame(c, "bench", "Step through", "I", "into the next step", "O", "over it", "G", "go on to a mark", "B", "back a step", "E", "work out a formula"),
		ID:    w.ID, FlowID: w.Flow, Bad: bad,
	}
	get := func(name string) string {
		if v := c.PostForm(name); v != "" {
			return v
		}
		return c.Query(name)
	}
	err := w.Do(func() error { return d.fill(w, p, get) })
	if err != nil {
		return err
	}
	if page.Partial(c) {
		walkView.Part(c, "walk", d)
		return nil
	}
	if c.Request.Method == "POST" {
		c.Redirect(303, d.address("look", d.Look))
		return nil
	}
	walkView.Page(c, d)
	return nil
}

// address is this page with something else looked at.
func (d *walkPage) address(pairs ...string) string {
	q := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	return "/bench/walks/" + d.ID + "?" + q.Encode()
}

func (d *walkPage) fill(w *tries.DebugSession, p *project.Project, get func(string) string) error {
	plan := p.Flow(w.Flow)
	if plan == nil {
		return store.ErrNotFound
	}
	d.FlowTitle, d.In, d.Changes, d.OnFault = plan.Flow.Title, w.Flow, w.Changes, w.OnFault
	here := plan
	var item *running.Item
	if h := w.Test.Halt; h != nil {
		d.Halted, d.Failed, d.Step, d.In, item = true, h.Failed, h.Step, h.Flow, h.Item
		if inner := p.Flow(h.Flow); inner != nil {
			here = inner
		}
	} else {
		item = ended(w, d)
	}
	d.InTitle = here.Flow.Title
	if d.Look = get("look"); d.Look == "" || !strings.HasPrefix(d.Look, d.In+"/") {
		d.Look = stepKey(d.In, d.Step)
	}
	d.at(here, item)
	d.looked(w, here, item)
	d.trace(w, p)
	d.evaluate(here, item, get)
	d.draw(w, p, here)
	return nil
}

// ended says how a walk that did not halt came to its end.
func ended(w *tries.DebugSession, d *walkPage) *running.Item {
	item := w.Test.Whole
	if n := w.Record; n > 0 && n <= len(w.Test.Items) {
		item = w.Test.Items[n-1]
	}
	switch {
	case w.Test.Fault != nil:
		d.Told, d.Faults = "It could not go on.", []*fault.Fault{w.Test.Fault}
	case item == nil:
		d.Told = "The message has come to its end."
	default:
		d.Told, d.Faults = strings.TrimSpace(fmt.Sprintf("The message has come to its end: %s. %s", item.State, item.Reason)), item.Faults
	}
	return item
}

// at shows the step at which the walk halts, and the values in scope there.
func (d *walkPage) at(plan *running.Plan, item *running.Item) {
	if item == nil {
		return
	}
	if item.Record >= 0 {
		d.Of = fmt.Sprintf("record %d", item.Record+1)
	}
	if item.Path != "" {
		d.Of = strings.TrimSpace(d.Of + " entry " + running.EntryNumber(item.Path))
	}
	ps := plan.Planned(d.Step)
	if ps == nil {
		return
	}
	d.StepTitle = ps.Step.Name
	d.Settings = "/bench/flows/" + d.In + "?step=" + url.QueryEscape(d.Step) + "&walk=" + d.ID
	if d.Failed {
		d.Faults = item.Faults
	}
	before := slices.Clone(ps.Before)
	slices.Reverse(before) // what came last is what one wants to see
	for _, n := range before {
		if n.Name == "run" || n.Slot >= len(item.Frame.Slots) || item.Frame.Slots[n.Slot].Kind() == value.Absent {
			continue
		}
		d.Values = append(d.Values, d.rows(nil, 0, n.Name, n.Name, item.Frame.Slots[n.Slot])...)
	}
}

// maxValues bounds the values that are shown.
const maxValues = 300

// rows are a value and what is in it, each with its place.
func (d *walkPage) rows(rows []walkRow, depth int, name, path string, v value.Value) []walkRow {
	if len(d.Values)+len(rows) >= maxValues {
		return rows
	}
	row := walkRow{Row: page.Row{Depth: depth, Name: name}, Path: path}
	switch v.Kind() {
	case value.RecordKind:
		row.Group = true
		rows = append(rows, row)
		for i, f := range v.Record().Fields {
			field := v.Record().Layout.Names[i]
			rows = d.rows(rows, depth+1, field, path+"."+field, f)
		}
		return rows
	case value.ListKind:
		row.Group, row.Text = true, strconv.Itoa(len(v.Items()))+" entries"
		rows = append(rows, row)
		for i, entry := range v.Items() {
			rows = d.rows(rows, depth+1, strconv.Itoa(i), path+"."+strconv.Itoa(i), entry)
		}
		return rows
	}
	row.Text = page.Show(v)
	if d.Halted && !strings.Contains(name, ".") {
		row.Href = d.address("look", d.Look, "change", path, "now", formulaOf(v))
	}
	return append(rows, row)
}

// formulaOf is a formula that yields a value as it is, for who changes it.
func formulaOf(v value.Value) string {
	switch v.Kind() {
	case value.Text:
		return strconv.Quote(v.Text())
	case value.Integer, value.Decimal, value.Boolean:
		return v.String()
	case value.Date, value.Time, value.Timestamp:
		return v.Kind().String() + "(" + strconv.Quote(v.String()) + ")"
	}
	return ""
}

// looked shows what is known of the step that is looked at.
func (d *walkPage) looked(w *tries.DebugSession, plan *running.Plan, item *running.Item) {
	_, step, _ := strings.Cut(d.Look, "/")
	ps := plan.Planned(step)
	if ps == nil {
		return
	}
	d.LookTitle, d.Here = ps.Step.Name, d.Halted && step == d.Step
	d.Condition, d.Marked = w.Breakpoints[tries.StepRef{Flow: d.In, Step: step}]
	for _, s := range w.Trace[:min(max(w.At, 0), len(w.Trace))] {
		d.Passed = d.Passed || s.Flow == d.In && s.Step == step && !s.Failed
	}
	if ps.Result != nil && item != nil && ps.Result.Slot < len(item.Frame.Slots) && item.Frame.Slots[ps.Result.Slot].Kind() != value.Absent {
		d.Rows = page.Tree(ps.Result.Name, item.Frame.Slots[ps.Result.Slot])
	}
}

func (d *walkPage) trace(w *tries.DebugSession, p *project.Project) {
	from := max(0, len(w.Trace)-maxTrace)
	for _, s := range w.Trace[from:] {
		row := traceRow{Stop: s, Title: s.Step, Number: running.EntryNumber(s.Path), Here: d.Halted && s.N == w.At}
		if plan := p.Flow(s.Flow); plan != nil && plan.Planned(s.Step) != nil {
			row.Title = plan.Planned(s.Step).Step.Name
		}
		d.Trace = append(d.Trace, row)
	}
}

// evaluate works out a formula over the values in scope, and shows the value that is being changed.
func (d *walkPage) evaluate(plan *running.Plan, item *running.Item, get func(string) string) {
	d.Change, d.Now, d.Formula = get("change"), get("now"), get("formula")
	if d.Bad != nil {
		d.Change, d.Now, d.Formula = get("name"), get("formula"), ""
	}
	ps := plan.Planned(d.Step)
	if d.Formula == "" || ps == nil || item == nil || len(d.Formula) > formula.MaxSource {
		return
	}
	prog, faults := formula.Compile(d.Formula, ps.Scope)
	if len(faults) > 0 {
		d.Result = faults[0].What()
		return
	}
	fr := formula.Frame{Slots: append([]value.Value(nil), item.Frame.Slots...)}
	v, f := prog.Eval(&fr)
	switch {
	case f != nil:
		d.Result = f.What()
	case v.Kind() == value.RecordKind || v.Kind() == value.ListKind:
		d.Result = json.Text(v)
	default:
		d.Result = page.Show(v)
	}
}

func (d *walkPage) draw(w *tries.DebugSession, p *project.Project, plan *running.Plan) {
	marks := map[string]bool{}
	for at := range w.Breakpoints {
		if at.Flow == d.In {
			marks[at.Step] = true
		}
	}
	o := draw.FlowOptions{
		Selected: d.Step, Target: "#walk", Stops: marks,
		Href: func(step string) string { return d.address("look", stepKey(d.In, step)) },
	}
	if d.In == w.Flow {
		o.Counts, o.Read = w.Test.Counts, 1
	}
	d.Drawing = draw.Flow(layout.Of(plan, p, nil), o)
}
