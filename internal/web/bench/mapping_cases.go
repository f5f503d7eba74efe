package bench

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var casesView = page.Parse(files, "mappingcases.html")

// casesPage shows how the cases of a mapping come out with the draft.
type casesPage struct {
	page.Frame
	ID, MapTitle string
	Results      []caseRow
	Failed       int
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
	d := casesPage{Frame: b.Frame(c, "bench", "Cases of "+plan.Mapping.Title), ID: id, MapTitle: plan.Mapping.Title}
	for _, one := range p.CasesOf(id) {
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
	d := &mappingPage{ID: id, UsedBy: p.UsedBy(project.Path(project.Mappings, id))}
	fr := plan.NewFrame()
	d.message(c, b, p, plan, c.PostForm("record"), fr)
	title := strings.TrimSpace(c.PostForm("title"))
	if title == "" {
		title = fmt.Sprintf("Record %d of %s", d.Record, d.Sample)
	}
	text, err := project.NewCase(title, id, plan, fr)
	if err != nil {
		return err
	}
	err = pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error {
		return store.AddPart(c, tx, p.ID, project.Path(project.Cases, id+"-"+PartID(title)), string(text), b.Person.ID)
	})
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/mappings/"+url.PathEscape(id)+"/cases")
	return nil
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
