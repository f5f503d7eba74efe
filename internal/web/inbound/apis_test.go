package inbound_test

import (
	"crypto/sha256"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

const fares = `openapi: 3.1.0
info: {title: Fares, version: "1"}
paths:
  /classes/{class}:
    get:
      operationId: price
      parameters:
        - {name: class, in: path, required: true, schema: {type: string, maxLength: 8}, examples: {car: {value: CAR}, unknown: {value: TANK}}}
        - {name: metres, in: query, schema: {type: number, maximum: 30}}
      responses:
        "200":
          description: the price
          headers: {X-Tariff: {required: true, schema: {type: string}, example: winter}}
          content: {application/json: {schema: {$ref: "#/components/schemas/Price"}, examples: {car: {value: {z: first, price: 340.50}}, lorry: {value: {price: 990}}}}}
        "404":
          description: no such class
          content: {application/problem+json: {schema: {type: object}, examples: {unknown: {value: {title: no such class}}}}}
  /made-up:
    get: {operationId: made-up, responses: {"200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}}}
  /nothing-yet:
    get: {operationId: later, responses: {"204": {description: x}}}
  /orders/{number}/papers:
    post:
      operationId: papers
      parameters: [{name: number, in: path, required: true, schema: {type: string}}]
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}
      responses: {"200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}}
components:
  schemas:
    Price: {type: object, required: [price], properties: {price: {type: number}, z: {type: string}}}
`

// publish releases an API of the contract with settings.
func publish(t *testing.T, w *webtest.World, settings string) {
	t.Helper()
	text := "api: Fares\ncontract: prices.yaml\n" + settings
	if drafts, err := store.ReadDrafts(t.Context(), w.DB, testkit.Skerry.Project, store.Drafts{}); err == nil && drafts.Texts["apis/prices.yaml"] != "" {
		w.Change("apis/prices.yaml", drafts.Texts["apis/prices.yaml"], text)
	} else {
		w.Part("contracts/prices.yaml", fares)
		w.Part("apis/prices.yaml", text)
	}
	_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.APIs, "prices"), "", "mira")
	require.NoError(t, err)
}

func ask(t *testing.T, w *webtest.World, method, path, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, w.Calls.URL+"/in/prices"+path, strings.NewReader(body))
	require.NoError(t, err)
	for _, h := range headers {
		name, v, _ := strings.Cut(h, ": ")
		req.Header.Set(name, v)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(text)
}

// TestExamplesAnswer: those that the contract has, the one that the caller asks for by its value, and values made of its schemas.
func TestExamplesAnswer(t *testing.T) {
	w := webtest.New(t)
	publish(t, w, "operations:\n  - {operation: price, answered by: examples}\n  - {operation: made-up, answered by: examples}\n")
	for _, c := range []struct {
		path, answer string
		status       int
	}{
		{"/classes/CAR", `{"z":"first","price":340.50}`, 200},
		{"/classes/BOAT", `{"z":"first","price":340.50}`, 200},
		{"/classes/TANK", `{"title":"no such class"}`, 404},
		{"/classes/CAR?metres=31", `at most 30`, 422},
		{"/classes/CAR?metres=x", `query metres`, 422},
		{"/made-up", `"price":`, 200},
		{"/nothing-yet", "nothing answers it yet", 501},
		{"/classes/%2e%2e", "segment", 400},
		{"/nowhere", "no flow", 404},
	} {
		resp, answer := ask(t, w, "GET", c.path, "")
		require.Equal(t, c.status, resp.StatusCode, c.path)
		require.Contains(t, answer, c.answer, c.path)
		if c.status == 200 && c.path != "/made-up" {
			require.Equal(t, "winter", resp.Header.Get("X-Tariff"))
		}
	}
	resp, _ := ask(t, w, "DELETE", "/classes/CAR", "")
	require.Equal(t, 405, resp.StatusCode)
	require.Equal(t, "GET", resp.Header.Get("Allow"))
}

// TestWhatIsPassedThroughComesAsItIs: path, query, headers and body to the backend, its answer back; what belongs to the caller and
// us alone stays here. Answers that break the contract are reported or refused, what does not come is told.
func TestWhatIsPassedThroughComesAsItIs(t *testing.T) {
	w := webtest.New(t)
	var mu sync.Mutex
	var seen *http.Request
	var came, answers string
	backend := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/base" || r.URL.Path == "/" {
			return // a look whether it answers
		}
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		seen, came = r, string(body)
		text := answers
		mu.Unlock()
		if text == "slow" {
			<-r.Context().Done()
			return
		}
		rw.Header().Set("Content-Type", "application/json")
		rw.Header().Set("Server", "old thing")
		rw.Header().Set("Cache-Control", "max-age=60")
		rw.Header().Set("Etag", `"7"`)
		io.WriteString(rw, text)
	}))
	defer backend.Close()
	w.Part("connections/old.yaml", "connection: Old\nkind: http\n")
	w.Reach("old", "http", map[string]string{"address": backend.URL + "/base", "sign in": "bearer token", "token": "ours"})
	const ways = "operations:\n  - {operation: papers, answered by: pass-through, connection: old, path: '/v9/{number}/x y'}\n  - {operation: later, answered by: pass-through, connection: old}\n"
	publish(t, w, "response validation: report\n"+ways)

	answers = `{"price": 1.10,  "z":"kept as it is"}`
	resp, answer := ask(t, w, "POST", "/orders/A%2FB%3F/papers?q=1&q=%32", `{ "price": 1.0 }`, "Content-Type: application/json", "Cookie: a=b", "X-Own: yes", "Traceparent: 00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", "Authorization: Bearer theirs")
	require.Equal(t, 200, resp.StatusCode, answer)
	require.Equal(t, answers, answer)
	require.Equal(t, `{ "price": 1.0 }`, came)
	require.Equal(t, "/base/v9/A%2FB%3F/x%20y?q=1&q=%32", seen.URL.RequestURI())
	require.Empty(t, seen.Header.Get("Cookie"))
	require.Equal(t, "yes", seen.Header.Get("X-Own"))
	require.Equal(t, "Bearer ours", seen.Header.Get("Authorization"))
	require.Equal(t, "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", seen.Header.Get("Traceparent"))
	require.NotEmpty(t, seen.Header.Get("X-Forwarded-For"))
	require.Empty(t, resp.Header.Get("Server"))
	require.Equal(t, []string{"max-age=60"}, resp.Header.Values("Cache-Control"))
	require.Equal(t, `"7"`, resp.Header.Get("Etag"))
	require.Equal(t, []string{"sandbox; default-src 'none'; frame-ancestors 'none'"}, resp.Header.Values("Content-Security-Policy"))

	seen = nil
	resp, answer = ask(t, w, "POST", "/orders/1/papers", `{"price": "much"}`, "Content-Type: application/json")
	require.Equal(t, 422, resp.StatusCode)
	require.Contains(t, answer, "/price")
	require.Nil(t, seen, "what breaks the contract does not reach the backend")
	resp, _ = ask(t, w, "POST", "/orders/1/papers", `price`, "Content-Type: text/plain")
	require.Equal(t, 415, resp.StatusCode)

	large := `{"price":1,"z":"` + strings.Repeat("long ", 1<<20) + `"}`
	resp, answer = ask(t, w, "POST", "/orders/1/papers", large, "Content-Type: application/json")
	require.Equal(t, 413, resp.StatusCode, answer)
	publish(t, w, "max body: 8192\n"+ways)
	resp, answer = ask(t, w, "POST", "/orders/1/papers", large, "Content-Type: application/json")
	require.Equal(t, 200, resp.StatusCode, answer)
	require.Equal(t, large, came)
	publish(t, w, "response validation: report\n"+ways)

	answers = `{"cost": 1}`
	resp, answer = ask(t, w, "POST", "/orders/1/papers", "")
	require.Equal(t, 200, resp.StatusCode)
	require.Equal(t, answers, answer)
	publish(t, w, "response validation: refuse\ntimeout: 1\n"+ways)
	resp, answer = ask(t, w, "POST", "/orders/1/papers", "")
	require.Equal(t, 502, resp.StatusCode)
	require.Contains(t, answer, "price")
	require.NotContains(t, answer, "cost\":1")
	answers = strings.Repeat("x", 10)
	resp, answer = ask(t, w, "GET", "/nothing-yet", "")
	require.Equal(t, 502, resp.StatusCode, "200 is no status of the contract: %s", answer)
	answers = "slow"
	resp, _ = ask(t, w, "POST", "/orders/1/papers", "")
	require.Equal(t, 504, resp.StatusCode)
	backend.CloseClientConnections()
	backend.Close()
	resp, answer = ask(t, w, "POST", "/orders/1/papers", "")
	require.Equal(t, 502, resp.StatusCode)
	require.NotContains(t, answer, strings.TrimPrefix(backend.URL, "http://"), "where the backend is, is not for callers")
}

// TestGuardsStandBeforeAnAPI: keys, limits, the life of a version, pages of other sites.
func TestGuardsStandBeforeAnAPI(t *testing.T) {
	w := webtest.New(t)
	const example = "operations:\n  - {operation: price, answered by: examples}\n"
	publish(t, w, "callers: with a key\nrate limit: 5\n"+example)
	add := func(name string, apis []string, key string, ends *time.Time) uuid.UUID {
		id := uuid.New()
		fresh, err := store.AddCaller(t.Context(), w.DB, testkit.Skerry, store.APICaller{ID: id, Name: name, APIs: apis, MadeBy: "mira"})
		require.NoError(t, err)
		require.True(t, fresh)
		digest := sha256.Sum256([]byte(key))
		require.NoError(t, store.AddCallerKey(t.Context(), w.DB, testkit.Skerry, store.CallerKey{Digest: digest[:], Caller: id, Hint: key[:3], MadeBy: "mira", EndsAt: ends}))
		return id
	}
	past, soon := time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	add("app", nil, "key of app", &soon)
	add("gone", nil, "old key", &past)
	add("other", []string{"islands"}, "key of other", nil)
	out := add("shut out", nil, "key of shut out", nil)
	for key, want := range map[string]int{"": 401, "no such key": 401, "old key": 401, "key of other": 403, "key of shut out": 200, "key of app": 200} {
		resp, answer := ask(t, w, "GET", "/classes/CAR", "", "Api-Key: "+key)
		require.Equal(t, want, resp.StatusCode, "%s: %s", key, answer)
		require.NotContains(t, answer, "key of ")
	}
	publish(t, w, "callers: with a name and a key\n"+example)
	for pair, want := range map[string]int{"app:key of app": 200, "other name:key of app": 401, "app:": 401, "app:key of shut out": 401, "gone:old key": 401} {
		resp, answer := ask(t, w, "GET", "/classes/CAR", "", "Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte(pair)))
		require.Equal(t, want, resp.StatusCode, "%s: %s", pair, answer)
		require.Equal(t, want == 401, resp.Header.Get("WWW-Authenticate") == `Basic realm="api"`)
	}
	publish(t, w, "callers: with a key\nrate limit: 5\n"+example)
	require.NoError(t, store.SetCaller(t.Context(), w.DB, testkit.Skerry, store.APICaller{ID: out, Disabled: true}))
	require.Eventually(t, func() bool {
		resp, _ := ask(t, w, "GET", "/classes/CAR", "", "Api-Key: key of shut out")
		return resp.StatusCode == 401
	}, 20*time.Second, 50*time.Millisecond)

	counts := map[int]int{}
	for range 12 {
		resp, _ := ask(t, w, "GET", "/classes/CAR", "", "Api-Key: key of app")
		counts[resp.StatusCode]++
		if resp.StatusCode == 429 {
			require.NotEmpty(t, resp.Header.Get("Retry-After"))
		}
	}
	require.Equal(t, 12, counts[200]+counts[429], counts)
	require.LessOrEqual(t, counts[200], 10, "at most five a minute, of two minutes: %v", counts)

	for of, want := range map[string]int{"all callers together": 3, "each caller and operation": 6} {
		publish(t, w, "callers: with a key\ndaily quota: 3\nlimits of: "+of+"\noperations:\n  - {operation: price, answered by: examples}\n  - {operation: made-up, answered by: examples}\n")
		taken := 0
		for range 4 {
			for _, path := range []string{"/classes/CAR", "/made-up"} {
				if resp, _ := ask(t, w, "GET", path, "", "Api-Key: key of app"); resp.StatusCode == 200 {
					taken++
				}
			}
		}
		require.Equal(t, want, taken, of)
	}
	publish(t, w, "status: deprecated\ndeprecated since: 2026-01-31\nretires on: 2126-06-30\nsuccessor: /in/v2\norigins: https://desk.example\n"+example)
	resp, _ := ask(t, w, "GET", "/classes/CAR", "", "Origin: https://desk.example")
	require.Equal(t, 200, resp.StatusCode)
	require.Equal(t, "@1769817600", resp.Header.Get("Deprecation"))
	require.Equal(t, "Sun, 30 Jun 2126 00:00:00 GMT", resp.Header.Get("Sunset"))
	require.Equal(t, `</in/v2>; rel="successor-version"`, resp.Header.Get("Link"))
	require.Equal(t, "https://desk.example", resp.Header.Get("Access-Control-Allow-Origin"))
	resp, _ = ask(t, w, "OPTIONS", "/classes/CAR", "", "Origin: https://desk.example", "Access-Control-Request-Method: GET", "Access-Control-Request-Headers: api-key")
	require.Equal(t, 204, resp.StatusCode)
	require.Equal(t, "api-key", resp.Header.Get("Access-Control-Allow-Headers"))
	resp, _ = ask(t, w, "OPTIONS", "/classes/CAR", "", "Origin: https://evil.example", "Access-Control-Request-Method: GET")
	require.Empty(t, resp.Header.Get("Access-Control-Allow-Origin"))

	publish(t, w, "status: retired\nsuccessor: /in/v2\n"+example)
	resp, answer := ask(t, w, "GET", "/classes/CAR", "")
	require.Equal(t, 410, resp.StatusCode)
	require.Contains(t, answer, "retired")
	publish(t, w, "status: deprecated\nretires on: 2026-01-31\n"+example)
	resp, _ = ask(t, w, "GET", "/classes/CAR", "")
	require.Equal(t, 410, resp.StatusCode)
}

// TestALimitHoldsOverAllWorkers: never more than it says are let in, and all but what workers hold of it are.
func TestALimitHoldsOverAllWorkers(t *testing.T) {
	w := webtest.New(t)
	begins := time.Now().UTC().Truncate(time.Minute)
	var mu sync.Mutex
	sum := int64(0)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 30 {
				got, err := store.TakeQuota(t.Context(), w.DB, testkit.Skerry, "fares app", "minute", begins, 7, 1000)
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				sum += got
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	require.EqualValues(t, 1000, sum, "240 pieces of 7 are more than there is")
	got, err := store.TakeQuota(t.Context(), w.DB, testkit.Skerry, "fares app", "minute", begins, 7, 500)
	require.NoError(t, err)
	require.Zero(t, got, "a lower limit is used up")
}

// TestAnAPIIsDocumentedForItsCallers: from its contract, found by words, without scripts; tried with a key; with what changed since the
// release before, and the contract with the address at which it is called.
func TestAnAPIIsDocumentedForItsCallers(t *testing.T) {
	w := webtest.New(t)
	publish(t, w, "operations:\n  - {operation: price, answered by: examples}\n")
	docs := w.Calls.URL + "/p/skerry/docs"
	read := func(resp *http.Response, err error) (int, string) {
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NotContains(t, string(text), "<script")
		if strings.HasPrefix(resp.Header.Get("Content-Type"), "text/html") {
			require.NotContains(t, resp.Header.Get("Content-Security-Policy"), "script-src")
			require.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'none'")
		}
		return resp.StatusCode, string(text)
	}
	status, text := read(http.Get(docs))
	require.Equal(t, 200, status)
	require.Contains(t, text, "Fares")
	_, text = read(http.Get(docs + "/prices"))
	require.Contains(t, text, "/classes/{class}")
	require.Contains(t, text, "no such class")
	require.Contains(t, text, "made-up")
	_, text = read(http.Get(docs + "/prices?find=classes+price"))
	require.NotContains(t, text, "made-up")
	_, text = read(http.PostForm(docs+"/prices", url.Values{"operation": {"price"}, "p path class": {"TANK"}}))
	require.Contains(t, text, "<b>404</b>")
	require.Contains(t, text, "fits the contract")
	status, text = read(http.Get(docs + "/prices/document"))
	require.Equal(t, 200, status)
	require.Contains(t, text, w.Calls.URL+"/p/skerry/in/prices")
	k, err := contract.Read("", []byte(text))
	require.NoError(t, err)
	require.Len(t, k.Operations, 4)
	status, _ = read(http.Get(docs + "/none"))
	require.Equal(t, 404, status)

	w.Change("contracts/prices.yaml", "maximum: 30", "maximum: 20")
	publish(t, w, "operations:\n  - {operation: price, answered by: examples}\ncallers: with a key\n")
	_, text = read(http.Get(docs + "/prices"))
	require.Contains(t, text, "breaks callers")
	require.Contains(t, text, "Api-Key")
	_, text = read(http.PostForm(docs+"/prices", url.Values{"operation": {"price"}, "p path class": {"CAR"}, "key": {"wrong"}}))
	require.Contains(t, text, "<b>401</b>")
}

// TestVersionsAreToldByAHeader: of APIs with the same base, each is called by its version; one without a version by those who name none.
func TestVersionsAreToldByAHeader(t *testing.T) {
	w := webtest.New(t)
	publish(t, w, "operations:\n  - {operation: price, answered by: examples}\n")
	w.Part("contracts/next.yaml", strings.Replace(fares, "price: 340.50", "price: 999", 1))
	w.Part("apis/next.yaml", "api: Fares, next\nbase: prices\nversion: 2\ncontract: next.yaml\noperations:\n  - {operation: price, answered by: examples}\n")
	_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.APIs, "next"), "", "mira")
	require.NoError(t, err)
	for header, want := range map[string]string{"": "340.50", "Api-Version: 2": "999", "Api-Version: 3": "2, none"} {
		if header == "" {
			header = "X-Other: 1"
		}
		resp, answer := ask(t, w, "GET", "/classes/CAR", "", header)
		require.Contains(t, answer, want, "%s: %d", header, resp.StatusCode)
		if want == "999" {
			require.Equal(t, "Api-Version", resp.Header.Get("Vary"))
		}
	}
}
