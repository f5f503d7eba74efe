package tries

import (
	"context"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
)

// tableTime bounds how long holding a flow's upserts against their tables may take.
const tableTime = 10 * time.Second

// CheckTables holds the upserts of a flow against their tables as these are now. unreached are the connections that could not
// be asked.
func (e *Tries) CheckTables(ctx context.Context, s store.Scope, plan *running.Plan) (faults fault.List, unreached []string) {
	ctx, cancel := context.WithTimeout(ctx, tableTime)
	defer cancel()
	for _, ps := range plan.Steps {
		if ps.Upsert == nil || ps.Step.Disabled {
			continue
		}
		found, err := e.outside.Of(s).CheckUpsert(ctx, *ps.Upsert)
		if err != nil {
			unreached = append(unreached, ps.Upsert.Connection)
			continue
		}
		for _, f := range found {
			faults = append(faults, f.InField(ps.Step.Name))
		}
	}
	return faults, unreached
}
