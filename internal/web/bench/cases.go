package bench

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var casesView = page.Parse(files, "cases.html")

// casesPage shows how the cases of a mapping or a flow come out with the draft.
type casesPage struct {
	page.Frame
	Of, Title string // the address and the title of what they are cases of
	Results   []caseRow
	Failed    int
}

type caseRow struct {
	project.Result
	Path     string
	Revision int64
}

func (b bench) cases(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	return b.showCases(c, p, p.CasesOf(id), "/bench/mappings/"+id, plan.Mapping.Title)
}

// flowCases shows the cases of a flow.
func (b bench) flowCases(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	id := plan.Flow.ID
	return b.showCases(c, p, p.CasesOfFlow(id), "/bench/flows/"+id, plan.Flow.Title)
}

func (b bench) showCases(c *gin.Context, p *project.Project, list []project.Case, of, title string) error {
	d := casesPage{Frame: b.Frame(c, "bench", "Cases of "+title), Of: of, Title: title}
	for _, one := range list {
		row := caseRow{Result: p.RunCase(one), Path: project.Path(project.Cases, one.ID)}
		draft, err := store.PartDraft(c, b.DB, p.ID, row.Path)
		if err != nil {
			return err
		}
		if row.Revision = draft.Revision; !row.OK() {
			d.Failed++
		}
		d.Results = append(d.Results, row)
	}
	casesView.Page(c, d)
	return nil
}

// keepCase keeps the record at hand with what the mapping makes of it now.
func (b bench) keepCase(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	d := &mappingPage{ID: id, UsedBy: flowsUsing(p, project.Path(project.Mappings, id))}
	fr := plan.NewFrame()
	d.message(c, b, p, plan, c.PostForm("record"), fr)
	title := strings.TrimSpace(c.PostForm("title"))
	if title == "" {
		title = fmt.Sprintf("Record %d of %s", d.Record, d.Sample)
	}
	if err := b.Designer(c).AddMappingCase(c, title, id, plan, fr); err != nil {
		return err
	}
	c.Redirect(303, "/bench/mappings/"+url.PathEscape(id)+"/cases")
	return nil
}

// keepFlowCase keeps the record at hand, with what systems answer to it, and what the flow comes to with it now.
func (b bench) keepFlowCase(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	look := lookOf(c.Param("id"), c.PostForm)
	how, err := b.how(c, plan)
	if err != nil {
		return err
	}
	record, _ := strconv.Atoi(look.record)
	run, f := b.Engine.SampleCase(c, p, look.id, look.sample, record, how)
	if f != nil {
		return f
	}
	title := strings.TrimSpace(c.PostForm("title"))
	if title == "" {
		title = "Record " + strconv.Itoa(max(1, record)) + " of " + look.sample
	}
	if err := b.Designer(c).AddFlowCase(c, p, look.id, title, run); err != nil {
		return err
	}
	c.Redirect(303, "/bench/flows/"+url.PathEscape(look.id)+"/cases")
	return nil
}

// acceptFlowCase makes what a flow comes to now what is expected of a case.
func (b bench) acceptFlowCase(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	for _, one := range p.CasesOfFlow(plan.Flow.ID) {
		if one.ID != c.PostForm("case") {
			continue
		}
		account, f := p.Play(one.Flow, one.Run)
		if f != nil {
			return f
		}
		err := b.save(c, project.Path(project.Cases, one.ID), func(text []byte) ([]byte, error) {
			return doc.Set(text, []any{"account"}, project.AccountOut(account))
		})
		if err != nil {
			return err
		}
		c.Redirect(303, "/bench/flows/"+url.PathEscape(plan.Flow.ID)+"/cases")
		return nil
	}
	return store.ErrNotFound
}

// acceptCase makes what comes out now what is expected of a case.
func (b bench) acceptCase(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	id := c.Param("id")
	for _, one := range p.CasesOf(id) {
		if one.ID != c.PostForm("case") {
			continue
		}
		expected, fails := p.Outcome(one)
		err := b.save(c, project.Path(project.Cases, one.ID), func(text []byte) ([]byte, error) {
			text, err := doc.Set(text, []any{"expected"}, expected)
			if err != nil {
				return nil, err
			}
			return doc.Set(text, []any{"fails"}, fails)
		})
		if err != nil {
			return err
		}
		c.Redirect(303, "/bench/mappings/"+url.PathEscape(id)+"/cases")
		return nil
	}
	return store.ErrNotFound
}
