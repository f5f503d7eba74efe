// Package apicall calls operations of APIs as any program does, over HTTP, and holds what comes back against their contracts: for the
// page of an API, for its documentation and for the command line.
package apicall

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"sort"
	"strings"
	"time"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
)

// Form is a call as it is filled in on a page.
type Form struct {
	Operation string
	Inputs    []Input
	Media     []string
	MediaType string
	Body      string
	HasBody   bool
	Key       string
	Wants     string // what callers say who they are with; empty where anybody may call
	Curl      string
	Line      string // as method and address
	Sent      *Result
	Failed    string
}

// Input is a parameter of a call.
type Input struct {
	Name, In, Value string
	Required        bool
}

// Result is what came back.
type Result struct {
	Status  int
	Text    string // of the status
	Took    time.Duration
	Faults  fault.List // against the contract
	Checked bool
	Refused bool // by what stands before the operation, with a status of which the contract says nothing
	Headers []string
	Media   string
	Body    string
	Cut     bool
	Run     string
	Changed []Change // since the last response
	First   bool     // there was none before
	Last    string   // the body, for the next call
}

// Change is a value that is another one than in the response before.
type Change struct{ Path, Was, Is string }

// Bounds on a call of the page.
const (
	callTime  = 60 * time.Second
	mostShown = 64 << 10 // bytes of a response
	changesTo = 12
)

// Of is a call with the examples of the contract.
func Of(a *api.API, o *contract.Operation) *Form {
	f := &Form{Operation: o.ID, Wants: a.Guards.Credential()}
	for _, p := range o.Parameters {
		text, _ := a.Contract.SampleText(p)
		if !p.Required && len(p.Examples) == 0 {
			text = ""
		}
		f.Inputs = append(f.Inputs, Input{p.Name, p.In, text, p.Required})
	}
	if o.Port != nil && !o.Document {
		f.HasBody, f.MediaType, f.Body = true, soapMedia[o.Port.Version], soapEnvelope[o.Port.Version]
		f.Media = []string{f.MediaType}
		if len(o.Port.Operations) > 0 && o.Port.Version == "1.1" {
			f.Inputs = append(f.Inputs, Input{Name: "SOAPAction", In: "header", Value: `"` + o.Port.Operations[0].Action + `"`})
		}
	}
	if o.Body != nil {
		f.HasBody = true
		for i, m := range o.Body.Media {
			f.Media = append(f.Media, m.Type)
			if i == 0 {
				f.MediaType = m.Type
				body, _ := a.Contract.SampleBody(m)
				f.Body = string(body)
			}
		}
	}
	return f
}

// What envelopes are sent as, and how they begin, by the version of SOAP.
var (
	soapMedia    = map[string]string{"1.1": "text/xml; charset=utf-8", "1.2": "application/soap+xml; charset=utf-8"}
	soapEnvelope = map[string]string{
		"1.1": "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\">\n  <s:Body>\n  </s:Body>\n</s:Envelope>\n",
		"1.2": "<s:Envelope xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\">\n  <s:Body>\n  </s:Body>\n</s:Envelope>\n",
	}
)

// Fill takes what was typed: the value of a field by its name, and whether it was there.
func (f *Form) Fill(typed func(name string) (string, bool)) {
	for i := range f.Inputs {
		if v, there := typed(f.Inputs[i].Field()); there {
			f.Inputs[i].Value = v
		}
	}
	if f.HasBody {
		f.Body, _ = typed("body")
		if m, there := typed("media"); there && m != "" {
			f.MediaType = m
		}
	}
	f.Key, _ = typed("key")
}

// Field is the name of the field in which the parameter is typed.
func (i Input) Field() string { return "p " + i.In + " " + i.Name }

// request makes the request of what was typed.
func (f *Form) request(ctx context.Context, address string, a *api.API, o *contract.Operation) (*http.Request, error) {
	path, query, headers := o.Path, url.Values{}, http.Header{}
	for _, in := range f.Inputs {
		if in.Value == "" && in.In != "path" {
			continue
		}
		switch in.In {
		case "path":
			if in.Value == "" {
				return nil, fault.Expect(fault.Required, "a value", "none").InField(in.Name)
			}
			path = strings.ReplaceAll(path, "{"+in.Name+"}", url.PathEscape(in.Value))
		case "query":
			query.Add(in.Name, in.Value)
		case "header":
			headers.Set(in.Name, in.Value)
		case "cookie":
			headers.Add("Cookie", (&http.Cookie{Name: in.Name, Value: in.Value}).String())
		}
	}
	at := strings.TrimSuffix(address+path, "/")
	if len(query) > 0 {
		at += "?" + query.Encode()
	}
	var body io.Reader
	if f.HasBody && f.Body != "" {
		body = strings.NewReader(f.Body)
		headers.Set("Content-Type", f.MediaType)
	}
	req, err := http.NewRequestWithContext(ctx, o.Method, at, body)
	if err != nil {
		return nil, fault.New(fault.Setting, "this is no request: %s", err)
	}
	req.Header = headers
	if v := a.Guards.Version; v != "" {
		req.Header.Set(a.Guards.VersionHeader, v)
	}
	if f.Key != "" {
		req.Header.Set(a.Guards.CredentialHeader(), a.Guards.CredentialValue(f.Key))
	}
	return req, nil
}

// Show makes the line and the command of the request that would be sent. Of a key only its place is shown.
func (f *Form) Show(address string, a *api.API, o *contract.Operation) {
	req, err := f.request(context.Background(), address, a, o)
	if err != nil {
		f.Line = o.Method + " " + o.Path
		return
	}
	f.Line = o.Method + " " + req.URL.RequestURI()
	parts := []string{"curl"}
	if o.Method != http.MethodGet {
		parts = append(parts, "-X", o.Method)
	}
	names := make([]string, 0, len(req.Header))
	for name := range req.Header {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if name != http.CanonicalHeaderKey(a.Guards.CredentialHeader()) {
			parts = append(parts, "-H", quoted(name+": "+req.Header.Get(name)))
		}
	}
	if f.Wants != "" {
		parts = append(parts, credential(a.Guards)...)
	}
	if f.HasBody && f.Body != "" {
		parts = append(parts, "--data-binary", quoted(f.Body))
	}
	f.Curl = strings.Join(append(parts, quoted(req.URL.String())), " ")
}

// credential is what a command says of who calls, with a place for what nobody may see.
func credential(g api.Guards) []string {
	if g.Callers == api.WithPassword {
		return []string{"-u", quoted("NAME:KEY")}
	}
	return []string{"-H", quoted(g.CredentialHeader() + ": " + strings.TrimSuffix(g.CredentialValue("…"), " "))}
}

// quoted is a text as a shell takes it.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// Target is where an API is called.
type Target struct {
	Address string         // below which its operations are
	Trust   *x509.CertPool // nil: that of the system
}

// Send sends the call. Last is the body of the response before; empty where there was none.
func (f *Form) Send(ctx context.Context, to Target, a *api.API, o *contract.Operation, last string) (*Result, error) {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	req, err := f.request(ctx, to.Address, a, o)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if to.Trust != nil {
		t := http.DefaultTransport.(*http.Transport).Clone()
		t.TLSClientConfig = &tls.Config{RootCAs: to.Trust, MinVersion: tls.VersionTLS12}
		defer t.CloseIdleConnections()
		client.Transport = t
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, fault.New(fault.Setting, "the call was not answered: %s", err)
	}
	return resultOf(res, a, o, last, began)
}

// guarding are the statuses with which guards refuse.
var guarding = []int{401, 403, 410, 413, 415, 422, 429, 501, 503}

// resultOf reads a response and holds it against the contract and the one before.
func resultOf(res *http.Response, a *api.API, o *contract.Operation, last string, began time.Time) (*Result, error) {
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, mostShown+1))
	if err != nil {
		return nil, fault.New(fault.Setting, "the response breaks off: %s", err)
	}
	r := &Result{Status: res.StatusCode, Text: http.StatusText(res.StatusCode), Took: time.Since(began), Media: res.Header.Get("Content-Type"), Run: res.Header.Get("Hollowreed-Run")}
	if r.Cut = len(body) > mostShown; r.Cut {
		body = body[:mostShown]
	}
	r.Body, r.Last = Pretty(body), string(body)
	sent := contract.Sent{Status: r.Status, Media: r.Media, Body: body}
	for name, values := range res.Header {
		for _, v := range values {
			sent.Headers, r.Headers = append(sent.Headers, [2]string{name, v}), append(r.Headers, name+": "+v)
		}
	}
	sort.Strings(r.Headers)
	if !r.Cut && o.Port == nil {
		r.Checked, r.Faults = true, a.Contract.CheckAnswer(o, sent)
		r.Refused = len(r.Faults) > 0 && r.Faults[0].Field == "status" && r.Media == "application/problem+json" && slices.Contains(guarding, r.Status)
	}
	if last == "" {
		r.First = true
	} else {
		r.Changed = changesIn([]byte(last), body)
	}
	return r, nil
}

// Pretty is a body as people read it: JSON with its members below each other.
func Pretty(body []byte) string {
	var out bytes.Buffer
	if json.Indent(&out, body, "", "  ") == nil {
		return out.String()
	}
	return strings.ToValidUTF8(string(body), "�")
}

// changesIn are the values that differ between two JSON bodies, or the bodies as a whole where they are something else.
func changesIn(was, is []byte) (list []Change) {
	before, after := map[string]string{}, map[string]string{}
	if !flat("", was, before) || !flat("", is, after) {
		if !bytes.Equal(was, is) {
			list = append(list, Change{"", short(string(was)), short(string(is))})
		}
		return list
	}
	paths := make([]string, 0, len(before)+len(after))
	for p := range before {
		paths = append(paths, p)
	}
	for p := range after {
		if _, there := before[p]; !there {
			paths = append(paths, p)
		}
	}
	sort.Strings(paths)
	for _, p := range paths {
		if before[p] != after[p] && len(list) < changesTo {
			list = append(list, Change{p, before[p], after[p]})
		}
	}
	return list
}

// flat are the single values of a JSON text by their paths; false where it is none.
func flat(at string, text []byte, out map[string]string) bool {
	var record map[string]json.RawMessage
	var list []json.RawMessage
	switch trimmed := bytes.TrimSpace(text); {
	case len(trimmed) == 0:
		return false
	case trimmed[0] == '{':
		if json.Unmarshal(trimmed, &record) != nil {
			return false
		}
		if len(record) == 0 {
			out[at] = "{}"
		}
		for name, v := range record {
			flat(at+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(name), v, out)
		}
	case trimmed[0] == '[':
		if json.Unmarshal(trimmed, &list) != nil {
			return false
		}
		if len(list) == 0 {
			out[at] = "[]"
		}
		for i, v := range list {
			flat(fmt.Sprintf("%s/%d", at, i), v, out)
		}
	default:
		out[at] = string(trimmed)
		return json.Valid(trimmed)
	}
	return true
}

// longest is how much of a body is told where it changed as a whole, in bytes.
const longest = 60

func short(text string) string {
	if len(text) <= longest {
		return text
	}
	return strings.ToValidUTF8(text[:longest], "") + "…"
}
