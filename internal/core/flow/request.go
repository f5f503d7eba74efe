package flow

import (
	"regexp"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Methods are those of the requests that start runs (RFC 9110, section 9).
var Methods = []string{"POST", "GET", "PUT", "PATCH", "DELETE"}

// pathOK is what the path of a trigger looks like.
var pathOK = regexp.MustCompile(`^[A-Za-z0-9._-]+(/[A-Za-z0-9._-]+)*$`)

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
var keptRequest = keptOf(recordOf("request", &schema.Schema{ID: "request", Notation: "json", Root: Request}, RequestSlot))

// WriteRequest writes a request as it is kept with its run, ReadRequest reads it.
func WriteRequest(v value.Value) []byte { return []byte(keptRequest.Write(v)) }

// ReadRequest reads a request that is kept with its run; absent where there is none.
func ReadRequest(text []byte) value.Value {
	if text == nil {
		return value.Value{}
	}
	return keptRequest.Read(string(text))
}

// Tried is the request of a try, with a body or none; absent for other triggers.
func (t Trigger) Tried(body *string) value.Value {
	if t.Kind != "request" {
		return value.Value{}
	}
	return RequestOf(t.Method, t.Path.Value, body, nil, nil)
}

// Reply is how an HTTP request is answered, beside the message.
type Reply struct {
	Status  int    `json:"status"` // RFC 9110, section 15; 0: 200
	Headers []Pair `json:"headers,omitempty"`
}

// statusOK says whether a number is a status of an answer that ends an exchange.
func statusOK(n int64) bool { return n >= 200 && n <= 599 }

func badStatus(found string) *fault.Fault {
	return fault.Expect(fault.Range, "an HTTP status from 200 to 599", found)
}
