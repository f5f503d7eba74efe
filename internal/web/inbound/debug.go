package inbound

import (
	"context"
	"net/http"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/web/page"
)

// DraftPrefix is the address below which the drafts of a project are called, while somebody waits for a call of one.
const DraftPrefix = "/draft/"

// debug hands a call of a draft to who waits for it and steps through it. Its caller gets the answer when that is at its end.
func debug(c *gin.Context, s *page.Site) {
	page.Bounded(c, maxBody)
	p, err := s.Engine.Draft(c, s.Project)
	if err != nil {
		s.Log.Error("draft not called", "error", err)
		tell(c, problem{Status: http.StatusServiceUnavailable, Detail: "the draft cannot be called now"})
		return
	}
	path := strings.Trim(c.Param("path"), "/")
	plan := awaited(s, p, c.Request.Method, path)
	if plan == nil {
		page.Unread(c)
		tell(c, problem{Status: http.StatusNotFound, Detail: "nobody waits for a call of this draft: press Debug next call on the page of its flow"})
		return
	}
	body, err := read(c.Request)
	if err != nil {
		unread(c, err)
		return
	}
	if !utf8.Valid(body) {
		tell(c, problem{Status: http.StatusUnprocessableEntity, Detail: "what is stepped through begins with a body of text in UTF-8"})
		return
	}
	with := trial.TriedWith{Message: string(body), Address: path, Headers: headerLines(c), Came: true}
	if c.Request.URL.RawQuery != "" {
		with.Address += "?" + c.Request.URL.RawQuery
	}
	ctx := context.WithoutCancel(c.Request.Context()) // who steps through it goes on when the caller is gone
	w, err := s.Engine.Tries.Came(ctx, s.Scope, p, plan.Flow.ID, c.GetHeader, with)
	switch {
	case err != nil:
		tell(c, problem{Status: http.StatusConflict, Detail: fault.From(err, fault.Setting).What()})
	case w == nil:
		tell(c, problem{Status: http.StatusNotFound, Detail: "this is not the call of the draft that is waited for"})
	default:
		answerWhenEnded(c, s, plan, w)
	}
}

// awaited is the draft that a call is for, of those for whose call somebody waits.
func awaited(s *page.Site, p *project.Project, method, path string) *running.Plan {
	if method == http.MethodHead {
		method = http.MethodGet
	}
	for _, id := range s.Engine.Tries.AwaitedFlows(s.Scope) {
		plan := p.Flow(id)
		if plan == nil || plan.Flow.Trigger.Method != method {
			continue
		}
		if _, fits := flow.MatchPath(plan.Flow.Trigger.Path.Value, path); fits {
			return plan
		}
	}
	return nil
}

// headerLines are the headers of a call as they are typed for a try, without what lets its sender in.
func headerLines(c *gin.Context) string {
	var lines []string
	for _, h := range pairs(c.Request.Header, map[string]bool{"authorization": true, "cookie": true}) {
		lines = append(lines, h.Name+": "+h.Value)
	}
	return strings.Join(lines, "\n")
}

// answerWhenEnded waits until the draft was stepped through to its end.
func answerWhenEnded(c *gin.Context, s *page.Site, plan *running.Plan, w *tries.DebugSession) {
	page.Answered(c, tries.AwaitTime+sendTime)
	select {
	case <-w.Ended():
	case <-c.Request.Context().Done():
		return
	case <-time.After(tries.AwaitTime):
		tell(c, problem{Status: http.StatusGatewayTimeout, Detail: "the draft was not stepped through to its end"})
		return
	}
	r, ft := w.Response()
	switch {
	case ft != nil && (ft.Code == fault.Required || ft.Code == fault.Stopped):
		tell(c, problem{Status: http.StatusUnprocessableEntity, Detail: ft.What()})
	case ft != nil:
		tell(c, problem{Status: http.StatusInternalServerError, Detail: "the draft has failed: " + ft.What()})
	default:
		answerOf(c, s, plan, r)
	}
}
