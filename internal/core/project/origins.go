package project

import (
	"slices"
	"strings"

	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// OpenFields are the fields of what a step is given that have no formula yet: those that must be there first.
func (p *Project) OpenFields(ps *running.PlannedStep) (open []*schema.Field) {
	of := ps.PairFields()
	if of == nil {
		return nil
	}
	for _, f := range of.Root.Fields {
		if !slices.ContainsFunc(ps.Step.Match, func(m setting.Pair) bool { return m.Name.Value == f.Name && m.Formula.Value != "" }) {
			open = append(open, f)
		}
	}
	slices.SortStableFunc(open, func(a, b *schema.Field) int { return order(b.Required()) - order(a.Required()) })
	return open
}

func order(b bool) int {
	if b {
		return 1
	}
	return 0
}

// FieldOrigins proposes where a field of what a step is given could come from: values in scope, or operations of connections that can be
// asked with them; the best proposals first.
func (p *Project) FieldOrigins(ps *running.PlannedStep, field *schema.Field, most int) []draft.Proposal {
	q := draft.Question{Given: inScope(ps), Spare: true}
	if field.Kind == value.RecordKind && !field.List() {
		for _, l := range draft.LeavesOf(field) {
			l.Path = append([]string{field.Name}, l.Path...)
			q.Want = append(q.Want, l)
		}
	} else {
		q.Want = []*draft.Leaf{draft.NewLeaf([]string{field.Name}, field, true, false)}
	}
	list := draft.Propose(q, p.callable(), most)
	return slices.DeleteFunc(list, func(pr draft.Proposal) bool { return len(pr.Answer) == 0 })
}

// inScope are the values that a step can read, but those of lists: which entry is meant nobody knows.
func inScope(ps *running.PlannedStep) (list []*draft.Leaf) {
	add := func(where string, f *schema.Field) {
		for _, l := range draft.LeavesOf(f) {
			l.Where = where
			list = append(list, l)
		}
	}
	for _, n := range ps.Before {
		switch {
		case n.Name == "run", n.Schema == nil, n.List:
		case n.Name == "request":
			if params := n.Schema.Root.Field("parameters"); params != nil {
				add("request.parameters", params)
			}
		default:
			add(n.Name, n.Schema.Root)
		}
	}
	return list
}

// FillFrom puts the calls of a proposal before a step, in the text of its flow, and the formula into the step's field.
func (p *Project) FillFrom(ps *running.PlannedStep, field *schema.Field, pr draft.Proposal, text []byte) ([]byte, error) {
	w := &drafter{p: p, names: map[*draft.Operation]string{}}
	for _, n := range ps.Before {
		w.names[&draft.Operation{}] = n.Name // taken
	}
	path := ps.Step.Path
	list, at := path[:len(path)-1], path[len(path)-1].(int)
	formula := ""
	var steps []partfile.Ordered
	for _, c := range pr.Calls {
		steps = append(steps, w.call(c))
	}
	formula = w.fieldOf(field, []string{field.Name}, pr.Answer)
	pairs := "with"
	for _, s := range ps.Step.Of().Settings {
		if s.Type == setting.Pairs {
			pairs = s.Name
		}
	}
	text, err := partfile.Set(text, append(path[:len(path):len(path)], pairs, field.Name), formula)
	for i := len(steps) - 1; i >= 0 && err == nil; i-- {
		text, err = partfile.Insert(text, list, at, steps[i])
	}
	return text, err
}

// ChainOf names the calls of a proposal in their order.
func (p *Project) ChainOf(pr draft.Proposal) string {
	var names []string
	for _, c := range pr.Calls {
		id, _, _ := strings.Cut(c.Operation.ID, "/")
		names = append(names, p.TitleOf(Connections, id)+": "+c.Operation.About)
	}
	return strings.Join(names, " → ")
}
