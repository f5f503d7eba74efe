package traffic

import (
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/alert"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

var alertsView = page.Parse(files, "alerts.html", "views.html")

// alertsPage is the alerts with what they tell, and one of them as it is set.
type alertsPage struct {
	page.Frame
	views
	Alerts []alertRow
	Alarms []alarmRow
	Form   *alertForm
	Kinds  []*alert.Kind
}

type alertRow struct {
	*alert.Alert
	About  string
	Fault  *fault.Fault
	Raised int
	Runs   string // the title of the flow
}

type alarmRow struct {
	store.AlertState
	Title string
}

// alertForm is an alert as it is set; a new one has no id.
type alertForm struct {
	ID, Title string
	Kind      *alert.Kind
	Fields    []form.Field
	Revision  int64
	Fault     *fault.Fault
}

func (t traffic) alerts(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	d := alertsPage{Frame: t.Frame(c, "traffic", "Alerts"), Kinds: alert.Kinds}
	if d.views, err = t.views(c, "Alerts"); err != nil {
		return err
	}
	alarms, err := store.AlertStates(c, t.DB, t.Scope, maxAlarms)
	if err != nil {
		return err
	}
	raised := map[string]int{}
	for _, a := range alarms {
		row := alarmRow{a, a.Alert}
		if one := p.Alert(a.Alert); one != nil {
			row.Title = one.Title
		}
		if d.Alarms = append(d.Alarms, row); a.ResolvedAt == nil {
			raised[a.Alert]++
		}
	}
	for _, a := range p.Alerts() {
		d.Alerts = append(d.Alerts, alertRow{a, a.Describe(func(kind, id string) string { return p.TitleOf(project.FolderOf(kind), id) }), p.AlertFault(a.ID), raised[a.ID], p.TitleOf(project.Flows, a.RunFlow.Value)})
	}
	if d.Form, err = t.alertForm(c, p); err != nil {
		return err
	}
	alertsView.Page(c, d)
	return nil
}

// alertForm is the alert that is set: the one that is named, or a new one.
func (t traffic) alertForm(c *gin.Context, p *project.Project) (*alertForm, error) {
	id := c.Query("alert")
	if id == "" {
		return nil, nil
	}
	f := &alertForm{Kind: alert.Kinds[0]}
	values := setting.Values{}
	if a := p.Alert(id); a != nil {
		draft, err := store.PartDraft(c, t.DB, p.ID, project.Path(project.Alerts, id))
		if err != nil {
			return nil, err
		}
		f.ID, f.Title, f.Kind, f.Revision, f.Fault, values = id, a.Title, alert.KindOf(a.Condition), draft.Revision, p.AlertFault(id), a.Settings
	} else if id != "new" {
		return nil, store.ErrNotFound
	}
	if k := alert.KindOf(alert.Condition(c.Query("when"))); k != nil {
		f.Kind = k
	}
	values.List = f.Kind.Settings
	f.Fields = form.Fields(values)
	for i := range f.Fields {
		set := &f.Fields[i]
		if set.Type == setting.Part {
			set.Options = form.Parts(p, set.Setting, set.Value, tells(p, set.Setting))
		}
	}
	return f, nil
}

// tells says which flows a setting can name: to be run with an alert, those that fit its message.
func tells(p *project.Project, s setting.Setting) func(id string) bool {
	if s.Name != alert.Runs {
		return nil
	}
	return func(id string) bool {
		contract := p.Contract(id)
		return contract != nil && alert.CheckFlow(contract.Input) == nil
	}
}

// saveAlert writes an alert as its form says; it is in force at once.
func (t traffic) saveAlert(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	id, title := c.PostForm("id"), strings.TrimSpace(c.PostForm("title"))
	fresh := id == ""
	if fresh {
		id = design.ID(title)
	}
	if title == "" || id == "" {
		return fault.Expect(fault.Required, "a title", "none").InField("Title")
	}
	if !fresh && p.Alert(id) == nil {
		return store.ErrNotFound
	}
	k := alert.KindOf(alert.Condition(c.PostForm("when")))
	if k == nil {
		return fault.Expect(fault.Unknown, "something to look for", fault.Quote(c.PostForm("when"))).InField("When")
	}
	text := partfile.Encode(partfile.Ordered{{Key: "alert", Value: title}, {Key: "condition", Value: string(k.Condition)}})
	if text, err = form.Write(c, text, setting.Values{List: k.Settings}); err != nil {
		return err
	}
	path := project.Path(project.Alerts, id)
	if fresh {
		err = t.Designer(c).Add(c, path, string(text))
	} else {
		err = t.save(c, path, text)
	}
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic/alerts?alert="+id)
	return nil
}

// save writes a part anew, from the revision that the form was made of.
func (t traffic) save(c *gin.Context, path string, text []byte) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	return t.Designer(c).Edit(c, path, from, func([]byte) ([]byte, error) { return text, nil })
}
