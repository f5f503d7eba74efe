package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/triggers"
	"hollowreed/internal/store"
)

// InboundRequest is an HTTP request that came in. Names of headers are in lower case.
type InboundRequest struct {
	Method, Path   string
	RawPath        string // with its escapes; empty where it is the path, escaped
	Query, Headers []running.Pair
	Body           []byte
	Token          string                   // bearer token (RFC 6750); empty where there is none
	Key            string                   // of idempotency: a request with the same key is the same request
	Client         string                   // the address from which it came
	Foreign        bool                     // a browser sent it for a page of another site
	Header         func(name string) string // of the request, where versions are told by one
}

// Rejected is why a request starts no run.
type Rejected struct {
	Status int // RFC 9110, section 15
	Allow  []string
	Again  time.Duration // after which it may come again; 0: nothing is said
	// Challenge asks for a credential (RFC 9110, section 11.6.1); empty where nothing is said.
	Challenge string
	Faults    fault.List
}

// Error is the first fault.
func (r *Rejected) Error() string { return r.Faults.Error() }

func refused(status int, f *fault.Fault) *Rejected {
	return &Rejected{Status: status, Faults: fault.List{f}}
}

// Accepted is a request that has become a run.
type Accepted struct {
	Run      uuid.UUID
	Plan     *running.Plan
	Wait     time.Duration // for which the caller waits for its answer
	Finished *store.Run    // the run, where it is over already
	over     chan struct{} // tells of its end, where it is done in this process
	left     func()        // ends the waiting for that
}

// Call is a request for which somebody waits: a flow whose caller may ask it and has a place to wait, or an operation of an API that
// is answered otherwise.
type Call struct {
	Plan      *running.Plan       // of the flow; nil where none answers
	API       *api.API            // nil where the flow answers no contract
	Operation *contract.Operation // of the API
	Way       *api.Way            // what answers where no flow does; nil where nothing does yet
	Values    []route.Value       // the parameters of the path
	asked     InboundRequest
	release   store.Deployment
	leave     func()
}

// Brings notes the query and the headers that came with the call. Names of headers are in lower case.
func (c *Call) Brings(query, headers []running.Pair) { c.asked.Query, c.asked.Headers = query, headers }

// Leave gives the caller's place to another one.
func (c *Call) Leave() {
	if c.leave != nil {
		c.leave()
	}
}

// Called finds what is there for a request, before its body is read: it says whether it may be taken at all. The error is a
// *Rejected where the request is at fault, or where there are too many.
func (e *Engine) Called(ctx context.Context, s store.Scope, a InboundRequest) (*Call, error) {
	t, values, err := e.asked(ctx, s, a)
	if err != nil {
		return nil, err
	}
	c := &Call{Plan: t.plan, API: t.api, Operation: t.operation, Way: t.way, Values: values, asked: a, release: t.release}
	if c.Plan == nil {
		return c, nil
	}
	if c.API != nil { // the API may have another base by now
		c.asked.Path = filledPath(c.Plan.Flow.Trigger.Path.Value, values)
	}
	return c, nil
}

// filledPath puts parameters into a path.
func filledPath(path string, values []route.Value) string {
	for _, v := range values {
		path = strings.Replace(path, "{"+v.Name+"}", v.Text, 1)
	}
	return path
}

// Admit lets the caller of a flow wait for its answer, where it may ask the flow at all. The error is as of Called.
func (e *Engine) Admit(ctx context.Context, s store.Scope, c *Call) error {
	if c.asked.Foreign && !c.Plan.Flow.Trigger.Elsewhere {
		return refused(403, fault.New(fault.Setting, "a page of another site sent this, and the flow is not for those").
			WithFix("Let the trigger take requests of other sites, if that is meant"))
	}
	if err := e.admitted(ctx, s, c.Plan, c.asked.Token); err != nil {
		return err
	}
	if c.Plan.Flow.Trigger.Timeout > 0 {
		if c.leave = e.callers.admit(c.asked.Client); c.leave == nil {
			return errManyCallers()
		}
	}
	return nil
}

// Request starts the run of the flow with the body of the call. The error is a *Refused where that is at fault; then nothing is
// recorded.
func (e *Engine) Request(ctx context.Context, c *Call, body []byte) (*Accepted, error) {
	a := c.asked
	a.Body = body
	b, err := e.begun(ctx, c.Plan, a)
	if err != nil {
		return nil, err
	}
	t := &Accepted{Plan: c.Plan, Wait: time.Duration(c.Plan.Flow.Trigger.Timeout) * time.Second}
	for _, way := range []func(context.Context, *Call, triggers.Start, InboundRequest, *Accepted) error{e.doAtOnce, e.doHere, e.doByQueue} {
		if err = way(ctx, c, b, a, t); !errors.Is(err, errOtherwise) {
			break
		}
	}
	if errors.Is(err, errSeen) {
		err = e.seen(ctx, c.release, a, t)
	}
	return t, err
}

// doByQueue records the run of a call for any worker.
func (e *Engine) doByQueue(ctx context.Context, c *Call, b triggers.Start, a InboundRequest, t *Accepted) error {
	return pgx.BeginFunc(ctx, e.front(), func(tx pgx.Tx) (err error) {
		if t.Run, err = e.Record(ctx, tx, c.release, c.Plan, b); err != nil {
			return err
		}
		return e.keyed(ctx, tx, c, a, t.Run)
	})
}

// errSeen rolls a transaction back when another call came with the same key before.
var errSeen = errors.New("called before")

// keyed notes the key of a call with its run; errSeen is that another one came with it before.
func (e *Engine) keyed(ctx context.Context, tx pgx.Tx, c *Call, a InboundRequest, run uuid.UUID) error {
	if a.Key == "" {
		return nil
	}
	fresh, err := store.AddCall(ctx, tx, c.release.Scope, c.release.Flow, a.Key, a.digest(), run)
	if err == nil && !fresh {
		return errSeen
	}
	return err
}

// smallBody is up to how many bytes a body is read in a moment.
const smallBody = 64 << 10

// begun is how the run begins that a request starts. Of large bodies not so many are read at once as there are processors: who
// sends them does not take the machine from all others.
func (e *Engine) begun(ctx context.Context, plan *running.Plan, a InboundRequest) (b triggers.Start, err error) {
	if len(a.Body) > smallBody {
		select {
		case e.reading <- struct{}{}:
			defer func() { <-e.reading }()
		case <-ctx.Done():
			return b, ctx.Err()
		}
	}
	b.By = "request"
	if ft := unexpected(plan, a); ft != nil {
		return b, refused(415, ft)
	}
	body := (*string)(nil)
	if plan.Input == nil {
		if !utf8.Valid(a.Body) {
			return b, refused(422, fault.Expect(fault.Encoding, "a body of text in UTF-8", "other bytes").WithFix("Send it as UTF-8, or in Base64"))
		}
		text := string(a.Body)
		body = &text
	} else {
		var ignored notation.Ignored
		v, faults := readBody(plan.Input, a.Body, &ignored)
		if len(faults) > 0 {
			return b, &Rejected{Status: 422, Faults: faults}
		}
		b.Input, b.Value = json.Bytes(v), v
		if len(ignored.Paths()) > 0 {
			b.Ignored = ignored.Fields()
		}
	}
	query, headers := plan.KeptRequest(a.Query, a.Headers)
	request := running.RequestOf(a.Method, a.Path, body, query, headers)
	if _, faults := plan.Parameters(request); len(faults) > 0 {
		return b, &Rejected{Status: 422, Faults: faults}
	}
	b.Request, b.RequestValue = running.WriteRequest(request), request
	return b, nil
}

// unexpected says of a body that its media type is none of those of the contract that the flow answers.
func unexpected(plan *running.Plan, a InboundRequest) *fault.Fault {
	if plan.Bound == nil || plan.Bound.Operation.Body == nil || len(a.Body) == 0 {
		return nil
	}
	var came string
	for _, h := range a.Headers {
		if h.Name == "content-type" {
			came = h.Value
		}
	}
	body := plan.Bound.Operation.Body
	if body.Takes(came) {
		return nil
	}
	types := make([]string, len(body.Media))
	for i, m := range body.Media {
		types[i] = m.Type
	}
	return fault.Expect(fault.Setting, "a body as "+strings.Join(types, " or "), fault.Quote(came))
}

// seen finds what became of a request that came before with the same key: the caller gets the same answer again.
func (e *Engine) seen(ctx context.Context, r store.Deployment, a InboundRequest, t *Accepted) error {
	digest, id, err := store.CalledWith(ctx, e.front(), r.Scope, r.Flow, a.Key)
	switch {
	case err != nil:
		return err
	case digest != "" && digest != a.digest():
		return refused(422, fault.New(fault.Setting, "another request came with the same Idempotency-Key").WithFix("Send each request with a key of its own; only a repetition has the key of the first"))
	case id == nil:
		return refused(409, fault.New(fault.InputGone, "a request came with this Idempotency-Key, and its run is no longer kept"))
	}
	run, err := store.RunByID(ctx, e.front(), *id)
	if err != nil {
		return err
	}
	p, err := e.Release(ctx, r.Project, r.Flow, run.Release)
	if err != nil {
		return err
	}
	t.Run = run.ID
	if plan := p.Flow(r.Flow); plan != nil {
		t.Plan = plan // by which it was answered
	}
	return nil
}

// digest tells one request from another: its method, path, query and body.
func (a InboundRequest) digest() string {
	h := sha256.New()
	part := func(text string) { fmt.Fprintf(h, "%d:%s", len(text), text) }
	part(a.Method)
	part(a.Path)
	for _, q := range a.Query {
		part(q.Name)
		part(q.Value)
	}
	part("")
	h.Write(a.Body)
	return hex.EncodeToString(h.Sum(nil))
}

// admitted compares the caller's token with the flow's secret.
func (e *Engine) admitted(ctx context.Context, s store.Scope, plan *running.Plan, token string) error {
	name := plan.Flow.Trigger.BearerToken.Value
	if name == "" {
		return nil
	}
	want, err := e.outside.Of(s).Secret(ctx, name)
	if err != nil {
		return err
	}
	if want == "" || subtle.ConstantTimeCompare([]byte(want), []byte(token)) != 1 {
		return unknownCaller("Bearer", fault.Expect(fault.Required, "the bearer token of this flow", map[bool]string{true: "none", false: "another one"}[token == ""]))
	}
	return nil
}

// readBody reads a body that must be one message of a schema.
func readBody(sch *schema.Schema, body []byte, ignored *notation.Ignored) (value.Value, fault.List) {
	if len(body) == 0 {
		return value.Value{}, fault.List{fault.Expect(fault.Required, "a message of "+sch.Title, "an empty body")}
	}
	r, err := all.Of(sch).NewReader(bytes.NewReader(body), notation.Options{Source: "body", Schema: sch, Check: true, Ignored: ignored})
	if err != nil {
		return value.Value{}, fault.List{fault.From(err, fault.Syntax)}
	}
	v, err := r.Next()
	var faults fault.List
	switch {
	case errors.As(err, &faults):
		return v, faults
	case err == io.EOF:
		return v, fault.List{fault.Expect(fault.Required, "a message of "+sch.Title, "an empty body")}
	case err != nil:
		return v, fault.List{fault.From(err, fault.Syntax)}
	}
	if _, err := r.Next(); err != io.EOF {
		return v, fault.List{fault.Expect(fault.Length, "one message of "+sch.Title, "more")}
	}
	return v, nil
}
