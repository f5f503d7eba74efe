package journeys

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheNextCallIsDebugged: it halts before the first step of the draft, a value is changed on the way, and its caller gets the
// answer; other calls find nobody.
func TestTheNextCallIsDebugged(t *testing.T) {
	w := newWorld(t)
	w.everything()
	tb := w.tab()
	type answered struct {
		status int
		body   string
	}
	call := func(path, header string) chan answered {
		out := make(chan answered, 1)
		go func() {
			req, err := http.NewRequest(http.MethodGet, w.Calls.URL+"/p/skerry/draft/"+path, nil)
			if err != nil {
				out <- answered{0, err.Error()}
				return
			}
			if header != "" {
				req.Header.Set("X-Request-Id", header)
			}
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				out <- answered{0, err.Error()}
				return
			}
			defer res.Body.Close()
			text, _ := io.ReadAll(res.Body)
			out <- answered{res.StatusCode, string(text)}
		}()
		return out
	}
	const quote = "fares/quotes/SK%2040117?route=LING-ORMA"
	require.Equal(t, 404, (<-call(quote, "")).status, "nobody waits")
	tb.open("/bench/flows/fare-quote")
	tb.click("#try-with")
	tb.click("#debug-next")
	tb.sees("#waiting", "waiting for a call")
	tb.fill("#header", "x-request-id: seventeen")
	tb.click("#wait")
	tb.sees("#waiting", "waiting for a call")
	other := <-call(quote, "eighteen")
	require.Equal(t, 404, other.status, other.body)
	mine := call(quote, "seventeen")
	tb.sees("#halted", "before")
	tb.sees("#values", "SK 40117")
	require.Equal(t, 404, (<-call(quote, "seventeen")).status, "only the next call is debugged")
	tb.keys("o")
	tb.sees("#values", "CAR")
	for range 12 {
		tb.keys("g")
		if tb.soon("#halted", "at its end") {
			break
		}
	}
	got := <-mine
	require.Equal(t, 200, got.status, got.body)
	require.Contains(t, got.body, "361.36")

	tb.open("/bench/flows/fare-quote/next-call")
	tb.click("#wait")
	tb.sees("#waiting", "waiting for a call")
	wrong := <-call("fares/quotes/nonsense?route=LING-ORMA", "")
	require.Equal(t, 422, wrong.status, wrong.body)
	tb.open("/bench/flows/fare-quote/next-call")
}
