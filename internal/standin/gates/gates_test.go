package gates

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestScansArePutAndTaken: the scanners put them with ids and the key, the reader acknowledges what it is handed; half a scan is told on
// the page.
func TestScansArePutAndTaken(t *testing.T) {
	var mu sync.Mutex
	var put []string
	acknowledged := make(chan string, 100)
	queue := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		switch {
		case r.Header.Get("Api-Key") != "k":
			w.WriteHeader(401)
		case strings.HasSuffix(r.URL.Path, "/messages") && !json.Valid(body):
			w.WriteHeader(422)
			io.WriteString(w, "half of it")
		case strings.HasSuffix(r.URL.Path, "/messages"):
			put = append(put, r.Header.Get("Message-Id"))
		case strings.HasSuffix(r.URL.Path, "/take"):
			if len(put) == 0 {
				io.WriteString(w, `{"token": "t", "messages": []}`)
				return
			}
			io.WriteString(w, `{"token": "t", "messages": [{"place": "1-`+put[0]+`", "body": {}}]}`)
			put = put[1:]
		default:
			acknowledged <- string(body)
		}
	}))
	defer queue.Close()
	g := &Gates{Address: queue.URL, Key: "k", Every: 10 * time.Millisecond}
	address, err := g.Start(t.Context())
	require.NoError(t, err)
	require.Contains(t, <-acknowledged, `"messages":["1-scan-`)
	resp, err := http.Post(address+"/do/odd", "", nil)
	require.NoError(t, err)
	resp.Body.Close()
	require.Eventually(t, func() bool {
		g.mu.Lock()
		defer g.mu.Unlock()
		return strings.Contains(g.fault, "half of it") || !g.odd
	}, 5*time.Second, 5*time.Millisecond)
	var scan map[string]string
	require.NoError(t, json.Unmarshal(Scan(7, time.Unix(0, 0)), &scan))
	require.Equal(t, "G2-000007", scan["scan"])
}
