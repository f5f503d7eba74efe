package inbound

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/engine"
	"hollowreed/internal/web/page"
)

// apiCall is a call of an API on its way.
type apiCall struct {
	c      *gin.Context
	s      *page.Site
	call   *engine.Call
	caller string // empty where callers are not known
	body   []byte // where it is held against the contract
	held   bool   // it was held against the contract, and may go on
	sent   []byte // of the response, where it was looked into
}

// guard takes a call of an API past its guards and has it answered as the API says.
func guard(c *gin.Context, s *page.Site, call *engine.Call) {
	began := time.Now()
	g := call.API.Guards
	page.Bounded(c, largest(call))
	if p := call.Operation.Port; p != nil {
		c.Set(soapVersion, p.Version)
	}
	a := &apiCall{c: c, s: s, call: call}
	trace := traced(c, g)
	defer func() { a.ended(trace, time.Since(began)) }()
	crossSite(c, g)
	life(c, call.API)
	if g.Version != "" {
		c.Writer.Header().Add("Vary", g.VersionHeader)
	}
	with, ok := a.credential()
	if !ok {
		return
	}
	in, err := s.Engine.Guard(c, s.Scope, call, with)
	if err != nil {
		page.Unread(c)
		refuse(c, s, call, err)
		return
	}
	defer in.Done()
	a.caller = in.Caller
	if g.Callers == api.WithPassword { // a key of ours is for nobody else
		c.Request.Header.Del("Authorization")
	}
	for _, name := range []string{g.KeyHeader, clientCert, "Client-Cert-Chain"} {
		c.Request.Header.Del(name)
	}
	a.answer()
}

// credential is what the caller sent to say who it is; false where it cannot be read, which is answered.
func (a *apiCall) credential() (with engine.Credential, ok bool) {
	c, g := a.c, a.call.API.Guards
	if g.Callers == api.WithEnvelope && !a.call.Operation.Document {
		return a.inEnvelope()
	}
	with.Certificate = a.certificate()
	with.Key = c.GetHeader(g.KeyHeader)
	with.Name, with.Password, _ = c.Request.BasicAuth()
	if kind, token, _ := strings.Cut(c.GetHeader("Authorization"), " "); strings.EqualFold(kind, "Bearer") {
		with.Token = token
	}
	return with, true
}

// clientCert is the header in which a proxy that ends TLS tells the certificate of a client (RFC 9440, section 2.2).
const clientCert = "Client-Cert"

// certificate is what the client has shown, to us or to the proxy that is trusted; nil where it has shown none.
func (a *apiCall) certificate() *x509.Certificate {
	if t := a.c.Request.TLS; t != nil && len(t.PeerCertificates) > 0 {
		return t.PeerCertificates[0]
	}
	header := a.c.GetHeader(clientCert)
	if !a.s.TrustsProxy || header == "" {
		return nil
	}
	der, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(strings.TrimPrefix(header, ":"), ":"))
	if err != nil {
		return nil
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil
	}
	return cert
}

// inEnvelope is the user name token of an envelope. Its key is ours, and goes no further.
func (a *apiCall) inEnvelope() (with engine.Credential, ok bool) {
	var err error
	if a.body, err = read(a.c.Request); err != nil {
		unread(a.c, err)
		return with, false
	}
	e, err := contract.ReadEnvelope(a.body)
	if err != nil {
		tell(a.c, problem{Status: http.StatusBadRequest, Detail: fault.From(err, fault.Syntax).What()})
		return with, false
	}
	if e.PasswordType == "PasswordDigest" {
		tell(a.c, problem{Status: http.StatusUnauthorized, Detail: "a digest of a key cannot be checked: only digests of ours are kept. Send it as PasswordText"})
		return with, false
	}
	a.body = e.WithSecurity(nil)
	a.replay()
	return engine.Credential{Name: e.User, Password: e.Password}, true
}

// traceOf is the id in a traceparent (W3C Trace Context, section 3.2): 00-ID-PARENT-FLAGS; empty where it is none.
func traceOf(header string) string {
	if len(header) < 55 || header[2] != '-' || header[35] != '-' || header[52] != '-' {
		return ""
	}
	id := header[3:35]
	for _, r := range id {
		if !(r >= '0' && r <= '9' || r >= 'a' && r <= 'f') {
			return ""
		}
	}
	return id
}

// traced is the trace that a call belongs to: the caller's, or a new one, which goes on to what answers. The caller is told of it.
func traced(c *gin.Context, g api.Guards) string {
	if g.Log == api.LogNone {
		return ""
	}
	id := traceOf(c.GetHeader("Traceparent"))
	if id == "" {
		var b [24]byte // an id, and no secret
		for i := 0; i < len(b); i += 8 {
			binary.BigEndian.PutUint64(b[i:], rand.Uint64()|1) // never only zeros
		}
		text := hex.EncodeToString(b[:])
		id = text[:32]
		c.Request.Header["Traceparent"] = []string{"00-" + id + "-" + text[32:] + "-01"}
	}
	c.Writer.Header()["Hollowreed-Trace"] = []string{id}
	return id
}

// faultKey is under what a request remembers what was refused or reported.
const faultKey = "fault"

// ended notes that the call was answered.
func (a *apiCall) ended(trace string, took time.Duration) {
	r := a.c.Request
	end := engine.EndedCall{Caller: a.caller, Status: a.c.Writer.Status(), Took: took}
	if !a.call.API.Guards.Log.Takes(end.Status) {
		a.s.Engine.CallEnded(a.s.Scope, a.call, end)
		return
	}
	end = engine.EndedCall{
		Caller: end.Caller, Status: end.Status, Took: took, Method: r.Method, Path: r.URL.RequestURI(), Trace: trace, Fault: a.c.GetString(faultKey), Request: a.body, Response: a.sent,
	}
	if id, err := uuid.Parse(a.c.Writer.Header().Get("Hollowreed-Run")); err == nil {
		end.Run = &id
	}
	a.s.Engine.CallEnded(a.s.Scope, a.call, end)
}

// largest is how large the body of a call may be, in bytes: a flow's is recorded with its run, so that an API cannot allow it more.
func largest(call *engine.Call) int64 {
	if call.Plan != nil || call.Way != nil && call.Way.In != nil {
		return min(call.API.Guards.MaxBody, maxBody)
	}
	return call.API.Guards.MaxBody
}

// answer answers a call that may be answered, with a response that is kept where there is one.
func (a *apiCall) answer() {
	r := a.c.Request
	k := a.call.API.CacheOf(a.call.Operation)
	if k == nil || r.ContentLength != 0 || a.caller == "" && r.Header.Get("Authorization") != "" { // which is for one caller alone (RFC 9111, section 3.5)
		a.respond()
		return
	}
	if a.checked() { // whatever is kept
		a.fromCache(k)
	}
}

// respond makes a new response.
func (a *apiCall) respond() {
	switch {
	case a.call.Operation.Document:
		page.Unread(a.c)
		a.c.Data(http.StatusOK, "text/xml; charset=utf-8", a.call.API.Contract.WSDLAt(func(p *contract.Port) string { return a.portAddress(p) }))
	case a.call.Plan != nil:
		start(a.c, a.s, a.call)
	case a.call.Way == nil:
		page.Unread(a.c)
		tell(a.c, problem{Status: http.StatusNotImplemented, Detail: "the contract has this operation, and nothing answers it yet"})
	case a.call.Way.Kind == api.Examples:
		a.example()
	case a.call.Way.Kind == api.Called:
		a.called()
	default:
		a.passThrough()
	}
}

// portAddress is where a port of a SOAP service is called here.
func (a *apiCall) portAddress(p *contract.Port) string {
	for _, o := range a.call.API.Contract.Operations {
		if o.Port == p && !o.Document {
			return a.s.Calls + Prefix + a.call.API.Path(o)
		}
	}
	return a.s.Calls + Prefix + a.call.API.Base
}

// life tells in headers that a version of an API is deprecated and when it ends (RFC 9745, RFC 8594), and what follows it (RFC 5829).
func life(c *gin.Context, a *api.API) {
	g := a.Guards
	if g.Status == api.Deprecated && !g.DeprecatedSince.IsZero() {
		c.Header("Deprecation", "@"+strconv.FormatInt(g.DeprecatedSince.Unix(), 10))
	}
	if g.Status == api.Deprecated && !g.RetiresOn.IsZero() {
		c.Header("Sunset", g.RetiresOn.Format(http.TimeFormat))
	}
	if g.Status != api.Published && g.Successor != "" {
		c.Header("Link", "<"+strings.NewReplacer("<", "%3C", ">", "%3E").Replace(g.Successor)+`>; rel="successor-version"`)
	}
}

// crossSite lets pages of other sites read the answer, where the API says that they may call (Fetch, section 3.2).
func crossSite(c *gin.Context, g api.Guards) {
	origin := c.GetHeader("Origin")
	if len(g.Origins) == 0 || origin == "" {
		return
	}
	c.Writer.Header().Add("Vary", "Origin")
	if g.MayCall(origin) {
		c.Header("Access-Control-Allow-Origin", origin)
		c.Header("Access-Control-Expose-Headers", "*")
	}
}

// preflight answers a browser that asks whether a page may call; false where it asks nothing of the kind, or not of an API.
func preflight(c *gin.Context, s *page.Site, a engine.InboundRequest) bool {
	method := c.GetHeader("Access-Control-Request-Method")
	if a.Method != http.MethodOptions || method == "" {
		return false
	}
	a.Method, a.Header = method, nil // a browser names no version before it may
	call, err := s.Engine.Called(c, s.Scope, a)
	if err != nil || call.API == nil {
		return false
	}
	crossSite(c, call.API.Guards)
	if call.API.Guards.MayCall(c.GetHeader("Origin")) {
		c.Header("Access-Control-Allow-Methods", method)
		if wanted := c.GetHeader("Access-Control-Request-Headers"); wanted != "" {
			c.Header("Access-Control-Allow-Headers", wanted)
		}
		c.Header("Access-Control-Max-Age", "600")
	}
	c.Status(http.StatusNoContent)
	c.Writer.WriteHeaderNow()
	return true
}

// request is what came, as the contract is asked about it.
func (a *apiCall) request() contract.Request {
	r := a.c.Request
	q := contract.Request{Query: r.URL.Query(), Headers: map[string][]string{}, Cookies: map[string]string{}, ContentType: r.Header.Get("Content-Type"), Body: a.body}
	for name, values := range r.Header {
		q.Headers[strings.ToLower(name)] = values
	}
	for _, cookie := range r.Cookies() {
		q.Cookies[cookie.Name] = cookie.Value
	}
	return q
}

func (a *apiCall) match() contract.Match {
	return contract.Match{Operation: a.call.Operation, Path: a.call.Values}
}

// checked reads a request and holds it against the contract, as the API says. It answers what is refused, and is false then.
func (a *apiCall) checked() bool {
	if a.held {
		return true
	}
	a.held = true
	var err error
	if a.body, err = read(a.c.Request); err != nil {
		unread(a.c, err)
		return false
	}
	verdict := a.call.API.Guards.Requests
	if verdict == api.Off {
		return true
	}
	_, faults := a.call.API.Contract.Check(a.match(), a.request())
	if len(faults) == 0 {
		return true
	}
	a.s.Engine.ContractBroken(a.s.Scope, a.call, "request", faults)
	a.c.Set(faultKey, faults[0].What())
	if verdict == api.Report {
		return true
	}
	status := http.StatusUnprocessableEntity
	if slices.ContainsFunc(faults, func(f *fault.Fault) bool { return f.Field == "header Content-Type" }) {
		status = http.StatusUnsupportedMediaType
	}
	tell(a.c, problem{Status: status, Detail: faults[0].What(), Faults: reasons(a.c, a.call, faults)})
	return false
}

// example answers with an example of the contract.
func (a *apiCall) example() {
	if !a.checked() {
		return
	}
	sent, ft := a.call.API.Contract.ExampleAnswer(a.match(), a.request(), a.call.Way.Setting("status"))
	if ft != nil {
		tell(a.c, problem{Status: http.StatusNotImplemented, Detail: "no example can be made: " + ft.What()})
		return
	}
	for _, h := range sent.Headers {
		a.c.Writer.Header().Add(h[0], strings.NewReplacer("\\r", " ", "\\n", " ").Replace(h[1]))
	}
	if sent.Media == "" {
		a.c.Status(sent.Status)
		a.c.Writer.WriteHeaderNow()
		return
	}
	a.sent = sent.Body
	a.c.Data(sent.Status, sent.Media, sent.Body)
}

// passThrough hands a request on to a backend.
func (a *apiCall) passThrough() {
	g, w := a.call.API.Guards, a.call.Way
	if g.Requests != api.Off && a.call.Operation.Port == nil { // envelopes go on as they come
		if !a.checked() {
			return
		}
		a.replay()
	}
	header, ok := a.before()
	if !ok {
		return
	}
	to := page.Streamed(a.c)
	came := &cameBody{ReadCloser: a.c.Request.Body}
	if a.c.Request.Body != http.NoBody {
		a.c.Request.Body = came
	}
	f := system.Forwarding{
		Path: w.BackendPath(a.call.Values), Query: a.c.Request.URL.RawQuery, Keep: a.keeps(header),
		Token: w.Setting("user name token"), Drop: w.DropsFrom(), Timeout: g.Timeout, Response: a.fromBackend, Failed: func(w http.ResponseWriter, err error) {
			if broken := came.broken.Load(); broken != nil && !errors.As(err, new(*http.MaxBytesError)) {
				unread(a.c, *broken) // it is the caller's, and not the backend's
				return
			}
			a.notAnswered(w, err)
		},
	}
	a.s.Outside.Forward(to, a.c.Request, w.Setting("connection"), f)
}

// keeps says which headers of the request go on; nil: all.
func (a *apiCall) keeps(set http.Header) func(name string) bool {
	w := a.call.Way
	if w.PassesAll() && a.c.Request.Header["Cookie"] == nil {
		return nil
	}
	return func(name string) bool { return set[name] != nil || name != "Cookie" && w.PassesOn(name) }
}

// cameBody notes why a body could not be read to its end.
type cameBody struct {
	io.ReadCloser
	broken atomic.Pointer[error]
}

func (b *cameBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		b.broken.CompareAndSwap(nil, &err)
	}
	return n, err
}

// notAnswered tells a caller that the backend did not answer, or that its answer is refused.
func (a *apiCall) notAnswered(_ http.ResponseWriter, err error) {
	var broken *brokenAnswer
	var large *http.MaxBytesError
	var own *fault.Fault
	h := a.c.Writer.Header()
	h.Del("Content-Length")
	switch {
	case errors.As(err, new(*engine.Unanswered)):
		a.stepsFailed(err)
	case errors.As(err, &broken):
		tell(a.c, problem{Status: http.StatusBadGateway, Detail: "the backend's answer breaks the contract: " + broken.faults[0].What(), Faults: a.answerReasons(broken)})
	case errors.As(err, &large):
		tell(a.c, problem{Status: http.StatusRequestEntityTooLarge, Detail: "the body is larger than " + strconv.FormatInt(a.call.API.Guards.MaxBody>>10, 10) + " KB"})
	case errors.Is(err, system.ErrSlow):
		tell(a.c, problem{Status: http.StatusGatewayTimeout, Detail: err.Error()})
	case errors.Is(err, system.ErrBusy):
		h.Set("Retry-After", "1")
		tell(a.c, problem{Status: http.StatusServiceUnavailable, Detail: err.Error()})
	case errors.As(err, &own) && own.Code == fault.Syntax:
		tell(a.c, problem{Status: http.StatusBadRequest, Detail: own.What()})
	default:
		a.s.Log.Warn("not passed through", "api", a.call.API.ID, "operation", a.call.Operation.ID, "error", err)
		detail := "the backend cannot be reached"
		if errors.As(err, &own) {
			detail = "the backend cannot be asked: its connection is not set up"
		}
		tell(a.c, problem{Status: http.StatusBadGateway, Detail: detail})
	}
}
