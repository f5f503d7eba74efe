package inbound_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web"
	"hollowreed/internal/web/webtest"
)

const doorFlow = `
flow: Kiosk door
trigger: {kind: request, path: kiosk/sign-ups, input: sign-up, output: board-post, as: card, key: door key, keep: board}
reference: card.card
steps:
  - step: choose
    id: c
    when:
      - if: card.kiosk == "closed"
        steps: [{step: stop, id: no, text: '"the kiosk is closed"'}]
  - {step: upsert, id: put, connection: harbour-ledger, table: kiosk_member, from: card, key: card}
  - {step: answer, id: a, with: {board: 'first(request.query).value', text: '"hello " + card.name'}, status: "201", headers: "Location: /cards/${card.card}"}
`

// TestARequestStartsARunAndIsAnsweredByIt: with what its body and its query say; what is at fault is told with its place
// and starts nothing; the same key of idempotency is the same run.
func TestARequestStartsARunAndIsAnsweredByIt(t *testing.T) {
	w := webtest.New(t)
	require.NoError(t, w.Vault.Save(t.Context(), store.Secret{Name: "door key", Type: "token", ChangedBy: "mira"}, "kelp-and-salt"))
	w.Release("kiosk-door", doorFlow)
	const good = `{"card": "D1", "name": "Ada", "mail": "ada@x.example", "kiosk": "K1", "at": "2031-03-09T06:00:00Z"}`
	const token = "Authorization: Bearer kelp-and-salt"

	resp, answer := w.Ask("POST", "/in/kiosk/sign-ups?board=crew", good, token, "Idempotency-Key: once")
	require.Equal(t, 201, resp.StatusCode, answer)
	require.Equal(t, map[string]any{"board": "crew", "text": "hello Ada"}, answer)
	require.Equal(t, "/cards/D1", resp.Header.Get("Location"))
	require.Equal(t, "application/json", resp.Header.Get("Content-Type"))
	first := resp.Header.Get("Hollowreed-Run")
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", good, token, "Idempotency-Key: once")
	require.Equal(t, 201, resp.StatusCode)
	require.Equal(t, first, resp.Header.Get("Hollowreed-Run"))
	resp, answer = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", strings.Replace(good, "Ada", "Bo", 1), token, "Idempotency-Key: once")
	require.Equal(t, 422, resp.StatusCode)
	require.Contains(t, answer["detail"], "another request came with the same Idempotency-Key")
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups?board=watch", good, token, "Idempotency-Key: once")
	require.Equal(t, 422, resp.StatusCode, "another query is another request")
	long := "Idempotency-Key: " + strings.Repeat("k", 6000)
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", good, token, long)
	require.Equal(t, 201, resp.StatusCode)
	second := resp.Header.Get("Hollowreed-Run")
	require.NotEqual(t, first, second)
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", good, token, long)
	require.Equal(t, second, resp.Header.Get("Hollowreed-Run"))
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", strings.Replace(good, `"D1"`, `"D1\r\nSet-Cookie: a=b"`, 1), token)
	require.NotEqual(t, 201, resp.StatusCode, "a value adds no header")
	require.Empty(t, resp.Header.Get("Set-Cookie"))

	runs := func() int {
		list, err := store.Runs(t.Context(), w.DB, store.RunFilter{Scope: testkit.Skerry, Flow: "kiosk-door", Most: 50})
		require.NoError(t, err)
		return len(list)
	}
	before := runs()
	resp, answer = w.Ask("POST", "/in/kiosk/sign-ups", `{"card": "D2", "name": 7}`, token)
	require.Equal(t, 422, resp.StatusCode)
	require.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
	require.Contains(t, answer["faults"].([]any)[0].(map[string]any)["pointer"], "/")
	resp, answer = w.Ask("POST", "/in/kiosk/sign-ups", `{"card": `, token)
	require.Equal(t, 422, resp.StatusCode, answer)
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups", good)
	require.Equal(t, 401, resp.StatusCode)
	require.Equal(t, `Bearer realm="api"`, resp.Header.Get("WWW-Authenticate"))
	resp, _ = w.Ask("POST", "/in/kiosk/sign-ups", good, "Authorization: Bearer kelp")
	require.Equal(t, 401, resp.StatusCode)
	resp, answer = w.Ask("GET", "/in/kiosk/sign-ups", "", token)
	require.Equal(t, 405, resp.StatusCode)
	require.Equal(t, "POST", resp.Header.Get("Allow"))
	require.Equal(t, "expected one of the methods POST, found GET", answer["detail"])
	resp, _ = w.Ask("POST", "/in/nowhere", "")
	require.Equal(t, 404, resp.StatusCode)
	require.Equal(t, before, runs(), "what is refused starts nothing")

	resp, answer = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", strings.Replace(good, "K1", "closed", 1), token)
	require.Equal(t, 422, resp.StatusCode)
	require.Equal(t, "the kiosk is closed", answer["detail"], "a step that stops the run says why")
	resp, answer = w.Ask("POST", "/in/kiosk/sign-ups", good, token) // no query: the answer cannot be made
	require.Equal(t, 500, resp.StatusCode)
	require.Equal(t, "the run is set aside", answer["detail"], "what it failed for is not for the caller")
	require.NotEmpty(t, answer["run"])

	require.NoError(t, w.Engine.PauseTrigger(t.Context(), testkit.Skerry, "kiosk-door", "mira", "the ledger is moved"))
	resp, answer = w.Ask("POST", "/in/kiosk/sign-ups?board=crew", good, token)
	require.Equal(t, 503, resp.StatusCode)
	require.Contains(t, answer["detail"], "the ledger is moved")
	require.NotContains(t, w.Logs.String(), "kelp-and-salt")
}

// TestARequestThatIsNotWaitedFor: it is told that the run goes on; without a schema its body is a text, and the answer
// has none.
func TestARequestThatIsNotWaitedFor(t *testing.T) {
	w := webtest.New(t)
	w.Release("later", "flow: Later\ntrigger: {kind: request, path: later, method: PUT, wait: 0}\nsteps:\n  - {step: note, id: n, text: request.body}\n")
	resp, answer := w.Ask("PUT", "/in/later", "any text")
	require.Equal(t, 202, resp.StatusCode)
	require.NotEmpty(t, answer["run"])
	w.Release("now", "flow: Now\ntrigger: {kind: request, path: now}\nsteps:\n  - {step: note, id: n, text: request.body}\n")
	resp, answer = w.Ask("POST", "/in/now", "any text")
	require.Equal(t, 204, resp.StatusCode, answer)
	large, _ := w.Ask("POST", "/in/now", strings.Repeat("x", web.MaxBody+1))
	require.Equal(t, 413, large.StatusCode)
}

// TestARequestWithOddTextLosesNothing: texts that a database cannot keep in a text column pass through a run, and what
// is told of them shows them.
func TestARequestWithOddTextLosesNothing(t *testing.T) {
	w := webtest.New(t)
	w.Release("odd", `
flow: Odd
trigger: {kind: request, path: odd, output: board-post}
reference: request.body
one per: request.body
steps:
  - {step: note, id: n, text: request.body}
  - {step: reference, id: r, is: request.body}
  - {step: once, id: o, key: request.body, within: 0}
  - step: attempt
    id: t
    steps: [{step: stop, id: s, text: request.body}]
    on fault: [{step: note, id: m, text: fault.text}]
  - {step: answer, id: a, with: {board: '"crew"', text: request.body}}
`)
	for name, c := range map[string]struct{ text, shown string }{
		"a zero":              {"a\x00b", "a␀b"},
		"a control character": {"a\x01b", "a\x01b"},
		"a noncharacter":      {"a\ufffeb", "a\ufffeb"},
		"the last character":  {"a\U0010ffffb", "a\U0010ffffb"},
	} {
		t.Run(name, func(t *testing.T) {
			resp, answer := w.Ask("POST", "/in/odd", c.text, "Content-Type: text/plain; charset=utf-8")
			require.Equal(t, 200, resp.StatusCode, answer)
			require.Equal(t, c.text, answer["text"])
			id, err := uuid.Parse(resp.Header.Get("Hollowreed-Run"))
			require.NoError(t, err)
			refs, err := store.References(t.Context(), w.DB, id, 10)
			require.NoError(t, err)
			require.Equal(t, c.shown, refs[0].Text)
			require.Contains(t, w.Body("/traffic/runs/"+id.String()), c.shown)
		})
	}
	resp, answer := w.Ask("POST", "/in/odd", "a\xffb")
	require.Equal(t, 422, resp.StatusCode, "what is no text is not changed in silence")
	require.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), answer)
}

// TestARequestForOneThing: its parameters come from the path, the query and the headers; what is not there is a 404 with a
// message of its own.
func TestARequestForOneThing(t *testing.T) {
	w := webtest.New(t)
	for path, text := range map[string]string{
		"schemas/station-query.yaml": "schema: Station query\nnotation: json\nfields:\n  - {name: code, type: text, constraints: {pattern: '[A-Z]{2}\\d{2}'}}\n  - {name: depth, type: integer, occurs: 0..1}\n  - {name: tags, type: text, occurs: 0..n}\n  - {name: x_unit, type: text, occurs: 0..1}\n",
		"schemas/station-told.yaml":  "schema: Station told\nnotation: json\nfields:\n  - {name: name, type: text}\n  - {name: depth, type: integer, occurs: 0..1}\n  - {name: tags, type: integer}\n  - {name: unit, type: text, occurs: 0..1}\n",
		"schemas/not-there.yaml":     "schema: Not there\nnotation: json\nfields:\n  - {name: missing, type: text}\n",
	} {
		require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
			return store.AddPart(t.Context(), tx, "skerry", path, text, "mira")
		}))
	}
	w.Release("station-by-code", `
flow: Station by code
trigger: {kind: request, method: GET, path: 'stations/{code}', parameters: station-query, output: station-told}
reference: request.parameters.code
one per: request.parameters.code
steps:
  - {step: find, id: find, connection: harbour-ledger, table: station, schema: station, match: {gauge_code: request.parameters.code}, none: go on, as: found}
  - step: choose
    id: c
    when:
      - if: isEmpty(found)
        steps:
          - {step: answer, id: none, schema: not-there, with: {missing: request.parameters.code}, status: "404"}
      - if: request.parameters.depth == 0
        steps:
          - {step: answer, id: empty, body: none, status: "204"}
    otherwise:
      - {step: answer, id: a, with: {name: found.name, depth: request.parameters.depth, tags: count(request.parameters.tags), unit: request.parameters.x_unit}}
`)
	w.Release("station-list", "flow: Stations\ntrigger: {kind: request, method: GET, path: stations/all, output: not-there}\nsteps:\n  - {step: answer, id: a, with: {missing: '\"none\"'}}\n")
	resp, answer := w.Ask("GET", "/in/stations/SK04?depth=12&tags=a&tags=b", "", "X-Unit: cm")
	require.Equal(t, 200, resp.StatusCode, answer)
	require.Equal(t, map[string]any{"name": "Ling Sound, north pier", "depth": 12., "tags": 2., "unit": "cm"}, answer)
	run := recorded(w, resp)
	require.Equal(t, "SK04", run.Reference)

	resp, answer = w.Ask("GET", "/in/stations/ZZ99", "")
	require.Equal(t, 404, resp.StatusCode)
	require.Equal(t, map[string]any{"missing": "ZZ99"}, answer)
	resp, answer = w.Ask("GET", "/in/stations/SK04?depth=0", "")
	require.Equal(t, 204, resp.StatusCode)
	require.Empty(t, answer)
	resp, answer = w.Ask("GET", "/in/stations/all", "")
	require.Equal(t, 200, resp.StatusCode, "the fixed path comes before the one with a parameter")
	require.Equal(t, map[string]any{"missing": "none"}, answer)
	for query, detail := range map[string]string{
		"/in/stations/SK04?depth=deep":      `depth: expected integer, found "deep"`,
		"/in/stations/SK04?depth=1&depth=2": "depth: expected the parameter once, found 2 times",
		"/in/stations/sk04":                 `code: expected text like`,
	} {
		resp, answer = w.Ask("GET", query, "")
		require.Equal(t, 422, resp.StatusCode, query)
		require.Contains(t, answer["detail"], detail)
	}
	resp, _ = w.Ask("POST", "/in/stations/SK04", "")
	require.Equal(t, 405, resp.StatusCode)
	require.Equal(t, "GET", resp.Header.Get("Allow"))
	resp, _ = w.Ask("GET", "/in/stations/", "")
	require.Equal(t, 404, resp.StatusCode)
}

const openFlow = `
flow: Open door
trigger: {kind: request, method: GET, path: open, keep: "lang, X-Trace", %s}
reference: request.query | map(.name) | join(" ")
steps:
  - {step: answer, id: a, status: '200', headers: "Content-Security-Policy: default-src *"}
`

// TestCallsAreKeptApartFromPages: they come in at an address of their own, and what answers them is harmless in a browser; no
// page of another site starts a flow that is not for it.
func TestCallsAreKeptApartFromPages(t *testing.T) {
	w := webtest.New(t)
	w.Release("open-door", fmt.Sprintf(openFlow, "as: a"))
	get := func(address string, headers ...string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
		require.NoError(t, err)
		for _, h := range headers {
			name, v, _ := strings.Cut(h, ": ")
			req.Header.Set(name, v)
		}
		if host := req.Header.Get("Host"); host != "" {
			req.Host = host
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp
	}
	require.Equal(t, 404, get(w.Server.URL+"/in/open").StatusCode)
	require.Equal(t, 404, get(w.Calls.URL+"/bench").StatusCode)
	require.Equal(t, 421, get(w.Calls.URL+"/in/open", "Host: evil.example").StatusCode)
	resp := get(w.Calls.URL + "/in/open")
	require.Equal(t, 204, resp.StatusCode)
	require.Equal(t, []string{"sandbox; default-src 'none'; frame-ancestors 'none'"}, resp.Header.Values("Content-Security-Policy"))
	require.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
	require.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
	require.Equal(t, 204, get(w.Calls.URL+"/in/open", "Sec-Fetch-Site: none").StatusCode)
	require.Equal(t, 403, get(w.Calls.URL+"/in/open", "Sec-Fetch-Site: cross-site").StatusCode)
	require.Equal(t, 403, get(w.Calls.URL+"/in/open", "Sec-Fetch-Site: same-site").StatusCode)
	require.Equal(t, 403, get(w.Calls.URL+"/in/open", "Origin: https://evil.example").StatusCode)
	w.Release("public-door", fmt.Sprintf(strings.Replace(openFlow, "path: open", "path: public", 1), "other sites: yes"))
	require.Equal(t, 204, get(w.Calls.URL+"/in/public", "Sec-Fetch-Site: cross-site").StatusCode)
	head, err := http.Head(w.Server.URL + "/bench")
	require.NoError(t, err)
	require.Equal(t, 200, head.StatusCode)
	require.Equal(t, "no-store", head.Header.Get("Cache-Control"))
	head, err = http.Head(w.Calls.URL + "/in/open")
	require.NoError(t, err)
	require.Equal(t, 204, head.StatusCode)
}

// recorded is the run of a call that was answered; that of a question is recorded right behind its answer.
func recorded(w *webtest.World, resp *http.Response) (r store.Run) {
	w.T.Helper()
	id := uuid.MustParse(resp.Header.Get("Hollowreed-Run"))
	require.Eventually(w.T, func() bool {
		var err error
		r, err = store.RunByID(w.T.Context(), w.DB, id)
		return err == nil
	}, 10*time.Second, 5*time.Millisecond)
	return r
}

// TestCredentialsOfCallersAreNotKept: of headers and query what is usual, what is a parameter, and what the trigger names.
func TestCredentialsOfCallersAreNotKept(t *testing.T) {
	w := webtest.New(t)
	w.Release("open-door", fmt.Sprintf(openFlow, "as: a"))
	resp, _ := w.Ask("GET", "/in/open?lang=no&token=hush&sig=hush", "", "X-Api-Key: hush", "X-Trace: t-1", "Accept-Language: no", "Cookie: hush=1", "Proxy-Authorization: hush")
	require.Equal(t, 204, resp.StatusCode)
	r := recorded(w, resp)
	require.Equal(t, "lang", r.Reference)
	require.NotContains(t, string(r.Request), "hush")
	for _, kept := range []string{"x-trace", "accept-language", "lang"} {
		require.Contains(t, string(r.Request), kept)
	}
}

// TestABodyIsReadWhenItMayCome: who may not call is told before the body has come in.
func TestABodyIsReadWhenItMayCome(t *testing.T) {
	w := webtest.New(t)
	require.NoError(t, w.Vault.Save(t.Context(), store.Secret{Name: "door key", Type: "token", ChangedBy: "mira"}, "kelp-and-salt"))
	w.Release("kiosk-door", doorFlow)
	conn, err := net.Dial("tcp", w.Calls.Listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "POST /in/kiosk/sign-ups HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000000\r\n\r\n{")
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(15*time.Second))) // a body has 30 s to come in
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err, "told at once")
	require.Equal(t, 401, resp.StatusCode)
}
