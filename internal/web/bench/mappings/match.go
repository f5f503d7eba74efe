package mappings

import (
	"net/url"
	"slices"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

// matchPage are the rules that are proposed, for acceptance.
type matchPage struct {
	ID, Branch, Record string
	Sample             string
	Revision           int64
	Proposals          []mapping.Proposal
}

// mappingOf gives the project and the mapping that an address names.
func (b pages) mappingOf(c *gin.Context) (*project.Project, string, *mapping.Plan, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, "", nil, err
	}
	id := c.Param("id")
	plan := p.Mapping(id)
	if plan == nil {
		return nil, "", nil, store.ErrNotFound
	}
	return p, id, plan, nil
}

// match proposes rules for the fields of a branch that have none, or for all.
func (b pages) match(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	draft, err := store.PartDraft(c, b.DB, p.ID, project.Path(project.Mappings, id))
	if err != nil {
		return err
	}
	mappingView.Part(c, "matches", matchPage{
		ID: id, Branch: c.Query("branch"), Record: c.Query("record"), Sample: c.Query("sample"), Revision: draft.Revision, Proposals: plan.Match(c.Query("branch")),
	})
	return nil
}

// accept makes rules of the proposals that were chosen.
func (b pages) accept(c *gin.Context) error {
	_, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	c.PostForm("") // reads the form
	chosen := c.Request.PostForm["accept"]
	field := c.PostForm("field")
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		for _, pr := range plan.Match(c.PostForm("branch")) {
			if !slices.Contains(chosen, pr.Field) {
				continue
			}
			rule := partfile.Ordered{{Key: "field", Value: pr.Field}, {Key: string(pr.Kind), Value: pr.Text}}
			rule.Add("as", pr.As)
			if text, err = partfile.Insert(text, []any{"rules"}, -1, rule); err != nil {
				return nil, err
			}
		}
		return text, nil
	})
	if err != nil {
		return err
	}
	if !page.Partial(c) {
		c.Redirect(303, "/bench/mappings/"+id)
		return nil
	}
	d, err := b.mappingPage(c, id, field, c.PostForm("record"), "")
	if err != nil {
		return err
	}
	mappingView.Part(c, "work", d)
	return nil
}

// help suggests what could stand at the caret of a rule.
func (b pages) help(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	plan := p.Mapping(c.Param("id"))
	if plan == nil {
		return store.ErrNotFound
	}
	if c.Query("script") != "" {
		return base.CompleteScript(c, plan, c.Query("field"))
	}
	return base.Complete(c, plan.Scope(c.Query("field")))
}

var newMappingView = page.Parse(files, "new.html")

// newMappingPage is the form from which a mapping begins.
type newMappingPage struct {
	page.Frame
	MapTitle string
	Schemas  []project.Part
	From     []string
	To       string
	Script   bool // a script in place of rules
	Fault    *fault.Fault
}

func (b pages) newMapping(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	newMappingView.Page(c, newMappingPage{Frame: b.Frame(c, "bench", "New mapping"), Schemas: p.Messages()})
	return nil
}

// Chosen says whether a schema is among the sources.
func (d newMappingPage) Chosen(id string) bool { return slices.Contains(d.From, id) }

// addMapping makes a mapping without rules.
func (b pages) addMapping(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := newMappingPage{
		Frame: b.Frame(c, "bench", "New mapping"), Schemas: p.Messages(), MapTitle: c.PostForm("title"), To: c.PostForm("to"), Script: c.PostForm("by") == "script",
	}
	d.From = c.Request.PostForm["from"]
	var sources []base.MappingSource
	for _, schemaID := range d.From {
		sources = append(sources, base.MappingSource{Name: base.SourceName(schemaID), Schema: schemaID})
	}
	id, text, ft := base.NewMapping(p, d.MapTitle, sources, d.To, d.Script)
	if ft == nil {
		if err = b.Designer(c).Add(c, project.Path(project.Mappings, id), string(text)); err == nil {
			c.Redirect(303, "/bench/mappings/"+url.PathEscape(id))
			return nil
		}
		ft = fault.From(err, fault.Setting)
		if err == store.ErrExists {
			ft = fault.New(fault.Setting, "there is a mapping %s already", fault.Quote(id)).WithFix("Choose another title")
		}
	}
	d.Fault = ft
	newMappingView.Page(c, d)
	return nil
}
