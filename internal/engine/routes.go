package engine

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"sync"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/route"
	"hollowreed/internal/store"
)

// target is what requests with a method and a path are for: a released flow, or an operation of a released API.
type target struct {
	release   store.Deployment // of the flow
	plan      *running.Plan    // that is started; nil where no flow is
	api       *api.API         // nil where none is published there
	operation *contract.Operation
	way       *api.Way // what answers other than a flow; nil where nothing does
}

type routeTable = route.Table[*target]

// routes are those of each scope, made of the deployments that the triggers were read with.
type routes struct {
	mu      sync.Mutex
	of      []store.Deployment
	byScope map[store.Scope]*routeTable
}

// asked finds what a request is for. Where there is nothing by what is remembered, a release may just have been made.
func (e *Engine) asked(ctx context.Context, s store.Scope, a InboundRequest) (*target, []route.Value, error) {
	for _, again := range []bool{false, true} {
		if again {
			e.deployments.Forget()
		}
		list, err := e.routed(ctx, s)
		if err != nil {
			return nil, nil, err
		}
		t, values, allowed, ft := list.Find(a.Method, a.rawPath())
		switch {
		case t != nil && t.plan != nil:
			return t, values, e.takes(ctx, t.release)
		case t != nil:
			return t, values, nil
		case again && ft != nil:
			return nil, nil, refused(400, ft)
		case again && len(allowed) > 0:
			return nil, nil, &Rejected{Status: 405, Allow: allowed, Faults: fault.List{fault.Expect(fault.Setting, "one of the methods "+strings.Join(allowed, ", "), a.Method)}}
		}
	}
	return nil, nil, refused(404, fault.New(fault.Unknown, "no flow that is released starts with a request to %q", a.Path))
}

// rawPath is the path as it came, with its escapes.
func (a InboundRequest) rawPath() string {
	if a.RawPath != "" {
		return a.RawPath
	}
	return (&url.URL{Path: a.Path}).EscapedPath()
}

// routed are the routes of a scope, made anew when the deployments were read anew.
func (e *Engine) routed(ctx context.Context, s store.Scope) (*routeTable, error) {
	deployments, _, err := e.deployments.All(ctx)
	if err != nil || len(deployments) == 0 {
		return &routeTable{}, err
	}
	rs := &e.routes
	rs.mu.Lock()
	same := len(rs.of) > 0 && &rs.of[0] == &deployments[0]
	list, made := rs.byScope[s]
	rs.mu.Unlock()
	if same && made {
		return list, nil
	}
	if list, err = e.routesOf(ctx, s, deployments); err != nil {
		return nil, err
	}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if len(rs.of) == 0 || &rs.of[0] != &deployments[0] {
		rs.of, rs.byScope = deployments, map[store.Scope]*routeTable{}
	}
	rs.byScope[s] = list
	return list, nil
}

// routesOf makes the routes of a scope. What an API says of its operations goes before what its flows were released with.
func (e *Engine) routesOf(ctx context.Context, s store.Scope, deployments []store.Deployment) (*routeTable, error) {
	list := &routeTable{}
	published := map[string]map[string]*target{} // by API and operation
	var flows []*target
	for _, r := range deployments {
		if r.Scope != s {
			continue
		}
		p, err := e.Release(ctx, s.Project, r.Flow, r.Number)
		if err != nil {
			return nil, err
		}
		if kind, id, _ := project.Kind(project.ReleasedPath(r.Flow)); kind == project.APIs {
			published[id] = publish(list, p.API(id))
			continue
		}
		if plan := p.Flow(r.Flow); plan != nil && plan.Flow.Trigger.Of().Requests && len(plan.Faults) == 0 {
			t := &target{release: r, plan: plan}
			if b := plan.Bound; b != nil {
				t.api, t.operation = p.API(b.API), b.Operation
			}
			flows = append(flows, t)
		}
	}
	for _, t := range flows {
		if t.operation != nil {
			if of := published[t.api.ID][t.operation.ID]; of != nil {
				if of.way == nil {
					of.release, of.plan = t.release, t.plan
				}
				continue
			}
		}
		list.Add(t.plan.Flow.Trigger.Method, t.plan.Flow.Trigger.Path.Value, t)
	}
	return list, nil
}

// publish puts the operations of an API into the routes, and gives them by their ids.
func publish(list *routeTable, a *api.API) map[string]*target {
	if a == nil || a.Contract == nil {
		return nil
	}
	of := make(map[string]*target, len(a.Contract.Operations))
	for _, o := range a.Contract.Operations {
		t := &target{api: a, operation: o, way: a.Way(o)}
		of[o.ID] = t
		list.Add(o.Method, a.Path(o), t)
	}
	return of
}

// Published are the APIs that an environment runs of a project, by title, each with the number of its release.
func (e *Engine) Published(ctx context.Context, s store.Scope) (list []PublishedAPI, err error) {
	deployments, _, err := e.deployments.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range deployments {
		kind, id, _ := project.Kind(project.ReleasedPath(r.Flow))
		if r.Scope != s || kind != project.APIs {
			continue
		}
		p, err := e.Release(ctx, s.Project, r.Flow, r.Number)
		if err != nil {
			return nil, err
		}
		if a := p.API(id); a != nil && a.Contract != nil {
			list = append(list, PublishedAPI{a, p.Texts[project.Path(project.Contracts, a.File.Value)], r.Number})
		}
	}
	slices.SortFunc(list, func(a, b PublishedAPI) int { return strings.Compare(a.Title, b.Title) })
	return list, nil
}

// PublishedAPI is an API that an environment runs.
type PublishedAPI struct {
	*api.API
	Document string // the text of its contract
	Release  int
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
