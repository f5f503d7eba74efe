package flows

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

var awaitView = page.Parse(files, "await.html")

// awaitPage waits for the next call of a draft.
type awaitPage struct {
	page.Frame
	ID, FlowTitle   string
	Method, Address string
	Curl            string
	Awaited         *tries.Awaited // nil where nobody waits
	Faults          int
	Last            string // the walk of the call that came last
}

func (b pages) awaitPageOf(c *gin.Context) (*running.Plan, *awaitPage, error) {
	_, plan, err := b.flowOf(c)
	if err != nil {
		return nil, nil, err
	}
	t := plan.Flow.Trigger
	if !t.Of().Requests {
		return nil, nil, fault.Expect(fault.Setting, "a flow that is started by an HTTP request", t.Of().Title)
	}
	d := &awaitPage{
		Frame: b.Frame(c, "bench", "Next call of "+plan.Flow.Title), ID: plan.Flow.ID, FlowTitle: plan.Flow.Title,
		Method: t.Method, Address: strings.TrimSuffix(b.Calls, "/") + inbound.DraftPrefix + t.Path.Value, Awaited: b.Engine.Tries.Awaited(b.Scope, plan.Flow.ID), Faults: len(plan.Faults),
	}
	d.Curl = "curl "
	if t.Method != http.MethodGet {
		d.Curl += "-X " + t.Method + " "
	}
	if plan.Input != nil {
		d.Curl += "-H 'Content-Type: application/json' --data-binary @message.json "
	}
	d.Curl += "'" + d.Address + "'"
	return plan, d, nil
}

// nextCall shows that a call is waited for, and leads to the walk once it has come.
func (b pages) nextCall(c *gin.Context) error {
	_, d, err := b.awaitPageOf(c)
	if err != nil {
		return err
	}
	if a := d.Awaited; a != nil && a.Session != nil && a.Session.ID != "" {
		to := "/bench/walks/" + a.Session.ID
		select {
		case <-a.Session.Ended():
			if !page.Partial(c) {
				d.Last, d.Awaited = to, nil
				awaitView.Page(c, d)
				return nil
			}
		default:
		}
		if page.Partial(c) {
			c.Header("HX-Redirect", to)
			c.Status(http.StatusNoContent)
			return nil
		}
		c.Redirect(http.StatusSeeOther, to)
		return nil
	}
	if page.Partial(c) {
		awaitView.Part(c, "await", d)
		return nil
	}
	awaitView.Page(c, d)
	return nil
}

// awaitCall begins to wait for the next call, or waits no longer.
func (b pages) awaitCall(c *gin.Context) error {
	plan, d, err := b.awaitPageOf(c)
	if err != nil {
		return err
	}
	if c.PostForm("do") == "stop" {
		b.Engine.Tries.Forget(b.Scope, d.ID)
		c.Redirect(http.StatusSeeOther, "/bench/flows/"+url.PathEscape(d.ID))
		return nil
	}
	if d.Faults > 0 {
		return fault.New(fault.Setting, "the flow has faults").WithFix("Mend them, then step through it")
	}
	header := strings.TrimSpace(c.PostForm("header"))
	if name, _, colon := strings.Cut(header, ":"); header != "" && (!colon || strings.TrimSpace(name) == "") {
		return fault.Expect(fault.Syntax, "a header as name: value", fault.Quote(header)).InField("header")
	}
	how, err := b.TestOptions(c, plan)
	if err != nil {
		return err
	}
	b.Engine.Tries.Await(b.Scope, d.ID, page.Person(c).ID, header, how)
	c.Redirect(http.StatusSeeOther, "/bench/flows/"+url.PathEscape(d.ID)+"/next-call")
	return nil
}
