package contract

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/route"
)

// Drawn is an operation as it is described by a form. What a form cannot say of it stays in the document as it is.
type Drawn struct {
	Was          string // the id of the operation that is changed; empty for a new one
	Method, Path string
	ID, Summary  string
	Parameters   []DrawnParameter
	Body         string // the name of a schema; AsItIs; empty: none
	BodyRequired bool
	Answers      []DrawnAnswer
}

// DrawnParameter is a parameter of an operation.
type DrawnParameter struct {
	Name, In string // one without a name is removed
	Type     string // of Types, or AsItIs
	Required bool
	Example  string
	Fixed    bool // it stands elsewhere in the document, and is not changed here
}

// DrawnAnswer is an answer of an operation.
type DrawnAnswer struct {
	Status, About string // one without a status is removed
	Schema        string // as of the body
}

// AsItIs is what a form says of a type that the document has and the form cannot say.
const AsItIs = "as in the document"

// Types are the types that a form knows, with what they are in JSON Schema.
var Types = []struct{ Name, Schema string }{
	{"text", `{"type": "string"}`},
	{"integer", `{"type": "integer"}`},
	{"decimal", `{"type": "number"}`},
	{"boolean", `{"type": "boolean"}`},
	{"date", `{"type": "string", "format": "date"}`},
	{"timestamp", `{"type": "string", "format": "date-time"}`},
	{"uuid", `{"type": "string", "format": "uuid"}`},
	{"list of texts", `{"type": "array", "items": {"type": "string"}}`},
}

// Methods are those that operations can have (OpenAPI 3.1, section 4.8.9).
var Methods = []string{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"}

// Places are where parameters can stand.
var Places = []string{"path", "query", "header", "cookie"}

// NewDocument is a contract without operations.
func NewDocument(title string) []byte {
	return partfile.Encode(partfile.Ordered{{Key: "openapi", Value: "3.1.0"}, {Key: "info", Value: partfile.Ordered{{Key: "title", Value: title}, {Key: "version", Value: "1.0.0"}}}, {Key: "paths", Value: partfile.Raw("{}")}})
}

// errDrawn says that a document is changed as text.
func errDrawn(document []byte) error {
	if isXML(document) {
		return fault.Expect(fault.Setting, "an OpenAPI document", "one in XML").WithFix("Change it as text, on the page Contract…")
	}
	return nil
}

// Draw reads an operation of a document as a form shows it.
func (c *Contract) Draw(document []byte, id string) (*Drawn, error) {
	o := c.Operation(id)
	if o == nil {
		return nil, fault.New(fault.Unknown, "the contract has no operation %s", fault.Quote(id))
	}
	if err := errDrawn(document); err != nil {
		return nil, err
	}
	n := partfile.Parse("contract", document).Root().Map("paths").Map(o.Path).Map(strings.ToLower(o.Method))
	d := &Drawn{Was: o.ID, Method: o.Method, Path: o.Path, ID: n.Text("operationId").Value, Summary: n.Text("summary").Value}
	for _, p := range n.List("parameters") {
		d.Parameters = append(d.Parameters, drawnParameter(p))
	}
	if b := n.Map("requestBody"); b.Present() {
		d.Body, d.BodyRequired = drawnContent(b), b.Text("required").Value == "true"
	}
	keys, _ := n.Map("responses").Pairs()
	for _, status := range keys {
		a := n.Map("responses").Map(status.Value)
		one := DrawnAnswer{Status: status.Value, About: a.Text("description").Value, Schema: drawnContent(a)}
		if a.Text("$ref").Value != "" {
			one.Schema = AsItIs
		}
		d.Answers = append(d.Answers, one)
	}
	return d, nil
}

func drawnParameter(n partfile.Node) DrawnParameter {
	if ref := n.Text("$ref").Value; ref != "" {
		return DrawnParameter{Name: ref[strings.LastIndex(ref, "/")+1:], Fixed: true, Type: AsItIs}
	}
	p := DrawnParameter{Name: n.Text("name").Value, In: n.Text("in").Value, Type: AsItIs, Required: n.Text("required").Value == "true", Example: n.Text("example").Value}
	s := n.Map("schema")
	for _, t := range Types {
		own := partfile.Parse("type", []byte(t.Schema)).Root()
		if s.Text("type").Value == own.Text("type").Value && s.Text("format").Value == own.Text("format").Value && s.Map("items").Text("type").Value == own.Map("items").Text("type").Value {
			p.Type = t.Name
		}
	}
	return p
}

// drawnContent is the schema of the first content as a form says it.
func drawnContent(n partfile.Node) string {
	types, _ := n.Map("content").Pairs()
	if len(types) == 0 {
		return ""
	}
	s := n.Map("content").Map(types[0].Value).Map("schema")
	if name, is := strings.CutPrefix(s.Text("$ref").Value, "#/components/schemas/"); is && types[0].Value == "application/json" {
		return name
	}
	return AsItIs
}

var (
	pathOK     = regexp.MustCompile(`^/[A-Za-z0-9._~{}/-]*$`)
	idOK       = regexp.MustCompile(`^[A-Za-z0-9._-]+$`)
	statusForm = regexp.MustCompile(`^([1-5][0-9][0-9]|[1-5]XX|default)$`)
)

// check finds what is wrong in the form before anything is written.
func (d *Drawn) check() error {
	switch {
	case !slices.Contains(Methods, d.Method):
		return fault.Expect(fault.Setting, "a method", fault.Quote(d.Method)).InField("method")
	case !pathOK.MatchString(d.Path):
		return fault.Expect(fault.Setting, "a path as /bookings/{number}", fault.Quote(d.Path)).InField("path")
	case !idOK.MatchString(d.ID):
		return fault.Expect(fault.Setting, "an id of letters, digits, . _ and -", fault.Quote(d.ID)).InField("id")
	}
	for _, p := range d.Parameters {
		if p.Name != "" && !p.Fixed && !slices.Contains(Places, p.In) {
			return fault.Expect(fault.Setting, "a place: "+strings.Join(Places, ", "), fault.Quote(p.In)).InField(p.Name)
		}
		if p.Name != "" && p.In == "path" && !slices.Contains(route.Parameters(d.Path), p.Name) {
			return fault.Expect(fault.Setting, "a parameter of the path "+d.Path, fault.Quote(p.Name)).InField(p.Name).WithFix("Write {%s} into the path, or let it stand in the query", p.Name)
		}
	}
	answers := 0
	for _, a := range d.Answers {
		if a.Status == "" {
			continue
		}
		if answers++; !statusForm.MatchString(a.Status) {
			return fault.Expect(fault.Setting, "a status as 200, 4XX or default", fault.Quote(a.Status)).InField("status")
		}
	}
	if answers == 0 {
		return fault.Expect(fault.Required, "at least one response", "none")
	}
	return nil
}

// Write writes the operation into a document, in place of what it was. Schemas are those that are named and that the document has not,
// as JSON Schema by their names.
func (d *Drawn) Write(document []byte, was *Contract, schemas map[string][]byte) ([]byte, error) {
	if err := errDrawn(document); err != nil {
		return nil, err
	}
	if err := d.check(); err != nil {
		return nil, err
	}
	if other := was.Operation(d.Method + " " + d.Path); other != nil && other.ID != d.Was {
		return nil, fault.New(fault.Setting, "there is %s already", other.Name()).InField("path")
	}
	w := &drawing{text: document, at: []any{"paths", d.Path, strings.ToLower(d.Method)}}
	if o := was.Operation(d.Was); o != nil && (o.Path != d.Path || o.Method != d.Method) {
		if err := w.move(o); err != nil {
			return nil, err
		}
	}
	w.set(d.ID, "operationId")
	w.set(d.Summary, "summary")
	w.parameters(d.parameters())
	w.content(d.Body, "requestBody")
	if d.Body != "" {
		w.set(map[bool]string{true: "true"}[d.BodyRequired], "requestBody", "required")
	}
	w.answers(d.Answers)
	for name, s := range schemas {
		w.put(partfile.Raw(s), []any{"components", "schemas", name})
	}
	if w.err == nil {
		w.text, w.err = as(document, w.text)
	}
	if w.err != nil {
		return nil, w.err
	}
	k, err := Read("contract", w.text)
	if err == nil && len(k.Faults) > 0 && len(was.Faults) == 0 {
		err = k.Faults[0]
	}
	return w.text, err
}

// parameters are those of the form, and those of the path that it does not name.
func (d *Drawn) parameters() (list []DrawnParameter) {
	list = slices.Clone(d.Parameters)
	for _, name := range route.Parameters(d.Path) {
		if !slices.ContainsFunc(list, func(p DrawnParameter) bool { return p.Name == name && (p.In == "path" || p.Fixed) }) {
			list = append(list, DrawnParameter{Name: name, In: "path", Type: "text", Required: true})
		}
	}
	return list
}

// drawing writes into a document; the first error stays.
type drawing struct {
	text []byte
	at   []any
	err  error
}

func (w *drawing) put(to any, path []any) {
	if w.err == nil {
		w.text, w.err = partfile.Set(w.text, path, to)
	}
}

// set sets a text of the operation; an empty one is taken out.
func (w *drawing) set(to string, path ...any) {
	w.put(to, append(w.at[:len(w.at):len(w.at)], path...))
}

// move lets an operation stand at another path or method.
func (w *drawing) move(o *Operation) error {
	was := []any{"paths", o.Path, strings.ToLower(o.Method)}
	piece, err := partfile.Piece(w.text, was)
	if err != nil {
		return err
	}
	w.put(partfile.Raw(piece), w.at)
	w.put("", was)
	return w.err
}

// parameters writes the parameters: those that were there in their places, others behind them.
func (w *drawing) parameters(list []DrawnParameter) {
	path := append(w.at[:len(w.at):len(w.at)], "parameters")
	here := partfile.Parse("contract", w.text).Root().Map("paths").Map(w.at[1].(string)).Map(w.at[2].(string)).List("parameters")
	for i := len(list) - 1; i >= 0; i-- { // from behind, so that what is taken out moves nothing that is still to be written
		p := list[i]
		switch {
		case p.Fixed:
		case i < len(here) && p.Name == "" && w.err == nil:
			w.text, w.err = partfile.Remove(w.text, path, i)
		case i < len(here):
			w.parameter(append(path[:len(path):len(path)], i), p)
		}
	}
	for _, p := range list[min(len(here), len(list)):] {
		if p.Name == "" || w.err != nil {
			continue
		}
		item := partfile.Ordered{{Key: "name", Value: p.Name}, {Key: "in", Value: p.In}}
		if p.Required || p.In == "path" {
			item.Add("required", "true")
		}
		item.Add("schema", partfile.Raw(schemaOfType(p.Type)))
		item.Add("example", p.Example)
		w.text, w.err = partfile.Insert(w.text, path, -1, item)
	}
}

func (w *drawing) parameter(at []any, p DrawnParameter) {
	under := func(path ...any) []any { return append(at[:len(at):len(at)], path...) }
	w.put(p.Name, under("name"))
	w.put(p.In, under("in"))
	w.put(map[bool]string{true: "true"}[p.Required || p.In == "path"], under("required"))
	w.put(p.Example, under("example"))
	if p.Type == AsItIs {
		return
	}
	own := partfile.Parse("type", []byte(schemaOfType(p.Type))).Root()
	w.put(own.Text("type").Value, under("schema", "type"))
	w.put(own.Text("format").Value, under("schema", "format"))
	if items := own.Map("items").Text("type").Value; items != "" {
		w.put(items, under("schema", "items", "type"))
	}
}

func schemaOfType(name string) string {
	for _, t := range Types {
		if t.Name == name {
			return t.Schema
		}
	}
	return Types[0].Schema
}

// content writes the schema of a body or an answer.
func (w *drawing) content(name string, path ...any) {
	at := append(append(w.at[:len(w.at):len(w.at)], path...), "content")
	switch name {
	case AsItIs:
	case "":
		if path[0] == "requestBody" {
			at = at[:len(at)-1]
		}
		w.put("", at)
	default:
		n := partfile.Parse("contract", w.text).Root().Map("paths").Map(w.at[1].(string)).Map(w.at[2].(string))
		for _, step := range path {
			n = n.Map(step.(string))
		}
		if drawnContent(n) == name {
			return
		}
		w.put(partfile.Raw(`{"application/json": {"schema": {"$ref": `+strconv.Quote("#/components/schemas/"+name)+`}}}`), at)
	}
}

// answers writes the answers; those that the form has no longer are taken out.
func (w *drawing) answers(list []DrawnAnswer) {
	keys, _ := partfile.Parse("contract", w.text).Root().Map("paths").Map(w.at[1].(string)).Map(w.at[2].(string)).Map("responses").Pairs()
	for _, k := range keys {
		if !slices.ContainsFunc(list, func(a DrawnAnswer) bool { return a.Status == k.Value }) {
			w.set("", "responses", k.Value)
		}
	}
	for _, a := range list {
		if a.Status == "" {
			continue
		}
		about := a.About
		if about == "" {
			about = "the response"
		}
		if a.Schema != AsItIs || a.About != "" {
			w.set(about, "responses", a.Status, "description")
		}
		w.content(a.Schema, "responses", a.Status)
	}
}

// Without takes an operation out of a document.
func Without(document []byte, o *Operation) ([]byte, error) {
	if err := errDrawn(document); err != nil {
		return nil, err
	}
	text, err := partfile.Set(document, []any{"paths", o.Path, strings.ToLower(o.Method)}, "")
	if err == nil && !partfile.Parse("contract", text).Root().Map("paths").Present() { // it was the last one
		text, err = partfile.Set(text, []any{"paths"}, partfile.Raw("{}"))
	}
	if err != nil {
		return nil, err
	}
	return as(document, text)
}

// SchemaNames are the names of the schemas of a document.
func SchemaNames(document []byte) (names []string) {
	keys, _ := partfile.Parse("contract", document).Root().Map("components").Map("schemas").Pairs()
	for _, k := range keys {
		names = append(names, k.Value)
	}
	return names
}
