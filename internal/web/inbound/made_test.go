package inbound_test

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

// TestRequestsMadeFromContractsAreJudgedAsTheySay: of each contract every operation is asked with a request that is made of it, which is
// let in, and with the same request spoilt in one place after the other, which is refused; none is answered with an error of ours.
func TestRequestsMadeFromContractsAreJudgedAsTheySay(t *testing.T) {
	files, err := filepath.Glob("../../../demo/contracts/*.yaml")
	require.NoError(t, err)
	files = append(files, "../../core/contract/testdata/bookings-1.yaml", "../../standin/registry/openapi.json", "../../standin/tariff/openapi.json", "../../standin/quayside/openapi.json")
	w := webtest.New(t)
	judged := 0
	for n, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		document := strings.Replace(string(text), "/papers/{name}.{ending}:", "/papers/{name}/{ending}:", 1)
		k, err := contract.Read("x.yaml", []byte(document))
		require.NoError(t, err)
		id := "made-" + string(rune('a'+n))
		part := "api: Made\ncontract: " + id + ".yaml\nrequest validation: refuse\noperations:\n"
		for _, o := range k.Operations {
			part += "  - {operation: " + strconv.Quote(o.ID) + ", answered by: examples}\n"
		}
		w.Part("contracts/"+id+".yaml", document)
		w.Part("apis/"+id+".yaml", part)
		_, err = w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.APIs, id), "", "mira")
		require.NoError(t, err, file)
		p, err := w.Engine.Published(t.Context(), testkit.Skerry)
		require.NoError(t, err)
		for _, a := range p {
			if a.ID != id {
				continue
			}
			for _, o := range a.Contract.Operations {
				good := apicall.Of(a.API, o)
				status, answer := askMade(t, w.Calls.URL+"/in/"+id, good, o)
				require.Less(t, status, 500, "%s %s: %s", file, o.Name(), answer)
				require.False(t, status == 422 || status == 415 || status == 400, "%s %s is refused: %s", file, o.Name(), answer)
				for what, spoilt := range spoiltRequests(a.Contract, good, o) {
					judged++
					status, answer = askMade(t, w.Calls.URL+"/in/"+id, spoilt, o)
					require.Contains(t, []int{400, 404, 415, 422}, status, "%s %s, %s: %s", file, o.Name(), what, answer)
				}
			}
		}
	}
	require.Greater(t, judged, 30)
}

// askMade sends a request of a form.
func askMade(t *testing.T, address string, f *apicall.Form, o *contract.Operation) (int, string) {
	t.Helper()
	path, query, headers := o.Path, url.Values{}, http.Header{}
	for _, in := range f.Inputs {
		switch {
		case in.In == "path":
			path = strings.ReplaceAll(path, "{"+in.Name+"}", url.PathEscape(in.Value))
		case in.Value == "":
		case in.In == "query":
			query.Add(in.Name, in.Value)
		case in.In == "header":
			headers.Set(in.Name, in.Value)
		}
	}
	req, err := http.NewRequestWithContext(t.Context(), o.Method, address+path+"?"+query.Encode(), strings.NewReader(f.Body))
	require.NoError(t, err)
	req.Header = headers
	if f.Body != "" {
		req.Header.Set("Content-Type", f.MediaType)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(text)
}

// spoiltRequests are a request with one thing wrong each.
func spoiltRequests(k *contract.Contract, good *apicall.Form, o *contract.Operation) map[string]*apicall.Form {
	list := map[string]*apicall.Form{}
	change := func(what string, do func(f *apicall.Form)) {
		f := *good
		f.Inputs = append([]apicall.Input(nil), good.Inputs...)
		do(&f)
		list[what] = &f
	}
	for i, in := range good.Inputs {
		if in.Required && in.In != "path" {
			change("without "+in.Name, func(f *apicall.Form) { f.Inputs[i].Value = "" })
		}
		d, err := k.Schema(o.Parameters[i].Schema)
		if err != nil || d == nil || !d.Schema.Root.Scalar() {
			continue
		}
		if wrong := wrongText(d.Schema.Root); wrong != "" {
			change(in.Name+" "+wrong, func(f *apicall.Form) { f.Inputs[i].Value = wrong })
		}
	}
	if good.Body != "" && strings.HasSuffix(good.MediaType, "json") {
		change("a body that breaks off", func(f *apicall.Form) { f.Body = f.Body[:len(f.Body)/2] })
		change("a body of another kind", func(f *apicall.Form) { f.Body = `[1, 2]` })
		change("a body in another media type", func(f *apicall.Form) { f.MediaType = "application/x-unknown" })
	}
	if o.Body != nil && o.Body.Required {
		change("no body", func(f *apicall.Form) { f.Body = "" })
	}
	return list
}

// wrongText is a text that is no value of a field; empty where there is none.
func wrongText(f *schema.Field) string {
	for _, text := range []string{"~", "x y", strings.Repeat("z", 300)} {
		v, ok := f.Read(text)
		wrong, one := !ok, *f
		one.Min, one.Max = 1, 1
		if ok {
			one.CheckField(v, func(*fault.Fault) { wrong = true })
		}
		if wrong {
			return text
		}
	}
	return ""
}
