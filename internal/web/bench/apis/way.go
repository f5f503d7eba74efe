package apis

import (
	"net/url"
	"slices"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

// messages are those between which a way maps; nil where one is not known.
type messages struct {
	body, asked, answered, response *schema.Schema // of the caller and the system, there and back
}

// messagesOf finds them.
func messagesOf(p *project.Project, a *api.API, w *api.Way) (m messages) {
	o := w.Operation
	if o.Body != nil {
		m.body = messageOf(a, o.Body.Media)
	}
	if success := (&running.Bound{Contract: a.Contract, Operation: o}).Success(); success != nil {
		m.response = messageOf(a, success.Media)
	}
	if op := operationOf(p, w); op != nil {
		m.asked, m.answered = op.Request, op.Response
	}
	return m
}

func messageOf(a *api.API, list []contract.Media) *schema.Schema {
	s, err := compile.Message(a.Contract, list)
	if err != nil {
		return nil // which the part tells as a fault
	}
	return s
}

// operationOf is the connection's operation that a way asks; nil where there is none.
func operationOf(p *project.Project, w *api.Way) *connection.Operation {
	c := p.Connection(w.Setting("connection"))
	if c == nil {
		return nil
	}
	return c.Operation(w.Setting("calls"))
}

// wayFields are the settings of a way as they are edited, with what can be chosen and what is wrong.
func (d *apiPage) wayFields(p *project.Project, w *api.Way) []form.Field {
	fields, m, left := form.Fields(w.Settings), messagesOf(p, d.API, w), slices.Clone(d.Faults)
	for i := range fields {
		f := &fields[i]
		f.Complete = "/bench/apis/" + url.PathEscape(d.ID) + "/help?operation=" + url.QueryEscape(w.Operation.ID) + "&of=" + url.QueryEscape(f.Name)
		f.Faults, left = base.FaultsAt(left, w.Settings.Text(f.Name))
		for _, pair := range w.Settings.Pairs[f.Name] {
			var more fault.List
			more, left = base.FaultsAt(left, pair.Formula)
			f.Faults = append(f.Faults, more...)
		}
		switch f.Name {
		case "path":
			f.Hint = w.Operation.Path
		case "connection":
			f.Options = form.Parts(p, f.Setting, f.Value, func(id string) bool { return answers(w.Kind, p.Connection(id)) })
		case "calls":
			f.Options = form.Operations(p.Connection(w.Setting("connection")))
		case "request mapping":
			f.Options = form.Parts(p, f.Setting, f.Value, func(id string) bool { return maps(p.Mapping(id), m.body, m.asked) })
		case "response mapping":
			f.Options = form.Parts(p, f.Setting, f.Value, func(id string) bool { return maps(p.Mapping(id), m.answered, m.response) })
		case "with":
			f.Rows, f.Free = rowsOf(m.asked, w.Settings.Pairs[f.Name])
		case "respond":
			f.Rows, f.Free = rowsOf(m.response, w.Settings.Pairs[f.Name])
		}
	}
	return fields
}

// answers says whether a connection can answer in a way.
func answers(k *api.WayKind, c *connection.Connection) bool {
	return c != nil && (k == api.Called && len(c.Operations) > 0 || c.Kind == "http" || c.Kind == "soap")
}

// maps says whether a mapping makes one message of another; of one that is not known it may.
func maps(plan *mapping.Plan, from, to *schema.Schema) bool {
	if plan == nil || to != nil && plan.Target.Root != to.Root {
		return false
	}
	return from == nil || slices.ContainsFunc(plan.Sources, func(s *schema.Schema) bool { return s.Root == from.Root })
}

// rowsOf are pairs for the fields of a message; with names of their own where that is not known.
func rowsOf(of *schema.Schema, pairs []setting.Pair) (rows []form.Row, free bool) {
	if of == nil {
		return form.Rows(pairs), true
	}
	return form.RowsOf(of, pairs, nil), false
}

// newMappings are the directions of the chosen way for which a mapping can be made here, with what it would map.
func (d *apiPage) newMappings(p *project.Project, w *api.Way) (list []wayMapping) {
	m := messagesOf(p, d.API, w)
	for _, n := range []wayMapping{{Direction: "request", from: m.body, to: m.asked}, {Direction: "response", from: m.answered, to: m.response}} {
		if w.Setting(n.Direction+" mapping") == "" && n.from != nil && n.to != nil && p.Schema(n.from.ID) != nil && p.Schema(n.to.ID) != nil {
			n.Title = n.from.Title + " → " + n.to.Title
			list = append(list, n)
		}
	}
	return list
}

// wayMapping is a mapping of a way, or one that can be made for it.
type wayMapping struct {
	Direction, ID, Title string
	from, to             *schema.Schema
}

// mappingsOf are those that a way has.
func mappingsOf(p *project.Project, w *api.Way) (list []wayMapping) {
	for _, direction := range []string{"request", "response"} {
		if id := w.Setting(direction + " mapping"); id != "" && p.Mapping(id) != nil {
			list = append(list, wayMapping{Direction: direction, ID: id, Title: p.TitleOf(project.Mappings, id)})
		}
	}
	return list
}

// addMapping makes a mapping for a direction of a way, and lets the way use it.
func (b pages) addMapping(c *gin.Context) error {
	p, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if d.Chosen == nil || d.API.Way(d.Chosen.Operation) == nil {
		return store.ErrNotFound
	}
	w := d.API.Way(d.Chosen.Operation)
	i := slices.IndexFunc(d.newMappings(p, w), func(n wayMapping) bool { return n.Direction == c.PostForm("direction") })
	if i < 0 {
		return store.ErrNotFound
	}
	n := d.newMappings(p, w)[i]
	name := map[string]string{"request": "input", "response": "response"}[n.Direction]
	id, text, ft := base.NewMapping(p, base.FreeTitle(p, n.Title), []base.MappingSource{{Name: name, Schema: n.from.ID}}, n.to.ID, false)
	if ft != nil {
		return ft
	}
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	if err := b.Designer(c).AddWayMapping(c, d.API, w, n.Direction, id, string(text), from); err != nil {
		return err
	}
	c.Redirect(303, "/bench/mappings/"+url.PathEscape(id))
	return nil
}

// help completes a formula of a way.
func (b pages) help(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	a := p.API(c.Param("id"))
	o := a.Operation(c.Query("operation"))
	if o == nil || a.Way(o) == nil {
		return store.ErrNotFound
	}
	return base.Complete(c, scopeOf(p, a.Way(o), c.Query("of")))
}

// steps are those at which the settings of a way are formulas.
var steps = map[string]string{"with": "call", "respond": "respond"}

// scopeOf is what formulas of a setting of a way can name.
func scopeOf(p *project.Project, w *api.Way, name string) *formula.Scope {
	plan := w.In
	if name == "response headers" {
		plan = w.Back
	}
	if plan != nil && len(plan.Steps) > 0 {
		if at := plan.Planned(steps[name]); at != nil {
			return at.Scope
		}
		return plan.Steps[0].Scope
	}
	return p.Formulas().Scope()
}
