package journeys

import (
	"io"
	"net/http"
	"testing"
	"time"

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
	got := func(answer chan answered) answered {
		select {
		case a := <-answer:
			return a
		case <-time.After(30 * time.Second):
			return answered{0, "no answer came"}
		}
	}
	const quote = "fares/quotes/SK%2040117?route=LING-ORMA"
	require.Equal(t, 404, got(call(quote, "")).status, "nobody waits")
	tb.open("/bench/flows/fare-quote")
	tb.click("#try-with")
	tb.click("#debug-next")
	tb.sees("#waiting", "waiting for a call")
	tb.fill("#header", "x-request-id: seventeen")
	tb.click("#wait")
	tb.sees("#waiting", "seventeen")
	other := got(call(quote, "eighteen"))
	require.Equal(t, 404, other.status, other.body)
	mine := call(quote, "seventeen")
	tb.sees("#halted", "before")
	tb.sees("#values", "SK 40117")
	require.Equal(t, 404, got(call(quote, "seventeen")).status, "only the next call is debugged")
	tb.keys("o")
	tb.sees("#values", "CAR")
	for range 12 {
		tb.keys("g")
		if tb.soon("#halted", "at its end") {
			break
		}
	}
	ended := got(mine)
	require.Equal(t, 200, ended.status, ended.body)
	require.Contains(t, ended.body, "361.36")

	tb.open("/bench/flows/fare-quote/next-call")
	tb.click("#wait")
	tb.sees("#waiting", "waiting for a call")
	wrong := got(call("fares/quotes/nonsense?route=LING-ORMA", ""))
	require.Equal(t, 422, wrong.status, wrong.body)
	tb.open("/bench/flows/fare-quote/next-call")
}
