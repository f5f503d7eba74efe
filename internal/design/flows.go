package design

import (
	"context"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/edit"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// AddFlow adds a flow with a trigger of a kind and nothing else, and gives its id.
func (d Designer) AddFlow(ctx context.Context, title, trigger string) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	id, err := FreshID(p, project.Flows, title)
	if err != nil {
		return "", err
	}
	if flow.TriggerOf(trigger) == nil {
		return "", store.ErrNotFound
	}
	text := partfile.Encode(partfile.Ordered{{Key: "flow", Value: title}, {Key: "trigger", Value: partfile.Ordered{{Key: "kind", Value: trigger}}}})
	return id, d.Add(ctx, project.Path(project.Flows, id), string(text))
}

// ExtractSteps makes a flow of steps, which are replaced by one that runs it. It gives the id of that step.
func (d Designer) ExtractSteps(ctx context.Context, plan *running.Plan, from int64, steps edit.Range, title string) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	id, err := FreshID(p, project.Flows, title)
	if err != nil {
		return "", err
	}
	path := project.Path(project.Flows, plan.Flow.ID)
	draft, err := d.at(ctx, path, from)
	if err != nil {
		return "", err
	}
	made, r, err := edit.Extract(p, plan, []byte(draft.Text), steps, id, title)
	if err != nil {
		return "", err
	}
	return r.Selected, d.AddBeside(ctx, project.Path(project.Flows, id), string(made), path, string(r.Text), from)
}

// AddMappingFor adds a mapping and lets a step map with it. Where each names a list, the step is put into a loop over its
// entries.
func (d Designer) AddMappingFor(ctx context.Context, plan *running.Plan, step *flow.Step, from int64, id, text, each string) error {
	path := project.Path(project.Flows, plan.Flow.ID)
	draft, err := d.at(ctx, path, from)
	if err != nil {
		return err
	}
	changed, err := partfile.Set([]byte(draft.Text), append(append([]any{}, step.Path...), "mapping"), id)
	if err != nil {
		return err
	}
	if each != "" {
		r, err := edit.Wrap(plan.Flow, changed, edit.Range{Step: step.ID, Count: 1}, flow.EachKind, each)
		if err != nil {
			return err
		}
		changed = r.Text
	}
	return d.AddBeside(ctx, project.Path(project.Mappings, id), text, path, string(changed), from)
}
