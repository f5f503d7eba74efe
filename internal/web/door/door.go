// Package door is where other programs come in: HTTP requests that start runs of flows and are answered by them. What is
// refused is told as problem details (RFC 9457).
package door

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"sort"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// Prefix is the address below which requests start runs.
const Prefix = "/in/"

// Routes adds the addresses of all flows that start with a request.
func Routes(r gin.IRouter, s *page.Site) {
	r.Any(Prefix+"*path", func(c *gin.Context) { serve(c, s) })
}

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
}

func tell(c *gin.Context, p problem) {
	p.Type, p.Title = "about:blank", http.StatusText(p.Status)
	text, err := json.Marshal(p)
	if err != nil {
		c.Status(http.StatusInternalServerError)
		return
	}
	c.Data(p.Status, "application/problem+json", text)
}

func serve(c *gin.Context, s *page.Site) {
	body, err := io.ReadAll(c.Request.Body)
	if err != nil {
		var large *http.MaxBytesError
		status := http.StatusBadRequest
		if errors.As(err, &large) {
			status = http.StatusRequestEntityTooLarge
		}
		tell(c, problem{Status: status, Detail: "the body cannot be read: " + err.Error()})
		return
	}
	t, err := s.Engine.Request(c, s.Project, asked(c, body))
	if err != nil {
		refuse(c, s, err)
		return
	}
	c.Header("Hollowreed-Run", t.Run.String())
	r, err := s.Engine.Over(c, t.Run, t.Wait)
	switch {
	case err != nil: // it is recorded, and is done whether or not it can be looked at now
		s.Log.Error("run not looked at", "run", t.Run, "error", err)
		accepted(c, t.Run, "taken")
	case !r.Ended():
		accepted(c, r.ID, r.State)
	case r.State != store.Done:
		failed(c, r)
	default:
		answer(c, s, t.Plan, r)
	}
}

// accepted tells a caller that its request was taken, and where its run is seen.
func accepted(c *gin.Context, run uuid.UUID, state store.State) {
	c.Header("Location", "/traffic/runs/"+run.String())
	c.JSON(http.StatusAccepted, map[string]string{"run": run.String(), "state": string(state)})
}

// asked is the request as flows see it. The token is for us alone.
func asked(c *gin.Context, body []byte) engine.Asked {
	a := engine.Asked{Method: c.Request.Method, Path: strings.Trim(c.Param("path"), "/"), Body: body, Key: c.GetHeader("Idempotency-Key")}
	if kind, token, _ := strings.Cut(c.GetHeader("Authorization"), " "); strings.EqualFold(kind, "Bearer") {
		a.Token = token
	}
	a.Query = pairs(c.Request.URL.Query(), nil)
	a.Headers = pairs(c.Request.Header, map[string]bool{"authorization": true, "cookie": true})
	return a
}

func pairs(values map[string][]string, without map[string]bool) (list []flow.Pair) {
	names := make([]string, 0, len(values))
	for name := range values {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		for _, v := range values[name] {
			if without == nil {
				list = append(list, flow.Pair{Name: name, Value: v})
			} else if lower := strings.ToLower(name); !without[lower] {
				list = append(list, flow.Pair{Name: lower, Value: v})
			}
		}
	}
	return list
}

func refuse(c *gin.Context, s *page.Site, err error) {
	var r *engine.Refused
	if !errors.As(err, &r) {
		s.Log.Error("request not taken", "path", c.Request.URL.Path, "error", err)
		tell(c, problem{Status: http.StatusServiceUnavailable, Detail: "the request cannot be taken now; nothing was done"})
		return
	}
	if r.Allow != nil {
		c.Header("Allow", strings.Join(r.Allow, ", "))
	}
	if r.Status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", "Bearer")
	}
	p := problem{Status: r.Status, Detail: r.Faults[0].What()}
	if r.Status == http.StatusUnprocessableEntity {
		for _, f := range r.Faults {
			p.Faults = append(p.Faults, reason{f.Code, f.What(), f.Place.Path, f.Place.Line, f.Place.Column, f.Expected, f.Found})
		}
	}
	tell(c, p)
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

// answer sends what the run has answered, in the notation of its schema.
func answer(c *gin.Context, s *page.Site, plan *flow.Plan, r store.Run) {
	status, media := http.StatusOK, ""
	if r.Reply != nil {
		if r.Reply.Status != 0 {
			status = r.Reply.Status
		}
		for _, h := range r.Reply.Headers {
			if strings.EqualFold(h.Name, "Content-Type") {
				media = h.Value
				continue
			}
			c.Writer.Header().Add(h.Name, h.Value)
		}
	}
	of := plan.AnswerSchema(r.Reply)
	if of == nil || r.Answer == nil {
		if status == http.StatusOK {
			status = http.StatusNoContent
		}
		c.Status(status)
		c.Writer.WriteHeaderNow()
		return
	}
	text, err := written(of, r.Answer)
	if err != nil {
		s.Log.Error("answer not written", "run", r.ID, "error", err)
		tell(c, problem{Status: http.StatusInternalServerError, Detail: "the answer cannot be written", Run: r.ID.String()})
		return
	}
	if media == "" {
		media = flow.ContentType(of)
	}
	c.Data(status, media, text)
}

func written(of *schema.Schema, answer []byte) ([]byte, error) {
	rows, err := project.ReadJSON(of.As("json"), string(answer))
	if err != nil {
		return nil, err
	}
	n, err := all.Named(of.Notation)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w, err := n.NewWriter(&out, notation.Options{Schema: of})
	if err != nil {
		return nil, err
	}
	if err := w.Write(rows[0]); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}
