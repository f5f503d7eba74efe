package traffic

import (
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var callsView = page.Parse(files, "calls.html", "views.html")

// callsPage lists calls of APIs, as the rules of each API let them into its log.
type callsPage struct {
	page.Frame
	views
	API, Operation, Caller, Trace, Status string
	APIs                                  []project.Part
	Statuses                              []string
	Calls                                 []callRow
	Older                                 string // where older ones are; empty: there are none
	Asked                                 bool   // something is looked for
}

// callRow is a call in the list.
type callRow struct {
	store.LoggedCall
	APITitle string
}

// Duration is how long it took.
func (r callRow) Duration() time.Duration { return time.Duration(r.Took) * time.Microsecond }

// Bad says whether the call failed.
func (r callRow) Bad() bool { return r.Status >= 400 }

// inTrace finds the id of a trace in what somebody pasted: a traceparent, or the id alone.
var inTrace = regexp.MustCompile(`[0-9a-f]{32}`)

func (t traffic) calls(c *gin.Context) error {
	d := &callsPage{
		Frame: t.Frame(c, "traffic", "API calls"), API: c.Query("api"), Operation: c.Query("operation"), Caller: c.Query("caller"), Trace: strings.TrimSpace(c.Query("trace")), Status: c.Query("status"),
		Statuses: []string{"2", "3", "4", "5"},
	}
	var err error
	if d.views, err = t.views(c, "API calls"); err != nil {
		return err
	}
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	d.APIs = p.Parts(project.APIs)
	q := store.LogQuery{API: d.API, Operation: d.Operation, Caller: strings.TrimSpace(d.Caller), Trace: d.Trace}
	if id := inTrace.FindString(strings.ToLower(d.Trace)); id != "" {
		q.Trace = id
	}
	q.Status, _ = strconv.Atoi(d.Status) // any, where it is none
	q.Before, _ = uuid.Parse(c.Query("before"))
	d.Asked = d.API+d.Operation+d.Caller+d.Trace+d.Status != ""
	list, err := store.LoggedCalls(c, t.DB, t.Scope, q, pageSize+1)
	if err != nil {
		return err
	}
	if len(list) > pageSize {
		list = list[:pageSize]
		again := c.Request.URL.Query()
		again.Set("before", list[pageSize-1].ID.String())
		d.Older = "/traffic/calls?" + again.Encode()
	}
	for _, one := range list {
		d.Calls = append(d.Calls, callRow{one, p.TitleOf(project.APIs, one.API)})
	}
	callsView.Page(c, d)
	return nil
}

var callView = page.Parse(files, "call.html")

// callPage is one call.
type callPage struct {
	page.Frame
	callRow
	Kept              bool // bodies are kept of such calls
	RequestBody       string
	ResponseBody      string
	StatusText        string
	APIThere, RunKept bool
	Days              int
}

func (t traffic) call(c *gin.Context) error {
	id, err := uuid.Parse(c.Param("call"))
	if err != nil {
		return store.ErrNotFound
	}
	one, err := store.LoggedCallByID(c, t.DB, t.Scope, id)
	if err != nil {
		return err
	}
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	d := &callPage{Frame: t.Frame(c, "traffic", one.Method+" "+one.Path), callRow: callRow{one, p.TitleOf(project.APIs, one.API)}, StatusText: http.StatusText(one.Status), APIThere: p.API(one.API) != nil}
	d.RequestBody, d.ResponseBody = project.Indented(one.Request), project.Indented(one.Response)
	d.Kept = one.Request != nil || one.Response != nil
	if one.Run != nil {
		_, err := store.RunOf(c, t.DB, t.Scope, *one.Run)
		d.RunKept = err == nil
	}
	callView.Page(c, d)
	return nil
}

// Back is the page of the API with the operation.
func (d *callPage) Back() string {
	return "/bench/apis/" + url.PathEscape(d.API) + "?operation=" + url.QueryEscape(d.Operation)
}
