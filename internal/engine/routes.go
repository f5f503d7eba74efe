package engine

import (
	"context"
	"slices"
	"strings"
	"sync"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
)

// route is a released flow that requests start.
type route struct {
	release store.Deployment
	plan    *running.Plan
}

// routes are those of each scope, made of the deployments that the triggers were read with.
type routes struct {
	mu      sync.Mutex
	of      []store.Deployment
	byScope map[store.Scope][]route
}

// asked finds the flow that a request starts. Where there is none by what is remembered, a release may just have been made.
func (e *Engine) asked(ctx context.Context, s store.Scope, a InboundRequest) (route, error) {
	list, err := e.routed(ctx, s)
	if err != nil {
		return route{}, err
	}
	found, refusal := routeOf(list, a)
	if refusal == nil {
		return found, e.takes(ctx, found.release)
	}
	e.deployments.Forget()
	if list, err = e.routed(ctx, s); err != nil {
		return route{}, err
	}
	if found, refusal = routeOf(list, a); refusal != nil {
		return route{}, refusal
	}
	return found, e.takes(ctx, found.release)
}

// routeOf is the route that a request takes: of several the one whose path has the most words of its own.
func routeOf(list []route, a InboundRequest) (found route, refusal *Rejected) {
	other := &Rejected{Status: 405}
	for _, r := range list {
		t := r.plan.Flow.Trigger
		if _, matches := flow.MatchPath(t.Path.Value, a.Path); !matches {
			continue
		}
		switch {
		case t.Method != a.Method:
			other.Allow = append(other.Allow, t.Method)
		case found.plan == nil || flow.Closer(t.Path.Value, found.plan.Flow.Trigger.Path.Value):
			found = r
		}
	}
	if found.plan != nil {
		return found, nil
	}
	if other.Allow == nil {
		return found, refused(404, fault.New(fault.Unknown, "no flow that is released starts with a request to %q", a.Path))
	}
	slices.Sort(other.Allow)
	other.Allow = slices.Compact(other.Allow)
	other.Faults = fault.List{fault.Expect(fault.Setting, "one of the methods "+strings.Join(other.Allow, ", "), a.Method)}
	return found, other
}

// routed are the routes of a scope, made anew when the deployments were read anew.
func (e *Engine) routed(ctx context.Context, s store.Scope) ([]route, error) {
	deployments, _, err := e.deployments.All(ctx)
	if err != nil || len(deployments) == 0 {
		return nil, err
	}
	rs := &e.routes
	rs.mu.Lock()
	same := len(rs.of) > 0 && &rs.of[0] == &deployments[0]
	list, made := rs.byScope[s]
	rs.mu.Unlock()
	if same && made {
		return list, nil
	}
	list = nil
	for _, r := range deployments {
		if r.Scope != s {
			continue
		}
		p, err := e.Release(ctx, s.Project, r.Flow, r.Number)
		if err != nil {
			return nil, err
		}
		if plan := p.Flow(r.Flow); plan != nil && plan.Flow.Trigger.Of().Requests && len(plan.Faults) == 0 {
			list = append(list, route{r, plan})
		}
	}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if len(rs.of) == 0 || &rs.of[0] != &deployments[0] {
		rs.of, rs.byScope = deployments, map[store.Scope][]route{}
	}
	rs.byScope[s] = list
	return list, nil
}

// takes refuses requests while somebody has paused the flow.
func (e *Engine) takes(ctx context.Context, r store.Deployment) error {
	_, paused, err := e.deployments.All(ctx)
	if err != nil || !paused[[2]string{r.Project, r.Flow}] {
		return err
	}
	t, err := store.TriggerOf(ctx, e.front(), r.Scope, r.Flow)
	if err == nil && t.PausedBy != nil {
		return refused(503, fault.New(fault.Setting, "the flow takes no requests now: %s", t.PausedFor))
	}
	return err
}
