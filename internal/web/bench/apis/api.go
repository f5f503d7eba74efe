// Package apis holds the page of an API: its operations, what answers each, its guards, and calling it.
package apis

import (
	"embed"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of APIs.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/apis/:id", s.Do(b.api))
	r.POST("/bench/apis/:id", s.Do(b.setAPI))
	r.POST("/bench/apis/:id/way", s.Do(b.setWay))
	r.POST("/bench/apis/:id/mapping", s.Do(b.addMapping))
	r.GET("/bench/apis/:id/help", s.Do(b.help))
	r.POST("/bench/apis/:id/cache", s.Do(b.setCache))
	r.POST("/bench/apis/:id/empty", s.Do(b.empty))
	r.POST("/bench/apis/:id/flow", s.Do(b.addFlow))
	r.POST("/bench/apis/:id/release", s.Do(b.release))
	r.POST("/bench/apis/:id/call", s.Do(b.call))
	r.POST("/bench/apis/:id/cases", s.Do(b.keepCase))
	r.POST("/bench/apis/:id/cases/call", s.Do(b.callCases))
	r.GET("/bench/apis/:id/contract", s.Do(b.contract))
	r.GET("/bench/apis/:id/changes", s.Do(b.changes))
	r.POST("/bench/apis/:id/contract", s.Do(b.setContract))
	r.GET("/bench/apis/:id/operation", s.Do(b.operation))
	r.POST("/bench/apis/:id/operation", s.Do(b.drawOperation))
	r.POST("/bench/apis", s.Do(b.addAPI))
	r.POST("/bench/connections/:id/api", s.Do(b.publishConnection))
	r.GET("/bench/wanted", s.Do(b.wanted))
	r.POST("/bench/wanted", s.Do(b.addWanted))
	r.GET("/bench/apis/:id/draft", s.Do(b.draft))
	r.POST("/bench/apis/:id/draft", s.Do(b.accept))
}

var (
	apiView     = page.Parse(files, "api.html", "call.html")
	changesView = page.Parse(files, "changes.html")
)

// apiPage is an API with one of its operations chosen.
type apiPage struct {
	page.Frame
	ID, Path   string
	API        *api.API
	Draft      store.Draft
	Faults     fault.List
	Notes      fault.List
	Release    int // that the environment runs; 0: none
	Differs    bool
	Stage      api.Lifecycle
	Address    string // below which it is called
	Docs       string // for callers
	Operations []operationRow
	Unanswered int
	Chosen     *chosen
	Guards     []guardRow
	Fields     []form.Field
	OOB        bool
	Call       *apicall.Form
	Compared   *apicall.Comparison
	Cases      []caseRow
	Calls      []sentRow
}

// Backend is the connection to which the chosen operation is passed through; empty where it is not.
func (d *apiPage) Backend() string {
	if w := d.API.Way(d.Chosen.Operation); w != nil {
		return w.Setting("connection")
	}
	return ""
}

// operationRow is an operation in the list.
type operationRow struct {
	*contract.Operation
	Answer string // what answers it, in words; empty where nothing does
	Open   bool
	Chosen bool
}

// guardRow is a guard in words, with what it did lately.
type guardRow struct{ Name, Says, Lately string }

// chosen is the operation that is shown.
type chosen struct {
	*contract.Operation
	Address               string
	Parameters            []parameterRow
	Bodies                []bodyRow
	Answers               []answerRow
	Kind                  string // of what answers other than a flow; empty: a flow, or nothing
	Kinds                 []*api.WayKind
	Flows                 []flowRow
	Fields                []form.Field
	Rare                  []form.Field
	Mappings, NewMappings []wayMapping
	About                 string
	Cache                 []form.Field // empty where responses are not to be kept
	Cached                bool
}

type parameterRow struct{ Name, In, Type, Example string }

type bodyRow struct{ Media, Schema, Example string }

type answerRow struct {
	Status, About string
	Bodies        []bodyRow
	Headers       []string
	Answered      string // who gives it; empty where it is open
}

type flowRow struct {
	project.Part
	Steps  []string
	Faults int
}

func (b pages) apiOf(c *gin.Context) (*project.Project, *apiPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	a := p.API(c.Param("id"))
	if a == nil {
		return nil, nil, store.ErrNotFound
	}
	path := project.Path(project.APIs, a.ID)
	d := &apiPage{Frame: b.Frame(c, "bench", a.Title), ID: a.ID, Path: path, API: a, Stage: a.Stage(time.Now()), Address: b.Calls + inbound.Prefix + a.Base, Docs: b.Calls + "/docs/" + a.ID}
	d.Faults = append(base.FaultsIn(p, path), base.FaultsIn(p, project.Path(project.Contracts, a.File.Value))...)
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, path); err != nil {
		return nil, nil, err
	}
	if d.Release, d.Differs, err = b.Released(c, p, project.ReleaseID(project.APIs, a.ID)); err != nil {
		return nil, nil, err
	}
	d.Fields = form.Fields(a.Settings)
	if a.Contract != nil {
		d.Notes = a.Contract.Notes
		d.operations(p, c.Query("operation")+c.PostForm("operation"))
	}
	if d.Guards, err = b.guards(c, a); err != nil {
		return nil, nil, err
	}
	return p, d, b.kept(c, p, d)
}

// operations lists the operations, and what is to be seen of the one that is chosen: the first where none is.
func (d *apiPage) operations(p *project.Project, name string) {
	by := p.AnsweredBy(d.ID)
	at := d.API.Operation(name)
	if at == nil && len(d.API.Contract.Operations) > 0 {
		at = d.API.Contract.Operations[0]
	}
	for _, o := range d.API.Contract.Operations {
		row := operationRow{Operation: o, Chosen: o == at}
		switch w := d.API.Way(o); {
		case o.Document:
			row.Answer = "the document, with the new address"
		case w != nil:
			row.Answer = answeredBy(p, w)
		case len(by[o.ID]) > 0:
			row.Answer = "flow " + by[o.ID][0].Title
		default:
			row.Open = true
			d.Unanswered++
		}
		d.Operations = append(d.Operations, row)
	}
	if at != nil {
		d.Chosen = d.choose(p, at, by[at.ID])
		d.Call = apicall.Of(d.API, at)
		d.Call.Show(d.Address, d.API, at)
	}
}

// answeredBy says what answers an operation other than a flow.
func answeredBy(p *project.Project, w *api.Way) string {
	id := w.Setting("connection")
	title := p.TitleOf(project.Connections, id)
	switch {
	case w.Kind == api.Examples:
		return "answered by its examples"
	case id == "":
		return "no connection is chosen yet"
	case w.Kind == api.Called:
		if op := operationOf(p, w); op != nil {
			return title + ": " + op.Name
		}
		return "an operation of " + title + " is not chosen yet"
	}
	return "passed through to " + title
}

func (d *apiPage) choose(p *project.Project, o *contract.Operation, by []project.Part) *chosen {
	k := d.API.Contract
	out := &chosen{Operation: o, Address: strings.TrimSuffix(d.Address+o.Path, "/"), Kinds: api.WayKinds}
	for _, pm := range o.Parameters {
		out.Parameters = append(out.Parameters, parameterRow{pm.Name, where(pm), apicall.TypeOf(k, pm), example(k, pm)})
	}
	if o.Body != nil {
		out.Bodies = bodies(k, o.Body.Media)
	}
	w := d.API.Way(o)
	if w != nil {
		out.Kind, out.About, out.Mappings, out.NewMappings = w.Kind.Name, w.Kind.About, mappingsOf(p, w), d.newMappings(p, w)
		for _, f := range d.wayFields(p, w) {
			if f.Folded() {
				out.Rare = append(out.Rare, f)
			} else {
				out.Fields = append(out.Fields, f)
			}
		}
	}
	if o.Method == http.MethodGet && o.Port == nil {
		out.Cache, out.Cached = form.Fields(d.cachingOf(o)), d.API.CacheOf(o) != nil
	}
	for _, part := range by {
		plan := p.Flow(part.ID)
		row := flowRow{Part: part, Faults: len(plan.Faults)}
		for _, s := range plan.Flow.Steps {
			row.Steps = append(row.Steps, s.Name)
		}
		out.Flows = append(out.Flows, row)
	}
	for _, a := range o.Answers {
		row := answerRow{Status: a.Status, About: a.Description, Bodies: bodies(k, a.Media)}
		for _, h := range a.Headers {
			row.Headers = append(row.Headers, h.Name)
		}
		row.Answered = answered(p, d.API, w, by, a)
		out.Answers = append(out.Answers, row)
	}
	return out
}

// answered says who gives an answer of the contract; empty where nobody does.
func answered(p *project.Project, a *api.API, w *api.Way, by []project.Part, ans *contract.Answer) string {
	switch {
	case w != nil && w.Kind == api.PassThrough:
		return "backend"
	case w != nil && w.Kind == api.Called:
		return answeredDirectly(w, ans)
	case w != nil:
		return "examples"
	case (ans.Status == "422" || ans.Status == "4XX") && len(by) > 0 && a.Guards.Requests != api.Off:
		return "validation"
	}
	for _, part := range by {
		if givenBy(p, part.ID, ans) {
			return "flow"
		}
	}
	return ""
}

// answeredDirectly says who gives an answer where an operation of a connection is asked.
func answeredDirectly(w *api.Way, ans *contract.Answer) string {
	if w.In == nil || len(w.In.Faults) > 0 {
		return ""
	}
	for _, ps := range w.In.Steps {
		if ps.Kind.Name == flow.AnswerKind && w.In.Promised(ps.Step) == ans {
			return "operation"
		}
	}
	if ans.Status == "422" || ans.Status == "4XX" {
		return "validation"
	}
	return ""
}

func (b pages) api(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if err := b.again(c, d); err != nil {
		return err
	}
	if page.Partial(c) {
		apiView.Part(c, "work", d)
		return nil
	}
	apiView.Page(c, d)
	return nil
}

// addAPI begins an API by its contract.
func (b pages) addAPI(c *gin.Context) error {
	uploads, err := base.Uploads(c)
	if err != nil {
		return err
	}
	if len(strings.TrimSpace(string(uploads[0].Content))) == 0 && strings.TrimSpace(c.PostForm("title")) == "" {
		return fault.Expect(fault.Required, "an OpenAPI document (3.0 or 3.1), in JSON or YAML, or a title to begin with", "none").InField("text")
	}
	id, err := b.Designer(c).AddAPI(c, strings.TrimSpace(c.PostForm("title")), []byte(strings.TrimLeft(base.UnixLines(string(uploads[0].Content)), " \n\t")))
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(id))
	return nil
}

// publishConnection makes an API of the operations of a connection.
func (b pages) publishConnection(c *gin.Context) error {
	id, err := b.Designer(c).AddConnectionAPI(c, c.Param("id"))
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(id))
	return nil
}

// setAPI keeps the settings.
func (b pages) setAPI(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if err := b.Save(c, d.Path, func(text []byte) ([]byte, error) { return form.Write(c, text, d.API.Settings) }); err != nil {
		return err
	}
	return b.changed(c)
}

// changed sends what a change of a form changes on the page.
func (b pages) changed(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	d.OOB = true
	apiView.Part(c, "changed", d)
	return nil
}

// setWay keeps what answers an operation.
func (b pages) setWay(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if d.Chosen == nil {
		return store.ErrNotFound
	}
	kind := c.PostForm("answered by")
	err = b.Save(c, d.Path, func(text []byte) ([]byte, error) {
		if kind != d.Chosen.Kind {
			return design.SetWay(d.API, text, d.Chosen.ID, kind)
		}
		w := d.API.Way(d.Chosen.Operation)
		if w == nil {
			return text, nil
		}
		return form.Write(c, text, w.Settings, "operations", w.Index)
	})
	if err != nil {
		return err
	}
	return b.changed(c)
}

// cachingOf are the settings of the caching of an operation.
func (d *apiPage) cachingOf(o *contract.Operation) setting.Values {
	if i := slices.IndexFunc(d.API.Caches, func(c *api.Cache) bool { return c.Operation == o }); i >= 0 {
		return d.API.Caches[i].Settings
	}
	return setting.Values{List: api.CacheSettings}
}

// setCache says how long responses of an operation are kept.
func (b pages) setCache(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if d.Chosen == nil {
		return store.ErrNotFound
	}
	err = b.Save(c, d.Path, func(text []byte) ([]byte, error) {
		text, at, err := design.CachingAt(d.API, text, d.Chosen.ID)
		if err != nil {
			return nil, err
		}
		return form.Write(c, text, d.cachingOf(d.Chosen.Operation), "caching", at)
	})
	if err != nil {
		return err
	}
	return b.changed(c)
}

// empty lets go the responses that are kept.
func (b pages) empty(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if err := b.Operator(c).EmptyCache(c, d.ID); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(d.ID)+"?operation="+url.QueryEscape(c.PostForm("operation")))
	return nil
}

// addFlow begins a flow that answers an operation.
func (b pages) addFlow(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	id, err := b.Designer(c).AddFlowFor(c, c.Param("id"), c.PostForm("operation"), from)
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/flows/"+url.PathEscape(id))
	return nil
}

// release makes a release of the draft.
func (b pages) release(c *gin.Context) error {
	note := strings.TrimSpace(c.PostForm("note"))
	if _, err := b.Designer(c).Release(c, project.ReleaseID(project.APIs, c.Param("id")), note[:min(len(note), 500)]); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(c.Param("id")))
	return nil
}

// contract sends the document.
func (b pages) contract(c *gin.Context) error {
	p, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	text, there := p.Texts[project.Path(project.Contracts, d.API.File.Value)]
	if !there {
		return store.ErrNotFound
	}
	c.Header("Content-Disposition", `attachment; filename="`+base.FileName(d.API.File.Value)+`"`)
	c.Data(http.StatusOK, "application/yaml; charset=utf-8", []byte(text))
	return nil
}
