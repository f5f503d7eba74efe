package project

import (
	"slices"
	"strings"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/mapping"
)

// maxLineage bounds how many mappings a lineage goes through, one after another.
const maxLineage = 20

// Lineage is one field on the way of the data: where it comes from, or where it goes to.
type Lineage struct {
	Mapping   string // id
	Title     string // of the mapping
	Flow      string // in which the messages pass on; empty in the mapping that was asked for
	Source    string // a source's field, as source.field; empty for a target field
	Field     string // a target field as rules write it; empty for a source's field
	Rule      string
	Tables    []string
	Functions []string
	Next      []*Lineage // one step nearer to the sources, or farther from them
}

// passing is a place in a flow at which what one mapping makes is read by a later one.
type passing struct {
	flow   *flow.Flow
	from   *mapping.Plan
	to     *mapping.Plan
	source string // the name under which it is read
}

func (p *Project) passings() []passing {
	var out []passing
	for _, part := range p.Parts(Flows) {
		plan := p.Flow(part.ID)
		made := map[string]*mapping.Plan{}
		for _, ps := range plan.Steps {
			if ps.Mapping == nil {
				continue
			}
			for i, src := range ps.Mapping.Mapping.From {
				if from := made[ps.Sources[i]]; from != nil {
					out = append(out, passing{flow: plan.Flow, from: from, to: ps.Mapping, source: src.Name.Value})
				}
			}
			if ps.Result != nil {
				made[ps.Result.Name] = ps.Mapping
			}
		}
	}
	return out
}

// Upstream follows a target field back to every source field, table and function that feeds it, and on
// through the mappings before it in the project's flows; nil when there is no such field.
func (p *Project) Upstream(mappingID, field string) *Lineage {
	plan := p.Mapping(mappingID)
	if plan == nil {
		return nil
	}
	t := tracer{passings: p.passings()}
	return t.origins(plan, field, "", 0)
}

type tracer struct{ passings []passing }

// fieldsOf are the fields and variables of a target's branch: the field, and those inside of it.
func fieldsOf(plan *mapping.Plan, field string) []*mapping.Field {
	var out []*mapping.Field
	for _, f := range plan.Fields {
		if name := plain(f.Name()); name == field || strings.HasPrefix(name, field+"/") || f.Name() == field {
			out = append(out, f)
		}
	}
	return out
}

// plain is a field's name without the labels of feeds.
func plain(name string) string {
	parts := strings.Split(name, "/")
	for i, s := range parts {
		if at := strings.IndexByte(s, '['); at > 0 && strings.HasSuffix(s, "]") {
			parts[i] = s[:at]
		}
	}
	return strings.Join(parts, "/")
}

func (t *tracer) origins(plan *mapping.Plan, field, flowID string, depth int) *Lineage {
	fields := fieldsOf(plan, field)
	if len(fields) == 0 {
		return nil
	}
	out := &Lineage{Mapping: plan.Mapping.ID, Title: plan.Mapping.Title, Flow: flowID, Field: field}
	var reads []string
	for _, f := range fields {
		if f.Rule != nil && out.Rule == "" {
			out.Rule = ruleText(f)
		}
		out.uses(f)
		for _, path := range f.Reads {
			reads = merge(reads, []string{strings.Join(path, ".")})
		}
	}
	for _, read := range reads {
		out.Next = append(out.Next, t.before(plan, read, depth))
	}
	return out
}

// uses adds the tables and functions of a field, and those of the variables that it reads.
func (l *Lineage) uses(f *mapping.Field) {
	l.Tables, l.Functions = merge(l.Tables, f.Tables), merge(l.Functions, f.Functions)
	for _, v := range f.Through {
		l.uses(v)
	}
}

func ruleText(f *mapping.Field) string {
	if f.Rule.Kind == mapping.Each {
		return "each " + f.Rule.Text.Value
	}
	return f.Rule.Text.Value
}

func merge(list, more []string) []string {
	for _, s := range more {
		if !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	return list
}

// before is a source's field, and the target field of a mapping before it from which it comes.
func (t *tracer) before(plan *mapping.Plan, read string, depth int) *Lineage {
	out := &Lineage{Mapping: plan.Mapping.ID, Title: plan.Mapping.Title, Source: read}
	name, rest, _ := strings.Cut(read, ".")
	for _, ps := range t.passings {
		if ps.to != plan || ps.source != name || depth >= maxLineage {
			continue
		}
		if next := t.origins(ps.from, strings.ReplaceAll(rest, ".", "/"), ps.flow.ID, depth+1); next != nil {
			out.Next = append(out.Next, next)
		}
	}
	return out
}

// Downstream follows a source's field, as source.field, to every target field that it feeds, and on through
// the mappings after it in the project's flows; nil when there is no such mapping.
func (p *Project) Downstream(mappingID, source string) *Lineage {
	plan := p.Mapping(mappingID)
	if plan == nil {
		return nil
	}
	t := tracer{passings: p.passings()}
	return t.reach(plan, source, "", 0)
}

func (t *tracer) reach(plan *mapping.Plan, source, flowID string, depth int) *Lineage {
	out := &Lineage{Mapping: plan.Mapping.ID, Title: plan.Mapping.Title, Flow: flowID, Source: source}
	for _, f := range plan.Fields {
		if !readsFrom(f, source) {
			continue
		}
		next := &Lineage{Mapping: plan.Mapping.ID, Title: plan.Mapping.Title, Field: f.Name(), Rule: ruleText(f)}
		next.uses(f)
		for _, ps := range t.passings {
			if ps.from != plan || depth >= maxLineage {
				continue
			}
			after := t.reach(ps.to, ps.source+"."+strings.ReplaceAll(plain(f.Name()), "/", "."), ps.flow.ID, depth+1)
			if len(after.Next) > 0 {
				next.Next = append(next.Next, after)
			}
		}
		out.Next = append(out.Next, next)
	}
	return out
}

// readsFrom says whether a field's rule reads a source's field, or what is inside or around it.
func readsFrom(f *mapping.Field, source string) bool {
	return f.Rule != nil && slices.ContainsFunc(f.Reads, func(path []string) bool {
		read := strings.Join(path, ".")
		return read == source || strings.HasPrefix(read, source+".") || strings.HasPrefix(source, read+".") && f.Rule.Kind != mapping.Each
	})
}
