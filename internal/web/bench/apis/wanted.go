package apis

import (
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

var wantedView = page.Parse(files, "wanted.html", "proposal.html")

// wantedPage drafts an API of what is wanted.
type wantedPage struct {
	page.Frame
	Wanted    project.Wanted
	GivenText string
	Among     int // operations of connections
	Took      string
	Asked     bool
	Failed    *fault.Fault
	Proposals []proposalRow
}

// mostWanted bounds a sentence or an example, in bytes.
const mostWanted = 100_000

func wantedOf(get func(string) string) (w project.Wanted, given string) {
	w = project.Wanted{Title: strings.TrimSpace(get("title")), Text: base.UnixLines(get("text"))}
	given = get("given")
	for name := range strings.FieldsFuncSeq(given, func(r rune) bool { return r == ',' || r == ' ' || r == ';' }) {
		w.Given = append(w.Given, name)
	}
	return w, given
}

// wanted proposes chains for what is wanted.
func (b pages) wanted(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := &wantedPage{Frame: b.Frame(c, "bench", "Draft an API")}
	d.Wanted, d.GivenText = wantedOf(c.Query)
	for _, part := range p.Parts(project.Connections) {
		d.Among += len(p.Connection(part.ID).Operations)
	}
	if d.Asked = strings.TrimSpace(d.Wanted.Text) != "" && len(d.Wanted.Text) <= mostWanted; d.Asked {
		began := time.Now()
		list, err := p.ProposeWanted(&d.Wanted, mostProposals)
		if err != nil {
			d.Failed = fault.From(err, fault.Setting)
		}
		d.Took = page.Took(time.Since(began))
		if d.GivenText == "" {
			d.GivenText = strings.Join(d.Wanted.Given, ", ")
		}
		for i, pr := range list {
			d.Proposals = append(d.Proposals, rowOf(p, i, pr))
		}
	}
	wantedView.Page(c, d)
	return nil
}

// addWanted makes the API of a proposal.
func (b pages) addWanted(c *gin.Context) error {
	w, _ := wantedOf(c.PostForm)
	n, err := strconv.Atoi(c.PostForm("proposal"))
	if err != nil || n < 1 || n > mostProposals || len(w.Text) > mostWanted {
		return store.ErrNotFound
	}
	id, operation, err := b.Designer(c).AddWantedAPI(c, &w, n, c.PostForm("cache") != "")
	if err != nil {
		return err
	}
	if p, err := b.Load(c); err == nil {
		for _, part := range p.AnsweredBy(id)[operation] {
			b.draftedCase(c, part.ID)
		}
	}
	c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(id)+"?operation="+url.QueryEscape(operation))
	return nil
}
