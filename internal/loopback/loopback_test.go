package loopback

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOnlyNamesOfThisMachine(t *testing.T) {
	h := Handler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("data")) }))
	for host, status := range map[string]int{
		"localhost": 200, "localhost:80": 200, "127.0.0.1:8420": 200, "[::1]:8420": 200, "127.9.9.9": 200,
		"evil.example": 421, "evil.example:8420": 421, "localhost.evil.example": 421, "0.0.0.0:8420": 421, "10.0.0.1": 421, "": 421,
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.Host = host
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		require.Equal(t, status, w.Code, host)
		require.Equal(t, status == 200, w.Body.String() == "data")
	}
}
