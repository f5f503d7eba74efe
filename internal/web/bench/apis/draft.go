package apis

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var draftView = page.Parse(files, "draft.html", "proposal.html")

// mostProposals is how many chains are shown.
const mostProposals = 3

// draftPage is what is proposed for an operation.
type draftPage struct {
	page.Frame
	ID, Title string
	Operation string // as GET /quotes/{plate}
	Name      string // its id
	Summary   string
	Among     int // operations of connections
	Took      string
	Proposals []proposalRow
	Revision  int64
}

type proposalRow struct {
	Number int
	Score  int // of a hundred
	Chain  string
	Calls  []callRow
	Answer []bindingRow
	Open   []string
	Unused []string
	Caches []string
}

type callRow struct {
	System, Operation, About string
	Bindings                 []bindingRow
	Open                     []string
}

type bindingRow struct {
	To, From string
	Score    int
	Reasons  string
	Sure     bool
}

// surely is from which score on a binding needs no second look.
const surely = 75

func (b pages) draft(c *gin.Context) error {
	p, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if d.Chosen == nil {
		return store.ErrNotFound
	}
	began := time.Now()
	list, err := p.ProposeFlows(d.ID, d.Chosen.ID, mostProposals)
	if err != nil {
		return err
	}
	out := draftPage{
		Frame: b.Frame(c, "bench", "Draft "+d.Chosen.Name()), ID: d.ID, Title: d.API.Title, Operation: d.Chosen.Name(), Name: d.Chosen.ID, Summary: d.Chosen.Summary,
		Took: page.Took(time.Since(began)), Revision: d.Draft.Revision,
	}
	for _, part := range p.Parts(project.Connections) {
		out.Among += len(p.Connection(part.ID).Operations)
	}
	for i, pr := range list {
		out.Proposals = append(out.Proposals, rowOf(p, i, pr))
	}
	draftView.Page(c, out)
	return nil
}

func rowOf(p *project.Project, i int, pr draft.Proposal) proposalRow {
	row := proposalRow{Number: i + 1, Score: percent(pr.Score)}
	var chain []string
	for n, call := range pr.Calls {
		id, _, _ := strings.Cut(call.Operation.ID, "/")
		one := callRow{System: p.TitleOf(project.Connections, id), Operation: call.Operation.ID, About: call.Operation.About, Bindings: bindings(p, call.Bindings)}
		for _, l := range call.Open {
			one.Open = append(one.Open, l.Name())
		}
		chain = append(chain, one.System)
		if call.Cache != "" && n > 0 {
			row.Caches = append(row.Caches, one.System+": "+call.Cache)
		}
		row.Calls = append(row.Calls, one)
	}
	row.Chain = strings.Join(chain, " → ")
	row.Answer = bindings(p, pr.Answer)
	for _, l := range pr.Open {
		row.Open = append(row.Open, l.Name())
	}
	for _, l := range pr.Unused {
		row.Unused = append(row.Unused, l.Name())
	}
	return row
}

func bindings(p *project.Project, list []draft.Binding) (rows []bindingRow) {
	for _, b := range list {
		from := "request: " + b.From.Leaf.Name()
		if o := b.From.Operation; o != nil {
			id, _, _ := strings.Cut(o.ID, "/")
			from = p.TitleOf(project.Connections, id) + ": " + b.From.Leaf.Name()
		}
		if b.Factor != "" {
			from += " × " + b.Factor
		}
		rows = append(rows, bindingRow{To: b.To.Name(), From: from, Score: percent(b.Score), Reasons: strings.Join(b.Reasons, "; "), Sure: percent(b.Score) >= surely})
	}
	return rows
}

func percent(x float64) int { return int(x*100 + 0.5) }

// accept makes the flow of a proposal.
func (b pages) accept(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(c.PostForm("proposal"))
	if err != nil || n < 1 || n > mostProposals {
		return fmt.Errorf("proposal %q: %w", c.PostForm("proposal"), store.ErrNotFound)
	}
	id, err := b.Designer(c).AddDraftedFlow(c, c.Param("id"), c.PostForm("operation"), n, c.PostForm("cache") != "", from)
	if err != nil {
		return err
	}
	b.draftedCase(c, id)
	c.Redirect(http.StatusSeeOther, "/bench/flows/"+url.PathEscape(id))
	return nil
}

// draftedCase keeps what a drafted flow comes to with samples as a case of it. No system is asked: they answer with their kept samples, or
// with made-up ones. The draft is there in any case.
func (b pages) draftedCase(c *gin.Context, flowID string) {
	p, err := b.Load(c)
	if err != nil || p.Flow(flowID) == nil {
		return
	}
	how := tries.TestOptions{Choices: map[tries.StepRef]trial.CallMode{}}
	for _, ps := range p.Flow(flowID).Steps {
		how.Choices[tries.StepRef{Flow: flowID, Step: ps.Step.ID}] = trial.Simulated
	}
	run, ft := b.Engine.Tries.SampleCase(c, p, flowID, "", 0, how)
	if ft == nil {
		err = b.Designer(c).AddFlowCase(c, p, flowID, "With samples", run)
	} else {
		err = ft
	}
	if err != nil {
		b.Log.Warn("no case of a drafted flow", "flow", flowID, "error", err)
	}
}
