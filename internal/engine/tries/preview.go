package tries

import (
	"context"
	"slices"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
)

// Preview is what a step would send to its system for an item, with secrets masked; nil where nothing can be said. It sends
// nothing.
func (e *Tries) Preview(ctx context.Context, s store.Scope, f string, ps *running.PlannedStep, it *running.Item) (*running.Turn, error) {
	if ps == nil || ps.RequestBuilder == nil {
		return nil, nil
	}
	fr := it.Frame
	fr.Slots = slices.Clone(it.Frame.Slots)
	request, fault := ps.RequestBuilder.Request(&fr)
	if fault != nil {
		return nil, fault
	}
	return e.outside.Of(s).Preview(ctx, running.Call{Op: ps.RequestBuilder.Op, Flow: f, Step: ps.Step.ID, Items: []*running.Item{it}}, request)
}
