package schemas

import (
	"bytes"
	"path"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/xsd"
	"hollowreed/internal/core/value"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

var newSchemaView = page.Parse(files, "new.html")

// newSchemaPage is the form from which a schema begins.
type newSchemaPage struct {
	page.Frame
	SchemaTitle, Notation, Pasted, At string
	Connection, Query                 string
	Notations                         []string
	Connections                       []project.Part // to databases
	Fault                             *fault.Fault
}

func (b pages) newSchema(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	newSchemaView.Page(c, newSchemaPage{Frame: b.Frame(c, "bench", "New schema"), Notations: all.Names(), Connections: databases(p)})
	return nil
}

// databases are the connections that can describe a table.
func databases(p *project.Project) []project.Part {
	var out []project.Part
	for _, part := range p.Parts(project.Connections) {
		if k := connection.KindOf(p.Connection(part.ID).Kind); k != nil && k.Tables {
			out = append(out, part)
		}
	}
	return out
}

// sampledRows is how many rows of a table are kept as its schema's sample.
const sampledRows = 12

// fromDatabase makes the schema of a table or a query, with its first rows as a sample.
func (b pages) fromDatabase(c *gin.Context, d *newSchemaPage) (s *schema.Schema, sample []byte, err error) {
	id := design.ID(d.SchemaTitle)
	if id == "" {
		return nil, nil, fault.New(fault.Required, "the schema needs a title")
	}
	db, err := b.Outside.Tables(c, d.Connection)
	if err != nil {
		return nil, nil, err
	}
	s, rows, err := db.Describe(c, id, d.Query, sampledRows)
	if err != nil {
		return nil, nil, err
	}
	s.Title = d.SchemaTitle
	var text bytes.Buffer
	w, err := all.Of(s).NewWriter(&text, notation.Options{Schema: s, Many: true})
	if err != nil {
		return nil, nil, err
	}
	for _, r := range rows {
		if err := w.Write(r); err != nil {
			return nil, nil, err
		}
	}
	err = w.Close()
	return s, text.Bytes(), err
}

// addSchema makes a schema: of a JSON Schema or an OpenAPI document, of a sample, or with one field
// to begin with. When that cannot be done the form comes back with the reason and all that stood in it.
func (b pages) addSchema(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := newSchemaPage{
		Frame: b.Frame(c, "bench", "New schema"), Notations: all.Names(), SchemaTitle: strings.TrimSpace(c.PostForm("title")),
		Notation: c.PostForm("notation"), Pasted: c.PostForm("text"), At: strings.TrimSpace(c.PostForm("at")),
		Connection: c.PostForm("connection"), Query: strings.TrimSpace(c.PostForm("query")), Connections: databases(p),
	}
	files, err := base.Uploads(c)
	var s *schema.Schema
	switch {
	case err != nil:
	case d.Query != "":
		var rows []byte
		if s, rows, err = b.fromDatabase(c, &d); err == nil {
			err = b.KeepSchema(c, s, []base.Upload{{Name: s.ID + "." + all.Of(s).Ending, Content: rows}})
		}
	default:
		files = base.Outermost(files)
		if s, err = begun(&d, files); err == nil {
			if d.At != "" || described(files[0].Content) {
				files = nil
			}
			err = b.KeepSchema(c, s, files)
		}
	}
	if err == nil {
		c.Redirect(303, "/bench/schemas/"+s.ID)
		return nil
	}
	if err == store.ErrExists {
		err = fault.New(fault.Setting, "there is a schema %q already", design.ID(d.SchemaTitle)).WithFix("Choose another title")
	}
	d.Fault = fault.From(err, fault.Syntax)
	newSchemaView.Page(c, d)
	return nil
}

// begun makes the schema that the form asks for.
func begun(d *newSchemaPage, files []base.Upload) (*schema.Schema, error) {
	name, content := files[0].Name, files[0].Content
	others := map[string][]byte{}
	for _, f := range files[1:] {
		others[f.Name] = f.Content
	}
	if d.SchemaTitle == "" {
		d.SchemaTitle = strings.TrimSuffix(name, path.Ext(name))
	}
	id := design.ID(d.SchemaTitle)
	if id == "" {
		return nil, fault.New(fault.Required, "the schema needs a title")
	}
	if len(bytes.TrimSpace(content)) == 0 {
		return byHand(id, d), nil
	}
	if xmlSchema(content) {
		set, err := xsd.Load(name, content, others)
		if err != nil {
			return nil, err
		}
		s, err := set.Import(id, d.At)
		if err == nil {
			s.Title = d.SchemaTitle
		}
		return s, err
	}
	if d.At != "" || described(content) {
		if name == "" {
			name = "pasted.json"
		}
		im, err := jsonschema.Import(id, name, content, d.At, others)
		if err != nil {
			return nil, err
		}
		im.Schema.Title = d.SchemaTitle
		return im.Schema, nil
	}
	as := infer.Notation(content)
	if d.Notation != "" {
		var err error
		if as, err = all.Named(d.Notation); err != nil {
			return nil, err
		}
	}
	samples := make([]infer.Sample, len(files))
	for i, f := range files {
		samples[i] = infer.Sample{Name: f.Name, Content: f.Content}
	}
	r, err := infer.From(id, d.SchemaTitle, as, samples...)
	if err != nil {
		return nil, err
	}
	return r.Schema, nil
}

// xmlSchema says whether a text is an XML Schema.
func xmlSchema(content []byte) bool {
	head := content[:min(len(content), 4096)]
	return bytes.HasPrefix(bytes.TrimSpace(content), []byte("<")) && bytes.Contains(head, []byte("http://www.w3.org/2001/XMLSchema\"")) &&
		bytes.Contains(head, []byte("schema"))
}

// described says whether a text is itself a description of data: an XML Schema or a JSON Schema.
func described(content []byte) bool {
	return xmlSchema(content) || bytes.HasPrefix(bytes.TrimSpace(content), []byte("{")) &&
		(bytes.Contains(content, []byte(`"$schema"`)) || bytes.Contains(content, []byte(`"properties"`)) && bytes.Contains(content, []byte(`"type"`)))
}

func byHand(id string, d *newSchemaPage) *schema.Schema {
	s := &schema.Schema{ID: id, Title: d.SchemaTitle, Notation: json.Kind.Notation}
	if k, err := all.Named(d.Notation); err == nil {
		s.Notation = k.Notation
	}
	f := &schema.Field{Name: "field", Kind: value.Text, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	if s.Notation.Columns {
		f.WireFormat.From, f.WireFormat.To = 1, 10
	}
	s.Root = (&schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Fields: []*schema.Field{f}}).Compiled()
	return s
}
