package http

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRequestsAreSpread: by turns; one that is away is left out, and what was not sent, or changes nothing, goes to another one; what
// may have been done is not done again.
func TestRequestsAreSpread(t *testing.T) {
	var asked [3]atomic.Int32
	breaks := atomic.Bool{}
	var servers []*httptest.Server
	var addresses []string
	for i := range asked {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked[i].Add(1)
			body, _ := io.ReadAll(r.Body)
			if i == 2 && breaks.Load() {
				panic(http.ErrAbortHandler)
			}
			w.Write(append([]byte(r.URL.Path+" "), body...))
		}))
		defer s.Close()
		servers, addresses = append(servers, s), append(addresses, s.URL)
	}
	base, err := url.Parse(addresses[0] + "/base")
	require.NoError(t, err)
	over, err := spreadOver(&http.Transport{DisableKeepAlives: true}, base, strings.Join(addresses[1:], " "))
	require.NoError(t, err)
	client := &http.Client{Transport: over}
	call := func(method, body string) (string, error) {
		req, err := http.NewRequest(method, base.String(), strings.NewReader(body))
		require.NoError(t, err)
		if body == "" {
			req.Body, req.ContentLength = http.NoBody, 0
		}
		res, err := client.Do(req)
		if err != nil {
			return "", err
		}
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		return string(text), err
	}
	for range 9 {
		text, err := call("POST", "x")
		require.NoError(t, err)
		require.Equal(t, "/base x", text)
	}
	for i := range asked {
		require.EqualValues(t, 3, asked[i].Load())
	}
	servers[1].Close()
	for range 9 {
		_, err := call("POST", "x")
		require.NoError(t, err, "nothing was sent to the one that is away")
	}
	require.EqualValues(t, 3, asked[1].Load())
	breaks.Store(true)
	failed := 0
	for range 6 {
		if _, err := call("POST", "x"); err != nil {
			failed++
		}
	}
	require.Equal(t, 1, failed, "what may have been done is not done again; then that one is left out")
	over.(*spread).all[2].out.Store(0)
	for range 6 {
		over.(*spread).all[2].out.Store(0)
		_, err := call("GET", "")
		require.NoError(t, err, "what changes nothing goes to another one")
	}
	servers[0].Close()
	servers[2].Close()
	_, err = call("GET", "")
	require.Error(t, err)

	other, err := spreadOver(&http.Transport{}, base, " ")
	require.NoError(t, err)
	require.IsType(t, &http.Transport{}, other)
	for _, wrong := range []string{"desk", "https://desk.example/path", "https://me:pw@desk.example"} {
		_, err := spreadOver(&http.Transport{}, base, wrong)
		require.ErrorContains(t, err, "without a path", wrong)
	}
}
