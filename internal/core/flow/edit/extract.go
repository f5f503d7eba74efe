package edit

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/setting"
)

// Extract makes a flow of some steps and calls it in their place. They may read one record from before and yield
// one that is read behind them: these become the flow's input and its answer.
func Extract(p *project.Project, plan *running.Plan, text []byte, r Range, id, title string) (made []byte, changed Result, err error) {
	f := plan.Flow
	path, index, n, err := r.within(f)
	if err != nil {
		return nil, changed, err
	}
	list := List(f, path)
	steps, before := list[index:index+n], plan.ScopeAt(list, flow.Gap{Path: path, At: index})
	in, err := single(p, "read", externals(plan, steps, before), before)
	if err != nil {
		return nil, changed, err
	}
	results := resultsOf(plan, steps)
	out, err := single(p, "yield", usedBehind(plan, steps, results), results)
	if err != nil {
		return nil, changed, err
	}
	items, err := partfile.Items(text, path, index, n)
	if err != nil {
		return nil, changed, err
	}
	if made, err = called(items, n, title, in, out); err != nil {
		return nil, changed, err
	}
	for range n {
		if text, err = partfile.Remove(text, path, index); err != nil {
			return nil, changed, err
		}
	}
	step := freshIn(f).name(slug(id))
	call := partfile.Ordered{{Key: "step", Value: "flow"}, {Key: "id", Value: step}, {Key: "name", Value: title}, {Key: "flow", Value: id}}
	if in != nil {
		call.Add("from", in.Name)
	}
	if out != nil {
		call.Add("as", out.Name)
	}
	text, err = partfile.Insert(text, path, index, call)
	return made, Result{text, step}, err
}

// called writes the flow that holds the steps.
func called(items []byte, n int, title string, in, out *running.Named) ([]byte, error) {
	trigger := partfile.Ordered{{Key: "kind", Value: "called"}}
	if in != nil {
		trigger.Add("input", in.Schema.ID)
		trigger.Add("as", in.Name)
	}
	if out != nil {
		trigger.Add("output", out.Schema.ID)
	}
	text, err := partfile.Paste(partfile.Encode(partfile.Ordered{{Key: "flow", Value: title}, {Key: "trigger", Value: trigger}}), []any{"steps"}, 0, items, func(partfile.Settings) {})
	if err != nil || out == nil {
		return text, err
	}
	return partfile.Insert(text, []any{"steps"}, n, partfile.Ordered{{Key: "step", Value: flow.AnswerKind}, {Key: "id", Value: flow.AnswerKind}, {Key: "from", Value: out.Name}})
}

// single finds the one record among names; nil where there is none.
func single(p *project.Project, what string, names []string, among []running.Named) (*running.Named, error) {
	switch len(names) {
	case 0:
		return nil, nil
	case 1:
	default:
		return nil, fault.New(fault.Setting, "the steps %s %s; a flow is called with one record and answers one", what, strings.Join(names, " and ")).
			WithFix("Take in the steps that make them, or map them to one record first")
	}
	for _, n := range among {
		if n.Name != names[0] {
			continue
		}
		if n.Schema == nil || n.List || p.Schema(n.Schema.ID) == nil {
			return nil, fault.New(fault.Setting, "%s has no schema of its own in the project, which the flow's contract needs", n.Name).WithFix("Map it to a record of a schema first")
		}
		return &n, nil
	}
	return nil, fault.New(fault.Unknown, "no step before yields %q", names[0])
}

// reads lists the names that a step's own settings speak of.
func reads(plan *running.Plan, s *flow.Step) []string {
	var names []string
	formulas := func(source string) {
		for _, name := range formula.Names(source) {
			if ps := plan.Planned(s.ID); ps != nil && ps.Scope != nil {
				if record, ok := ps.Scope.ResolveName(name); ok {
					name = record
				}
			}
			names = append(names, name)
		}
	}
	for _, set := range flow.KindOf(s.Kind).Settings {
		switch set.Type {
		case setting.Formula:
			formulas(s.Setting(set.Name))
		case setting.Name:
			names = append(names, s.Setting(set.Name))
		}
	}
	for _, m := range s.Match {
		formulas(m.Formula.Value)
	}
	for _, t := range s.Branches {
		formulas(t.If.Value)
	}
	if ps := plan.Planned(s.ID); ps != nil && ps.Mapping != nil {
		names = append(names, ps.Sources...)
	}
	return names
}

func walk(steps []*flow.Step, visit func(*flow.Step)) {
	for _, s := range steps {
		if flow.KindOf(s.Kind) == nil {
			continue
		}
		visit(s)
		for _, t := range s.Branches {
			walk(t.Steps, visit)
		}
	}
}

// externals are the names from before that steps read.
func externals(plan *running.Plan, steps []*flow.Step, before []running.Named) (names []string) {
	walk(steps, func(s *flow.Step) {
		for _, name := range reads(plan, s) {
			there := slices.ContainsFunc(before, func(n running.Named) bool { return n.Name == name })
			if there && name != "run" && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	})
	return names
}

// resultsOf is what steps yield for those behind them.
func resultsOf(plan *running.Plan, steps []*flow.Step) (all []running.Named) {
	for _, s := range steps {
		if ps := plan.Planned(s.ID); ps != nil {
			if ps.Result != nil {
				all = append(all, *ps.Result)
			}
			all = append(all, ps.Common...)
		}
	}
	return all
}

// usedBehind are those results that other steps of the flow read.
func usedBehind(plan *running.Plan, steps []*flow.Step, results []running.Named) (names []string) {
	inside := map[string]bool{}
	walk(steps, func(s *flow.Step) { inside[s.ID] = true })
	walk(plan.Flow.Steps, func(s *flow.Step) {
		if inside[s.ID] {
			return
		}
		for _, name := range reads(plan, s) {
			if slices.ContainsFunc(results, func(n running.Named) bool { return n.Name == name }) && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	})
	return names
}
