package design

import (
	"context"

	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/store"
)

// FillField lets a field of what a step is given come from where one of the proposals says, counted from 1: calls are put before the
// step. It gives how many.
func (d Designer) FillField(ctx context.Context, flowID, step, field string, number int, from int64) (calls int, err error) {
	p, err := d.Load(ctx)
	if err != nil {
		return 0, err
	}
	plan := p.Flow(flowID)
	if plan == nil || plan.Planned(step) == nil {
		return 0, store.ErrNotFound
	}
	ps := plan.Planned(step)
	var of *schema.Field
	for _, f := range p.OpenFields(ps) {
		if f.Name == field {
			of = f
		}
	}
	if of == nil {
		return 0, store.ErrNotFound
	}
	list := p.FieldOrigins(ps, of, number)
	if len(list) < number {
		return 0, store.ErrNotFound
	}
	err = d.Edit(ctx, project.Path(project.Flows, flowID), from, func(text []byte) ([]byte, error) { return p.FillFrom(ps, of, list[number-1], text) })
	return len(list[number-1].Calls), err
}
