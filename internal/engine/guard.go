package engine

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"hollowreed/internal/connector/tokens"
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

// Credential is what a caller sent to say who it is.
type Credential struct {
	Key, Token     string
	Name, Password string
	Certificate    *x509.Certificate // of the client, which has its key; nil where it has shown none
}

// Guard lets a call of an API in, or says as a *Rejected why not: the API is retired, the caller is not known or has called too
// often, or too many call at once.
func (e *Engine) Guard(ctx context.Context, s store.Scope, c *Call, with Credential) (*Guarded, error) {
	g := c.API.Guards
	if c.API.Stage(e.now()) == api.Retired {
		return nil, refused(410, retired(g))
	}
	caller, err := e.callerOf(ctx, s, c, with)
	if err != nil {
		return nil, err
	}
	out := &Guarded{Caller: caller}
	who := c.counted(out.Caller)
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

// counted is whose calls a call is counted with.
func (c *Call) counted(caller string) string {
	if caller == "" {
		caller = "address " + c.asked.Client
	}
	switch c.API.Guards.LimitsOf {
	case api.LimitAPI:
		return "all callers"
	case api.LimitOperation:
		return caller + " " + c.Operation.ID
	}
	return caller
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

// callerOf finds out who calls, as the API wants to know it; empty where anybody may.
func (e *Engine) callerOf(ctx context.Context, s store.Scope, c *Call, with Credential) (string, error) {
	g := c.API.Guards
	switch g.Callers {
	case api.WithKey:
		if with.Key == "" {
			return "", unknownCaller("ApiKey", fault.Expect(fault.Required, "a key in the header "+g.KeyHeader, "none"))
		}
		return e.keyedCaller(ctx, s, c.API, "ApiKey", with.Key, "")
	case api.WithPassword:
		if with.Password == "" {
			return "", unknownCaller("Basic", fault.Expect(fault.Required, "a name and a key as basic authentication", "none"))
		}
		return e.keyedCaller(ctx, s, c.API, "Basic", with.Password, with.Name)
	case api.WithEnvelope:
		if c.Operation.Document {
			return "", nil // what the service is may be known
		}
		if with.Password == "" {
			return "", refused(401, fault.Expect(fault.Required, "a user name token in the envelope's header, with the key as text", "none"))
		}
		return e.keyedCaller(ctx, s, c.API, "UsernameToken", with.Password, with.Name)
	case api.WithToken:
		return e.tokenCaller(ctx, c, with.Token)
	case api.WithCertificate:
		return e.certifiedCaller(ctx, s, c.API, with.Certificate)
	}
	return "", nil
}

// certifiedCaller is whose certificate it is.
func (e *Engine) certifiedCaller(ctx context.Context, s store.Scope, a *api.API, cert *x509.Certificate) (string, error) {
	switch now := e.now(); {
	case cert == nil:
		return "", refused(401, fault.Expect(fault.Required, "a client certificate", "none"))
	case now.After(cert.NotAfter) || now.Before(cert.NotBefore):
		return "", refused(401, fault.New(fault.Setting, "the certificate is valid from %s to %s", cert.NotBefore.UTC().Format(time.DateTime), cert.NotAfter.UTC().Format(time.DateTime)))
	}
	caller, reason, err := e.apiCallers.OfCertificate(ctx, s, cert.Raw, a.ID, e.now())
	switch {
	case err != nil:
		return "", err
	case reason == apis.NotForAPI:
		return "", refused(403, fault.New(fault.Setting, "%s", string(reason)))
	case reason != "":
		return "", refused(401, fault.New(fault.Setting, "%s", string(reason)))
	}
	return caller.Name, nil
}

// unknownCaller asks for a credential (RFC 9110, section 11.6.1).
func unknownCaller(scheme string, f *fault.Fault) *Rejected {
	r := refused(401, f)
	r.Challenge = scheme + ` realm="api"`
	return r
}

// keyedCaller is whose key it is; of a caller of a name where one is given.
func (e *Engine) keyedCaller(ctx context.Context, s store.Scope, a *api.API, scheme, key, name string) (string, error) {
	caller, reason, err := e.apiCallers.Of(ctx, s, key, a.ID, e.now())
	switch {
	case err != nil:
		return "", err
	case reason == apis.NotForAPI:
		return "", refused(403, fault.New(fault.Setting, "%s", string(reason)))
	case reason == "" && name != "" && name != caller.Name:
		reason = apis.Unknown
	}
	if reason != "" {
		return "", unknownCaller(scheme, fault.New(fault.Setting, "%s", string(reason)))
	}
	return caller.Name, nil
}

// tokenCaller is who a token is of, where it is good and has the scopes that the operation asks for (RFC 6750, section 3).
func (e *Engine) tokenCaller(ctx context.Context, c *Call, token string) (string, error) {
	if token == "" {
		return "", unknownCaller("Bearer", fault.Expect(fault.Required, "a token as Authorization: Bearer", "none"))
	}
	claims, err := e.apiTokens.Of(ctx, c.API.Guards.Tokens, token, e.now())
	switch {
	case errors.Is(err, tokens.ErrIssuer):
		e.opt.Log.Warn("tokens cannot be checked", "api", c.API.ID, "issuer", c.API.Guards.Tokens.Issuer, "error", err)
		return "", refusedFor(503, time.Second, fault.New(fault.Setting, "%s", tokens.ErrIssuer))
	case err != nil:
		r := unknownCaller("Bearer", fault.New(fault.Setting, "%s", err))
		r.Challenge += `, error="invalid_token"`
		return "", r
	}
	if want := c.API.Scopes(c.Operation); !claims.Meets(want) {
		r := refused(403, fault.Expect(fault.Setting, "a token with the scope "+strings.Join(want[0], " "), cmp.Or(strings.Join(claims.Scopes, " "), "none")))
		r.Challenge = `Bearer realm="api", error="insufficient_scope", scope="` + strings.Join(want[0], " ") + `"`
		return "", r
	}
	return claims.Caller, nil
}

// EndedCall is a call of an API that was answered.
type EndedCall struct {
	Caller            string // empty where callers are not known
	Status            int
	Took              time.Duration
	Method, Path      string // as they came, with the query
	Trace             string
	Run               *uuid.UUID // of the flow that answered
	Fault             string     // what was refused or reported
	Request, Response []byte     // bodies; nil where they are not known
}

// CallEnded counts a call of an API, and lets it into the log as the API says.
func (e *Engine) CallEnded(s store.Scope, c *Call, end EndedCall) {
	failed := end.Status >= 500
	e.tallies.Counted(s, "api operation", c.API.ID+" "+c.Operation.ID, end.Took, failed)
	e.tallies.Counted(s, "api status", c.API.ID+" "+strconv.Itoa(end.Status), end.Took, failed)
	if end.Caller != "" {
		e.tallies.Counted(s, "api caller", c.API.ID+" "+end.Caller, end.Took, failed)
	}
	g := c.API.Guards
	if !g.Log.Takes(end.Status) {
		return
	}
	now := e.now()
	l := store.LoggedCall{
		ID: uuid.Must(uuid.NewV7()), Scope: s, API: c.API.ID, Operation: c.Operation.ID, Caller: end.Caller, At: now.Add(-end.Took), Method: end.Method, Path: loggedPath(g, end.Path),
		Status: end.Status, Took: int(end.Took.Microseconds()), Trace: end.Trace, Run: end.Run, Fault: textOf(end.Fault), Until: now.AddDate(0, 0, g.LogDays),
	}
	if len(g.Masked) > 0 { // what was found may be what is masked
		l.Fault, _, _ = strings.Cut(l.Fault, ", found ")
	}
	if g.LogBodies.Takes(end.Status) {
		l.Request, l.Response = loggedBody(g, end.Request), loggedBody(g, end.Response)
	}
	e.apiLog.Add(l)
}

// mostLoggedBody bounds a body in the log, in bytes; of larger ones nothing is kept, since a piece could not be masked.
const mostLoggedBody = 64 << 10

func loggedBody(g api.Guards, body []byte) []byte {
	if len(body) == 0 || len(body) > mostLoggedBody {
		return nil
	}
	return g.WithoutMasked(body)
}

// loggedPath is a path with its query without the values of masked parameters.
func loggedPath(g api.Guards, at string) string {
	path, query, there := strings.Cut(at, "?")
	if !there || len(g.Masked) == 0 {
		return textOf(at)
	}
	list := strings.Split(query, "&")
	for i, pair := range list {
		name, _, _ := strings.Cut(pair, "=")
		plain, err := url.QueryUnescape(name)
		if err != nil || slices.ContainsFunc(g.Masked, func(m string) bool { return strings.EqualFold(m, plain) }) {
			list[i] = name + "=…"
		}
	}
	return textOf(path + "?" + strings.Join(list, "&"))
}

// textOf is a text as the database takes it, and of bounded length.
func textOf(text string) string {
	const most = 2000
	return strings.ReplaceAll(strings.ToValidUTF8(text[:min(len(text), most)], "…"), "\x00", "")
}

// Responses are those that are kept of operations, in this process.
func (e *Engine) Responses() *apis.Responses { return e.responses }

// EmptyResponses lets all processes let go what they keep of an API.
func (e *Engine) EmptyResponses(ctx context.Context, s store.Scope, apiID string) error {
	e.responses.Empty(s, apiID)
	return store.Publish(ctx, e.front(), "responses "+s.String()+" "+apiID)
}

// ResponseKept counts a call that was answered with a response that was kept, or for which a new one was fetched.
func (e *Engine) ResponseKept(s store.Scope, c *Call, hit bool) {
	e.tallies.Counted(s, "api cache", c.API.ID+" "+map[bool]string{true: "hit", false: "miss"}[hit], 0, false)
}

// ContractBroken counts a message that breaks the contract of an API: the request or the response. The first fault is in the log.
func (e *Engine) ContractBroken(s store.Scope, c *Call, what string, faults fault.List) {
	e.tallies.Counted(s, "api contract", c.API.ID+" "+c.Operation.ID+" "+what, 0, true)
	e.opt.Log.Info("contract broken", "project", s.Project, "api", c.API.ID, "operation", c.Operation.ID, "message", what, "fault", faults[0].What(), "faults", len(faults))
}
