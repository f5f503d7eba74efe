package inbound

import (
	"bytes"
	"embed"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

//go:embed *.html docs.css
var files embed.FS

var docsView = template.Must(template.New("docs.html").Funcs(template.FuncMap{"took": page.Took}).ParseFS(files, "docs.html"))

// docsPolicy lets the documentation have its own style and send its forms, and nothing else: it is read without scripts.
const docsPolicy = "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"

// docsPage is the documentation of an API for its callers, or the list of all.
type docsPage struct {
	Project  string
	Style    template.CSS
	APIs     []docsLink
	Channels []docsLink
	Async    string   // where all channels are described
	API      *api.API // nil for the list
	Release  int
	Address  string
	At       string // of this page
	Stage    api.Lifecycle
	Find     string
	Ops      []docsOperation
	Shown    int
	Changes  []contract.Change
	Since    int // the release with which it is compared; 0: there is none
}

type docsLink struct {
	Title, About, Href string
	Operations         int
}

// channels lists the channels that programs can use.
func (d *docsPage) channels(c *gin.Context, s *page.Site) error {
	list, err := s.Engine.Channels(c, s.Scope)
	for _, ch := range list {
		d.Channels = append(d.Channels, docsLink{Title: ch.Title, About: string(ch.Kind), Href: page.Base(s.Scope.Project) + "/channels/" + ch.ID + "/openapi"})
	}
	d.Async = page.Base(s.Scope.Project) + "/asyncapi"
	return err
}

// docsOperation is an operation as callers see it.
type docsOperation struct {
	*contract.Operation
	Address    string
	Parameters []docsParameter
	Bodies     []docsBody
	Answers    []docsAnswer
	Call       *apicall.Form
	Open       bool
}

type docsParameter struct{ Name, In, Type, About, Example string }

type docsBody struct{ Media, Example string }

type docsAnswer struct {
	Status, About string
	Bodies        []docsBody
}

// documented finds the site of a project for a page of its documentation.
func documented(s *page.Sites, do func(c *gin.Context, site *page.Site, d *docsPage) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		page.Bounded(c, maxBody)
		site, err := s.Of(c, c.Param("project"))
		if err != nil {
			nowhere(c, s, err)
			return
		}
		d, err := docsOf(c, site)
		if err == nil {
			err = do(c, site, d)
		}
		if err != nil {
			nowhere(c, s, err)
		}
	}
}

// mostFound bounds the operations on one page; others are found by a word.
const mostFound = 100

func docsOf(c *gin.Context, s *page.Site) (*docsPage, error) {
	style, err := files.ReadFile("docs.css")
	if err != nil {
		return nil, err
	}
	list, err := s.Engine.Published(c, s.Scope)
	if err != nil {
		return nil, err
	}
	base := "/p/" + s.Scope.Project + "/docs"
	d := &docsPage{Project: s.Scope.Project, Style: template.CSS(style), Find: strings.TrimSpace(c.Query("find"))}
	if p, err := s.Load(c); err == nil {
		d.Project = p.Title
	}
	for _, a := range list {
		d.APIs = append(d.APIs, docsLink{a.Title, a.Contract.Description, base + "/" + a.ID, len(a.Contract.Operations)})
	}
	id := c.Param("api")
	if id == "" {
		return d, d.channels(c, s)
	}
	i := slices.IndexFunc(list, func(a engine.PublishedAPI) bool { return a.ID == id })
	if i < 0 {
		return nil, store.ErrNotFound
	}
	a := list[i]
	d.API, d.Release, d.Address, d.At, d.Stage = a.API, a.Release, s.Calls+Prefix+a.Base, base+"/"+a.ID, a.Stage(time.Now())
	for _, o := range a.Contract.Operations {
		if !found(o, d.Find) {
			continue
		}
		if d.Shown++; d.Shown <= mostFound {
			d.Ops = append(d.Ops, d.operation(o))
		}
	}
	return d, d.compare(c, s, a)
}

// found says whether an operation has all words in its name and its descriptions.
func found(o *contract.Operation, words string) bool {
	text := strings.ToLower(strings.Join(append([]string{o.ID, o.Name(), o.Summary, o.Description}, o.Tags...), " "))
	for w := range strings.FieldsSeq(strings.ToLower(words)) {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}

func (d *docsPage) operation(o *contract.Operation) docsOperation {
	k := d.API.Contract
	op := docsOperation{Operation: o, Address: strings.TrimSuffix(d.Address+o.Path, "/"), Call: apicall.Of(d.API, o)}
	op.Call.Show(d.Address, d.API, o)
	for _, p := range o.Parameters {
		row := docsParameter{Name: p.Name, In: p.In, Type: apicall.TypeOf(k, p), Example: ""}
		if !p.Required {
			row.In += ", optional"
		}
		row.About = p.Description
		row.Example, _ = k.SampleText(p)
		op.Parameters = append(op.Parameters, row)
	}
	if o.Body != nil {
		op.Bodies = docsBodies(k, o.Body.Media)
	}
	for _, a := range o.Answers {
		op.Answers = append(op.Answers, docsAnswer{a.Status, a.Description, docsBodies(k, a.Media)})
	}
	return op
}

func docsBodies(k *contract.Contract, list []contract.Media) (rows []docsBody) {
	for _, m := range list {
		text, _ := k.SampleBody(m)
		rows = append(rows, docsBody{m.Type, apicall.Pretty(text)})
	}
	return rows
}

// compare finds what is another thing than in the release before.
func (d *docsPage) compare(c *gin.Context, s *page.Site, a engine.PublishedAPI) error {
	if a.Release < 2 {
		return nil
	}
	was, err := store.ReleaseFiles(c, s.DB, s.Scope.Project, project.ReleaseID(project.APIs, a.ID), a.Release-1)
	if err != nil {
		return err
	}
	old, err := contract.Read("", []byte(was[project.Path(project.Contracts, a.File.Value)]))
	if err != nil {
		return nil // it cannot be compared
	}
	d.Since, d.Changes = a.Release-1, contract.Compare(old, a.Contract)
	return nil
}

// show sends the page.
func (d *docsPage) show(c *gin.Context) error {
	var b bytes.Buffer
	if err := docsView.Execute(&b, d); err != nil {
		return err
	}
	c.Header("Content-Security-Policy", docsPolicy)
	c.Data(http.StatusOK, "text/html; charset=utf-8", b.Bytes())
	return nil
}

func showDocs(c *gin.Context, _ *page.Site, d *docsPage) error { return d.show(c) }

// tryDocs makes a call with what was typed, and shows it with what comes back.
func tryDocs(c *gin.Context, s *page.Site, d *docsPage) error {
	if d.API == nil || foreign(c.Request) {
		return store.ErrNotFound
	}
	o := d.API.Operation(c.PostForm("operation"))
	i := slices.IndexFunc(d.Ops, func(op docsOperation) bool { return op.Operation == o })
	if o == nil || i < 0 {
		return store.ErrNotFound
	}
	f := d.Ops[i].Call
	f.Fill(c.GetPostForm)
	f.Show(d.Address, d.API, o)
	sent, err := f.Send(c, apicall.Target{Address: d.Address, Trust: s.CallsTrust}, d.API, o, "")
	if err != nil {
		f.Failed = fault.From(err, fault.Setting).What()
	}
	f.Sent, d.Ops[i].Open = sent, true
	return d.show(c)
}

// sendDocument sends the contract, with the address at which it is called here.
func sendDocument(c *gin.Context, s *page.Site, d *docsPage) error {
	list, err := s.Engine.Published(c, s.Scope)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(a engine.PublishedAPI) bool { return a.ID == d.API.ID })
	if i < 0 {
		return store.ErrNotFound
	}
	if d.API.Contract.WSDL != nil {
		c.Data(http.StatusOK, "text/xml; charset=utf-8", d.API.Contract.WSDLAt(func(p *contract.Port) string { return d.Address }))
		return nil
	}
	text, err := contract.Export([]byte(list[i].Document), d.Address)
	if err != nil {
		return err
	}
	c.Data(http.StatusOK, "application/yaml; charset=utf-8", text)
	return nil
}
