package engine

import (
	"context"
	"math"
	"strconv"
	"time"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine/apis"
	"hollowreed/internal/store"
)

// Guarded is a call that came past the guards of its API.
type Guarded struct {
	Caller string // the name; empty where callers are not known
	done   func()
}

// Done ends the call, for those that wait for its place.
func (g *Guarded) Done() {
	if g != nil && g.done != nil {
		g.done()
	}
}

// Guard lets a call of an API in, or says as a *Rejected why not: the API is retired, the caller is not known or has called too
// often, or too many call at once.
func (e *Engine) Guard(ctx context.Context, s store.Scope, c *Call, key string) (*Guarded, error) {
	g := c.API.Guards
	if c.API.Stage(e.now()) == api.Retired {
		return nil, refused(410, retired(g))
	}
	out := &Guarded{}
	if g.Key {
		caller, err := e.keyedCaller(ctx, s, c.API, key)
		if err != nil {
			return nil, err
		}
		out.Caller = caller.Name
	}
	who := out.Caller
	if who == "" {
		who = "address " + c.asked.Client
	}
	for _, limit := range []struct {
		span apis.Span
		most int
	}{{apis.Minute, g.PerMinute}, {apis.Day, g.PerDay}} {
		if limit.most == 0 {
			continue
		}
		ok, again, err := e.quotas.Take(ctx, s, c.API.ID+" "+who, limit.span, int64(limit.most), e.now())
		if err != nil {
			return nil, err
		}
		if !ok {
			return nil, refusedFor(429, again, fault.New(fault.Limit, "%d calls a %s are allowed, and they are used", limit.most, limit.span.Name))
		}
	}
	if g.Concurrency > 0 {
		if out.done = e.apiPlaces.Enter(s.String()+" "+c.API.ID, g.Concurrency); out.done == nil {
			return nil, refusedFor(503, time.Second, fault.New(fault.Limit, "%d calls are under way, and no more are allowed at once", g.Concurrency))
		}
	}
	return out, nil
}

func refusedFor(status int, again time.Duration, f *fault.Fault) *Rejected {
	r := refused(status, f)
	r.Again = time.Duration(math.Ceil(again.Seconds())) * time.Second
	return r
}

// retired says where callers should go instead.
func retired(g api.Guards) *fault.Fault {
	f := fault.New(fault.Setting, "this version of the API is retired")
	if g.Successor != "" {
		f = f.WithFix("%s", "Use "+g.Successor)
	}
	return f
}

// keyedCaller is whose key it is.
func (e *Engine) keyedCaller(ctx context.Context, s store.Scope, a *api.API, key string) (store.APICaller, error) {
	if key == "" {
		return store.APICaller{}, refused(401, fault.Expect(fault.Required, "a key in the header "+a.Guards.KeyHeader, "none"))
	}
	caller, reason, err := e.apiCallers.Of(ctx, s, key, a.ID, e.now())
	switch {
	case err != nil:
		return caller, err
	case reason == apis.NotForAPI:
		return caller, refused(403, fault.New(fault.Setting, "%s", string(reason)))
	case reason != "":
		return caller, refused(401, fault.New(fault.Setting, "%s", string(reason)))
	}
	return caller, nil
}

// CallEnded counts a call of an API that was answered.
func (e *Engine) CallEnded(s store.Scope, c *Call, caller string, status int, took time.Duration) {
	failed := status >= 500
	e.tallies.Counted(s, "api operation", c.API.ID+" "+c.Operation.ID, took, failed)
	e.tallies.Counted(s, "api status", c.API.ID+" "+strconv.Itoa(status), took, failed)
	if caller != "" {
		e.tallies.Counted(s, "api caller", c.API.ID+" "+caller, took, failed)
	}
}

// ContractBroken counts a message that breaks the contract of an API: the request or the response. The first fault is in the log.
func (e *Engine) ContractBroken(s store.Scope, c *Call, what string, faults fault.List) {
	e.tallies.Counted(s, "api contract", c.API.ID+" "+c.Operation.ID+" "+what, 0, true)
	e.opt.Log.Info("contract broken", "project", s.Project, "api", c.API.ID, "operation", c.Operation.ID, "message", what, "fault", faults[0].What(), "faults", len(faults))
}
