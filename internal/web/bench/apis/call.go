package apis

import (
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// callsShown is how many of the last calls are listed.
const callsShown = 12

// caseRow is a case of the API, with what came of it when all were called.
type caseRow struct {
	project.Case
	Path    string
	Verdict *apicall.Verdict
}

// sentRow is a call that was sent before.
type sentRow struct {
	store.SentCall
	Line string
}

// Duration is how long it took.
func (r sentRow) Duration() time.Duration { return time.Duration(r.Took) * time.Millisecond }

// kept lists the cases and the last calls.
func (b pages) kept(c *gin.Context, p *project.Project, d *apiPage) error {
	for _, one := range p.CasesOfAPI(d.ID) {
		d.Cases = append(d.Cases, caseRow{Case: one, Path: project.Path(project.Cases, one.ID)})
	}
	list, err := store.SentCalls(c, b.DB, b.Scope, d.ID, callsShown)
	if err != nil {
		return err
	}
	for _, one := range list {
		d.Calls = append(d.Calls, sentRow{one, lineOf(d.API, one)})
	}
	return nil
}

// lineOf says what a call asked for, in one line.
func lineOf(a *api.API, c store.SentCall) string {
	o := a.Operation(c.Operation)
	asked, err := apicall.AskedIn(c.Request)
	if o == nil || err != nil {
		return c.Operation
	}
	f := apicall.Of(a, o)
	f.Again(asked)
	f.Show("", a, o)
	return f.Line
}

// target is where the API is called.
func (b pages) target(d *apiPage) apicall.Target {
	return apicall.Target{Address: d.Address, Trust: b.CallsTrust}
}

// call sends a call to the release and shows what comes back, held against the contract.
func (b pages) call(c *gin.Context) error {
	p, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if d.Call == nil {
		return store.ErrNotFound
	}
	f, o := d.Call, d.Chosen.Operation
	f.Fill(c.GetPostForm)
	f.Show(d.Address, d.API, o)
	if f.Sent, err = f.Send(c, b.target(d), d.API, o, c.PostForm("last")); err != nil {
		f.Failed = fault.From(err, fault.Setting).What()
		apiView.Part(c, "call", d)
		return nil
	}
	if w := d.API.Way(o); c.PostForm("compare") != "" && w != nil && w.Kind == api.PassThrough {
		d.Compared = f.Compare(c, b.Outside.Forward, d.Address, d.API, o)
	}
	sent := store.SentCall{API: d.ID, Operation: o.ID, Request: f.Asks().JSON(), Status: f.Sent.Status, Took: int(f.Sent.Took.Milliseconds()), Fits: len(f.Sent.Faults) == 0, Response: strings.ReplaceAll(f.Sent.Body, "\x00", "")}
	if err := b.Operator(c).NoteCall(c, sent); err != nil {
		return err
	}
	d.Cases, d.Calls = nil, nil
	if err := b.kept(c, p, d); err != nil {
		return err
	}
	apiView.Part(c, "call", d)
	return nil
}

// again fills the call with what an earlier one asked for, or a case, where the address names one.
func (b pages) again(c *gin.Context, d *apiPage) error {
	if d.Call == nil || c.Query("case") == "" && c.Query("call") == "" {
		return nil
	}
	asked, err := b.askedBefore(c, d)
	if err != nil {
		return err
	}
	d.Call.Again(asked)
	d.Call.Show(d.Address, d.API, d.Chosen.Operation)
	return nil
}

func (b pages) askedBefore(c *gin.Context, d *apiPage) (apicall.Asked, error) {
	if id := c.Query("case"); id != "" {
		for _, one := range d.Cases {
			if one.ID == id {
				return apicall.Asked{Parameters: one.Call.Parameters, Media: one.Call.Media, Body: one.Call.Body}, nil
			}
		}
		return apicall.Asked{}, store.ErrNotFound
	}
	id, err := strconv.ParseInt(c.Query("call"), 10, 64)
	if err != nil {
		return apicall.Asked{}, store.ErrNotFound
	}
	sent, err := store.SentCallByID(c, b.DB, b.Scope, d.ID, id)
	if err != nil {
		return apicall.Asked{}, err
	}
	return apicall.AskedIn(sent.Request)
}

// keepCase keeps the last call of the operation, with its response, as a case.
func (b pages) keepCase(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	title := strings.TrimSpace(c.PostForm("title"))
	if title == "" {
		return fault.Expect(fault.Required, "a title", "none").InField("title")
	}
	for _, sent := range d.Calls {
		if d.Chosen == nil || sent.Operation != d.Chosen.ID {
			continue
		}
		asked, err := apicall.AskedIn(sent.Request)
		if err != nil {
			return err
		}
		call := project.APICall{API: d.ID, Operation: sent.Operation, Parameters: asked.Parameters, Media: asked.Media, Body: asked.Body, Status: sent.Status, Response: sent.Response}
		if err := b.Designer(c).AddAPICase(c, title, call); err != nil {
			return err
		}
		c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(d.ID)+"?operation="+url.QueryEscape(d.Chosen.ID)+"#cases")
		return nil
	}
	return fault.Expect(fault.Required, "a call of this operation that was sent", "none")
}

// callCases calls all cases of the API, and says of each whether the response is the one that is expected.
func (b pages) callCases(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	for i := range d.Cases {
		v := apicall.Check(c, d.Cases[i].Case, b.target(d), d.API, c.PostForm("key"))
		d.Cases[i].Verdict = &v
	}
	apiView.Part(c, "cases", d)
	return nil
}
