package flows

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var originsView = page.Parse(files, "origins.html")

// originsPage says where fields of what a step is given could come from.
type originsPage struct {
	page.Frame
	ID, FlowTitle   string
	Step, StepTitle string
	Revision        int64
	Among           int // operations of connections
	Fields          []openField
}

type openField struct {
	Name, Type, Notes string
	Required          bool
	Origins           []originRow
}

// originRow is one proposal.
type originRow struct {
	Number, Score int
	Chain         string // the calls; empty where it is in scope already
	Bindings      []string
	Open          []string
}

// Bounds on what is proposed.
const (
	mostOrigins = 3
	mostOpen    = 12 // fields
)

func (b pages) origins(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	ps := plan.Planned(c.Param("step"))
	if ps == nil {
		return store.ErrNotFound
	}
	d := &originsPage{Frame: b.Frame(c, "bench", "Sources of "+ps.Step.Name), ID: plan.Flow.ID, FlowTitle: plan.Flow.Title, Step: ps.Step.ID, StepTitle: ps.Step.Name}
	draftPart, err := store.PartDraft(c, b.DB, p.ID, project.Path(project.Flows, plan.Flow.ID))
	if err != nil {
		return err
	}
	d.Revision = draftPart.Revision
	for _, part := range p.Parts(project.Connections) {
		d.Among += len(p.Connection(part.ID).Operations)
	}
	open := p.OpenFields(ps)
	for _, f := range open[:min(len(open), mostOpen)] {
		row := openField{Name: f.Name, Type: f.Kind.String(), Notes: f.Notes, Required: f.Required()}
		for i, pr := range p.FieldOrigins(ps, f, mostOrigins) {
			row.Origins = append(row.Origins, originOf(p, i, pr))
		}
		d.Fields = append(d.Fields, row)
	}
	originsView.Page(c, d)
	return nil
}

func originOf(p *project.Project, i int, pr draft.Proposal) originRow {
	row := originRow{Number: i + 1, Score: min(100, int(pr.Score*100+0.5)), Chain: p.ChainOf(pr)}
	add := func(list []draft.Binding) {
		for _, b := range list {
			from := b.From.Leaf.Where + "." + b.From.Leaf.Name()
			if o := b.From.Operation; o != nil {
				id, _, _ := strings.Cut(o.ID, "/")
				from = p.TitleOf(project.Connections, id) + ": " + b.From.Leaf.Name()
			}
			text := fmt.Sprintf("%s ← %s", b.To.Name(), from)
			if len(b.Reasons) > 0 {
				text += " (" + strings.Join(b.Reasons, "; ") + ")"
			}
			row.Bindings = append(row.Bindings, text)
		}
	}
	for _, call := range pr.Calls {
		add(call.Bindings)
		for _, l := range call.Open {
			row.Open = append(row.Open, l.Name())
		}
	}
	add(pr.Answer)
	for _, l := range pr.Open {
		row.Open = append(row.Open, l.Name())
	}
	return row
}

// fillField takes a proposal.
func (b pages) fillField(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(c.PostForm("proposal"))
	if err != nil || n < 1 || n > mostOrigins {
		return store.ErrNotFound
	}
	if _, err := b.Designer(c).FillField(c, c.Param("id"), c.Param("step"), c.PostForm("field"), n, from); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/flows/"+url.PathEscape(c.Param("id"))+"?step="+url.QueryEscape(c.Param("step")))
	return nil
}
