package inbound_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/web/webtest"
)

// TestRequestsAreNotSmuggled: bytes that two parties could read as different requests are refused, or are one request for the backend,
// too; floods of headers and callers that send nothing are ended.
func TestRequestsAreNotSmuggled(t *testing.T) {
	w := webtest.New(t)
	var mu sync.Mutex
	asked := map[string]int{} // by path
	var others atomic.Int32
	backend := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/" || r.URL.Path == "":
			return // a look whether it answers
		case strings.HasPrefix(r.URL.Path, "/orders/"):
			mu.Lock()
			asked[r.URL.Path]++
			mu.Unlock()
		default:
			others.Add(1)
		}
		io.Copy(io.Discard, r.Body)
		rw.Header().Set("Content-Type", "application/json")
		io.WriteString(rw, `{"price": 1}`)
	}))
	defer backend.Close()
	w.Part("connections/old.yaml", "connection: Old\nkind: http\n")
	w.Reach("old", "http", map[string]string{"address": backend.URL})
	publish(t, w, "request validation: off\noperations:\n  - {operation: papers, answered by: pass-through, connection: old}\n")
	host := strings.TrimPrefix(w.Calls.URL, "http://")
	raw := func(request string) (statuses []int) {
		t.Helper()
		conn, err := net.Dial("tcp", host)
		require.NoError(t, err)
		defer conn.Close()
		require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
		go io.WriteString(conn, request)
		in := bufio.NewReader(conn)
		for {
			resp, err := http.ReadResponse(in, nil)
			if err != nil {
				return statuses
			}
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			if statuses = append(statuses, resp.StatusCode); resp.Close {
				return statuses
			}
		}
	}
	const hidden = "GET /in/prices/hidden HTTP/1.1\r\nHost: x\r\n\r\n"
	post := func(headers, body string) string {
		return "POST /in/prices/orders/1/papers HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n" + headers + "\r\n\r\n" + body
	}
	n := 0
	for name, c := range map[string]struct {
		request string
		refused bool
	}{
		"two lengths":                    {post("Content-Length: 0\r\nContent-Length: "+fmt.Sprint(len(hidden)), hidden), true},
		"a length with a sign":           {post("Content-Length: +5", "hello"+hidden), true},
		"an encoding that is none":       {post("Transfer-Encoding: xchunked", "0\r\n\r\n"+hidden), true},
		"an encoding twice":              {post("Transfer-Encoding: chunked\r\nTransfer-Encoding: identity", "0\r\n\r\n"+hidden), true},
		"a chunk without a size":         {post("Transfer-Encoding: chunked", "zz\r\n"+hidden), false},
		"a blank before the colon":       {post("Content-Length : 5", "hello"+hidden), true},
		"a header over two lines":        {post("X-A: b\r\n Content-Length: 5", "hello"), false},
		"length and encoding":            {post("Content-Length: 5\r\nTransfer-Encoding: chunked", "0\r\n\r\n"+hidden), false},
		"a line break in the path":       {"GET /in/prices/orders/1/papers%0d%0aX: HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n", true},
		"a path that climbs":             {"GET /in/prices/orders/1/papers/../../../hidden HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n", true},
		"an address of another host":     {"GET http://evil.example/in/prices/orders/1/papers HTTP/1.1\r\nHost: evil.example\r\nConnection: close\r\n\r\n", true},
		"a flood of headers":             {post(strings.Repeat("X-Flood: "+strings.Repeat("x", 1000)+"\r\n", 2000)+"X-End: 1", ""), true},
		"a name with what headers lack":  {post("X(y): 1", ""), true},
		"no host":                        {"GET /in/prices/orders/1/papers HTTP/1.1\r\nConnection: close\r\n\r\n", true},
		"a hop's header named as of hop": {post("Connection: close, Api-Key\r\nContent-Length: 0", ""), false},
	} {
		n++
		statuses := raw(strings.ReplaceAll(c.request, "orders/1/", fmt.Sprintf("orders/%d/", n)))
		require.Zero(t, others.Load(), "%s: the backend was asked for something else", name)
		for _, status := range statuses {
			require.NotContains(t, []int{500, 502}, status, name)
		}
		if c.refused && len(statuses) > 0 {
			require.GreaterOrEqual(t, statuses[0], 400, name)
		}
	}
	resp, answer := ask(t, w, "POST", "/orders/last/papers", `{"price": 1}`, "Content-Type: application/json")
	require.Equal(t, 200, resp.StatusCode, "others are served as before: %s", answer)
	backend.Close() // which waits for what it was asked
	mu.Lock()
	defer mu.Unlock()
	for path, times := range asked {
		require.Equal(t, 1, times, "%s: one request is one for the backend", path)
	}
}
