package bench

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
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
func (b bench) mappingOf(c *gin.Context) (*project.Project, string, *mapping.Plan, error) {
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
func (b bench) match(c *gin.Context) error {
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
func (b bench) accept(c *gin.Context) error {
	_, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	c.PostForm("") // reads the form
	chosen := c.Request.PostForm["accept"]
	field := c.PostForm("field")
	err = b.save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		for _, pr := range plan.Match(c.PostForm("branch")) {
			if !slices.Contains(chosen, pr.Field) {
				continue
			}
			rule := doc.Out{{Key: "field", Value: pr.Field}, {Key: string(pr.Kind), Value: pr.Text}}
			rule.Add("as", pr.As)
			if text, err = doc.Insert(text, []any{"rules"}, -1, rule); err != nil {
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
func (b bench) help(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	plan := p.Mapping(c.Param("id"))
	rule := c.Query("rule")
	if plan == nil || len(rule) > formula.MaxSource {
		return store.ErrNotFound
	}
	caret, _ := strconv.Atoi(c.Query("at"))
	mappingView.Part(c, "help", formula.Complete(rule, caret, plan.Scope(c.Query("field"))))
	return nil
}

var newMappingView = page.Parse(files, "mappingnew.html")

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

func (b bench) newMapping(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	newMappingView.Page(c, newMappingPage{Frame: b.Frame(c, "bench", "New mapping"), Schemas: p.Parts(project.Schemas)})
	return nil
}

// Chosen says whether a schema is among the sources.
func (d newMappingPage) Chosen(id string) bool { return slices.Contains(d.From, id) }

// addMapping makes a mapping without rules.
func (b bench) addMapping(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := newMappingPage{
		Frame: b.Frame(c, "bench", "New mapping"), Schemas: p.Parts(project.Schemas), MapTitle: c.PostForm("title"), To: c.PostForm("to"), Script: c.PostForm("by") == "script",
	}
	d.From = c.Request.PostForm["from"]
	var sources []begunSource
	for _, schemaID := range d.From {
		sources = append(sources, begunSource{Name: sourceName(schemaID), Schema: schemaID})
	}
	id, text, ft := begunMapping(p, d.MapTitle, sources, d.To, d.Script)
	if ft == nil {
		if err = b.Designer(c).Add(c, project.Path(project.Mappings, id), string(text)); err == nil {
			c.Redirect(303, "/bench/mappings/"+url.PathEscape(id))
			return nil
		}
		ft = fault.From(err, fault.Setting)
		if err == store.ErrExists {
			ft = fault.New(fault.Setting, "there is a mapping %s already", fault.Quote(id)).Mended("Choose another title")
		}
	}
	d.Fault = ft
	newMappingView.Page(c, d)
	return nil
}

// begunSource is a source of a new mapping.
type begunSource struct {
	Name, Schema string
	List         bool
}

// begunMapping is the part of a new mapping; without a title it is called by its first source and its target.
func begunMapping(p *project.Project, title string, sources []begunSource, target string, script bool) (id string, text []byte, ft *fault.Fault) {
	to := p.Schema(target)
	if to == nil || len(sources) == 0 {
		return "", nil, fault.New(fault.Required, "a mapping has at least one source and a target")
	}
	var from []doc.Out
	for _, src := range sources {
		s := p.Schema(src.Schema)
		if s == nil {
			return "", nil, fault.Expect(fault.Unknown, "a schema of the project", fault.Quote(src.Schema))
		}
		if title == "" {
			title = fmt.Sprintf("%s → %s", s.Title, to.Title)
		}
		one := doc.Out{{Key: "name", Value: src.Name}, {Key: "schema", Value: src.Schema}}
		if src.List {
			one.Add("list", "true")
		}
		from = append(from, one)
	}
	if id = design.ID(title); id == "" {
		return "", nil, fault.New(fault.Required, "the mapping needs a title")
	}
	var o doc.Out
	o.Add("mapping", title)
	o.Add("from", from)
	o.Add("to", target)
	if script {
		o.Add("script", "return {};\n")
	}
	return id, doc.Encode(o), nil
}

// sourceName makes a name of a schema's id that can stand in a formula.
func sourceName(id string) string {
	name := []rune(id)
	for i, r := range name {
		if r == '-' || r == '.' {
			name[i] = '_'
		}
	}
	return string(name)
}
