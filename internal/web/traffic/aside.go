package traffic

import (
	"context"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/operate"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var asideView = page.Parse(files, "aside.html", "views.html")

// asidePage is what was set aside, as work that somebody does.
type asidePage struct {
	page.Frame
	views
	Works   []workRow
	Flows   []project.Part
	People  []store.Person
	Flow    string
	Owner   string
	Text    string
	Address string
	Older   string
	Deeds   []deedRow
}

type workRow struct {
	store.WorkItem
	FlowTitle, StepTitle string
	What                 string
	OwnerName            string
	Number               string // of an entry, from 1
	Key                  string // a and the record's id, or r and the run's
}

type deedRow struct {
	store.AuditEntry
	Name string
}

// maxDeeds bounds the entries of the audit log that are shown.
const maxDeeds = 20

func (t traffic) asideList(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	f := store.WorkFilter{Scope: t.Scope, Flow: c.Query("flow"), Owner: c.Query("owner"), Text: strings.TrimSpace(c.Query("text")), Most: operate.MaxWork + 1}
	if before, err := time.Parse(time.RFC3339Nano, c.Query("before")); err == nil {
		f.Before = &before
	}
	list, err := store.WorkItems(c, t.DB, f)
	if err != nil {
		return err
	}
	d := asidePage{Frame: t.Frame(c, "traffic", "Set aside"), Flows: p.Parts(project.Flows), Flow: f.Flow, Owner: f.Owner, Text: f.Text, Address: c.Request.URL.RequestURI()}
	if d.views, err = t.views(c, "Set aside"); err != nil {
		return err
	}
	people, err := store.People(c, t.DB)
	if err != nil {
		return err
	}
	for _, person := range people {
		d.People = append(d.People, person)
	}
	sort.Slice(d.People, func(i, j int) bool { return d.People[i].Name < d.People[j].Name })
	if len(list) > operate.MaxWork {
		list = list[:operate.MaxWork]
		q := c.Request.URL.Query()
		q.Set("before", list[operate.MaxWork-1].At.Format(time.RFC3339Nano))
		d.Older = "/traffic/aside?" + q.Encode()
	}
	for _, w := range list {
		d.Works = append(d.Works, workOf(p, w, people))
	}
	if d.Deeds, err = t.deeds(c, people, nil); err != nil {
		return err
	}
	if page.Partial(c) {
		asideView.Part(c, "works", d)
		return nil
	}
	asideView.Page(c, d)
	return nil
}

func workOf(p *project.Project, w store.WorkItem, people map[string]store.Person) workRow {
	row := workRow{WorkItem: w, FlowTitle: w.Flow, StepTitle: w.Step, Number: running.EntryNumber(w.Path)}
	if plan := p.Flow(w.Flow); plan != nil {
		row.FlowTitle = plan.Flow.Title
		if ps := plan.Planned(w.Step); ps != nil {
			row.StepTitle = ps.Step.Name
		}
	}
	row.Key = "r" + w.Run.String()
	if w.Aside > 0 {
		row.Key = "a" + strconv.FormatInt(w.Aside, 10)
	}
	if w.Fault != nil {
		row.What = w.Fault.What()
	}
	if w.Owner != nil {
		row.OwnerName = people[*w.Owner].Name
	}
	return row
}

// deeds lists what people have done, of one run where that is given.
func (t traffic) deeds(c *gin.Context, people map[string]store.Person, run *uuid.UUID) (rows []deedRow, err error) {
	list, err := store.AuditEntries(c, t.DB, t.Scope, run, maxDeeds)
	for _, d := range list {
		row := deedRow{d, d.Person}
		if who := people[d.Person]; who.Name != "" {
			row.Name = who.Name
		}
		rows = append(rows, row)
	}
	return rows, err
}

// selectedWork are the records and runs that a form names.
func selectedWork(c *gin.Context) (w operate.Work) {
	for _, key := range c.PostFormArray("id") {
		if id, err := strconv.ParseInt(strings.TrimPrefix(key, "a"), 10, 64); err == nil {
			w.Records = append(w.Records, id)
		} else if id, err := uuid.Parse(strings.TrimPrefix(key, "r")); err == nil {
			w.Runs = append(w.Runs, id)
		}
	}
	return w
}

// bulkActions are what can be done with what was set aside, by what is asked for.
var bulkActions = map[string]func(o operate.Operator, ctx context.Context, w operate.Work) error{
	"assign": operate.Operator.Assign, "unassign": operate.Operator.Unassign, "discard": operate.Operator.DiscardWork, "rerun": operate.Operator.RerunWork,
}

// runBulkAction does something with what is chosen, and goes back to the list.
func (t traffic) runBulkAction(c *gin.Context) error {
	do := bulkActions[c.PostForm("do")]
	if do == nil {
		return store.ErrNotFound
	}
	if err := do(t.Operator(c), c, selectedWork(c)); err != nil {
		return err
	}
	c.Redirect(303, back(c))
	return nil
}

func back(c *gin.Context) string {
	if to := c.PostForm("back"); strings.HasPrefix(to, "/traffic") {
		return to
	}
	return "/traffic/aside"
}

// noteAside writes what is to be known of a record, or a run.
func (t traffic) noteAside(c *gin.Context) error {
	note, key := strings.TrimSpace(c.PostForm("note")), c.Param("id")
	err := store.ErrNotFound
	if id, perr := strconv.ParseInt(strings.TrimPrefix(key, "a"), 10, 64); perr == nil {
		err = t.Operator(c).NoteRecord(c, id, note)
	} else if id, perr := uuid.Parse(strings.TrimPrefix(key, "r")); perr == nil {
		err = t.Operator(c).NoteRun(c, id, note)
	}
	if err != nil {
		return err
	}
	c.Redirect(303, back(c))
	return nil
}

// saveSearch keeps the search of the list under a name, or takes one away.
func (t traffic) saveSearch(c *gin.Context) error {
	query := c.PostForm("query")
	if c.PostForm("do") == "remove" {
		query = ""
	}
	kept, err := t.Operator(c).SaveSearch(c, strings.TrimSpace(c.PostForm("name")), query)
	if err != nil {
		return err
	}
	c.Redirect(303, "/traffic?"+kept)
	return nil
}
