package flows

import (
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/edit"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

// parseGap reads what draw.GapKey writes.
func parseGap(s string) (flow.Gap, bool) {
	path, at, ok := strings.Cut(s, ":")
	n, err := strconv.Atoi(at)
	if !ok || err != nil || n < 0 || path == "" {
		return flow.Gap{}, false
	}
	g := flow.Gap{At: n}
	for _, part := range strings.Split(path, "/") {
		if i, err := strconv.Atoi(part); err == nil {
			g.Path = append(g.Path, i)
		} else {
			g.Path = append(g.Path, part)
		}
	}
	return g, true
}

// behind is the gap behind a step; behind the trigger it is the first one, and behind a step that is to hold others
// and holds none yet it is the one inside.
func behind(f *flow.Flow, step string, count int) flow.Gap {
	s := f.Step(step)
	if s == nil {
		return flow.Gap{Path: []any{"steps"}}
	}
	if inside := s.Holds(); inside != nil && len(inside.Steps) == 0 && count > 0 {
		return flow.Gap{Path: inside.Path}
	}
	n := len(s.Path)
	return flow.Gap{Path: s.Path[: n-1 : n-1], At: s.Path[n-1].(int) + count}
}

type pickerPage struct {
	ID, Gap, Back string
	Draft         store.Draft
	OOB           bool
	Groups        []pickerGroup
	Look          map[string]string
}

type pickerGroup struct {
	Title  string
	Offers []edit.Offer
}

// picker offers the steps that fit at a gap, in place of the step's settings.
func (b pages) picker(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.Query)
	gap, ok := parseGap(c.Query("gap"))
	if !ok {
		gap = behind(plan.Flow, look.step, look.count)
	}
	d := pickerPage{ID: look.id, Gap: draw.GapKey(&gap), Back: look.address(look.step, look.record), Look: map[string]string{"record": look.record, "sample": look.sample, "fold": look.fold(), "step": look.step}}
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, project.Path(project.Flows, look.id)); err != nil {
		return err
	}
	at := map[string]int{}
	for _, o := range edit.Offers(p, plan, gap) {
		i, there := at[o.Group]
		if !there {
			i = len(d.Groups)
			at[o.Group] = i
			d.Groups = append(d.Groups, pickerGroup{Title: o.Group})
		}
		if o.About == o.Group {
			o.About = ""
		}
		d.Groups[i].Offers = append(d.Groups[i].Offers, o)
	}
	flowView.Part(c, "picker", d)
	return nil
}

func (b pages) flowOf(c *gin.Context) (*project.Project, *running.Plan, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	plan := p.Flow(c.Param("id"))
	if plan == nil {
		return nil, nil, store.ErrNotFound
	}
	return p, plan, nil
}

// doing is one change of a flow's tree.
type doing struct {
	p     *project.Project
	plan  *running.Plan
	r     edit.Range
	arg   string
	value func(string) string
}

// gap is the one that is named, or the one behind the chosen step.
func (d doing) gap() flow.Gap {
	if g, ok := parseGap(d.value("gap")); ok {
		return g
	}
	return behind(d.plan.Flow, d.r.Step, d.r.Count)
}

// doings are the changes by their names.
var doings = map[string]func(d doing, text []byte) (edit.Result, error){
	"insert": func(d doing, text []byte) (edit.Result, error) {
		offer, ok := edit.Find(edit.Offers(d.p, d.plan, d.gap()), d.value("offer"))
		if !ok {
			return edit.Result{}, fault.New(fault.Unknown, "this does not fit here any more").WithFix("Choose again")
		}
		return edit.Insert(d.plan.Flow, text, d.gap(), offer)
	},
	"move":      func(d doing, text []byte) (edit.Result, error) { return edit.Move(d.plan.Flow, text, d.r, d.gap()) },
	"on":        func(d doing, text []byte) (edit.Result, error) { return edit.Nudge(d.plan.Flow, text, d.r, 1) },
	"back":      func(d doing, text []byte) (edit.Result, error) { return edit.Nudge(d.plan.Flow, text, d.r, -1) },
	"remove":    func(d doing, text []byte) (edit.Result, error) { return edit.Remove(d.plan.Flow, text, d.r) },
	"duplicate": func(d doing, text []byte) (edit.Result, error) { return edit.Duplicate(d.plan.Flow, text, d.r) },
	"paste": func(d doing, text []byte) (edit.Result, error) {
		return edit.Paste(d.plan.Flow, text, d.gap(), []byte(d.value("items")))
	},
	"switch": func(d doing, text []byte) (edit.Result, error) { return edit.Switch(d.plan.Flow, text, d.r) },
	"wrap": func(d doing, text []byte) (edit.Result, error) {
		gap := behind(d.plan.Flow, d.r.Step, 0)
		return edit.Wrap(d.plan.Flow, text, d.r, d.arg, edit.ListAt(d.p, d.plan, gap))
	},
	"ineach": func(d doing, _ []byte) (edit.Result, error) {
		r, of := edit.InEach(d.p, d.plan, d.r.Step)
		if of == "" {
			return r, fault.New(fault.Setting, "a For each does not help here any more")
		}
		return r, nil
	},
	"values": func(d doing, text []byte) (edit.Result, error) {
		return edit.Values(d.p, d.plan, text, d.r.Step, d.value("values_of"))
	},
	"unwrap": func(d doing, text []byte) (edit.Result, error) { return edit.Unwrap(d.plan.Flow, text, d.r.Step) },
	"branch": func(d doing, text []byte) (edit.Result, error) { return edit.AddTrack(d.plan.Flow, text, d.r.Step) },
	"unbranch": func(d doing, text []byte) (edit.Result, error) {
		at, err := strconv.Atoi(d.arg)
		if err != nil {
			return edit.Result{}, store.ErrNotFound
		}
		return edit.RemoveTrack(d.plan.Flow, text, d.r.Step, at)
	},
}

// editFlow changes the tree of a flow and shows it.
func (b pages) editFlow(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	name, arg, _ := strings.Cut(c.PostForm("do"), " ")
	do := doings[name]
	if do == nil {
		return store.ErrNotFound
	}
	d := doing{p: p, plan: plan, r: edit.Range{Step: look.step, Count: look.count}, arg: arg, value: c.PostForm}
	selected := look.step
	err = b.Save(c, project.Path(project.Flows, look.id), func(text []byte) ([]byte, error) {
		r, err := do(d, text)
		selected = r.Selected
		return r.Text, err
	})
	if err != nil {
		return err
	}
	look.step, look.entry, look.count = selected, "", 1
	return b.showFlow(c, look)
}

// showFlow answers a change with the whole page of the flow.
func (b pages) showFlow(c *gin.Context, look flowLook) error {
	address := look.address(look.step, look.record)
	if !page.Partial(c) {
		c.Redirect(303, address)
		return nil
	}
	d, err := b.flowPage(c, look)
	if err != nil {
		return err
	}
	c.Header("HX-Push-Url", address)
	flowView.Part(c, "work", d)
	return nil
}

// extract makes a flow of the chosen steps.
func (b pages) extract(c *gin.Context) error {
	_, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	steps := edit.Range{Step: look.step, Count: look.count}
	if look.step, err = b.Designer(c).ExtractSteps(c, plan, from, steps, strings.TrimSpace(c.PostForm("title"))); err != nil {
		return err
	}
	look.count = 1
	return b.showFlow(c, look)
}

var newFlowView = page.Parse(files, "new.html")

// newFlow asks for what a new flow begins with.
func (b pages) newFlow(c *gin.Context) error {
	newFlowView.Page(c, struct {
		page.Frame
		Triggers []*flow.TriggerKind
	}{b.Frame(c, "bench", "New flow"), flow.Triggers})
	return nil
}

// addFlow makes a flow with a trigger and nothing else.
func (b pages) addFlow(c *gin.Context) error {
	id, err := b.Designer(c).AddFlow(c, strings.TrimSpace(c.PostForm("title")), c.PostForm("kind"))
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/flows/"+id+"?step=trigger")
	return nil
}

// setStep changes the settings of a step and answers with all that this changes on the page.
func (b pages) setStep(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	look.step = c.Param("step")
	err = b.Save(c, project.Path(project.Flows, look.id), func(text []byte) ([]byte, error) { return editStep(c, p, plan, look.step, text) })
	if err != nil {
		return err
	}
	d, err := b.flowPage(c, look)
	if err != nil {
		return err
	}
	d.OOB = true
	flowView.Part(c, "changed", d)
	return nil
}

// stepForm writes the settings of a form into a part.
type stepForm struct {
	c    *gin.Context
	text []byte
	err  error
}

// set changes one setting where the form has it and it is not as it was.
func (f *stepForm) set(field, was string, path ...any) {
	v, there := f.c.GetPostForm(field)
	if f.err != nil || !there || v == was {
		return
	}
	f.text, f.err = partfile.Set(f.text, path, v)
}

func editStep(c *gin.Context, p *project.Project, plan *running.Plan, step string, text []byte) ([]byte, error) {
	f := &stepForm{c: c, text: text}
	if step == "trigger" {
		f.trigger(plan)
		return f.text, f.err
	}
	s := plan.Flow.Step(step)
	if s == nil {
		return nil, store.ErrNotFound
	}
	f.set("step-name", s.Name, with(s.Path, "name")...)
	f.set("step-comment", s.Comment, with(s.Path, "comment")...)
	f.settings(s.Settings, s.Path...)
	if id, there := c.GetPostForm(form.Input("mapping")); there && f.err == nil && id != s.Setting("mapping") { // another one has other sources
		var bound partfile.Ordered
		if m := p.Mapping(id); m != nil {
			bound, _ = edit.Bind(m, plan.Planned(step).Before)
		}
		f.text, f.err = partfile.Set(f.text, with(s.Path, "sources"), bound)
	}
	for i, t := range s.Branches {
		if n := len(t.Path); t.Kind.Many {
			f.set("branch-name-"+strconv.Itoa(i), t.Name, with(t.Path[:n-1], "name")...)
			f.set("branch-if-"+strconv.Itoa(i), t.If.Value, with(t.Path[:n-1], "if")...)
		}
	}
	return f.text, f.err
}

// trigger writes the settings of the trigger. With another kind only what both have stays.
func (f *stepForm) trigger(plan *running.Plan) {
	t := plan.Flow.Trigger
	f.set(form.Input(flowTitle.Name), plan.Flow.Title, "flow")
	f.settings(plan.Flow.Settings)
	if kind := f.c.PostForm("kind"); kind != "" && kind != t.Kind {
		f.kind(t, kind)
		return
	}
	f.settings(t.Settings, "trigger")
}

// settings writes the settings of a kind where the form has them.
func (f *stepForm) settings(v setting.Values, at ...any) {
	if f.err == nil {
		f.text, f.err = form.Write(f.c, f.text, v, at...)
	}
}

// kind makes the trigger one of another kind.
func (f *stepForm) kind(t flow.Trigger, kind string) {
	k := flow.TriggerOf(kind)
	if k == nil {
		f.err = store.ErrNotFound
		return
	}
	out := partfile.Ordered{{Key: "kind", Value: kind}}
	for _, set := range k.Settings {
		if set.Name != "interval" && set.Name != "name" && set.Type != setting.Pairs && t.Settings.Text(set.Name).Value != set.Default {
			out.Add(set.Name, t.Settings.Text(set.Name).Value)
		}
	}
	f.text, f.err = partfile.Set(f.text, []any{"trigger"}, out)
}

// flowHelp suggests what could stand at the caret of a formula.
func (b pages) flowHelp(c *gin.Context) error {
	_, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	scope := plan.Polls
	if ps := plan.Planned(c.Query("step")); ps != nil {
		scope = ps.Scope
	}
	if scope == nil {
		scope = formula.NewScope()
	}
	return base.Complete(c, scope)
}

// runNow starts a run of the release that is deployed because somebody asks for it, and shows it. Where it begins with a
// message, that is asked for first.
func (b pages) runNow(c *gin.Context) error {
	id, err := b.Operator(c).Start(c, c.Param("id"), []byte(c.PostForm("message")))
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic/runs/"+url.PathEscape(id.String()))
	return nil
}
