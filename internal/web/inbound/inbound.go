// Package inbound is where other programs come in: HTTP requests that start runs of flows and are answered by them. What is
// refused is told as problem details (RFC 9457).
package inbound

import (
	"bytes"
	"cmp"
	"encoding/json"
	"encoding/xml"
	"errors"
	"net"
	"net/http"
	"os"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// Prefix is the address below which requests start runs.
const Prefix = "/in/"

// Bounds on one request.
const (
	maxBody  = 4 << 20          // bytes
	sendTime = 30 * time.Second // for the answer, beside what the caller waits for it
)

// Handler takes the requests that start flows, at an address of its own: what answers them is not of the site of the pages.
// Those of a project come in below its address; those of the oldest without it, too, as they did when there was but one.
func Handler(s *page.Sites) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.ContextWithFallback = true
	r.Use(page.Logged(s.Log), page.Recovered(s.Log, panicked), page.Loopback, inert)
	of := func(c *gin.Context, projectID string, err error) {
		var site *page.Site
		if err == nil {
			site, err = s.Of(c, projectID)
		}
		if err != nil {
			nowhere(c, s, err)
			return
		}
		serve(c, site)
	}
	r.Any("/p/:project"+Prefix+"*path", func(c *gin.Context) { of(c, c.Param("project"), nil) })
	r.Any(Prefix+"*path", func(c *gin.Context) {
		projectID, err := s.First(c)
		of(c, projectID, err)
	})
	r.Any("/p/:project"+DraftPrefix+"*path", func(c *gin.Context) {
		site, err := s.Of(c, c.Param("project"))
		if err != nil {
			nowhere(c, s, err)
			return
		}
		debug(c, site)
	})
	for _, at := range []string{"/p/:project/docs", "/p/:project/docs/:api"} {
		r.GET(at, documented(s, showDocs))
		r.POST(at, documented(s, tryDocs))
	}
	r.GET("/p/:project/docs/:api/document", documented(s, sendDocument))
	channelRoutes(r, s)
	r.NoRoute(func(c *gin.Context) { nowhere(c, s, store.ErrNotFound) })
	return r
}

// nowhere answers a request at an address below which none come in.
func nowhere(c *gin.Context, s *page.Sites, err error) {
	if !errors.Is(err, store.ErrNotFound) {
		s.Log.Error("request not taken", "path", c.Request.URL.Path, "error", err)
		tell(c, problem{Status: http.StatusServiceUnavailable, Detail: "the request cannot be dealt with now"})
		return
	}
	tell(c, problem{Status: http.StatusNotFound, Detail: "requests that start flows come in below /p/ and the id of their project, and there " + Prefix})
}

// inert makes answers harmless in a browser: a page that a flow sends runs no scripts and asks nobody for anything (Content
// Security Policy Level 3, sandbox), and nothing is taken for another media type.
func inert(c *gin.Context) {
	c.Header("Content-Security-Policy", policy)
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Cache-Control", "no-store")
	c.Next()
}

func panicked(c *gin.Context) {
	tell(c, problem{Status: http.StatusInternalServerError, Detail: "the request cannot be dealt with"})
}

const policy = "sandbox; default-src 'none'; frame-ancestors 'none'"

// problem is an answer that says what is wrong (RFC 9457).
type problem struct {
	Type   string   `json:"type"`
	Title  string   `json:"title"`
	Status int      `json:"status"`
	Detail string   `json:"detail,omitempty"`
	Run    string   `json:"run,omitempty"`
	Faults []reason `json:"faults,omitempty"`
}

// reason is one fault, for a program.
type reason struct {
	Code     fault.Code `json:"code"`
	Detail   string     `json:"detail"`
	Pointer  string     `json:"pointer,omitempty"` // into the message (RFC 6901)
	Line     int        `json:"line,omitempty"`
	Column   int        `json:"column,omitempty"`
	Expected string     `json:"expected,omitempty"`
	Found    string     `json:"found,omitempty"`
	Schema   string     `json:"schema,omitempty"` // where the contract says so, as a fragment
}

func tell(c *gin.Context, p problem) {
	c.Set(faultKey, p.Detail)
	if version := c.GetString(soapVersion); version != "" {
		tellSOAP(c, p, version)
		return
	}
	p.Type, p.Title = "about:blank", http.StatusText(p.Status)
	text, err := json.Marshal(p)
	if err != nil {
		c.Status(http.StatusInternalServerError)
		return
	}
	c.Data(p.Status, "application/problem+json", text)
}

// soapVersion is under what a request remembers that its caller speaks SOAP, of which version.
const soapVersion = "soap"

// tellSOAP says what is wrong as a fault (SOAP 1.1, section 4.4; SOAP 1.2 part 1, section 5.4). Who is at fault follows from the status.
func tellSOAP(c *gin.Context, p problem, version string) {
	ours := p.Status >= http.StatusInternalServerError
	text := escaped(cmp.Or(p.Detail, http.StatusText(p.Status)))
	if version == "1.2" {
		code := map[bool]string{true: "Receiver", false: "Sender"}[ours]
		c.Data(p.Status, "application/soap+xml; charset=utf-8", []byte(`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><s:Fault><s:Code><s:Value>s:`+code+
			`</s:Value></s:Code><s:Reason><s:Text xml:lang="en">`+text+`</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`))
		return
	}
	code := map[bool]string{true: "Server", false: "Client"}[ours]
	c.Data(p.Status, "text/xml; charset=utf-8", []byte(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:`+code+
		`</faultcode><faultstring>`+text+`</faultstring></s:Fault></s:Body></s:Envelope>`))
}

func escaped(text string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(text)) // a strings.Builder takes all
	return b.String()
}

// serve finds out what a request is for, before its body is read.
func serve(c *gin.Context, s *page.Site) {
	a := asked(c)
	if preflight(c, s, a) {
		return
	}
	call, err := s.Engine.Called(c, s.Scope, a)
	switch {
	case err != nil:
		page.Unread(c)
		refuse(c, s, nil, err)
	case call.API != nil:
		guard(c, s, call)
	default:
		page.Bounded(c, maxBody)
		start(c, s, call)
	}
}

// start starts the run of a flow, where its caller may ask it, and gives the caller the time that reading and answering may take.
func start(c *gin.Context, s *page.Site, call *engine.Call) {
	if err := s.Engine.Admit(c, s.Scope, call); err != nil {
		page.Unread(c)
		refuse(c, s, call, err)
		return
	}
	defer call.Leave()
	call.Brings(pairs(c.Request.URL.Query(), nil), pairs(c.Request.Header, map[string]bool{"authorization": true, "cookie": true}))
	body, err := read(c.Request)
	if err != nil {
		unread(c, err)
		return
	}
	t, err := s.Engine.Request(c, call, body)
	if err != nil {
		refuse(c, s, call, err)
		return
	}
	c.Header("Hollowreed-Run", t.Run.String())
	page.Answered(c, t.Wait+sendTime)
	r, err := s.Engine.Ended(c, t)
	switch {
	case err != nil: // it is recorded, and is done whether or not it can be looked at now
		s.Log.Error("run not looked at", "run", t.Run, "error", err)
		accepted(c, s, t.Run, "taken")
	case !r.Ended():
		accepted(c, s, r.ID, r.State)
	case r.State != store.Done:
		failed(c, r)
	default:
		answerOf(c, s, t.Plan, r)
	}
}

// unread says why a body cannot be read.
func unread(c *gin.Context, err error) {
	var large *http.MaxBytesError
	status := http.StatusBadRequest
	switch {
	case errors.As(err, &large):
		status = http.StatusRequestEntityTooLarge
	case errors.Is(err, os.ErrDeadlineExceeded):
		status = http.StatusRequestTimeout
	}
	tell(c, problem{Status: status, Detail: "the body cannot be read: " + err.Error()})
}

// accepted tells a caller that its request was taken, and where its run is seen.
func accepted(c *gin.Context, s *page.Site, run uuid.UUID, state store.State) {
	c.Header("Location", s.Address+"/traffic/runs/"+run.String())
	c.JSON(http.StatusAccepted, map[string]string{"run": run.String(), "state": string(state)})
}

// asked is the request as flows see it. The token is for us alone.
func asked(c *gin.Context) engine.InboundRequest {
	a := engine.InboundRequest{Method: c.Request.Method, Path: strings.Trim(c.Param("path"), "/"), RawPath: rawPath(c.Request), Key: c.GetHeader("Idempotency-Key"), Foreign: foreign(c.Request), Header: c.GetHeader}
	if a.Method == http.MethodHead {
		a.Method = http.MethodGet // and the server sends no body (RFC 9110, section 9.3.2)
	}
	a.Client, _, _ = net.SplitHostPort(c.Request.RemoteAddr)
	if kind, token, _ := strings.Cut(c.GetHeader("Authorization"), " "); strings.EqualFold(kind, "Bearer") {
		a.Token = token
	}
	return a
}

// rawPath is the path below the prefix as it came, with its escapes.
func rawPath(r *http.Request) string {
	path := r.URL.EscapedPath()
	if of, is := strings.CutPrefix(path, "/p/"); is {
		_, path, _ = strings.Cut(of, "/")
		path = "/" + path
	}
	return strings.Trim(strings.TrimPrefix(path, Prefix), "/")
}

// read reads the body of a request, into as much memory as it says that it has, within bounds.
func read(r *http.Request) ([]byte, error) {
	var b bytes.Buffer
	b.Grow(int(max(0, min(r.ContentLength, 64<<10))) + bytes.MinRead)
	_, err := b.ReadFrom(r.Body)
	return b.Bytes(), err
}

// foreign says whether a browser sends a request for a page of another site (Fetch Metadata Request Headers; older ones name
// the origin only).
func foreign(r *http.Request) bool {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" {
		return site != "same-origin" && site != "none"
	}
	origin := r.Header.Get("Origin")
	return origin != "" && origin != "http://"+r.Host && origin != "https://"+r.Host
}

func pairs(values map[string][]string, without map[string]bool) (list []running.Pair) {
	names := make([]string, 0, len(values))
	for name := range values {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		for _, v := range values[name] {
			if without == nil {
				list = append(list, running.Pair{Name: name, Value: v})
			} else if lower := strings.ToLower(name); !without[lower] {
				list = append(list, running.Pair{Name: lower, Value: v})
			}
		}
	}
	return list
}

// refuse tells a caller why nothing is done; the call is nil where there is none yet.
func refuse(c *gin.Context, s *page.Site, call *engine.Call, err error) {
	var r *engine.Rejected
	if !errors.As(err, &r) {
		s.Log.Error("request not taken", "path", c.Request.URL.Path, "error", err)
		tell(c, problem{Status: http.StatusServiceUnavailable, Detail: "the request cannot be taken now; nothing was done"})
		return
	}
	if r.Allow != nil {
		c.Header("Allow", strings.Join(r.Allow, ", "))
	}
	if again := max(r.Again, time.Second); r.Again > 0 || r.Status == http.StatusTooManyRequests {
		c.Header("Retry-After", strconv.Itoa(int(again.Seconds())))
	}
	if r.Challenge != "" {
		c.Header("WWW-Authenticate", r.Challenge)
	}
	p := problem{Status: r.Status, Detail: r.Faults[0].What()}
	if r.Status == http.StatusUnprocessableEntity {
		p.Faults = reasons(c, call, r.Faults)
	}
	tell(c, p)
}

// reasons are faults of a request for a program; of one for an API with their places in its contract.
func reasons(c *gin.Context, call *engine.Call, faults fault.List) []reason {
	return reasonsAt(faults, func(f *fault.Fault) string {
		if call == nil || call.API == nil {
			return ""
		}
		var media []contract.Media
		if b := call.Operation.Body; b != nil {
			media = b.Media
		}
		return call.API.Contract.SchemaPlace(call.Operation, media, c.GetHeader("Content-Type"), f)
	})
}

func reasonsAt(faults fault.List, schema func(*fault.Fault) string) (list []reason) {
	for _, f := range faults {
		list = append(list, reason{f.Code, f.What(), f.Place.Path, f.Place.Line, f.Place.Column, f.Expected, f.Found, schema(f)})
	}
	return list
}

// failed answers for a run that did not end well. What it failed for is for the people who look after it; a step that
// stops it says so to the caller.
func failed(c *gin.Context, r store.Run) {
	p := problem{Status: http.StatusInternalServerError, Detail: "the run is " + string(r.State), Run: r.ID.String()}
	if r.Fault != nil && r.Fault.Code == fault.Stopped {
		p.Status, p.Detail = http.StatusUnprocessableEntity, r.Fault.What()
	}
	tell(c, p)
}

// answerOf sends what a run has answered.
func answerOf(c *gin.Context, s *page.Site, plan *running.Plan, r store.Run) {
	answer(c, s, plan, r.ID.String(), r.Reply, func(of *schema.Schema) (value.Value, error) {
		if r.Answer == nil {
			return value.Value{}, nil
		}
		rows, err := project.ReadJSON(of, string(r.Answer))
		if err != nil {
			return value.Value{}, err
		}
		return rows[0], nil
	})
}

// answer sends what a run or steps without one have answered, in the notation of its schema, and gives the body.
func answer(c *gin.Context, s *page.Site, plan *running.Plan, run string, reply *running.Reply, message func(of *schema.Schema) (value.Value, error)) []byte {
	status, media := replied(c, reply)
	of := plan.AnswerSchema(reply)
	var v value.Value
	var err error
	if of != nil {
		v, err = message(of)
	}
	if err == nil && v.Kind() == value.Absent {
		if status == http.StatusOK {
			status = http.StatusNoContent
		}
		c.Status(status)
		c.Writer.WriteHeaderNow()
		return nil
	}
	var text []byte
	if err == nil {
		text, err = written(of, v)
	}
	if err != nil {
		s.Log.Error("answer not written", "run", run, "error", err)
		tell(c, problem{Status: http.StatusInternalServerError, Detail: "the answer cannot be written", Run: run})
		return nil
	}
	if media == "" {
		media = all.Of(of).ContentType()
	}
	c.Data(status, media, text)
	return text
}

// replied sets the headers of a reply, and gives its status and its media type; empty where it says none.
func replied(c *gin.Context, reply *running.Reply) (status int, media string) {
	if reply == nil {
		return http.StatusOK, ""
	}
	if status = http.StatusOK; reply.Status != 0 {
		status = reply.Status
	}
	for _, h := range reply.Headers {
		switch {
		case strings.EqualFold(h.Name, "Content-Type"):
			media = h.Value
			continue
		case strings.EqualFold(h.Name, "Cache-Control"):
			c.Writer.Header().Del(h.Name)
		}
		c.Writer.Header().Add(h.Name, h.Value)
	}
	c.Header("Content-Security-Policy", policy) // whatever the flow says
	c.Header("X-Content-Type-Options", "nosniff")
	return status, media
}

func written(of *schema.Schema, v value.Value) ([]byte, error) {
	var out bytes.Buffer
	w, err := all.Of(of).NewWriter(&out, notation.Options{Schema: of})
	if err != nil {
		return nil, err
	}
	if err := w.Write(v); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}
