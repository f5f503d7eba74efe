package trial

import (
	"net/url"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// TriedWith is what somebody has typed for the tries of a flow, in place of a sample.
type TriedWith struct {
	Message string `json:"message,omitempty"` // with which the run begins: JSON, or the body of a request as it comes in
	Address string `json:"address,omitempty"` // of a request: behind /in/, with its query
	Headers string `json:"headers,omitempty"` // of a request: name: value, one a line
	Came    bool   `json:"-"`                 // somebody has called: what is empty is empty
}

// Empty says whether nothing was typed.
func (w *TriedWith) Empty() bool { return w == nil || *w == TriedWith{} }

// Request is the request that was typed, as a run of a plan would keep it.
func (w *TriedWith) Request(p *running.Plan) (value.Value, *fault.Fault) {
	t := p.Flow.Trigger
	u, err := url.Parse(strings.TrimPrefix(strings.TrimSpace(w.Address), "/"))
	if err != nil || u.Host != "" {
		return value.Value{}, fault.Expect(fault.Syntax, "a path with its query, as invoices/B-1?lang=no", fault.Quote(w.Address)).InField("Address")
	}
	if _, fits := flow.MatchPath(t.Path.Value, u.Path); !fits {
		return value.Value{}, fault.Expect(fault.Setting, "a path as "+t.Path.Value, fault.Quote(u.Path)).InField("Address")
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return value.Value{}, fault.Expect(fault.Syntax, "a query as name=value&other=value", fault.Quote(u.RawQuery)).InField("Address")
	}
	var pairs, headers []running.Pair
	for _, name := range sortedKeys(query) {
		for _, v := range query[name] {
			pairs = append(pairs, running.Pair{Name: name, Value: v})
		}
	}
	for line := range strings.Lines(w.Headers) {
		name, v, ok := strings.Cut(line, ":")
		if strings.TrimSpace(line) == "" {
			continue
		}
		if !ok {
			return value.Value{}, fault.Expect(fault.Syntax, "a header as name: value", fault.Quote(strings.TrimSpace(line))).InField("Headers")
		}
		headers = append(headers, running.Pair{Name: strings.ToLower(strings.TrimSpace(name)), Value: strings.TrimSpace(v)})
	}
	var body *string
	if w.Message != "" {
		body = &w.Message
	}
	pairs, headers = p.KeptRequest(pairs, headers)
	return running.RequestOf(t.Method, u.Path, body, pairs, headers), nil
}

func sortedKeys(m url.Values) (names []string) {
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// TypedAddress is the address of a request as it is typed: its path and its query.
func TypedAddress(request value.Value) string {
	query := url.Values{}
	for _, q := range request.Field("query").Items() {
		query.Add(q.Field("name").Text(), q.Field("value").Text())
	}
	address := request.Field("path").Text()
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	return address
}
