package connections

import (
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

var (
	operationView     = page.Parse(files, "connection.html", "operation.html")
	newConnectionView = page.Parse(files, "new.html")
)

// operationPage is one operation: how it is called, and what it answers to a request that is tried.
type operationPage struct {
	connectionPage
	Op      *connection.Operation
	Rows    []form.Field
	Left    fault.List // that are at no setting
	Schemas []project.Part
	Asked   []askedField
	Trial   *trial
}

// askedField is one field of the request as it is filled in.
type askedField struct {
	*schema.Field
	Value string
	Large bool // a record, a list or bytes: written as JSON
}

func connectionPath(id string) string { return project.Path(project.Connections, id) }

// poolOf gives the connections of an environment.
func (b pages) poolOf(env string) *connector.Pool { return b.Pools.Of(b.In(env)) }

func (b pages) operationOf(c *gin.Context) (*project.Project, *operationPage, error) {
	p, d, err := b.connectionOf(c)
	if err != nil {
		return nil, nil, err
	}
	o := &operationPage{connectionPage: *d, Op: d.Connection.Operation(c.Param("op")), Schemas: p.Parts(project.Schemas)}
	if o.Op == nil {
		return nil, nil, store.ErrNotFound
	}
	o.Title = o.Op.Name
	o.Keys = append([][2]string{{"[ ]", "the record before, the next one"}}, o.Keys...)
	o.fields()
	return p, o, nil
}

// fields fills the settings of the operation, each with its faults.
func (d *operationPage) fields() {
	d.Rows, d.Left = form.Fields(d.Op.Settings), d.Op.Faults
	for i := range d.Rows {
		f := &d.Rows[i]
		f.Complete = operationPath(d.ID, d.Op.ID) + "/help?setting=" + url.QueryEscape(f.Name)
		f.Needed, d.Left = base.Unset(d.Left, f.Name)
		f.Faults, d.Left = base.FaultsAt(d.Left, d.Op.Settings.Text(f.Name))
		for _, p := range d.Op.Settings.Pairs[f.Name] {
			var more fault.List
			more, d.Left = base.FaultsAt(d.Left, p.Formula)
			f.Faults = append(f.Faults, more...)
		}
	}
}

// operationHelp suggests what could stand at the caret of a formula.
func (b pages) operationHelp(c *gin.Context) error {
	p, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	set := d.Op.Kind.Settings.Find(c.Query("setting"))
	if set == nil {
		return store.ErrNotFound
	}
	return base.Complete(c, d.Op.Scope(p.Formulas(), set.Type == setting.OnResponse))
}

func (b pages) operation(c *gin.Context) error {
	p, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	d.ask(p, nil)
	operationView.Page(c, d)
	return nil
}

// ask makes the request's form: with what was asked, or with the first record of its schema's sample.
func (d *operationPage) ask(p *project.Project, asked map[string]string) {
	if d.Op.Request == nil {
		return
	}
	var first value.Value
	if rows, err := p.SampleRecords(d.Op.Request, 1); asked == nil && err == nil && len(rows) > 0 {
		first = rows[0]
	}
	for _, f := range d.Op.Request.Root.Fields {
		a := askedField{Field: f, Value: asked[f.Name], Large: f.List() || f.Kind == value.RecordKind}
		if v := first.Field(f.Name); !v.IsMissing() {
			a.Value = schema.ScalarText(v)
			if a.Large {
				a.Value = json.Text(v)
			}
		}
		d.Asked = append(d.Asked, a)
	}
}

// addOperation begins a new operation, by hand.
func (b pages) addOperation(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	title := strings.TrimSpace(c.PostForm("title"))
	id := design.ID(title)
	kind := c.PostForm("kind")
	switch {
	case id == "":
		return fault.New(fault.Required, "an operation needs a name")
	case d.Connection.Operation(id) != nil:
		return fault.New(fault.Setting, "there is an operation %q already", id).WithFix("Choose another name")
	case d.Kind.OperationKind(kind).Name != kind:
		return fault.Expect(fault.Unknown, "something that "+d.Kind.Title+" does", fault.Quote(kind))
	}
	out := partfile.Ordered{{Key: "operation", Value: id}, {Key: "name", Value: title}, {Key: "kind", Value: kind}}
	for _, set := range d.Kind.OperationKind(kind).Settings {
		if set.Required && set.Default == "" {
			out.Add(set.Name, set.Initial)
		}
	}
	if err := b.Save(c, d.Path, func(text []byte) ([]byte, error) {
		return partfile.Insert(text, []any{"operations"}, len(d.Connection.Operations), out)
	}); err != nil {
		return err
	}
	c.Redirect(303, operationAt(d.ID, id, d.In))
	return nil
}

func operationPath(id, op string) string {
	return "/bench/connections/" + url.PathEscape(id) + "/operations/" + url.PathEscape(op)
}

func operationAt(id, op, env string) string {
	return operationPath(id, op) + "?env=" + url.QueryEscape(env)
}

// indexOf is the position of an operation in its part.
func (d *operationPage) indexOf() int {
	return slices.IndexFunc(d.Connection.Operations, func(o *connection.Operation) bool { return o.ID == d.Op.ID })
}

// setOperation keeps the settings of an operation.
func (b pages) setOperation(c *gin.Context) error {
	_, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	if err := b.saveOperation(c, d); err != nil {
		return err
	}
	c.Redirect(303, operationAt(d.ID, d.Op.ID, d.In)+"&said=Saved")
	return nil
}

// saveOperation keeps what stands in the form of an operation.
func (b pages) saveOperation(c *gin.Context, d *operationPage) error {
	at := []any{"operations", d.indexOf()}
	return b.Save(c, d.Path, func(text []byte) (out []byte, err error) {
		out = text
		set := func(name string, to any) {
			if err == nil {
				out, err = partfile.Set(out, append(at[:len(at):len(at)], name), to)
			}
		}
		set("name", strings.TrimSpace(c.PostForm("name")))
		if !d.Op.Kind.HasRequest() {
			set("request", c.PostForm("request"))
		}
		if !d.Op.Kind.HasResponse() {
			set("response", c.PostForm("response"))
		}
		if err == nil {
			out, err = form.Write(c, out, d.Op.Settings, at...)
		}
		return out, err
	})
}

func (b pages) removeOperation(c *gin.Context) error {
	_, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	if err := b.Save(c, d.Path, func(text []byte) ([]byte, error) { return partfile.Remove(text, []any{"operations"}, d.indexOf()) }); err != nil {
		return err
	}
	c.Redirect(303, connectionAt(d.ID, d.In, "Removed "+d.Op.Name+". Undo brings it back"))
	return nil
}

// fetchShape asks the database for the shape of a statement's result and keeps it as the response schema.
func (b pages) fetchShape(c *gin.Context) error {
	_, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	if err := b.saveOperation(c, d); err != nil { // the statement that is seen, not the one from before
		return err
	}
	p, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	c.Request.PostForm.Set("revision", strconv.FormatInt(d.Draft.Revision, 10)) // that of what was just saved
	tables, err := b.Outside.Tables(c, d.ID)
	if err != nil {
		return err
	}
	id := d.ID + "-" + d.Op.ID
	s, _, err := tables.Describe(c, id, d.Op.Setting("statement"), 0)
	if err != nil {
		return err
	}
	s.Title = d.Op.Name
	return b.keepShape(c, p, d, s, nil)
}

// checkTable holds an upsert against its table, and writes nothing.
func (b pages) checkTable(c *gin.Context) error {
	_, d, err := b.operationOf(c)
	if err != nil {
		return err
	}
	if err := b.saveOperation(c, d); err != nil {
		return err
	}
	if _, d, err = b.operationOf(c); err != nil {
		return err
	}
	u := running.UpsertOf(d.Op)
	if u == nil {
		return fault.Expect(fault.Setting, "an upsert with a request schema", d.Op.Kind.Name)
	}
	pool := b.poolOf(d.In)
	faults, err := pool.CheckUpsert(c, *u)
	if err == nil && len(faults) > 0 {
		err = faults[0]
	}
	if err != nil {
		return err
	}
	c.Redirect(303, operationAt(d.ID, d.Op.ID, d.In)+"&said="+url.QueryEscape("The table has all columns, and its key is unique."))
	return nil
}

// keepShape keeps a schema as the operation's response: a new part, or in place of the one that is there.
func (b pages) keepShape(c *gin.Context, p *project.Project, d *operationPage, s *schema.Schema, samples []base.Upload) error {
	if old := p.Schema(s.ID); old != nil {
		if err := b.Designer(c).ReplaceSchema(c, s, old.Samples); err != nil {
			return err
		}
	} else if err := b.KeepSchema(c, s, samples); err != nil {
		return err
	}
	if d.Op.Give.Value != s.ID {
		if err := b.Save(c, d.Path, func(text []byte) ([]byte, error) {
			return partfile.Set(text, []any{"operations", d.indexOf(), "response"}, s.ID)
		}); err != nil {
			return err
		}
	}
	c.Redirect(303, operationAt(d.ID, d.Op.ID, d.In)+"&said="+url.QueryEscape("The shape is kept as the schema "+s.ID))
	return nil
}
