package apicall

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/route"
)

// Asked is what a call asks for, without what says who calls.
type Asked struct {
	Parameters map[string]string `json:"parameters,omitempty"` // by where they stand and their names, as "path number"
	Media      string            `json:"media,omitempty"`
	Body       string            `json:"body,omitempty"`
}

// Asks is what the call asks for.
func (f *Form) Asks() Asked {
	a := Asked{Parameters: map[string]string{}}
	for _, in := range f.Inputs {
		if in.Value != "" {
			a.Parameters[in.In+" "+in.Name] = in.Value
		}
	}
	if f.HasBody && f.Body != "" {
		a.Media, a.Body = f.MediaType, f.Body
	}
	return a
}

// JSON is what the call asks for, as it is kept.
func (a Asked) JSON() string {
	text, _ := json.Marshal(a) // texts alone
	return string(text)
}

// AskedIn reads what a call asked for, as it is kept.
func AskedIn(text string) (a Asked, err error) {
	err = json.Unmarshal([]byte(text), &a)
	return a, err
}

// Again fills a call with what another one asked for.
func (f *Form) Again(a Asked) {
	for i, in := range f.Inputs {
		f.Inputs[i].Value = a.Parameters[in.In+" "+in.Name]
	}
	if f.HasBody {
		f.Body = a.Body
		if a.Media != "" {
			f.MediaType = a.Media
		}
	}
}

// Case is the case that keeps the call with a response.
func (f *Form) Case(apiID string, r *Result) project.APICall {
	a := f.Asks()
	return project.APICall{API: apiID, Operation: f.Operation, Parameters: a.Parameters, Media: a.Media, Body: a.Body, Status: r.Status, Response: r.Body}
}

// Verdict is what became of a case of an API.
type Verdict struct {
	project.Case
	Failed  string   // why it was not called
	Result  *Result  // nil where it was not called
	Changed []Change // from what is expected
}

// OK says whether the response is the one that is expected, and fits the contract.
func (v Verdict) OK() bool {
	return v.Failed == "" && v.Result != nil && len(v.Changed) == 0 && len(v.Result.Faults) == 0
}

// Check calls the operation as a case says, with a credential, and compares.
func Check(ctx context.Context, c project.Case, to Target, a *api.API, credential string) Verdict {
	v := Verdict{Case: c}
	o := a.Operation(c.Call.Operation)
	if o == nil {
		v.Failed = "the contract has no operation " + c.Call.Operation
		return v
	}
	f := Of(a, o)
	f.Again(Asked{c.Call.Parameters, c.Call.Media, c.Call.Body})
	f.Key = credential
	r, err := f.Send(ctx, to, a, o, "")
	if err != nil {
		v.Failed = fault.From(err, fault.Setting).What()
		return v
	}
	v.Result = r
	if want := strconv.Itoa(c.Call.Status); want != strconv.Itoa(r.Status) {
		v.Changed = append(v.Changed, Change{"status", want, strconv.Itoa(r.Status)})
	}
	for _, ch := range changesIn([]byte(c.Call.Response), []byte(r.Body)) {
		if !slices.Contains(c.Ignore, ch.Path) {
			v.Changed = append(v.Changed, ch)
		}
	}
	return v
}

// Comparison is what a backend says beside what its front says to the same call.
type Comparison struct {
	Backend *Result
	Changed []Change // from the backend to the front
	Failed  string
}

// Forward hands a request on to a connection's system.
type Forward func(w http.ResponseWriter, r *http.Request, connection string, f system.Forwarding)

// Compare sends the call to the backend as well, past all guards, and compares with what the front said.
func (f *Form) Compare(ctx context.Context, forward Forward, address string, a *api.API, o *contract.Operation) *Comparison {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	req, err := f.request(ctx, address, a, o)
	if err != nil {
		return &Comparison{Failed: fault.From(err, fault.Setting).What()}
	}
	w := a.Way(o)
	req.Header.Del(a.Guards.CredentialHeader())
	var values []route.Value
	for _, in := range f.Inputs {
		if in.In == "path" {
			values = append(values, route.Value{Name: in.Name, Text: in.Value})
		}
	}
	out := &Comparison{}
	rec := &taken{header: http.Header{}, status: http.StatusOK}
	began := time.Now()
	forward(rec, req, w.Setting("connection"), system.Forwarding{
		Path: w.BackendPath(values), Query: req.URL.RawQuery, Keep: func(name string) bool { return name != "Cookie" && w.PassesOn(name) },
		Timeout: a.Guards.Timeout, Failed: func(_ http.ResponseWriter, err error) { out.Failed = err.Error() },
	})
	if out.Failed != "" {
		return out
	}
	if out.Backend, err = resultOf(rec.response(), a, o, "", began); err != nil {
		out.Failed = fault.From(err, fault.Setting).What()
		return out
	}
	if f.Sent == nil {
		return out
	}
	if b, s := out.Backend.Status, f.Sent.Status; b != s {
		out.Changed = append(out.Changed, Change{"status", strconv.Itoa(b), strconv.Itoa(s)})
	}
	if b, s := out.Backend.Media, f.Sent.Media; b != s {
		out.Changed = append(out.Changed, Change{"header Content-Type", b, s})
	}
	out.Changed = append(out.Changed, changesIn([]byte(out.Backend.Last), []byte(f.Sent.Last))...)
	return out
}

// taken takes a response, as much of it as is shown.
type taken struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (t *taken) Header() http.Header    { return t.header }
func (t *taken) WriteHeader(status int) { t.status = status }

func (t *taken) Write(p []byte) (int, error) {
	t.body.Write(p[:min(len(p), max(0, mostShown+1-t.body.Len()))])
	return len(p), nil
}

func (t *taken) response() *http.Response {
	return &http.Response{StatusCode: t.status, Header: t.header, Body: io.NopCloser(&t.body)}
}
