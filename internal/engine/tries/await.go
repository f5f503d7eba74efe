package tries

import (
	"context"
	"strings"
	"sync"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// Awaited is the next call of a draft, for which somebody waits to step through it.
type Awaited struct {
	Flow    string
	By      string // the person
	Header  string // name and value that the call is to have; empty: any call is the one
	Since   time.Time
	Until   time.Time
	how     TestOptions
	Session *DebugSession // once it has come
}

// awaiting are those for which people wait, by scope and flow.
type awaiting struct {
	mu   sync.Mutex
	list map[awaitedOf]*Awaited
}

type awaitedOf struct {
	scope store.Scope
	flow  string
}

// AwaitTime is how long somebody waits for a call, and how long its caller waits for its end.
const AwaitTime = 30 * time.Minute

// Await waits for the next call of a flow's draft, in place of one that was waited for before.
func (e *Tries) Await(s store.Scope, flowID, by, header string, how TestOptions) *Awaited {
	now := time.Now()
	a := &Awaited{Flow: flowID, By: by, Header: header, Since: now, Until: now.Add(AwaitTime), how: how}
	e.awaiting.mu.Lock()
	defer e.awaiting.mu.Unlock()
	if e.awaiting.list == nil {
		e.awaiting.list = map[awaitedOf]*Awaited{}
	}
	e.awaiting.list[awaitedOf{s, flowID}] = a
	return a
}

// Awaited is the call of a flow for which somebody waits, or which has come; nil where there is none.
func (e *Tries) Awaited(s store.Scope, flowID string) *Awaited {
	e.awaiting.mu.Lock()
	defer e.awaiting.mu.Unlock()
	a := e.awaiting.list[awaitedOf{s, flowID}]
	if a == nil || time.Now().After(a.Until) {
		return nil
	}
	out := *a
	return &out
}

// AwaitedFlows are the flows of a scope for whose next call somebody waits.
func (e *Tries) AwaitedFlows(s store.Scope) (flows []string) {
	e.awaiting.mu.Lock()
	defer e.awaiting.mu.Unlock()
	for of, a := range e.awaiting.list {
		if of.scope == s && a.Session == nil && time.Now().Before(a.Until) {
			flows = append(flows, of.flow)
		}
	}
	return flows
}

// Forget no longer waits for a call of a flow.
func (e *Tries) Forget(s store.Scope, flowID string) {
	e.awaiting.mu.Lock()
	defer e.awaiting.mu.Unlock()
	delete(e.awaiting.list, awaitedOf{s, flowID})
}

// Came begins to step through a call that has come, where it is the one that is waited for; nil where it is not. Header gives what it
// has by a header's name.
func (e *Tries) Came(ctx context.Context, s store.Scope, p *project.Project, flowID string, header func(name string) string, with trial.TriedWith) (*DebugSession, error) {
	a := e.take(s, flowID, header)
	if a == nil {
		return nil, nil
	}
	how := a.how
	how.With = &with
	w, err := e.StartDebug(ctx, p, flowID, "", 0, how)
	e.awaiting.mu.Lock()
	a.Session = w // nothing, where it could not begin: it is waited for the next one
	e.awaiting.mu.Unlock()
	if err != nil {
		return nil, err
	}
	return w, store.Publish(ctx, e.db, "debug "+s.String()+" "+flowID)
}

// take is what is waited for, where a call is it: of two calls the first one.
func (e *Tries) take(s store.Scope, flowID string, header func(name string) string) *Awaited {
	e.awaiting.mu.Lock()
	defer e.awaiting.mu.Unlock()
	a := e.awaiting.list[awaitedOf{s, flowID}]
	if a == nil || a.Session != nil || time.Now().After(a.Until) {
		return nil
	}
	if name, want, _ := strings.Cut(a.Header, ":"); name != "" && header(strings.TrimSpace(name)) != strings.TrimSpace(want) {
		return nil
	}
	a.Session = &DebugSession{} // it is taken; the walk comes in its place
	return a
}

// Ended is closed when the walk has come to its end for the first time.
func (w *DebugSession) Ended() <-chan struct{} { return w.ended }

// Response is what the draft answers its caller, as a run keeps it; the fault is why it does not.
func (w *DebugSession) Response() (store.Run, *fault.Fault) {
	w.mu.Lock()
	defer w.mu.Unlock()
	t := w.Test
	if t.Fault != nil {
		return store.Run{}, t.Fault
	}
	if t.Whole != nil && len(t.Whole.Faults) > 0 {
		return store.Run{}, t.Whole.Faults[0]
	}
	r := store.Run{Reply: t.batch.Reply}
	if t.batch.Answer.Kind() != value.Absent {
		r.Answer = json.Bytes(t.batch.Answer)
	}
	return r, nil
}
