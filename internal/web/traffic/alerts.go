package traffic

import (
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/alert"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var alertsView = page.Parse(files, "alerts.html", "views.html")

// alertsPage is the alerts with what they tell, and one of them as it is set.
type alertsPage struct {
	page.Frame
	views
	Alerts      []alertRow
	Alarms      []alarmRow
	Form        *alertForm
	Flows       []project.Part
	Callable    []project.Part // flows that can be run with an alert
	Connections []project.Part
	Kinds       []alert.Kind
	Rhythms     []alert.Rhythm
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
	ID       string
	Values   map[string]string
	Kind     alert.Kind
	Revision int64
	Fault    *fault.Fault
	Fits     string
}

func (t traffic) alerts(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	d := alertsPage{
		Frame: t.Frame(c, "traffic", "Alerts"), Flows: p.Parts(project.Flows), Connections: p.Parts(project.Connections), Kinds: alert.Kinds, Rhythms: alert.Rhythms,
	}
	if d.views, err = t.views(c, "Alerts"); err != nil {
		return err
	}
	for _, part := range d.Flows {
		if contract := p.Contract(part.ID); contract != nil && alert.Fits(contract.Input) == nil {
			d.Callable = append(d.Callable, part)
		}
	}
	alarms, err := store.Alarms(c, t.DB, p.ID, maxAlarms)
	if err != nil {
		return err
	}
	raised := map[string]int{}
	for _, a := range alarms {
		row := alarmRow{a, a.Alert}
		if one := p.Alert(a.Alert); one != nil {
			row.Title = one.Title
		}
		if d.Alarms = append(d.Alarms, row); a.ClearedAt == nil {
			raised[a.Alert]++
		}
	}
	for _, a := range p.Alerts() {
		d.Alerts = append(d.Alerts, alertRow{a, aboutAlert(p, a), p.AlertFault(a.ID), raised[a.ID], titleOf(p, a.Runs.Value)})
	}
	if d.Form, err = t.alertForm(c, p); err != nil {
		return err
	}
	alertsView.Page(c, d)
	return nil
}

func titleOf(p *project.Project, flow string) string {
	if plan := p.Flow(flow); plan != nil {
		return plan.Flow.Title
	}
	return flow
}

// aboutAlert is when an alert is raised, in a sentence.
func aboutAlert(p *project.Project, a *alert.Alert) string {
	of := "any flow"
	if a.Flow.Value != "" {
		of = titleOf(p, a.Flow.Value)
	}
	seconds := span(a.Within)
	switch a.When {
	case alert.Fails:
		if a.Times < 2 {
			return of + " fails within " + seconds
		}
		return of + " fails " + strconv.Itoa(a.Times) + " times within " + seconds
	case alert.Nothing:
		if a.By.Value != "" {
			return "nothing arrives for " + of + " by " + a.By.Value
		}
		return "nothing arrives for " + of + " for " + seconds
	case alert.Backlog:
		return "more than " + strconv.Itoa(a.Times) + " runs of " + of + " wait"
	case alert.Down:
		if a.Connection.Value != "" {
			of = a.Connection.Value
		} else {
			of = "a connection"
		}
		return of + " cannot be used for " + seconds
	}
	return "a run of " + of + " takes longer than " + seconds
}

// span is a number of seconds for people: 2 h, 5 min, 90 s.
func span(seconds int) string {
	switch {
	case seconds >= 3600 && seconds%3600 == 0:
		return strconv.Itoa(seconds/3600) + " h"
	case seconds >= 60 && seconds%60 == 0:
		return strconv.Itoa(seconds/60) + " min"
	}
	return strconv.Itoa(seconds) + " s"
}

// alertForm is the alert that is set: the one that is named, or a new one.
func (t traffic) alertForm(c *gin.Context, p *project.Project) (*alertForm, error) {
	id := c.Query("alert")
	if id == "" {
		return nil, nil
	}
	f := &alertForm{Values: map[string]string{"when": string(alert.Fails), "times": "1", "within": "600", "reminder": "3600", "tells": string(alert.Once), "every": "900"}, Kind: alert.Kinds[0]}
	if a := p.Alert(id); a != nil {
		draft, err := store.PartDraft(c, t.DB, p.ID, project.Path(project.Alerts, id))
		if err != nil {
			return nil, err
		}
		f.ID, f.Revision, f.Fault = id, draft.Revision, p.AlertFault(id)
		f.Values = map[string]string{
			"title": a.Title, "when": string(a.When), "flow": a.Flow.Value, "connection": a.Connection.Value, "times": strconv.Itoa(a.Times), "within": strconv.Itoa(a.Within),
			"by": a.By.Value, "zone": a.Zone.Value, "runs": a.Runs.Value, "reminder": strconv.Itoa(a.Reminder), "tells": string(a.Tells), "every": strconv.Itoa(a.Every), "off": strconv.FormatBool(a.Off),
		}
	} else if id != "new" {
		return nil, store.ErrNotFound
	}
	if when := c.Query("when"); when != "" {
		f.Values["when"] = when
	}
	if k := alert.KindOf(alert.When(f.Values["when"])); k != nil {
		f.Kind = *k
	}
	return f, nil
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
		return fault.Expect(fault.Required, "a title", "none").In("Title")
	}
	if !fresh && p.Alert(id) == nil {
		return store.ErrNotFound
	}
	o := doc.Out{{Key: "alert", Value: title}}
	for _, name := range []string{"when", "flow", "connection", "times", "within", "by", "zone", "runs", "tells", "every", "reminder"} {
		o.Add(name, strings.TrimSpace(c.PostForm(name)))
	}
	if c.PostForm("off") == "true" {
		o.Add("off", "true")
	}
	path := project.Path(project.Alerts, id)
	if fresh {
		err = t.Designer().Add(c, path, string(doc.Encode(o)))
	} else {
		err = t.save(c, path, doc.Encode(o))
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
	return t.Designer().Edit(c, path, from, func([]byte) ([]byte, error) { return text, nil })
}
