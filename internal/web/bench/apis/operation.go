package apis

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var operationView = page.Parse(files, "operation.html")

// operationPage draws an operation of a contract.
type operationPage struct {
	page.Frame
	ID, Title string
	Draft     store.Draft // of the contract
	*contract.Drawn
	Methods, Places, Types []string
	Schemas                []schemaChoice
	Failed                 *fault.Fault
	OOB                    bool
}

type schemaChoice struct{ Value, Label string }

// moreRows is how many empty rows a list of the form has.
const moreRows = 3

func (b pages) operationPageOf(c *gin.Context) (*project.Project, *operationPage, error) {
	p, d, err := b.apiOf(c)
	if err != nil {
		return nil, nil, err
	}
	if d.API.Contract == nil {
		return nil, nil, store.ErrNotFound
	}
	out := &operationPage{Frame: b.Frame(c, "bench", d.API.Title+", operation"), ID: d.ID, Title: d.API.Title, Methods: contract.Methods, Places: contract.Places}
	for _, t := range contract.Types {
		out.Types = append(out.Types, t.Name)
	}
	path := project.Path(project.Contracts, d.API.File.Value)
	if out.Draft, err = store.PartDraft(c, b.DB, p.ID, path); err != nil {
		return nil, nil, err
	}
	for _, name := range contract.SchemaNames([]byte(p.Texts[path])) {
		out.Schemas = append(out.Schemas, schemaChoice{name, name})
	}
	for _, part := range p.Parts(project.Schemas) {
		out.Schemas = append(out.Schemas, schemaChoice{design.PartSchema + part.ID, part.Title + ", of the project"})
	}
	out.Drawn = &contract.Drawn{Method: http.MethodGet, Path: "/", Answers: []contract.DrawnAnswer{{Status: "200", About: "the response"}}}
	if name := c.Query("operation"); name != "" && c.Request.Method == http.MethodGet {
		if out.Drawn, err = d.API.Contract.Draw([]byte(p.Texts[path]), name); err != nil {
			return nil, nil, err
		}
	}
	return p, out, nil
}

// operation shows the form.
func (b pages) operation(c *gin.Context) error {
	_, d, err := b.operationPageOf(c)
	if err != nil {
		return err
	}
	d.more()
	operationView.Page(c, d)
	return nil
}

// more adds empty rows to the lists.
func (d *operationPage) more() {
	for range moreRows {
		d.Parameters = append(d.Parameters, contract.DrawnParameter{In: "query", Type: "text"})
		d.Answers = append(d.Answers, contract.DrawnAnswer{})
	}
}

// drawn reads the form.
func drawn(c *gin.Context) *contract.Drawn {
	get := func(name string) string { return strings.TrimSpace(c.PostForm(name)) }
	d := &contract.Drawn{Was: get("was"), Method: get("method"), Path: get("path"), ID: get("id"), Summary: get("summary"), Body: get("body"), BodyRequired: get("body required") != ""}
	if d.ID == "" {
		d.ID = design.ID(strings.ToLower(d.Method) + " " + d.Path)
	}
	for i := 0; ; i++ {
		at := fmt.Sprintf("p %d ", i)
		if _, there := c.GetPostForm(at + "name"); !there || i > 200 {
			break
		}
		d.Parameters = append(d.Parameters, contract.DrawnParameter{Name: get(at + "name"), In: get(at + "in"), Type: get(at + "type"), Required: get(at+"required") != "", Example: get(at + "example"), Fixed: get(at+"fixed") != ""})
	}
	for i := 0; ; i++ {
		at := "a " + strconv.Itoa(i) + " "
		if _, there := c.GetPostForm(at + "status"); !there || i > 200 {
			break
		}
		d.Answers = append(d.Answers, contract.DrawnAnswer{Status: get(at + "status"), About: get(at + "about"), Schema: get(at + "schema")})
	}
	return d
}

// drawOperation keeps the operation, or takes it out.
func (b pages) drawOperation(c *gin.Context) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	_, d, err := b.operationPageOf(c)
	if err != nil {
		return err
	}
	o := drawn(c)
	back := "/bench/apis/" + url.PathEscape(d.ID)
	if c.PostForm("do") == "remove" {
		if err := b.Designer(c).RemoveOperation(c, d.ID, o.Was, from); err != nil {
			return err
		}
		c.Redirect(http.StatusSeeOther, back)
		return nil
	}
	if err := b.Designer(c).DrawOperation(c, d.ID, o, from); err != nil {
		if err == store.ErrChanged {
			return err
		}
		d.Drawn, d.Failed = o, fault.From(err, fault.Setting) // nothing that was typed is lost
		c.Status(http.StatusUnprocessableEntity)
		operationView.Page(c, d)
		return nil
	}
	c.Redirect(http.StatusSeeOther, back+"?operation="+url.QueryEscape(o.ID))
	return nil
}
