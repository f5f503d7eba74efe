package flows

import (
	"net/url"
	"slices"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/edit"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

// newMapping is the form from which a mapping is made for a step: what is in scope there, and what comes next.
type newMapping struct {
	From    []scopeRecord
	Each    string // the step is put into a For each of this; empty: it stands where it is
	To, Why string
	Schemas []project.Part
}

// scopeRecord is a record in scope that a mapping could read.
type scopeRecord struct {
	Name, Schema, Title string
	List, Chosen        bool
}

// mappingFor proposes a mapping for a step: from what came last to what the next step asks with.
func mappingFor(p *project.Project, plan *running.Plan, ps *running.PlannedStep) *newMapping {
	d := &newMapping{Schemas: p.Messages()}
	d.From, d.Each = mappable(p, plan, ps)
	if n := len(d.From); n > 0 {
		d.From[n-1].Chosen = true
	}
	gap := gapOf(ps.Step)
	list := edit.List(plan.Flow, gap.Path)
	if gap.At+1 >= len(list) {
		return d
	}
	if next := plan.Planned(list[gap.At+1].ID); next != nil && next.Op != nil && next.Op.Request != nil && p.Schema(next.Op.Request.ID) != nil {
		d.To, d.Why = next.Op.Request.ID, next.Step.Name+", which comes next, is asked with it"
	}
	return d
}

// mappable are the records that a step can map; where none is in scope, that of an each which is put around it.
func mappable(p *project.Project, plan *running.Plan, ps *running.PlannedStep) (list []scopeRecord, each string) {
	if list = recordsAt(p, ps.Before); len(list) > 0 {
		return list, ""
	}
	of, entry := edit.EntryAt(p, plan, gapOf(ps.Step))
	if entry == nil {
		return nil, ""
	}
	return recordsAt(p, []running.Named{*entry}), of
}

// gapOf is the place at which a step stands.
func gapOf(s *flow.Step) flow.Gap {
	n := len(s.Path) - 1
	return flow.Gap{Path: s.Path[:n:n], At: s.Path[n].(int)}
}

// recordsAt are those records in scope whose schemas are parts of the project.
func recordsAt(p *project.Project, before []running.Named) (list []scopeRecord) {
	for _, n := range before {
		if n.Name != "run" && n.Schema != nil && p.Schema(n.Schema.ID) != nil && p.Schema(n.Schema.ID).Root == n.Schema.Root {
			list = append(list, scopeRecord{Name: n.Name, Schema: n.Schema.ID, Title: n.Schema.Title, List: n.List})
		}
	}
	return list
}

// addStepMapping makes a mapping for a step and lets the step use it.
func (b pages) addStepMapping(c *gin.Context) error {
	p, plan, err := b.flowOf(c)
	if err != nil {
		return err
	}
	ps := plan.Planned(c.Param("step"))
	if ps == nil || !ps.Step.Of().Maps {
		return store.ErrNotFound
	}
	var sources []base.MappingSource
	wanted := c.PostFormArray("from")
	records, each := mappable(p, plan, ps)
	for _, r := range records {
		if slices.Contains(wanted, r.Name) {
			sources = append(sources, base.MappingSource{Name: r.Name, Schema: r.Schema, List: r.List})
		}
	}
	id, text, ft := base.NewMapping(p, freeTitle(p, sources, c.PostForm("to")), sources, c.PostForm("to"), false)
	if ft != nil {
		return ft.WithFix("Tick what it is made from, and choose what it makes")
	}
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	if err := b.Designer(c).AddMappingFor(c, plan, ps.Step, from, id, string(text), each); err != nil {
		return err
	}
	c.Redirect(303, "/bench/mappings/"+url.PathEscape(id))
	return nil
}

// freeTitle is a title for a mapping that no other has; empty where one cannot be made.
func freeTitle(p *project.Project, sources []base.MappingSource, to string) string {
	target := p.Schema(to)
	if target == nil || len(sources) == 0 || p.Schema(sources[0].Schema) == nil {
		return ""
	}
	return base.FreeTitle(p, p.Schema(sources[0].Schema).Title+" → "+target.Title)
}
