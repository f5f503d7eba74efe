package engine

import (
	"cmp"
	"context"
	"errors"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

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
	way       *api.Way  // what answers other than a flow; nil where nothing does
	versions  []*target // of APIs with the same base; this one is the first of them
}

// version is the target for what a request says of the version that it wants; nil where there is none.
func (t *target) version(header func(name string) string) *target {
	if len(t.versions) == 0 || header == nil {
		return t
	}
	for _, v := range t.versions {
		if g := v.api.Guards; header(g.VersionHeader) == g.Version {
			return v
		}
	}
	return nil
}

type routeTable = route.Table[*target]

// routes are those of each scope, made of the deployments that the triggers were read with.
type routes struct {
	mu      sync.Mutex
	of      []store.Deployment
	byScope map[store.Scope]*routeTable
	making  sync.Mutex // one makes them, and the others wait
	read    map[store.Deployment]*routedRelease
}

// routedRelease is what there is to be called of a release: an API, or a flow that starts with requests.
type routedRelease struct {
	api        *api.API
	operations []*target // of the API, without the flows that answer them
	flow       *target
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
		if t != nil {
			first := t
			if t = first.version(a.Header); t == nil {
				return nil, nil, refused(400, unknownVersion(first))
			}
		}
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
	if list := rs.made(deployments, s); list != nil {
		return list, nil
	}
	rs.making.Lock()
	defer rs.making.Unlock()
	if list := rs.made(deployments, s); list != nil {
		return list, nil
	}
	list, err := e.routesOf(ctx, s, deployments)
	if err != nil {
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

// made are the routes of a scope that were made of the deployments; nil where none were.
func (rs *routes) made(deployments []store.Deployment, s store.Scope) *routeTable {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if len(rs.of) == 0 || &rs.of[0] != &deployments[0] {
		return nil
	}
	return rs.byScope[s]
}

// routesOf makes the routes of a scope. What an API says of its operations goes before what its flows were released with.
func (e *Engine) routesOf(ctx context.Context, s store.Scope, deployments []store.Deployment) (*routeTable, error) {
	releases, err := e.routedReleases(ctx, s, deployments)
	if err != nil {
		return nil, err
	}
	list := &routeTable{}
	published := map[string]*routedRelease{} // by API
	for _, r := range releases {
		if r.api != nil {
			published[r.api.ID] = r
		}
	}
	bound, others := map[*contract.Operation]*target{}, []*target(nil) // flows that answer operations, and those that do not
	for _, r := range releases {
		if r.flow == nil {
			continue
		}
		if o := r.flow.answers(published); o != nil {
			bound[o] = r.flow
		} else {
			others = append(others, r.flow)
		}
	}
	at := map[string]*target{}
	for _, r := range releases {
		for _, t := range r.operations {
			if by := bound[t.operation]; by != nil && t.way == nil {
				t = &target{release: by.release, plan: by.plan, api: t.api, operation: t.operation}
			}
			addVersion(list, at, r.api.Path(t.operation), t)
		}
	}
	for _, t := range others {
		list.Add(t.plan.Flow.Trigger.Method, t.plan.Flow.Trigger.Path.Value, t)
	}
	return list, nil
}

// addVersion adds an operation of an API: beside those of other versions at the same place, where the API has a version or they have.
func addVersion(list *routeTable, at map[string]*target, path string, t *target) {
	key := t.operation.Method + " " + route.Shape(path)
	first := at[key]
	if first == nil {
		own := *t
		at[key] = &own
		list.Add(t.operation.Method, path, &own)
		return
	}
	if first.versions == nil {
		alone := *first
		first.versions = []*target{&alone}
	}
	first.versions = append(first.versions, t)
}

// unknownVersion says which versions there are.
func unknownVersion(first *target) *fault.Fault {
	var list []string
	for _, v := range first.versions {
		list = append(list, cmp.Or(v.api.Guards.Version, "none"))
	}
	return fault.Expect(fault.Setting, "one of the versions "+strings.Join(list, ", ")+" in the header "+first.versions[0].api.Guards.VersionHeader, "another one")
}

// answers is the operation of a published API that a flow answers; nil where it answers none.
func (t *target) answers(published map[string]*routedRelease) *contract.Operation {
	if t.operation == nil || published[t.api.ID] == nil {
		return nil
	}
	return published[t.api.ID].api.Operation(t.operation.ID)
}

// routedReleases are what there is to be called of the releases of a scope, in the order of their deployments. Those that were there
// the last time are not read again.
func (e *Engine) routedReleases(ctx context.Context, s store.Scope, deployments []store.Deployment) ([]*routedRelease, error) {
	rs := &e.routes
	now := make(map[store.Deployment]*routedRelease, len(deployments))
	var fresh []store.Deployment
	for _, d := range deployments {
		if was := rs.read[d]; was != nil {
			now[d] = was
		} else if d.Scope == s {
			fresh = append(fresh, d)
		}
	}
	read, err := e.readReleases(ctx, fresh)
	if err != nil {
		return nil, err
	}
	for i, d := range fresh {
		now[d] = read[i]
	}
	rs.read = now
	var list []*routedRelease
	for _, d := range deployments {
		if d.Scope == s {
			list = append(list, now[d])
		}
	}
	return list, nil
}

// readReleases reads and compiles releases, as many at once as there are processors.
func (e *Engine) readReleases(ctx context.Context, list []store.Deployment) ([]*routedRelease, error) {
	out, errs := make([]*routedRelease, len(list)), make([]error, len(list))
	var at atomic.Int64
	var all sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(list)) {
		all.Go(func() {
			for i := int(at.Add(1)) - 1; i < len(list); i = int(at.Add(1)) - 1 {
				out[i], errs[i] = e.readRelease(ctx, list[i])
			}
		})
	}
	all.Wait()
	return out, errors.Join(errs...)
}

func (e *Engine) readRelease(ctx context.Context, d store.Deployment) (*routedRelease, error) {
	p, err := e.Release(ctx, d.Project, d.Flow, d.Number)
	if err != nil {
		return nil, err
	}
	if kind, id, _ := project.Kind(project.ReleasedPath(d.Flow)); kind == project.APIs {
		return routedAPI(p.API(id)), nil
	}
	out := &routedRelease{}
	if plan := p.Flow(d.Flow); plan != nil && plan.Flow.Trigger.Of().Requests && len(plan.Faults) == 0 {
		out.flow = &target{release: d, plan: plan}
		if b := plan.Bound; b != nil {
			out.flow.api, out.flow.operation = p.API(b.API), b.Operation
		}
	}
	return out, nil
}

func routedAPI(a *api.API) *routedRelease {
	if a == nil || a.Contract == nil {
		return &routedRelease{}
	}
	out := &routedRelease{api: a, operations: make([]*target, len(a.Contract.Operations))}
	for i, o := range a.Contract.Operations {
		out.operations[i] = &target{api: a, operation: o, way: a.Way(o)}
	}
	return out
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
