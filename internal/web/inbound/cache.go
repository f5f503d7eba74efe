package inbound

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/engine/apis"
)

// fromCache answers with the response that is kept for such calls. Where none is, or none that is fresh, one of those who call at once
// fetches it; the others wait for it, or get the stale one.
func (a *apiCall) fromCache(k *api.Cache) {
	key, ok := a.cacheKey(k)
	if !ok {
		return
	}
	kept := a.s.Engine.Responses()
	r, renew := kept.Find(key, time.Now())
	if r == nil {
		a.s.Engine.ResponseKept(a.s.Scope, a.call, false)
		a.fetch(k, key)
		return
	}
	a.s.Engine.ResponseKept(a.s.Scope, a.call, true)
	if renew {
		a.renew(k, key)
	}
	a.send(r, fmt.Sprintf("hit; ttl=%d", int(time.Until(r.Fresh).Seconds())))
}

// cacheKey tells which calls get the same response; false where that cannot be said, which is answered.
func (a *apiCall) cacheKey(k *api.Cache) (apis.ResponseKey, bool) {
	r := a.c.Request
	var whole strings.Builder
	for _, v := range a.call.Values {
		fmt.Fprintf(&whole, "%q ", v.Text)
	}
	fmt.Fprintf(&whole, "?%s\n%s\n%s", r.URL.RawQuery, r.Header.Get("Accept"), r.Header.Get("Accept-Language"))
	query := r.URL.Query()
	parameter := func(p *contract.Parameter) string {
		switch p.In {
		case "query":
			return strings.Join(query[p.Name], ",")
		case "header":
			return strings.Join(r.Header.Values(p.Name), ",")
		}
		if c, err := r.Cookie(p.Name); err == nil {
			return c.Value
		}
		return ""
	}
	for _, p := range a.call.Operation.Parameters {
		if p.In == "header" || p.In == "cookie" {
			fmt.Fprintf(&whole, "\n%q", parameter(p))
		}
	}
	text, ft := k.Key(a.caller, a.call.Values, parameter, whole.String())
	if ft != nil {
		tell(a.c, problem{Status: http.StatusUnprocessableEntity, Detail: "what is kept cannot be looked up: " + ft.What()})
		return apis.ResponseKey{}, false
	}
	return apis.ResponseKey{Scope: a.s.Scope, API: a.call.API.ID, Operation: a.call.Operation.ID, Release: [2]any{a.call.API, a.call.Plan}, Key: text}, true
}

// fetch makes a response, keeps it where it may be kept, and answers with it. Who comes while another one fetches it waits for that.
func (a *apiCall) fetch(k *api.Cache, key apis.ResponseKey) {
	kept := a.s.Engine.Responses()
	f, wait := kept.Fetch(key)
	if f == nil {
		select {
		case <-wait:
		case <-a.c.Request.Context().Done():
			return
		}
		if r, _ := kept.Find(key, time.Now()); r != nil {
			a.send(r, "hit; collapsed")
			return
		}
		a.respond()
		return
	}
	defer f.End()
	to := a.c.Writer
	rec := &recorder{to: to, header: http.Header{}, status: http.StatusOK, passed: f.End}
	a.c.Writer = rec
	a.forCache()
	a.respond()
	a.c.Writer = to
	if r := rec.response(k); r != nil {
		f.Keep(*r)
		f.End()
		a.send(r, "fwd=miss; stored")
	}
}

// renewTime is how long fetching a new response may take while the stale one is sent.
const renewTime = 2 * time.Minute

// renew fetches a new response behind the caller's back, unless somebody does already.
func (a *apiCall) renew(k *api.Cache, key apis.ResponseKey) {
	f, _ := a.s.Engine.Responses().Fetch(key)
	if f == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(a.c.Request.Context()), renewTime)
	own := *a
	own.c = a.c.Copy()
	own.c.Request = a.c.Request.Clone(ctx)
	own.c.Request.Body = http.NoBody
	rec := &recorder{header: http.Header{}, status: http.StatusOK, passed: f.End}
	own.c.Writer = rec
	own.forCache()
	go func() {
		defer cancel()
		defer f.End()
		defer func() {
			if p := recover(); p != nil {
				a.s.Log.Warn("response not renewed", "api", a.call.API.ID, "operation", a.call.Operation.ID, "error", p)
			}
		}()
		own.respond()
		if r := rec.response(k); r != nil {
			f.Keep(*r)
		}
	}()
}

// forCache takes out of a request what asks for less than a whole response, or for one in another encoding.
func (a *apiCall) forCache() {
	for _, name := range []string{"If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since", "If-Range", "Range", "Accept-Encoding"} {
		a.c.Request.Header.Del(name)
	}
	if a.c.Request.Method == http.MethodHead {
		a.c.Request.Method = http.MethodGet // the server sends no body
	}
}

// harmless are the headers that are set for all responses and that a kept one does not replace.
var harmless = []string{"Content-Security-Policy", "X-Content-Type-Options", "Access-Control-Allow-Origin", "Vary"}

// send answers with a kept response, or says that the caller has it already (RFC 9110, section 13.1.2). Status is what is told of the
// cache (RFC 9211).
func (a *apiCall) send(r *apis.Response, status string) {
	h := a.c.Writer.Header()
	for name, values := range r.Header {
		if _, set := h[name]; set && slices.Contains(harmless, name) {
			continue
		}
		h[name] = values
	}
	h.Set("Age", strconv.Itoa(int(time.Since(r.Stored).Seconds())))
	h.Set("Cache-Status", "HollowReed; "+status)
	if has(a.c.Request.Header.Values("If-None-Match"), h.Get("Etag")) {
		h.Del("Content-Type")
		h.Del("Content-Length")
		a.c.Status(http.StatusNotModified)
		a.c.Writer.WriteHeaderNow()
		return
	}
	h.Set("Content-Length", strconv.Itoa(len(r.Body)))
	a.c.Status(r.Status)
	a.c.Writer.WriteHeaderNow()
	if a.c.Request.Method != http.MethodHead {
		a.c.Writer.Write(r.Body) // who called may be gone
	}
}

// has says whether an ETag is one of those that a caller has, compared weakly.
func has(lists []string, etag string) bool {
	for _, list := range lists {
		for one := range strings.SplitSeq(list, ",") {
			one = strings.TrimSpace(one)
			if one == "*" || strings.TrimPrefix(one, "W/") == strings.TrimPrefix(etag, "W/") {
				return true
			}
		}
	}
	return false
}

// recorder takes a response that is to be kept. What may not be kept, or is too large, is handed on as it comes.
type recorder struct {
	to      gin.ResponseWriter // nil where nobody waits
	header  http.Header
	status  int
	body    []byte
	decided bool
	through bool
	passed  func() // is called when the response is handed on as it comes
}

func (r *recorder) Header() http.Header         { return r.header }
func (r *recorder) Status() int                 { return r.status }
func (r *recorder) Size() int                   { return len(r.body) }
func (r *recorder) Written() bool               { return r.decided }
func (r *recorder) Pusher() http.Pusher         { return nil }
func (r *recorder) CloseNotify() <-chan bool    { return make(chan bool) }
func (r *recorder) Unwrap() http.ResponseWriter { return r.to }

// Hijack is not possible: a response is kept, not a connection.
func (r *recorder) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	return nil, nil, errors.ErrUnsupported
}

// WriteHeader notes the status.
func (r *recorder) WriteHeader(status int) {
	if status >= http.StatusOK && !r.decided {
		r.status = status
	}
}

// WriteHeaderNow decides whether the response is kept.
func (r *recorder) WriteHeaderNow() {
	if r.decided {
		return
	}
	r.decided = true
	if !mayKeep(r.status, r.header) {
		r.handOn()
	}
}

// Write takes a piece of the body.
func (r *recorder) Write(p []byte) (int, error) {
	r.WriteHeaderNow()
	if !r.through && len(r.body)+len(p) > apis.MostOfResponse {
		r.handOn()
	}
	switch {
	case !r.through:
		r.body = append(r.body, p...)
	case r.to != nil:
		return r.to.Write(p)
	}
	return len(p), nil
}

// WriteString takes a piece of the body.
func (r *recorder) WriteString(text string) (int, error) { return r.Write([]byte(text)) }

// Flush sends what is there, where it is handed on.
func (r *recorder) Flush() {
	if r.through && r.to != nil {
		r.to.Flush()
	}
}

// handOn sends what came, and all that comes.
func (r *recorder) handOn() {
	r.through = true
	r.passed()
	if r.to == nil {
		r.body = nil
		return
	}
	h := r.to.Header()
	for name, values := range r.header {
		if _, set := h[name]; !set || !slices.Contains(harmless, name) {
			h[name] = values
		}
	}
	h.Set("Cache-Status", "HollowReed; fwd=miss")
	r.to.WriteHeader(r.status)
	r.to.WriteHeaderNow()
	if len(r.body) > 0 {
		r.to.Write(r.body) // who called may be gone
	}
	r.body = nil
}

// response is what was taken; nil where it was handed on.
func (r *recorder) response(k *api.Cache) *apis.Response {
	r.WriteHeaderNow()
	if r.through {
		return nil
	}
	h := maps.Clone(r.header)
	h.Del("Content-Length")
	if h.Get("Etag") == "" {
		h.Set("Etag", fmt.Sprintf(`"%x"`, sha256.Sum256(r.body))[:26]+`"`)
	}
	now := time.Now()
	return &apis.Response{Status: r.status, Header: h, Body: r.body, Stored: now, Fresh: now.Add(k.Fresh), Stale: now.Add(k.Fresh + k.Stale)}
}

// varies are the headers by which responses may differ that are kept: those that calls are told apart by, or that are taken out of what
// is asked.
var varies = []string{"accept", "accept-language", "accept-encoding"}

// mayKeep says whether a response may be sent to others (RFC 9111, section 3).
func mayKeep(status int, h http.Header) bool {
	if status != http.StatusOK || len(h["Set-Cookie"]) > 0 || strings.HasPrefix(h.Get("Content-Type"), "text/event-stream") {
		return false
	}
	for _, said := range h.Values("Cache-Control") {
		for one := range strings.SplitSeq(strings.ToLower(said), ",") {
			name, _, _ := strings.Cut(strings.TrimSpace(one), "=")
			if name == "no-store" || name == "private" || name == "no-cache" {
				return false
			}
		}
	}
	for _, said := range h.Values("Vary") {
		for one := range strings.SplitSeq(strings.ToLower(said), ",") {
			if !slices.Contains(varies, strings.TrimSpace(one)) {
				return false
			}
		}
	}
	return true
}
