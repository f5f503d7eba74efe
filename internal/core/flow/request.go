package flow

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Methods are those of the requests that start runs (RFC 9110, section 9).
var Methods = []string{"POST", "GET", "PUT", "PATCH", "DELETE"}

// pathOK is what the path of a trigger looks like; {name} stands for any one segment.
var pathOK = regexp.MustCompile(`^([A-Za-z0-9._-]+|\{[A-Za-z][A-Za-z0-9_]*\})(/([A-Za-z0-9._-]+|\{[A-Za-z][A-Za-z0-9_]*\}))*$`)

// parameterOf is the name of a segment that stands for any.
func parameterOf(segment string) (string, bool) {
	inner, ok := strings.CutPrefix(segment, "{")
	return strings.TrimSuffix(inner, "}"), ok
}

// PathParameters are the names in braces of a trigger's path, in their order.
func PathParameters(pattern string) (names []string) {
	for _, segment := range strings.Split(pattern, "/") {
		if name, ok := parameterOf(segment); ok {
			names = append(names, name)
		}
	}
	return names
}

// MatchPath says whether a path is one of a trigger's, and gives its parameters by name.
func MatchPath(pattern, path string) (map[string]string, bool) {
	want, found := strings.Split(pattern, "/"), strings.Split(path, "/")
	if len(want) != len(found) {
		return nil, false
	}
	values := map[string]string{}
	for i, segment := range want {
		name, any := parameterOf(segment)
		switch {
		case any && found[i] != "":
			values[name] = found[i]
		case any || segment != found[i]:
			return nil, false
		}
	}
	return values, true
}

// Closer says of two paths of triggers that match the same request whether the first is the more definite one: it has a
// fixed segment where the other one takes any.
func Closer(pattern, than string) bool {
	x, y := strings.Split(pattern, "/"), strings.Split(than, "/")
	for i := range min(len(x), len(y)) {
		_, xAny := parameterOf(x[i])
		_, yAny := parameterOf(y[i])
		if xAny != yAny {
			return yAny
		}
	}
	return false
}

// SamePaths says whether two paths of triggers take the same requests.
func SamePaths(x, y string) bool {
	_, there := MatchPath(x, y)
	_, back := MatchPath(y, x)
	return there && back && !Closer(x, y) && !Closer(y, x)
}

// parameters defines the parameters of the requests that start a flow: those of its schema, and those of the path that the
// schema does not name, as texts.
func (c *compiler) parameters(t Trigger) *schema.Schema {
	of := c.contract(t.Parameters)
	var fields []*schema.Field
	if of != nil {
		fields = ownFields(of.Root.Fields)
	}
	seen := map[string]bool{}
	for _, name := range PathParameters(t.Path.Value) {
		if seen[name] {
			c.fault(t.Path, fault.New(fault.Setting, "the path has the parameter %q twice", name))
		}
		seen[name] = true
		if of == nil || of.Root.Field(name) == nil {
			fields = append(fields, schema.Scalar(name, value.Text))
		}
	}
	if of == nil && len(fields) == 0 {
		return nil
	}
	for _, f := range fields {
		if f.Kind == value.RecordKind {
			c.fault(t.Parameters, fault.New(fault.Setting, "the parameter %s is a record", f.Name).Mended("A parameter is a single value, or a list of such"))
		}
		if seen[f.Name] && f.List() {
			c.fault(t.Parameters, fault.New(fault.Setting, "the parameter %s of the path is a list", f.Name))
		}
	}
	return &schema.Schema{ID: "parameters", Title: "Parameters", Notation: json.Kind.Notation, Root: schema.Record("parameters", fields...)}
}

// ownFields are fields for another record, in which they have slots of their own.
func ownFields(fields []*schema.Field) []*schema.Field {
	out := make([]*schema.Field, len(fields))
	for i, f := range fields {
		own := *f
		out[i] = &own
	}
	return out
}

// Parameters reads the parameters of a request: from the path those that it names, others from the query, or else from a
// header of that name (- for _). Faults say what was expected; a parameter at fault is absent.
func (p *Plan) Parameters(request value.Value) (value.Value, fault.List) {
	if p.Given == nil || request.Kind() != value.RecordKind {
		return value.Value{}, nil
	}
	fixed, _ := MatchPath(p.Flow.Trigger.Path.Value, request.Field("path").Text())
	values := make([]value.Value, len(p.Given.Root.Fields))
	var faults fault.List
	for i, f := range p.Given.Root.Fields {
		texts := []string{fixed[f.Name]}
		if _, named := fixed[f.Name]; !named {
			texts = sent(request, f.Name)
		}
		v, ft := parameter(f, texts)
		if ft != nil {
			faults = append(faults, ft)
		}
		values[i] = v
	}
	v := value.Rec(p.Given.Root.Shape(), values)
	if len(faults) == 0 {
		p.Given.Check(v, func(f *fault.Fault) { faults = append(faults, f) })
	}
	return v, faults
}

// sent are the texts of a parameter in the query, or else in the headers.
func sent(request value.Value, name string) (texts []string) {
	for _, q := range request.Field("query").Items() {
		if q.Field("name").Text() == name {
			texts = append(texts, q.Field("value").Text())
		}
	}
	if texts != nil {
		return texts
	}
	header := strings.ReplaceAll(strings.ToLower(name), "_", "-")
	for _, h := range request.Field("headers").Items() {
		if h.Field("name").Text() == header {
			texts = append(texts, h.Field("value").Text())
		}
	}
	return texts
}

// parameter reads the texts of one parameter.
func parameter(f *schema.Field, texts []string) (value.Value, *fault.Fault) {
	var items []value.Value
	for _, text := range texts {
		if text == "" && f.Kind != value.Text {
			continue
		}
		v, ok := f.Read(text)
		if !ok {
			return value.Value{}, fault.Expect(fault.Type, f.Kind.String(), fault.Quote(text)).In(f.Name).At(fault.Place{Path: "/" + f.Name})
		}
		items = append(items, v)
	}
	switch {
	case f.List():
		return value.ListOf(items...), nil
	case len(items) > 1:
		return value.Value{}, fault.Expect(fault.Length, "the parameter once", strconv.Itoa(len(items))+" times").In(f.Name).At(fault.Place{Path: "/" + f.Name})
	case len(items) == 0:
		return value.Value{}, nil
	}
	return items[0], nil
}

// Asked is a request with its parameters, as the steps of a plan see it.
func (p *Plan) Asked(request value.Value) value.Value {
	r := request.Record()
	if p.Given == nil || r == nil || len(r.Fields) > len(Request.Fields) {
		return request
	}
	parameters, _ := p.Parameters(request)
	return value.Rec(p.requested.Shape(), append(r.Fields[:len(r.Fields):len(r.Fields)], parameters))
}

// pair is the shape of a header or a parameter.
func pairs(name string) *schema.Field {
	f := schema.Record(name, schema.Scalar("name", value.Text), schema.Scalar("value", value.Text))
	f.Min, f.Max = 0, schema.Many
	return f
}

// Request is the shape of what a run knows of the HTTP request that has started it. Names of headers are in lower case.
var Request = schema.Record("request",
	schema.Scalar("method", value.Text),
	schema.Scalar("path", value.Text),
	schema.Scalar("body", value.Text).Optional(),
	pairs("query"),
	pairs("headers"),
)

// Pair is a header or a parameter of a request.
type Pair struct{ Name, Value string }

// usual are the headers of requests that are kept: those that say what is sent and wanted, and which request it is (RFC 9110; W3C
// Trace Context). None of them lets its sender in anywhere.
var usual = map[string]bool{}

func init() {
	for name := range strings.FieldsSeq(`accept accept-charset accept-encoding accept-language content-encoding content-language content-length content-type
		date expect forwarded from host idempotency-key if-match if-modified-since if-none-match if-unmodified-since last-modified link max-forwards origin
		prefer range te traceparent tracestate user-agent via x-correlation-id x-forwarded-for x-forwarded-host x-forwarded-proto x-request-id`) {
		usual[name] = true
	}
}

// KeptRequest are those of the query and the headers of a request that its run keeps, and its steps see: the parameters, the usual
// headers, and what the trigger names. Names of headers are in lower case.
func (p *Plan) KeptRequest(query, headers []Pair) (keptQuery, keptHeaders []Pair) {
	named := map[string]bool{}
	for name := range strings.SplitSeq(p.Flow.Trigger.Keep, ",") {
		named[strings.ToLower(strings.TrimSpace(name))] = true
	}
	if p.Given != nil {
		for _, f := range p.Given.Root.Fields {
			named[strings.ToLower(f.Name)], named[strings.ReplaceAll(strings.ToLower(f.Name), "_", "-")] = true, true
		}
	}
	without := func(list []Pair, usual map[string]bool) []Pair {
		return slices.DeleteFunc(slices.Clone(list), func(one Pair) bool {
			name := strings.ToLower(one.Name)
			return !named["*"] && !named[name] && !usual[name]
		})
	}
	return without(query, nil), without(headers, usual)
}

// RequestOf makes the value of request. The body is left out where it is a message of a schema.
func RequestOf(method, path string, body *string, query, headers []Pair) value.Value {
	list := func(f *schema.Field, pairs []Pair) value.Value {
		items := make([]value.Value, len(pairs))
		for i, p := range pairs {
			items[i] = value.Rec(f.Shape(), []value.Value{value.Str(p.Name), value.Str(p.Value)})
		}
		return value.ListOf(items...)
	}
	text := value.Value{}
	if body != nil {
		text = value.Str(*body)
	}
	return value.Rec(Request.Shape(), []value.Value{value.Str(method), value.Str(path), text, list(Request.Field("query"), query), list(Request.Field("headers"), headers)})
}

// keptRequest is how a request is kept with its run.
var keptRequest = keptOf(recordOf("request", described("request", Request), RequestSlot))

// WriteRequest writes a request as it is kept with its run, ReadRequest reads it. Its parameters are read from it each time.
func WriteRequest(v value.Value) []byte {
	if r := v.Record(); r != nil && len(r.Fields) > len(Request.Fields) {
		v = value.Rec(Request.Shape(), r.Fields[:len(Request.Fields)])
	}
	return []byte(keptRequest.Write(v))
}

// ReadRequest reads a request that is kept with its run; absent where there is none.
func ReadRequest(text []byte) value.Value {
	if text == nil {
		return value.Value{}
	}
	return keptRequest.Read(string(text))
}

// Tried is the request of a try, with a body or none, and with parameters by name; absent for other triggers.
func (t Trigger) Tried(body *string, parameters value.Value) value.Value {
	if !t.Of().Requests {
		return value.Value{}
	}
	path, inPath := t.Path.Value, map[string]bool{}
	for _, name := range PathParameters(path) {
		inPath[name] = true
		if v := parameters.Field(name); !v.Missing() {
			path = strings.Replace(path, "{"+name+"}", strings.ReplaceAll(schema.ScalarText(v), "/", "-"), 1)
		} else {
			path = strings.Replace(path, "{"+name+"}", name, 1)
		}
	}
	var query []Pair
	if r := parameters.Record(); r != nil {
		for i, name := range r.Shape.Names {
			items := []value.Value{r.Fields[i]}
			if r.Fields[i].Kind() == value.ListKind {
				items = r.Fields[i].Items()
			}
			for _, v := range items {
				if !inPath[name] && !v.Missing() {
					query = append(query, Pair{name, schema.ScalarText(v)})
				}
			}
		}
	}
	return RequestOf(t.Method, path, body, query, nil)
}

// Reply is how an HTTP request is answered, beside the message.
type Reply struct {
	Status  int    `json:"status"` // RFC 9110, section 15; 0: 200
	Headers []Pair `json:"headers,omitempty"`
	Schema  string `json:"schema,omitempty"` // of the answer, where it is not the trigger's
	Empty   bool   `json:"empty,omitempty"`  // without a body
}

// statusOK says whether a number is a status of an answer that ends an exchange.
func statusOK(n int64) bool { return n >= 200 && n <= 599 }

func badStatus(found string) *fault.Fault {
	return fault.Expect(fault.Range, "an HTTP status from 200 to 599", found)
}
