package contract

import (
	"bytes"
	"cmp"
	stdjson "encoding/json"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/schema/jsonschema"
)

// Bounds on one document.
const (
	maxOperations = 20_000
	maxReferences = 20 // one after another
	maxDocument   = 32 << 20
)

// methods are those that a path may have, in the order in which operations stand.
var methods = []string{"get", "put", "post", "delete", "options", "head", "patch", "trace"}

type reader struct {
	name string
	root node
	out  *Contract
	ids  map[string]*Operation
}

// Read reads an OpenAPI document, in JSON or YAML, or a WSDL document. The error is a *fault.Fault for which it is no document at all; what is wrong
// with a part of it is among the contract's faults, and what it holds that does nothing here among its notes.
func Read(name string, text []byte) (*Contract, error) {
	if len(text) > maxDocument {
		return nil, fault.New(fault.Limit, "the document is larger than %d bytes", maxDocument).At(fault.Place{Source: name})
	}
	if isXML(text) {
		return readWSDL(name, text)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be read: %s", strings.TrimPrefix(err.Error(), "yaml: ")).At(fault.Place{Source: name})
	}
	r := &reader{name: name, ids: map[string]*Operation{}, out: &Contract{file: strings.TrimPrefix(name, "contracts/"), Schemes: map[string]*Scheme{}, made: map[string]*Described{}}}
	if len(doc.Content) > 0 {
		r.root = node{doc.Content[0], ""}
	}
	r.out.OpenAPI = r.root.get("openapi").text()
	if !strings.HasPrefix(r.out.OpenAPI, "3.0") && !strings.HasPrefix(r.out.OpenAPI, "3.1") {
		found := "openapi: " + r.out.OpenAPI
		if v := r.root.get("swagger").text(); v != "" {
			found = "swagger: " + v
		}
		return nil, fault.Expect(fault.Setting, "an OpenAPI document of version 3.0 or 3.1", fault.Quote(found)).At(r.root.place(name))
	}
	r.out.root = r.root
	var err error
	source := name
	if !bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) && !strings.HasSuffix(name, ".yaml") && !strings.HasSuffix(name, ".yml") {
		source += ".yaml" // by which the reader of schemas knows it
	}
	if r.out.document, err = jsonschema.Open(source, text, nil); err != nil {
		return nil, err
	}
	r.head()
	r.paths()
	r.ambiguous()
	return r.out, nil
}

func (r *reader) fault(n node, format string, args ...any) {
	r.out.Faults.Add(fault.New(fault.Setting, format, args...).At(n.place(r.name)))
}

func (r *reader) note(n node, format string, args ...any) {
	r.out.Notes = append(r.out.Notes, fault.New(fault.Setting, format, args...).At(n.place(r.name)))
}

func (r *reader) head() {
	info := r.root.get("info")
	r.out.Title, r.out.Version, r.out.Description = info.get("title").text(), info.get("version").text(), info.get("description").text()
	if r.out.Title == "" {
		r.fault(r.root, "the document has no title (info/title)")
	}
	r.root.get("servers").items(func(s node) { r.out.Servers = append(r.out.Servers, s.get("url").text()) })
	r.root.get("components").get("securitySchemes").members(func(name string, n node) {
		n = r.followed(n)
		s := &Scheme{Type: n.get("type").text(), In: n.get("in").text(), Name: n.get("name").text(), Scheme: strings.ToLower(n.get("scheme").text()), OpenIDConnectURL: n.get("openIdConnectUrl").text()}
		if !slices.Contains([]string{"apiKey", "http", "mutualTLS", "oauth2", "openIdConnect"}, s.Type) {
			r.fault(n, "the security scheme %s: expected a type as apiKey, http, mutualTLS, oauth2 or openIdConnect, found %q", name, s.Type)
		}
		r.out.Schemes[name] = s
	})
	if hooks := r.root.get("webhooks"); hooks.there() {
		r.note(hooks, "webhooks are kept and not called")
	}
}

// followed is what a reference leads to, in the same document.
func (r *reader) followed(n node) node {
	for range maxReferences {
		ref := n.get("$ref").text()
		if ref == "" {
			return n
		}
		at, inside := strings.CutPrefix(ref, "#")
		if !inside {
			r.fault(n, "%s stands in another document, which is not read", ref)
			return node{}
		}
		to := r.root
		for step := range strings.SplitSeq(strings.TrimPrefix(at, "/"), "/") {
			to = to.get(strings.ReplaceAll(strings.ReplaceAll(step, "~1", "/"), "~0", "~"))
		}
		if !to.there() {
			r.fault(n, "%s leads nowhere", ref)
			return node{}
		}
		n = to
	}
	r.fault(n, "the reference goes round in a circle")
	return node{}
}

func (r *reader) paths() {
	r.root.get("paths").members(func(path string, item node) {
		if strings.HasPrefix(path, "x-") {
			return
		}
		if !strings.HasPrefix(path, "/") {
			r.fault(item, "the path %q does not begin with a slash", path)
		}
		item = r.followed(item)
		common := r.parameters(item.get("parameters"))
		for _, method := range methods {
			if n := item.get(method); n.there() {
				r.operation(strings.ToUpper(method), path, n, common)
			}
		}
		if s := item.get("servers"); s.there() {
			r.note(s, "servers of one path are kept and not used")
		}
	})
}

func (r *reader) operation(method, path string, n node, common []*Parameter) {
	if len(r.out.Operations) == maxOperations {
		r.fault(n, "the document has more than %d operations", maxOperations)
	}
	if len(r.out.Operations) >= maxOperations {
		return
	}
	o := &Operation{
		ID: n.get("operationId").text(), Method: method, Path: path, Summary: n.get("summary").text(), Description: n.get("description").text(),
		Tags: n.get("tags").texts(), Deprecated: n.get("deprecated").yes(), At: n.place(r.name),
	}
	if o.ID == "" {
		o.ID = o.Name()
	}
	if other := r.ids[o.ID]; other != nil {
		r.fault(n.get("operationId"), "the id %s is that of %s, too", fault.Quote(o.ID), other.Name())
	}
	r.ids[o.ID] = o
	o.Parameters = joined(common, r.parameters(n.get("parameters")))
	r.inPath(o, n)
	if body := r.followed(n.get("requestBody")); body.there() {
		o.Body = &Body{Required: body.get("required").yes(), Media: r.media(body.get("content")), At: body.place(r.name)}
	}
	n.get("responses").members(func(status string, a node) {
		if !strings.HasPrefix(status, "x-") {
			o.Answers = append(o.Answers, r.answer(status, a))
		}
	})
	if len(o.Answers) == 0 {
		r.fault(n, "%s says nothing of its answers", o.Name())
	}
	o.Security = r.security(n)
	if c := n.get("callbacks"); c.there() {
		r.note(c, "%s: callbacks are kept and not called", o.Name())
	}
	r.out.Operations = append(r.out.Operations, o)
}

// joined are the parameters of a path and those of an operation, which take the place of others of the same name.
func joined(common, own []*Parameter) (list []*Parameter) {
	for _, p := range common {
		if !slices.ContainsFunc(own, func(o *Parameter) bool { return o.Name == p.Name && o.In == p.In }) {
			list = append(list, p)
		}
	}
	return append(list, own...)
}

// inPath compares the parameters of an operation with those that its path names.
func (r *reader) inPath(o *Operation, n node) {
	named := route.Parameters(o.Path)
	for _, name := range named {
		if !slices.ContainsFunc(o.Parameters, func(p *Parameter) bool { return p.In == "path" && p.Name == name }) {
			r.fault(n, "%s: the path names %s, which is no parameter", o.Name(), fault.Quote(name))
		}
	}
	for _, p := range o.Parameters {
		switch {
		case p.In != "path":
		case !slices.Contains(named, p.Name):
			r.fault(n, "%s: the path does not name the parameter %s", o.Name(), fault.Quote(p.Name))
		case !p.Required:
			r.fault(n, "%s: the parameter %s of the path is not required, though it always is there", o.Name(), fault.Quote(p.Name))
		}
	}
}

func (r *reader) parameters(n node) (list []*Parameter) {
	n.items(func(p node) {
		if p = r.followed(p); p.there() {
			list = append(list, r.parameter(p.get("name").text(), p.get("in").text(), p))
		}
	})
	return list
}

// styles are how values are written, by where they stand, unless it is said.
var styles = map[string]string{"path": "simple", "header": "simple", "query": "form", "cookie": "form"}

func (r *reader) parameter(name, in string, n node) *Parameter {
	p := &Parameter{Name: name, In: in, Required: n.get("required").yes(), Deprecated: n.get("deprecated").yes(), Description: n.get("description").text(), At: n.place(r.name)}
	p.Style = cmp.Or(n.get("style").text(), styles[in])
	p.Explode = p.Style == "form"
	if e := n.get("explode"); e.there() {
		p.Explode = e.yes()
	}
	if styles[in] == "" {
		r.fault(n, "the parameter %s: expected a place as path, query, header or cookie, found %q", name, in)
	}
	if s := n.get("schema"); s.there() {
		p.Schema = r.schema(s)
	} else if list := r.media(n.get("content")); len(list) > 0 {
		p.Schema, p.Media = list[0].Schema, list[0].Type
	}
	p.Examples = r.examples(n)
	return p
}

// schema is the place of a schema: where it is a reference, that to which it leads, so that one schema has one place.
func (r *reader) schema(n node) string {
	if ref := n.get("$ref").text(); strings.HasPrefix(ref, "#/") && len(n.Content) == 2 {
		if r.followed(n).there() {
			return ref[1:]
		}
		return ""
	}
	return n.pointer
}

func (r *reader) media(n node) (list []Media) {
	n.members(func(typ string, m node) {
		one := Media{Type: typ, Examples: r.examples(m)}
		if s := m.get("schema"); s.there() {
			one.Schema = r.schema(s)
			if len(one.Examples) == 0 {
				one.Examples = r.examples(r.followed(s))
			}
		}
		list = append(list, one)
	})
	return list
}

// examples are those that stand beside a schema.
func (r *reader) examples(n node) (list []Example) {
	if e := n.get("example"); e.there() {
		list = append(list, Example{Value: asJSON(e)})
	}
	if e := n.get("examples"); e.there() && e.Kind == yaml.SequenceNode { // of a schema
		e.items(func(v node) { list = append(list, Example{Value: asJSON(v)}) })
		return list
	}
	n.get("examples").members(func(name string, e node) {
		if e = r.followed(e); e.get("value").there() {
			list = append(list, Example{Name: name, Value: asJSON(e.get("value"))})
		} else if e.get("externalValue").there() {
			r.note(e, "the example %s stands elsewhere, and nothing is fetched", name)
		}
	})
	return list
}

// asJSON is a value of the document as JSON, with its members in their order and its numbers with their digits.
func asJSON(n node) string {
	var b strings.Builder
	writeJSON(&b, n)
	return b.String()
}

func writeJSON(b *strings.Builder, n node) {
	switch {
	case !n.there():
		b.WriteString("null")
	case n.Kind == yaml.AliasNode:
		writeJSON(b, node{n.Alias, n.pointer})
	case n.Kind == yaml.MappingNode:
		sep := "{"
		n.members(func(name string, v node) {
			b.WriteString(sep)
			writeText(b, name)
			b.WriteByte(':')
			writeJSON(b, v)
			sep = ","
		})
		b.WriteString(map[bool]string{true: "{}", false: "}"}[sep == "{"])
	case n.Kind == yaml.SequenceNode:
		sep := "["
		n.items(func(v node) {
			b.WriteString(sep)
			writeJSON(b, v)
			sep = ","
		})
		b.WriteString(map[bool]string{true: "[]", false: "]"}[sep == "["])
	case n.ShortTag() == "!!null":
		b.WriteString("null")
	case n.ShortTag() == "!!bool":
		fmt.Fprint(b, n.yes())
	case (n.ShortTag() == "!!int" || n.ShortTag() == "!!float") && stdjson.Valid([]byte(n.Value)):
		b.WriteString(n.Value)
	default:
		writeText(b, n.Value)
	}
}

func writeText(b *strings.Builder, text string) {
	quoted, _ := stdjson.Marshal(text) // texts can be marshalled
	b.Write(quoted)
}

func (r *reader) answer(status string, n node) *Answer {
	at := n
	n = r.followed(n)
	a := &Answer{Status: strings.ToUpper(status), Description: n.get("description").text(), Media: r.media(n.get("content")), At: at.place(r.name)}
	if status == "default" {
		a.Status = status
	} else if !statusOK(a.Status) {
		r.fault(at, "expected a status as 200, 4XX or default, found %q", status)
	}
	n.get("headers").members(func(name string, h node) {
		if h = r.followed(h); h.there() {
			a.Headers = append(a.Headers, r.parameter(name, "header", h))
		}
	})
	if l := n.get("links"); l.there() {
		r.note(l, "links between operations are kept and do nothing")
	}
	return a
}

func statusOK(s string) bool {
	if len(s) != 3 || s[0] < '1' || s[0] > '5' {
		return false
	}
	return s[1:] == "XX" || s[1] >= '0' && s[1] <= '9' && s[2] >= '0' && s[2] <= '9'
}

// security is who may call: what the operation says, or else the document.
func (r *reader) security(n node) (list [][]Need) {
	said := n.get("security")
	if !said.there() {
		said = r.root.get("security")
	}
	said.items(func(one node) {
		needs := []Need{}
		one.members(func(name string, scopes node) {
			if r.out.Schemes[name] == nil {
				r.fault(one, "there is no security scheme %s", fault.Quote(name))
			}
			needs = append(needs, Need{name, scopes.texts()})
		})
		list = append(list, needs)
	})
	return list
}

// ambiguous tells of operations of which a request could be either.
func (r *reader) ambiguous() {
	seen := map[string]*Operation{}
	for _, o := range r.out.Operations {
		key := o.Method + " " + route.Shape(o.Path)
		if other := seen[key]; other != nil {
			r.out.Faults.Add(fault.New(fault.Setting, "a request for %s could be one for %s", o.Name(), other.Path).At(o.At))
			continue
		}
		seen[key] = o
	}
}
