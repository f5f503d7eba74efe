package inbound_test

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
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

// program is a program that uses a channel.
type program struct {
	t   *testing.T
	w   *webtest.World
	key string
}

func newProgram(t *testing.T, channels ...string) *program {
	t.Helper()
	w := webtest.New(t)
	for _, id := range channels {
		_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.Channels, id), "", "mira")
		require.NoError(t, err)
	}
	id := uuid.New()
	_, err := store.AddCaller(t.Context(), w.DB, testkit.Skerry, store.APICaller{ID: id, Name: "scanner", MadeBy: "mira"})
	require.NoError(t, err)
	digest := sha256.Sum256([]byte("scanner key"))
	require.NoError(t, store.AddCallerKey(t.Context(), w.DB, testkit.Skerry, store.CallerKey{Digest: digest[:], Caller: id, Hint: "scan", MadeBy: "mira"}))
	return &program{t, w, "scanner key"}
}

func (p *program) ask(method, path, body string, headers ...string) (int, map[string]any) {
	p.t.Helper()
	req, err := http.NewRequestWithContext(p.t.Context(), method, p.w.Calls.URL+"/p/skerry/channels/"+path, strings.NewReader(body))
	require.NoError(p.t, err)
	req.Header.Set("Api-Key", p.key)
	req.Header.Set("Content-Type", "application/json")
	for _, h := range headers {
		name, v, _ := strings.Cut(h, ": ")
		req.Header.Set(name, v)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(p.t, err)
	var out map[string]any
	require.NoError(p.t, json.Unmarshal(text, &out), "%s", text)
	return resp.StatusCode, out
}

const oneScan = `{"scan": "G2-1", "gate": "G2", "plate": "SK 40117", "sailing": "LS204", "at": "2031-03-09T06:41:07Z"}`

// TestProgramsUseAQueue: they put, take, acknowledge and give back over HTTP; who waits is woken by a message; bad requests are told.
// Messages are handed out once no transaction of the database is open that began before theirs: who expects one waits for it.
func TestProgramsUseAQueue(t *testing.T) {
	p := newProgram(t, "gate-scans")
	status, out := p.ask("POST", "gate-scans/messages", oneScan, "Message-Id: a", "Message-Header-Device: hand 7")
	require.Equal(t, 201, status, out)
	require.Equal(t, "a", out["id"])
	_, out = p.ask("POST", "gate-scans/messages", oneScan, "Message-Id: a")
	require.Equal(t, true, out["double"])
	status, out = p.ask("POST", "gate-scans/messages", `{"scan": 1}`)
	require.Equal(t, 422, status)
	require.NotEmpty(t, out["faults"])
	status, out = p.ask("POST", "gate-scans/messages", `{"messages": [{"id": "b", "key": "G9", "headers": {"Device": "x"}, "body": `+oneScan+`}, {"body": {}}]}`, "Content-Type: application/vnd.messages+json")
	require.Equal(t, 200, status)
	list := out["messages"].([]any)
	require.Contains(t, list[1].(map[string]any)["refused"], "scan")

	_, out = p.ask("GET", "gate-scans/messages?most=1", "")
	newest := out["messages"].([]any)[0].(map[string]any)
	require.Equal(t, "b", newest["id"])
	require.Equal(t, "G9", newest["key"])
	require.Equal(t, map[string]any{"device": "x"}, newest["headers"])
	_, older := p.ask("GET", fmt.Sprintf("gate-scans/messages?before=%s", newest["place"]), "")
	require.Equal(t, "hand 7", older["messages"].([]any)[0].(map[string]any)["headers"].(map[string]any)["device"])

	status, out = p.ask("POST", "gate-scans/take", `{"most": 1, "hold": 60, "wait": 20}`)
	require.Equal(t, 200, status, out)
	token, first := out["token"].(string), out["messages"].([]any)[0].(map[string]any)
	require.Equal(t, "a", first["id"])
	require.Equal(t, "SK 40117", first["body"].(map[string]any)["plate"])
	_, out = p.ask("POST", "gate-scans/take", `{}`)
	require.Empty(t, out["messages"], "in order by key: one is out")
	_, out = p.ask("POST", "gate-scans/return", fmt.Sprintf(`{"token": %q, "messages": [%q], "reason": "no printer"}`, token, first["place"]))
	require.EqualValues(t, 1, out["returned"])
	_, out = p.ask("POST", "gate-scans/take", `{"wait": 20}`)
	token = out["token"].(string)
	require.Len(t, out["messages"], 1)
	require.EqualValues(t, 2, out["messages"].([]any)[0].(map[string]any)["attempts"])
	_, out = p.ask("POST", "gate-scans/acknowledge", fmt.Sprintf(`{"token": %q, "messages": [%q]}`, token, first["place"]))
	require.EqualValues(t, 1, out["acknowledged"])
	_, out = p.ask("POST", "gate-scans/take", `{"wait": 20}`)
	token, first = out["token"].(string), out["messages"].([]any)[0].(map[string]any)
	require.Equal(t, "b", first["id"])
	p.ask("POST", "gate-scans/acknowledge", fmt.Sprintf(`{"token": %q, "messages": [%q]}`, token, first["place"]))

	woken := make(chan map[string]any)
	go func() {
		_, out := p.ask("POST", "gate-scans/take", `{"wait": 20}`)
		woken <- out
	}()
	p.ask("POST", "gate-scans/messages", oneScan, "Message-Id: c")
	select {
	case out := <-woken:
		require.Equal(t, "c", out["messages"].([]any)[0].(map[string]any)["id"])
	case <-time.After(10 * time.Second):
		t.Fatal("who waits is not woken")
	}

	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"POST", "nowhere/messages", oneScan, 404},
		{"POST", "sailing-log/messages", oneScan, 404},
		{"POST", "gate-scans/subscriptions/x/take", "", 404},
		{"POST", "gate-scans/take", "{", 422},
		{"POST", "gate-scans/acknowledge", `{"token": "x"}`, 422},
		{"POST", "gate-scans/acknowledge", `{"messages": ["x"]}`, 422},
		{"GET", "gate-scans/messages?most=0", "", 422},
		{"POST", "gate-scans/messages", "\xff", 422},
	} {
		status, out := p.ask(c.method, c.path, c.body)
		require.Equal(t, c.status, status, "%s %s: %v", c.path, c.body, out)
	}
	p.key = "another"
	status, _ = p.ask("POST", "gate-scans/take", "")
	require.Equal(t, 401, status)
	status, _ = p.ask("GET", "gate-scans/messages", "", "Sec-Fetch-Site: cross-site")
	require.Equal(t, 403, status)
}

// TestProgramsSubscribeToATopic: each subscription has a place of its own, and its programs share it; a stream sends what comes, and goes on
// where it was.
func TestProgramsSubscribeToATopic(t *testing.T) {
	p := newProgram(t, "sailing-log")
	p.ask("POST", "sailing-log/messages", oneScan, "Message-Id: before")
	take := func(subscription, body string) (ids []string) {
		status, out := p.ask("POST", "sailing-log/subscriptions/"+subscription+"/take", body)
		require.Equal(t, 200, status, out)
		for _, m := range out["messages"].([]any) {
			ids = append(ids, m.(map[string]any)["id"].(string))
		}
		return ids
	}
	require.Equal(t, []string{"before"}, take("all", `{"from": "beginning", "wait": 20}`))
	require.Empty(t, take("new", ""), "it begins now")
	p.ask("POST", "sailing-log/messages", oneScan, "Message-Id: one")
	p.ask("POST", "sailing-log/messages", oneScan, "Message-Id: two")
	require.Equal(t, []string{"one"}, take("new", `{"most": 1, "wait": 20}`))
	require.Equal(t, []string{"two"}, take("new", `{"wait": 20}`), "they share it")
	require.Equal(t, []string{"one"}, take("all", `{"most": 1, "wait": 20}`))
	require.Equal(t, []string{"two"}, take("all", `{"wait": 20}`))

	_, out := p.ask("GET", "sailing-log/messages?most=3", "")
	first := out["messages"].([]any)[2].(map[string]any)
	req, err := http.NewRequestWithContext(t.Context(), "GET", p.w.Calls.URL+"/p/skerry/channels/sailing-log/stream", nil)
	require.NoError(t, err)
	req.Header.Set("Api-Key", p.key)
	req.Header.Set("Last-Event-ID", first["place"].(string))
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	require.Equal(t, "text/event-stream", resp.Header.Get("Content-Type"))
	lines := bufio.NewScanner(resp.Body)
	next := func() (id string) {
		for lines.Scan() {
			if text, is := strings.CutPrefix(lines.Text(), "data: "); is {
				var m map[string]any
				require.NoError(t, json.Unmarshal([]byte(text), &m))
				return m["id"].(string)
			}
		}
		return ""
	}
	require.Equal(t, "one", next())
	require.Equal(t, "two", next())
	p.ask("POST", "sailing-log/messages", oneScan, "Message-Id: three")
	require.Equal(t, "three", next())
}

// TestDocumentsDescribeChannels: the OpenAPI document is read as a contract without a fault, and the AsyncAPI document has every channel.
func TestDocumentsDescribeChannels(t *testing.T) {
	p := newProgram(t, "gate-scans", "consignments")
	for _, id := range []string{"gate-scans", "consignments"} {
		_, doc := p.ask("GET", id+"/openapi", "")
		text, err := json.Marshal(doc)
		require.NoError(t, err)
		k, err := contract.Read(id+".json", text)
		require.NoError(t, err)
		require.Empty(t, k.Faults)
		require.NotNil(t, k.Operation("take"))
		for _, o := range k.Operations {
			if o.Body != nil {
				_, ft := k.SampleBody(o.Body.Media[0])
				require.Nil(t, ft)
			}
		}
	}
	resp, err := http.Get(p.w.Calls.URL + "/p/skerry/asyncapi")
	require.NoError(t, err)
	defer resp.Body.Close()
	require.Equal(t, 200, resp.StatusCode)
	var doc map[string]any
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&doc))
	require.Equal(t, "3.0.0", doc["asyncapi"])
	channels := doc["channels"].(map[string]any)
	require.Len(t, channels, 3, "those that are released, with the copy of the queue")
	payload := channels["consignments"].(map[string]any)["messages"].(map[string]any)["message"].(map[string]any)["payload"].(map[string]any)
	require.Contains(t, payload["properties"], "lane_m")
	require.Len(t, doc["operations"], 6)
}
