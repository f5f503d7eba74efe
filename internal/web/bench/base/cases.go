package base

import (
	"github.com/gin-gonic/gin"

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

func (b Pages) ShowCases(c *gin.Context, p *project.Project, list []project.Case, of, title string) error {
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
