// Package openapi takes the operations of an OpenAPI 3 document with their schemas, as operations of
// a connection.
package openapi

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/value"
)

// Bounds on what is taken of one document.
const (
	mostOperations = 2000
	mostParameters = 200     // of one operation
	mostFields     = 300_000 // of all of its schemas
)

type taker struct {
	connection string
	name       string
	schemas    *jsonschema.Document
	unread     error // why schemas cannot be made of it
	doc        *openapi3.T
	out        *system.Import
	made       map[string]*schema.Schema // by place in the document
	fields     int
	ids        map[string]int // of operations, with how many wanted each
}

// Importer takes the operations of an OpenAPI document.
var Importer = &system.Importer{Document: "an OpenAPI document", Read: func(id string, documents []system.Document) (*system.Import, error) {
	return Take(id, documents[0].Name, documents[0].Content)
}}

// Take reads a document, in JSON or YAML, for the connection of an id.
func Take(connection, name string, text []byte) (*system.Import, error) {
	l := openapi3.NewLoader()
	l.IsExternalRefsAllowed = false
	d, err := l.LoadFromData(text)
	if err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be read: %s", err).At(fault.Place{Source: name})
	}
	if !strings.HasPrefix(d.OpenAPI, "3.") {
		return nil, fault.Expect(fault.Setting, "an OpenAPI 3 document", fault.Quote("openapi: "+d.OpenAPI)).At(fault.Place{Source: name})
	}
	t := &taker{connection: connection, name: name, doc: d, out: &system.Import{Settings: map[string]string{}}, made: map[string]*schema.Schema{}, ids: map[string]int{}}
	t.schemas, t.unread = jsonschema.Open(name, text, nil)
	if len(d.Servers) > 0 && d.Servers[0] != nil {
		t.out.Settings["address"] = strings.TrimSuffix(d.Servers[0].URL, "/")
	}
	t.security()
	return t.out, t.operations()
}

func (t *taker) note(format string, args ...any) {
	t.out.Notes = append(t.out.Notes, fmt.Sprintf(format, args...))
}

// security turns the first way to sign in that the document wants into settings.
func (t *taker) security() {
	for _, want := range t.doc.Security {
		for name := range want {
			if t.doc.Components == nil {
				continue
			}
			if s := t.doc.Components.SecuritySchemes[name]; s != nil && s.Value != nil {
				t.scheme(s.Value)
				return
			}
		}
	}
}

func (t *taker) scheme(s *openapi3.SecurityScheme) {
	set := t.out.Settings
	switch {
	case s.Type == "http" && strings.EqualFold(s.Scheme, "bearer"):
		set["sign in"] = "bearer token"
	case s.Type == "http" && strings.EqualFold(s.Scheme, "basic"):
		set["sign in"] = "basic"
	case s.Type == "apiKey" && s.In == "header":
		set["sign in"], set["key name"] = "key in a header", s.Name
	case s.Type == "apiKey" && s.In == "query":
		set["sign in"], set["key name"] = "key in the query", s.Name
	case s.Type == "oauth2" && s.Flows != nil && s.Flows.AuthorizationCode != nil:
		t.flow("oauth consent", s.Flows.AuthorizationCode)
	case s.Type == "oauth2" && s.Flows != nil && s.Flows.ClientCredentials != nil:
		t.flow("oauth client credentials", s.Flows.ClientCredentials)
	default:
		t.note("a sign-in of type %s is not known here", s.Type)
	}
}

func (t *taker) flow(kind string, f *openapi3.OAuthFlow) {
	set := t.out.Settings
	set["sign in"], set["token at"], set["authorize at"] = kind, f.TokenURL, f.AuthorizationURL
	var scopes []string
	for s := range f.Scopes {
		scopes = append(scopes, s)
	}
	sort.Strings(scopes)
	set["scopes"] = strings.Join(scopes, " ")
}

func (t *taker) operations() error {
	paths := t.doc.Paths.Map()
	names := make([]string, 0, len(paths))
	for p := range paths {
		names = append(names, p)
	}
	sort.Strings(names)
	for _, p := range names {
		for _, method := range []string{"GET", "POST", "PUT", "PATCH", "DELETE"} {
			if paths[p] == nil || paths[p].GetOperation(method) == nil {
				continue
			}
			o := paths[p].GetOperation(method)
			if len(t.out.Operations) >= mostOperations {
				return fault.New(fault.Limit, "the document has more than %d operations", mostOperations)
			}
			if err := t.operation(p, method, paths[p], o); err != nil {
				return err
			}
		}
	}
	return nil
}

var unfit = regexp.MustCompile(`[^A-Za-z0-9]+`)

var hump = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// ident makes an id of a name as listBookings: list-bookings.
func ident(name string) string {
	return strings.ToLower(strings.Trim(unfit.ReplaceAllString(hump.ReplaceAllString(name, "$1-$2"), "-"), "-"))
}

// fieldName is the name of the request's field for a parameter.
func fieldName(name string) string { return strings.Trim(unfit.ReplaceAllString(name, "_"), "_") }

// step is a name as a step of a JSON Pointer.
func step(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

func (t *taker) operation(path, method string, item *openapi3.PathItem, o *openapi3.Operation) error {
	name := o.OperationID
	if name == "" {
		name = strings.ToLower(method) + path
	}
	id := cmp.Or(ident(name), "operation")
	for first := id; t.ids[id] > 0; id = fmt.Sprintf("%s-%d", first, t.ids[first]) {
		t.ids[first]++
	}
	t.ids[id] = 1
	title := o.Summary
	if title == "" {
		title = id
	}
	out := partfile.Ordered{{Key: "operation", Value: id}, {Key: "name", Value: title}, {Key: "kind", Value: operationKind(method)}}
	if method != defaultMethod(method) {
		out.Add("method", method)
	}
	at := "/paths/" + step(path) + "/" + strings.ToLower(method)
	response, err := t.response(id, at, o, &out)
	if err != nil {
		return err
	}
	pages := paged(o, item, response)
	request := t.parameters(id, path, item, o, pages, &out)
	if err := t.body(id, at, o, request, &out); err != nil {
		return err
	}
	if len(request.Fields) > 0 {
		s := &schema.Schema{ID: t.connection + "-" + id + "-request", Title: title + ": asked with", Notation: json.Kind.Notation, Root: request.Compiled()}
		t.out.Schemas = append(t.out.Schemas, s)
		out.Add("request", s.ID)
	}
	for _, set := range pages {
		out.Add(set[0], set[1])
	}
	t.out.Operations = append(t.out.Operations, out)
	return nil
}

func operationKind(method string) string {
	if method == "GET" {
		return "read"
	}
	return "call"
}

func defaultMethod(method string) string {
	if method == "GET" {
		return "GET"
	}
	return "POST"
}

// parameters adds a field for each parameter that is not about paging, and where it is sent.
func (t *taker) parameters(id, path string, item *openapi3.PathItem, o *openapi3.Operation, pages [][2]string, out *partfile.Ordered) *schema.Field {
	request := &schema.Field{Name: t.connection + "-" + id + "-request", Kind: value.RecordKind, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	var query, headers partfile.Ordered
	seen := map[[2]string]bool{} // those of the operation go before those of its path
	for _, ref := range append(slices.Clone(o.Parameters), item.Parameters...) {
		if ref == nil || ref.Value == nil {
			continue
		}
		p := ref.Value
		key := [2]string{p.In, p.Name}
		if seen[key] || paging(pages, p.Name) {
			continue
		}
		seen[key] = true
		if p.Name == "" || len(request.Fields) >= mostParameters {
			t.note("%s: a parameter without a name, or beyond %d of them, is left out", id, mostParameters)
			continue
		}
		name := freeName(request, cmp.Or(fieldName(p.Name), "parameter"))
		f := &schema.Field{Name: name, Kind: kindOf(p.Schema), Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, Notes: p.Description}
		if p.Required {
			f.Min = 1
		}
		if p.Schema != nil && p.Schema.Value != nil && p.Schema.Value.Type.Is("array") {
			f.Max, f.Kind = schema.Many, kindOf(p.Schema.Value.Items)
			constrain(f, p.Schema.Value.Items)
		} else {
			constrain(f, p.Schema)
		}
		switch p.In {
		case "path":
			path = strings.ReplaceAll(path, "{"+p.Name+"}", "{"+name+"}")
		case "query":
			query.Add(p.Name, name)
		case "header":
			if p.Name == "Idempotency-Key" {
				out.Add("key", p.Name) // the engine gives it
				continue
			}
			headers.Add(p.Name, name)
		default:
			t.note("%s: the parameter %s in %s is left out", id, p.Name, p.In)
			continue
		}
		request.Fields = append(request.Fields, f)
	}
	out.Add("path", path)
	out.Add("query", query)
	out.Add("headers", headers)
	return request
}

// constrain takes over the codes and the lengths of a parameter: callers see what may be sent.
func constrain(f *schema.Field, ref *openapi3.SchemaRef) {
	if ref == nil || ref.Value == nil {
		return
	}
	s, m := ref.Value, &f.Constraints
	for _, e := range s.Enum {
		text := ""
		switch e := e.(type) {
		case string:
			text = e
		case float64:
			text = strconv.FormatFloat(e, 'f', -1, 64)
		}
		if text == "" || f.Kind != value.Text && f.Kind != value.Integer && f.Kind != value.Decimal {
			m.Codes = nil // null among them, or something that is no code
			break
		}
		m.Codes = append(m.Codes, schema.Code{Value: text})
	}
	if f.Kind == value.Text && s.MaxLength != nil && *s.MaxLength < 1<<20 {
		m.MaxLength = int(*s.MaxLength)
	}
}

// freeName is a name that no field of a request has yet.
func freeName(request *schema.Field, name string) string {
	for first, n := name, 2; slices.ContainsFunc(request.Fields, func(f *schema.Field) bool { return f.Name == name }); n++ {
		name = fmt.Sprintf("%s_%d", first, n)
	}
	return name
}

func paging(pages [][2]string, name string) bool {
	return slices.ContainsFunc(pages, func(p [2]string) bool { return p[0] == "page" && p[1] == name })
}

var kinds = map[string]value.Kind{"integer": value.Integer, "number": value.Decimal, "boolean": value.Boolean}

func kindOf(s *openapi3.SchemaRef) value.Kind {
	if s == nil || s.Value == nil {
		return value.Text
	}
	for name, k := range kinds {
		if s.Value.Type.Is(name) {
			return k
		}
	}
	switch s.Value.Format {
	case "date-time":
		return value.Timestamp
	case "date":
		return value.Date
	}
	return value.Text
}

// body adds the body as one field of the request.
func (t *taker) body(id, at string, o *openapi3.Operation, request *schema.Field, out *partfile.Ordered) error {
	if o.RequestBody == nil || o.RequestBody.Value == nil {
		return nil
	}
	content := o.RequestBody.Value.Content
	media, ok := mediaOf(content)
	if !ok {
		t.note("%s: a body of %s is left out", id, strings.Join(mediaNames(content), ", "))
		return nil
	}
	f := &schema.Field{Name: freeName(request, "body"), Kind: value.Binary, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
	if o.RequestBody.Value.Required {
		f.Min = 1
	}
	if s := content[media].Schema; s != nil && s.Value != nil && isRecord(s.Value) {
		made, err := t.schema(t.connection+"-"+id+"-body", place(s, refAt(o.RequestBody.Ref, at+"/requestBody")+"/content/"+step(media)+"/schema"), false)
		if err != nil {
			return err
		}
		f.Kind, f.Fields = value.RecordKind, made.Root.Fields
	}
	request.Fields = append(request.Fields, f)
	out.Add("body", f.Name)
	if media != "application/json" {
		out.Add("media", media)
	}
	return nil
}

func isRecord(s *openapi3.Schema) bool {
	return s.Type.Is("object") || len(s.Properties) > 0 || len(s.AllOf) > 0
}

func refAt(ref, at string) string {
	if strings.HasPrefix(ref, "#/") {
		return ref[1:]
	}
	return at
}

// place is where a schema stands in the document.
func place(s *openapi3.SchemaRef, at string) string { return refAt(s.Ref, at) }

var known = []string{"application/json", "application/x-www-form-urlencoded", "multipart/form-data", "application/octet-stream"}

func mediaOf(c openapi3.Content) (string, bool) {
	for _, m := range known {
		if c[m] != nil {
			return m, true
		}
	}
	return "", false
}

func mediaNames(c openapi3.Content) []string {
	names := make([]string, 0, len(c))
	for n := range c {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// response takes the schema of the records of the first answer that is well.
func (t *taker) response(id, at string, o *openapi3.Operation, out *partfile.Ordered) (*openapi3.Response, error) {
	if o.Responses == nil {
		return nil, nil
	}
	for _, status := range []string{"200", "201", "202", "203", "default"} {
		ref := o.Responses.Value(status)
		if ref == nil || ref.Value == nil {
			continue
		}
		media, found := answerMedia(ref.Value.Content)
		if !found {
			return ref.Value, nil
		}
		s := ref.Value.Content[media].Schema
		if s == nil || s.Value == nil {
			return ref.Value, nil
		}
		where := place(s, refAt(ref.Ref, at+"/responses/"+status)+"/content/"+step(media)+"/schema")
		return ref.Value, t.records(id, s, where, out)
	}
	return nil, nil
}

func answerMedia(c openapi3.Content) (string, bool) {
	if c["application/json"] != nil {
		return "application/json", true
	}
	for _, name := range mediaNames(c) {
		if strings.HasSuffix(name, "+json") && c[name] != nil {
			return name, true
		}
	}
	return "", false
}

// records takes the records that stand in an answer: in its one list where there is nothing else but paging, or the answer
// itself.
func (t *taker) records(id string, s *openapi3.SchemaRef, where string, out *partfile.Ordered) error {
	inner := s
	if s.Value.Type.Is("array") && s.Value.Items != nil {
		inner, where = s.Value.Items, place(s.Value.Items, where+"/items")
	} else if name, items, others := oneList(s.Value); items != nil && len(others) > 0 {
		if len(others) <= mostBeside { // with more it is a record of its own that has a list in it
			t.note("%s: its answer is taken as a whole. To read the entries of %s as records, set Records to /%s; then %s would be left out", id, name, step(name), strings.Join(others, ", "))
		}
	} else if items != nil {
		list := s.Value.Properties[name]
		where = place(items, place(list, where+"/properties/"+step(name))+"/items")
		inner = items
		out.Add("records", "/"+step(name))
	}
	if inner.Value == nil || !isRecord(inner.Value) {
		t.note("%s: its answer is no record; it is taken as it comes", id)
		return nil
	}
	made, err := t.schema(t.connection+"-"+id, where, true)
	if err != nil {
		return err
	}
	out.Add("response", made.ID)
	return nil
}

// mostBeside is how many fields beside a list an answer may have for its entries to be proposed as the records.
const mostBeside = 3

// pagingNames are the names of what an answer tells of its pages, in lower case and without - and _.
var pagingNames = map[string]bool{
	"next": true, "nextcursor": true, "nexttoken": true, "nextpage": true, "nextpagetoken": true, "cursor": true, "prev": true, "previous": true, "prevcursor": true,
	"first": true, "last": true, "page": true, "pages": true, "pagesize": true, "perpage": true, "limit": true, "offset": true, "total": true, "totalcount": true,
	"totalitems": true, "totalpages": true, "count": true, "size": true, "hasmore": true, "more": true, "links": true, "self": true, "paging": true, "pagination": true,
}

// oneList is the only list of records of an object; others are the names beside it that tell nothing of pages.
func oneList(s *openapi3.Schema) (name string, items *openapi3.SchemaRef, others []string) {
	for _, n := range slices.Sorted(maps.Keys(s.Properties)) {
		p := s.Properties[n]
		list := p != nil && p.Value != nil && p.Value.Type.Is("array") && p.Value.Items != nil && p.Value.Items.Value != nil && isRecord(p.Value.Items.Value)
		switch {
		case list && items == nil:
			name, items = n, p.Value.Items
		case list:
			return "", nil, nil
		case !pagingNames[strings.NewReplacer("-", "", "_", "").Replace(strings.ToLower(n))]:
			others = append(others, n)
		}
	}
	return name, items, others
}

// schema imports the schema at a place, once; one of the components keeps its name.
func (t *taker) schema(id, at string, keep bool) (*schema.Schema, error) {
	if s := t.made[at]; s != nil {
		return s, nil
	}
	if name, ok := strings.CutPrefix(at, "/components/schemas/"); ok {
		id = t.connection + "-" + cmp.Or(ident(name), fmt.Sprintf("schema-%d", len(t.made)+1))
	}
	if t.unread != nil {
		return nil, t.unread
	}
	im, err := t.schemas.Import(id, at)
	if err != nil {
		return nil, err
	}
	im.Schema.Root.Walk(func([]string, *schema.Field) { t.fields++ })
	if t.fields > mostFields {
		return nil, fault.New(fault.Limit, "the schemas of the document have more than %d fields", mostFields).At(fault.Place{Source: t.name})
	}
	im.Schema.Title = schema.Titled(strings.TrimPrefix(id, t.connection+"-"))
	if !keep {
		return im.Schema, nil
	}
	t.made[at] = im.Schema
	t.out.Schemas = append(t.out.Schemas, im.Schema)
	return im.Schema, nil
}

// paged guesses from parameters and answer how further pages are asked for.
func paged(o *openapi3.Operation, item *openapi3.PathItem, res *openapi3.Response) [][2]string {
	has := map[string]bool{}
	for _, p := range append(slices.Clone(o.Parameters), item.Parameters...) {
		if p != nil && p.Value != nil && p.Value.In == "query" {
			has[p.Value.Name] = true
		}
	}
	if res == nil {
		return nil
	}
	if res.Headers["Link"] != nil {
		set := [][2]string{{"pages", "link header"}}
		if has["page"] {
			set = append(set, [2]string{"page", "page"})
		}
		return set
	}
	next := nextField(res)
	switch {
	case next != "" && has["cursor"]:
		return [][2]string{{"pages", "cursor"}, {"page", "cursor"}, {"next", "/" + next}}
	case next != "":
		return [][2]string{{"pages", "next field"}, {"next", "/" + next}}
	case has["page"]:
		return [][2]string{{"pages", "page number"}, {"page", "page"}}
	case has["offset"]:
		return [][2]string{{"pages", "offset"}, {"page", "offset"}}
	}
	return nil
}

func nextField(res *openapi3.Response) string {
	media, ok := answerMedia(res.Content)
	if !ok || res.Content[media].Schema == nil || res.Content[media].Schema.Value == nil {
		return ""
	}
	for _, name := range []string{"next", "next_cursor", "nextCursor", "cursor"} {
		if p := res.Content[media].Schema.Value.Properties[name]; p != nil && p.Value != nil && p.Value.Type.Is("string") {
			return name
		}
	}
	return ""
}
