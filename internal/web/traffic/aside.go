package traffic

import (
	"errors"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
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

// maxWorks bounds the records of one page, maxDeeds the deeds.
const (
	maxWorks = 100
	maxDeeds = 20
)

func (t traffic) asideList(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	f := store.WorkFilter{Project: p.ID, Flow: c.Query("flow"), Owner: c.Query("owner"), Text: strings.TrimSpace(c.Query("text")), Most: maxWorks + 1}
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
	if len(list) > maxWorks {
		list = list[:maxWorks]
		q := c.Request.URL.Query()
		q.Set("before", list[maxWorks-1].At.Format(time.RFC3339Nano))
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
	row := workRow{WorkItem: w, FlowTitle: w.Flow, StepTitle: w.Step, Number: flow.EntryNumber(w.Path)}
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
	list, err := store.Deeds(c, t.DB, t.Project, run, maxDeeds)
	for _, d := range list {
		row := deedRow{d, d.Person}
		if who := people[d.Person]; who.Name != "" {
			row.Name = who.Name
		}
		rows = append(rows, row)
	}
	return rows, err
}

// chosen are the records and runs that a form names.
func chosen(c *gin.Context) (asides []int64, runs []uuid.UUID) {
	for _, key := range c.PostFormArray("id") {
		if id, err := strconv.ParseInt(strings.TrimPrefix(key, "a"), 10, 64); err == nil {
			asides = append(asides, id)
		} else if id, err := uuid.Parse(strings.TrimPrefix(key, "r")); err == nil {
			runs = append(runs, id)
		}
	}
	return asides, runs
}

// works are what can be done with records and runs that were set aside, by what is asked for.
var works = map[string]struct {
	what  string // that is kept of it
	aside func(t traffic, c *gin.Context, a store.Aside) error
	run   func(t traffic, c *gin.Context, r store.Run) error
}{
	"let go": {
		"let go",
		func(t traffic, c *gin.Context, a store.Aside) error { return t.Engine.Discard(c, a.ID, t.Person.ID) },
		func(t traffic, c *gin.Context, r store.Run) error { return t.Engine.DiscardRun(c, r.ID) },
	},
	"run again": {
		"ran again",
		func(t traffic, c *gin.Context, a store.Aside) error {
			_, err := t.Engine.Mend(c, a.ID, nil, t.Person.ID)
			return err
		},
		func(t traffic, c *gin.Context, r store.Run) error {
			_, err := t.Engine.Retry(c, r.ID, t.Person.ID)
			return err
		},
	},
}

// asideWork does something with what is chosen, and goes back to the list.
func (t traffic) asideWork(c *gin.Context) error {
	asides, runs := chosen(c)
	switch n := len(asides) + len(runs); {
	case n == 0:
		return fault.New(fault.Required, "nothing is chosen").Mended("Tick what is meant")
	case n > maxWorks:
		return fault.New(fault.Limit, "at most %d at once", maxWorks)
	}
	var err error
	switch do := c.PostForm("do"); do {
	case "take":
		err = t.takeWork(c, asides, runs, t.Person.ID)
	case "give back":
		err = t.takeWork(c, asides, runs, "")
	default:
		err = t.work(c, do, asides, runs)
	}
	if err != nil {
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

func (t traffic) takeWork(c *gin.Context, asides []int64, runs []uuid.UUID, owner string) error {
	n, err := store.Assign(c, t.DB, t.Project, asides, runs, owner)
	if err != nil || n == 0 {
		return err
	}
	what := "took"
	if owner == "" {
		what = "gave back"
	}
	return t.deed(c, what, nil, page.Number(int(n))+" of what was set aside")
}

// work does something with each; what cannot be done with some is told, with the others it is done.
func (t traffic) work(c *gin.Context, do string, asides []int64, runs []uuid.UUID) error {
	w, ok := works[do]
	if !ok {
		return store.ErrNotFound
	}
	var errs []error
	done := func(run uuid.UUID, about string, err error) {
		if err == nil {
			err = t.deed(c, w.what, &run, about)
		}
		if err != nil {
			errs = append(errs, err)
		}
	}
	for _, id := range asides {
		a, err := store.AsideByID(c, t.DB, id)
		if err == nil {
			err = w.aside(t, c, a)
		}
		done(a.Run, asideName(a), err)
	}
	for _, id := range runs {
		r, err := store.RunByID(c, t.DB, id)
		if err == nil {
			err = w.run(t, c, r)
		}
		done(id, r.Reference, err)
	}
	if len(errs) == 0 {
		return nil
	}
	var f *fault.Fault
	if !errors.As(errs[0], &f) {
		return errs[0]
	}
	return fault.New(f.Code, "%d of %d could not be done, the others are: %s", len(errs), len(asides)+len(runs), f.What())
}

// noteAside writes what is to be known of a record, or a run.
func (t traffic) noteAside(c *gin.Context) error {
	note := strings.TrimSpace(c.PostForm("note"))
	if len(note) > 2000 {
		return fault.New(fault.Limit, "the note is longer than 2000 bytes")
	}
	err := store.ErrNotFound
	key := c.Param("id")
	if id, perr := strconv.ParseInt(strings.TrimPrefix(key, "a"), 10, 64); perr == nil {
		err = store.SetWorkNote(c, t.DB, t.Project, id, note)
	} else if id, perr := uuid.Parse(strings.TrimPrefix(key, "r")); perr == nil {
		err = store.NoteRun(c, t.DB, t.Project, id, note)
	}
	if err != nil {
		return err
	}
	c.Redirect(303, back(c))
	return nil
}

// saveSearch keeps the search of the list under a name, or takes one away.
func (t traffic) saveSearch(c *gin.Context) error {
	s := store.Search{Name: strings.TrimSpace(c.PostForm("name")), Query: c.PostForm("query")}
	if s.Name == "" || len(s.Name) > 80 {
		return fault.Expect(fault.Required, "a name of up to 80 characters", fault.Quote(s.Name))
	}
	if q, err := url.ParseQuery(s.Query); err != nil || len(s.Query) > 2000 {
		return store.ErrNotFound
	} else if q.Del("before"); s.Query != "" {
		s.Query = q.Encode()
	}
	if c.PostForm("do") == "remove" {
		s.Query = ""
	}
	if err := store.SaveSearch(c, t.DB, t.Project, t.Person.ID, s); err != nil {
		return err
	}
	c.Redirect(303, "/traffic?"+s.Query)
	return nil
}
