package running

import (
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Parameters reads the parameters of a request: from the path those that it names, others from the query, or else from a
// header of that name (- for _). Faults say what was expected; a parameter at fault is absent.
func (p *Plan) Parameters(request value.Value) (value.Value, fault.List) {
	if p.Given == nil || request.Kind() != value.RecordKind {
		return value.Value{}, nil
	}
	if p.Bound != nil {
		return p.asked(request)
	}
	fixed, _ := flow.MatchPath(p.Flow.Trigger.Path.Value, request.Field("path").Text())
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
	v := value.NewRecord(p.Given.Root.Layout(), values)
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
			return value.Value{}, fault.Expect(fault.Type, f.Kind.String(), fault.Quote(text)).InField(f.Name).At(fault.Place{Path: "/" + f.Name})
		}
		items = append(items, v)
	}
	switch {
	case f.List():
		return value.ListOf(items...), nil
	case len(items) > 1:
		return value.Value{}, fault.Expect(fault.Length, "the parameter once", strconv.Itoa(len(items))+" times").InField(f.Name).At(fault.Place{Path: "/" + f.Name})
	case len(items) == 0:
		return value.Value{}, nil
	}
	return items[0], nil
}

// RequestValue is a request with its parameters, as the steps of a plan see it.
func (p *Plan) RequestValue(request value.Value) value.Value {
	r := request.Record()
	if p.Given == nil || r == nil || len(r.Fields) > len(Request.Fields) {
		return request
	}
	parameters, _ := p.Parameters(request)
	return value.NewRecord(p.Requested.Layout(), append(r.Fields[:len(r.Fields):len(r.Fields)], parameters))
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
	for name := range strings.SplitSeq(p.Flow.Trigger.StoredNames, ",") {
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
			if record, _, member := strings.Cut(name, "["); member && p.Bound != nil {
				name = record // one of a parameter that is a record, as at[lat]
			}
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
			items[i] = value.NewRecord(f.Layout(), []value.Value{value.NewText(p.Name), value.NewText(p.Value)})
		}
		return value.ListOf(items...)
	}
	text := value.Value{}
	if body != nil {
		text = value.NewText(*body)
	}
	return value.NewRecord(Request.Layout(), []value.Value{value.NewText(method), value.NewText(path), text, list(Request.Field("query"), query), list(Request.Field("headers"), headers)})
}

// keptRequest is how a request is kept with its run.
var keptRequest = KeptOf(RecordOf("request", Described("request", Request), RequestSlot))

// WriteRequest writes a request as it is kept with its run, ReadRequest reads it. Its parameters are read from it each time.
func WriteRequest(v value.Value) []byte {
	if r := v.Record(); r != nil && len(r.Fields) > len(Request.Fields) {
		v = value.NewRecord(Request.Layout(), r.Fields[:len(Request.Fields)])
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

// TriedRequest is the request of a try, with a body or none, and with parameters by name; absent for other triggers.
func TriedRequest(t flow.Trigger, body *string, parameters value.Value) value.Value {
	if !t.Of().Requests {
		return value.Value{}
	}
	path, inPath := t.Path.Value, map[string]bool{}
	for _, name := range flow.PathParameters(path) {
		inPath[name] = true
		if v := parameters.Field(name); !v.IsMissing() {
			path = strings.Replace(path, "{"+name+"}", strings.ReplaceAll(schema.ScalarText(v), "/", "-"), 1)
		} else {
			path = strings.Replace(path, "{"+name+"}", name, 1)
		}
	}
	var query []Pair
	if r := parameters.Record(); r != nil {
		for i, name := range r.Layout.Names {
			items := []value.Value{r.Fields[i]}
			if r.Fields[i].Kind() == value.ListKind {
				items = r.Fields[i].Items()
			}
			for _, v := range items {
				if !inPath[name] && !v.IsMissing() {
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

// StatusOK says whether a number is a status of an answer that ends an exchange.
func StatusOK(n int64) bool { return n >= 200 && n <= 599 }

// BadStatus is the fault of a number that is no status of an answer.
func BadStatus(found string) *fault.Fault {
	return fault.Expect(fault.Range, "an HTTP status from 200 to 599", found)
}
