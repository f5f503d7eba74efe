package project

import (
	"maps"
	"slices"
	"strconv"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
)

// APICall is a call of an API's operation that is kept as a case, with the response that is expected of it. What says who calls is
// not kept.
type APICall struct {
	API, Operation string
	Parameters     map[string]string // by where they stand and their names, as "path number"
	Media, Body    string
	Status         int
	Response       string // the body
}

// parseAPICase reads a case of an API.
func parseAPICase(id string, n partfile.Node) Case {
	c := Case{ID: id, Title: n.Required("case").Value, Call: &APICall{API: n.Text("api").Value, Operation: n.Required("operation").Value, Parameters: map[string]string{}}}
	names, texts := n.Map("parameters").Pairs()
	for i := range names {
		c.Call.Parameters[names[i].Value] = texts[i].Value
	}
	c.Call.Media, c.Call.Body = n.Text("media type").Value, n.Text("body").Value
	c.Call.Status, c.Call.Response = n.Int("expected status", 200), n.Text("expected").Value
	c.Ignore = ignored(n)
	n.RejectUnknown()
	return c
}

// unknownOf says what a case is of that there is not.
func (c Case) unknownOf(k *looking) *fault.Fault {
	switch {
	case c.Mapping != "" && !k.has(Mappings, c.Mapping):
		return fault.New(fault.Unknown, "there is no mapping %q", c.Mapping)
	case c.Flow != "" && !k.has(Flows, c.Flow):
		return fault.New(fault.Unknown, "there is no flow %q", c.Flow)
	case c.Call != nil && !k.has(APIs, c.Call.API):
		return fault.New(fault.Unknown, "there is no API %q", c.Call.API)
	}
	return nil
}

// NewAPICase is the part of a case that keeps a call and its response.
func NewAPICase(title string, call APICall) []byte {
	var o, parameters partfile.Ordered
	o.Add("case", title)
	o.Add("api", call.API)
	o.Add("operation", call.Operation)
	for _, name := range slices.Sorted(maps.Keys(call.Parameters)) {
		parameters.Add(name, call.Parameters[name])
	}
	if parameters != nil {
		o.Add("parameters", parameters)
	}
	if call.Body != "" {
		o.Add("media type", call.Media)
		o.Add("body", call.Body)
	}
	o.Add("expected status", strconv.Itoa(call.Status))
	if call.Response != "" {
		o.Add("expected", call.Response)
	}
	return partfile.Encode(o)
}

// CasesOfAPI lists the cases of an API.
func (p *Project) CasesOfAPI(id string) (list []Case) {
	for _, c := range p.cases() {
		if c.Call != nil && c.Call.API == id {
			list = append(list, c)
		}
	}
	return list
}
