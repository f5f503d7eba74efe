package inbound_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

// TestResponsesAreKept: the backend is asked once for what is the same by the key, again when it is no longer fresh, behind the
// caller's back while a stale one may be sent, and each time for what may not be kept.
func TestResponsesAreKept(t *testing.T) {
	w := webtest.New(t)
	var asked atomic.Int32
	var mu sync.Mutex
	headers, body := http.Header{}, ""
	says := func(text string, list ...string) {
		mu.Lock()
		defer mu.Unlock()
		body, headers = text, http.Header{}
		for _, h := range list {
			name, v, _ := strings.Cut(h, ": ")
			headers.Add(name, v)
		}
	}
	hold := make(chan struct{})
	close(hold)
	backend := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" || r.URL.Path == "" {
			return // a look whether it answers
		}
		n := asked.Add(1)
		mu.Lock()
		text, h, held := body, headers, hold
		mu.Unlock()
		<-held
		for name, values := range h {
			rw.Header()[name] = values
		}
		if rw.Header().Get("Content-Type") == "" {
			rw.Header().Set("Content-Type", "application/json")
		}
		rw.Header().Set("X-Tariff", "winter")
		if text == "" {
			text = fmt.Sprintf(`{"price":%d}`, n)
		}
		if r.Header.Get("If-None-Match") != "" || r.Header.Get("Range") != "" {
			text = "asked for a part"
		}
		io.WriteString(rw, text)
	}))
	defer backend.Close()
	w.Part("connections/old.yaml", "connection: Old\nkind: http\n")
	w.Reach("old", "http", map[string]string{"address": backend.URL})
	const ways = "operations:\n  - {operation: price, answered by: pass-through, connection: old, path: '/price'}\n  - {operation: made-up, answered by: pass-through, connection: old, path: '/x'}\n"
	publish(t, w, ways+"caching:\n  - {operation: price, seconds: 300, key: upper(class)}\n")

	own := 0
	require.Eventually(t, func() bool { // one of them is heard, and so is what was announced before
		own++
		require.NoError(t, w.Engine.EmptyResponses(t.Context(), testkit.Skerry, "another"))
		return w.Engine.Responses().Emptied(testkit.Skerry, "another") > own
	}, 20*time.Second, 20*time.Millisecond)
	asked.Store(0)
	first, answer := ask(t, w, "GET", "/classes/car", "", "If-None-Match: \"1\"", "Range: bytes=0-2")
	require.Equal(t, `{"price":1}`, answer)
	require.Equal(t, "HollowReed; fwd=miss; stored", first.Header.Get("Cache-Status"))
	tag := first.Header.Get("Etag")
	require.NotEmpty(t, tag)
	again, answer := ask(t, w, "GET", "/classes/CAR?metres=3", "")
	require.Equal(t, `{"price":1}`, answer, "the formula tells them not apart")
	require.Contains(t, again.Header.Get("Cache-Status"), "hit; ttl=")
	require.Equal(t, "winter", again.Header.Get("X-Tariff"))
	require.NotEmpty(t, again.Header.Get("Age"))
	require.Equal(t, []string{"sandbox; default-src 'none'; frame-ancestors 'none'"}, again.Header.Values("Content-Security-Policy"))
	same, answer := ask(t, w, "GET", "/classes/CAR", "", `If-None-Match: "x", W/`+tag)
	require.Equal(t, 304, same.StatusCode)
	require.Empty(t, answer)
	require.Equal(t, tag, same.Header.Get("Etag"))
	broken, answer := ask(t, w, "GET", "/classes/CAR?metres=31", "")
	require.Equal(t, 422, broken.StatusCode, "what breaks the contract is refused, whatever is kept: %s", answer)
	head, answer := ask(t, w, "HEAD", "/classes/CAR", "")
	require.Equal(t, 200, head.StatusCode)
	require.Empty(t, answer)
	require.Equal(t, "11", head.Header.Get("Content-Length"))
	_, answer = ask(t, w, "GET", "/classes/LORRY", "")
	require.Equal(t, `{"price":2}`, answer)
	_, answer = ask(t, w, "GET", "/classes/CAR", "", "Authorization: Bearer of one caller")
	require.Equal(t, `{"price":3}`, answer, "what is for one caller is not what others get")
	ask(t, w, "GET", "/made-up", "")
	ask(t, w, "GET", "/made-up", "")
	require.EqualValues(t, 5, asked.Load(), "an operation without caching is asked each time")

	require.NoError(t, w.Engine.EmptyResponses(t.Context(), testkit.Skerry, "prices"))
	_, answer = ask(t, w, "GET", "/classes/CAR", "")
	require.Equal(t, `{"price":6}`, answer)

	for i, h := range []string{"Set-Cookie: a=b", "Cache-Control: max-age=5, private", "Cache-Control: no-store", "Vary: X-Team", "Vary: Origin"} {
		says("", h)
		path := fmt.Sprintf("/classes/P%d", i)
		_, one := ask(t, w, "GET", path, "")
		_, two := ask(t, w, "GET", path, "")
		require.NotEqual(t, one, two, h)
	}
	large := `{"price":1,"z":"` + strings.Repeat("x", 3<<20) + `"}`
	says(large)
	n := asked.Load()
	for range 2 {
		resp, answer := ask(t, w, "GET", "/classes/LARGE", "")
		require.Equal(t, large, answer, "a large one comes whole")
		require.Equal(t, "HollowReed; fwd=miss", resp.Header.Get("Cache-Status"))
	}
	require.EqualValues(t, n+2, asked.Load())

	says("")
	mu.Lock()
	hold = make(chan struct{})
	mu.Unlock()
	n = asked.Load()
	var calls sync.WaitGroup
	answers := make([]string, 8)
	for i := range answers {
		calls.Go(func() { _, answers[i] = ask(t, w, "GET", "/classes/MANY", "") })
	}
	require.Eventually(t, func() bool { return asked.Load() == n+1 }, 10*time.Second, time.Millisecond)
	close(hold)
	calls.Wait()
	for _, a := range answers {
		require.Equal(t, fmt.Sprintf(`{"price":%d}`, n+1), a, "one asks for all")
	}

	publish(t, w, ways+"caching:\n  - {operation: price, seconds: 1, stale seconds: 300}\n")
	_, before := ask(t, w, "GET", "/classes/CAR", "")
	var stale *http.Response
	require.Eventually(t, func() bool {
		resp, answer := ask(t, w, "GET", "/classes/CAR", "")
		if answer != before {
			return true // the new one
		}
		stale = resp
		return false
	}, 20*time.Second, 20*time.Millisecond)
	require.NotNil(t, stale)
	require.Contains(t, stale.Header.Get("Cache-Status"), "hit; ttl=")
	backend.Close()
	for end := time.Now().Add(1500 * time.Millisecond); time.Now().Before(end); {
		resp, answer := ask(t, w, "GET", "/classes/CAR", "")
		require.Equal(t, 200, resp.StatusCode, "a stale one is better than none: %s", answer)
	}
}
