package inbound_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

// TestCallsAreLoggedAsTheirAPISays: which ones, with or without bodies, never with masked values; found by their trace, which goes on
// to the backend.
func TestCallsAreLoggedAsTheirAPISays(t *testing.T) {
	w := webtest.New(t)
	var trace string
	backend := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost { // and no look whether it answers
			trace = r.Header.Get("Traceparent")
		}
		rw.Header().Set("Content-Type", "application/json")
		io.WriteString(rw, `{"price": 7, "z": "secret of the answer"}`)
	}))
	defer backend.Close()
	w.Part("connections/old.yaml", "connection: Old\nkind: http\n")
	w.Reach("old", "http", map[string]string{"address": backend.URL})
	const ways = "operations:\n  - {operation: price, answered by: examples}\n  - {operation: papers, answered by: pass-through, connection: old}\n"
	logged := func(q store.LogQuery, want int) []store.LoggedCall {
		t.Helper()
		var list []store.LoggedCall
		require.Eventually(t, func() bool {
			var err error
			list, err = store.LoggedCalls(t.Context(), w.DB, testkit.Skerry, q, 50)
			require.NoError(t, err)
			return len(list) >= want
		}, 20*time.Second, 20*time.Millisecond)
		require.Len(t, list, want)
		return list
	}
	publish(t, w, ways)
	ask(t, w, "GET", "/classes/CAR", "")
	resp, _ := ask(t, w, "GET", "/classes/CAR?metres=31", "")
	require.Equal(t, 422, resp.StatusCode)
	one := logged(store.LogQuery{API: "prices"}, 1)[0] // failed ones, and no others
	require.Equal(t, []any{"price", 422, "GET", "/in/prices/classes/CAR?metres=31", resp.Header.Get("Hollowreed-Trace")}, []any{one.Operation, one.Status, one.Method, one.Path, one.Trace})
	require.Contains(t, one.Fault, "at most 30")
	require.Nil(t, one.Request)
	require.WithinDuration(t, time.Now().AddDate(0, 0, 7), one.Until, time.Hour)

	publish(t, w, "log: all\nlog bodies: all\nmasked fields: z, token\nlog days: 2\n"+ways)
	const parent = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"
	ask(t, w, "POST", "/orders/1/papers?token=t0p&a=b", `{"price": 1.50, "z": "secret of the request"}`, "Content-Type: application/json", "Traceparent: "+parent)
	require.Equal(t, parent, trace)
	one = logged(store.LogQuery{Trace: "4bf92f3577b34da6a3ce929d0e0e4736"}, 1)[0]
	require.Equal(t, `{"price":1.50,"z":"…"}`, string(one.Request))
	require.Equal(t, `{"price":7,"z":"…"}`, string(one.Response))
	require.Equal(t, "/in/prices/orders/1/papers?token=…&a=b", one.Path)
	ask(t, w, "POST", "/orders/2/papers", `{"price": "secret of the fault", "z": "x"}`, "Content-Type: application/json")
	one = logged(store.LogQuery{Operation: "papers", Status: 4}, 1)[0]
	require.NotContains(t, one.Fault, "secret")
	require.Contains(t, one.Fault, "price")
	resp, _ = ask(t, w, "POST", "/orders/3/papers", `{"price": 1}`, "Content-Type: application/json")
	require.Len(t, resp.Header.Get("Hollowreed-Trace"), 32)
	require.Contains(t, trace, resp.Header.Get("Hollowreed-Trace"), "a new one goes on, too")

	publish(t, w, "log: none\n"+ways)
	n := len(logged(store.LogQuery{}, 4))
	resp, _ = ask(t, w, "GET", "/classes/CAR?metres=31", "")
	require.Empty(t, resp.Header.Get("Hollowreed-Trace"))
	publish(t, w, "log: all\n"+ways)
	ask(t, w, "GET", "/classes/CAR", "")
	require.Equal(t, 200, logged(store.LogQuery{}, n+1)[0].Status, "the one before is not there")

	swept, err := store.SweepLog(t.Context(), w.DB, testkit.Skerry.Environment, time.Now().AddDate(0, 0, 3), 100)
	require.NoError(t, err)
	require.EqualValues(t, 3, swept, "those that are kept for two days")
}
