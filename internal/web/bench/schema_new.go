package bench

import (
	"bytes"
	"io"
	"path"
	"regexp"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/xsd"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var newSchemaView = page.Parse(files, "schemanew.html")

// maxBrought is the most bytes of a file or text that a schema is made of.
const maxBrought = project.MaxPart

// newSchemaPage is the form from which a schema begins.
type newSchemaPage struct {
	page.Frame
	SchemaTitle, Notation, Pasted, At string
	Connection, Query                 string
	Notations                         []string
	Connections                       []project.Part // to databases
	Fault                             *fault.Fault
}

func (b bench) newSchema(c *gin.Context) error {
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
		if p.Connection(part.ID).Kind == "sql" {
			out = append(out, part)
		}
	}
	return out
}

// sampledRows is how many rows of a table are kept as its schema's sample.
const sampledRows = 12

// fromDatabase makes the schema of a table or a query, with its first rows as a sample.
func (b bench) fromDatabase(c *gin.Context, d *newSchemaPage) (s *schema.Schema, sample []byte, err error) {
	id := partID(d.SchemaTitle)
	if id == "" {
		return nil, nil, fault.New(fault.Required, "the schema needs a title")
	}
	db, err := b.Outside.DB(d.Connection)
	if err != nil {
		return nil, nil, err
	}
	s, rows, err := db.Describe(c, id, d.Query, sampledRows)
	if err != nil {
		return nil, nil, err
	}
	s.Title = d.SchemaTitle
	n, err := all.Named("csv")
	if err != nil {
		return nil, nil, err
	}
	var text bytes.Buffer
	w, err := n.NewWriter(&text, notation.Options{Schema: s, Many: true})
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

// brought is the file or the pasted text of a form.
func brought(c *gin.Context) (name string, content []byte, err error) {
	if header, err := c.FormFile("file"); err == nil && header.Size > 0 {
		if header.Size > maxBrought {
			return "", nil, fault.New(fault.Limit, "the file is larger than %d bytes", maxBrought)
		}
		f, err := header.Open()
		if err != nil {
			return "", nil, err
		}
		defer f.Close()
		content, err = io.ReadAll(io.LimitReader(f, maxBrought))
		return FileName(header.Filename), content, err
	}
	text := c.PostForm("text")
	if len(text) > maxBrought {
		return "", nil, fault.New(fault.Limit, "the text is longer than %d bytes", maxBrought)
	}
	return "", []byte(text), nil
}

var unfit = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// FileName is a name under which a file can stand in a project's folder.
func FileName(name string) string {
	name = strings.Trim(unfit.ReplaceAllString(path.Base(strings.ReplaceAll(name, `\`, "/")), "-"), ".-")
	return name[:min(len(name), 80)]
}

// partID makes an id of a title.
func partID(title string) string {
	id := strings.Trim(strings.ToLower(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(title, "-")), "-")
	return id[:min(len(id), 60)]
}

// addSchema makes a schema: of a JSON Schema or an OpenAPI document, of a sample, or with one field
// to begin with. When that cannot be done the form comes back with the reason and all that stood in it.
func (b bench) addSchema(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	d := newSchemaPage{
		Frame: b.Frame(c, "bench", "New schema"), Notations: all.Names(), SchemaTitle: strings.TrimSpace(c.PostForm("title")),
		Notation: c.PostForm("notation"), Pasted: c.PostForm("text"), At: strings.TrimSpace(c.PostForm("at")),
		Connection: c.PostForm("connection"), Query: strings.TrimSpace(c.PostForm("query")), Connections: databases(p),
	}
	name, content, err := brought(c)
	var s *schema.Schema
	switch {
	case err != nil:
	case d.Query != "":
		if s, content, err = b.fromDatabase(c, &d); err == nil {
			err = b.keepSchema(c, p, s, s.ID+".csv", content, true)
		}
	default:
		if s, err = begun(&d, name, content); err == nil {
			err = b.keepSchema(c, p, s, name, content, d.At == "" && !described(content))
		}
	}
	if err == nil {
		c.Redirect(303, "/bench/schemas/"+s.ID)
		return nil
	}
	if err == store.ErrExists {
		err = fault.New(fault.Setting, "there is a schema %q already", partID(d.SchemaTitle)).Mended("Choose another title")
	}
	d.Fault = fault.From(err, fault.Syntax)
	newSchemaView.Page(c, d)
	return nil
}

// begun makes the schema that the form asks for.
func begun(d *newSchemaPage, name string, content []byte) (*schema.Schema, error) {
	if d.SchemaTitle == "" {
		d.SchemaTitle = strings.TrimSuffix(name, path.Ext(name))
	}
	id := partID(d.SchemaTitle)
	if id == "" {
		return nil, fault.New(fault.Required, "the schema needs a title")
	}
	if len(bytes.TrimSpace(content)) == 0 {
		return byHand(id, d), nil
	}
	if xmlSchema(content) {
		set, err := xsd.Load(name, content, nil)
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
		im, err := jsonschema.Import(id, name, content, d.At, nil)
		if err != nil {
			return nil, err
		}
		im.Schema.Title = d.SchemaTitle
		return im.Schema, nil
	}
	as := d.Notation
	if as == "" {
		as = infer.Notation(content)
	}
	r, err := infer.From(id, d.SchemaTitle, as, infer.Sample{Name: name, Content: content})
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
	s := &schema.Schema{ID: id, Title: d.SchemaTitle, Notation: d.Notation}
	if s.Notation == "" {
		s.Notation = "json"
	}
	f := &schema.Field{Name: "field", Kind: value.Text, Min: 1, Max: 1, Must: schema.Must{Places: -1}}
	if s.Notation == "fixedwidth" {
		f.Written.From, f.Written.To = 1, 10
	}
	s.Root = (&schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Fields: []*schema.Field{f}}).Sealed()
	return s
}

// keepSchema adds the schema and, where it was inferred from one, its sample.
func (b bench) keepSchema(c *gin.Context, p *project.Project, s *schema.Schema, name string, content []byte, sampled bool) error {
	sampled = sampled && len(bytes.TrimSpace(content)) > 0
	if name == "" {
		name = s.ID + "." + map[bool]string{true: "txt", false: s.Notation}[s.Notation == "fixedwidth"]
	}
	samplePath := project.Path(project.Samples, name)
	if _, taken := p.Texts[samplePath]; taken {
		name = s.ID + "-" + name
		samplePath = project.Path(project.Samples, name)
	}
	if sampled {
		s.Samples = []string{name}
	}
	return pgx.BeginFunc(c, b.DB, func(tx pgx.Tx) error {
		if err := store.AddPart(c, tx, p.ID, project.Path(project.Schemas, s.ID), string(schema.Write(s)), b.Person.ID); err != nil || !sampled {
			return err
		}
		return store.AddPart(c, tx, p.ID, samplePath, string(content), b.Person.ID)
	})
}
