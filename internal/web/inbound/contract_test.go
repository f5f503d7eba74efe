package inbound_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/web/webtest"
)

// TestAContractIsAnsweredByFlows: what comes is held against the contract before anything starts, and what goes out is an answer
// that it has.
func TestAContractIsAnsweredByFlows(t *testing.T) {
	w := webtest.New(t)
	text, err := os.ReadFile("../../core/contract/testdata/bookings-1.yaml")
	require.NoError(t, err)
	w.Part("contracts/desk.yaml", strings.Replace(string(text), "/papers/{name}.{ending}:", "/papers/{name}/{ending}:", 1))
	w.Part("apis/desk.yaml", "api: Desk\nbase: desk/v1\ncontract: desk.yaml\n")
	w.Release("get-booking", `flow: Get a booking
trigger: {kind: operation, api: desk, api operation: get-booking}
steps:
  - step: choose
    id: known
    when:
      - if: request.parameters.number == "B-7"
        steps: [{step: respond, id: found, with: {number: request.parameters.number, seats: 2}}]
    otherwise:
      - {step: respond, id: none, status: "404"}
`)
	w.Release("book", "flow: Book\ntrigger: {kind: operation, api: desk, api operation: book, as: wish}\nsteps:\n  - {step: respond, id: booked, with: {number: '\"B-\" + text(wish.seats)', seats: wish.seats}}\n")
	w.Release("list-bookings", "flow: List\ntrigger: {kind: operation, api: desk, api operation: list-bookings}\nsteps:\n  - {step: note, id: n, text: 'text(request.parameters.at.lat ?? 0) + \" \" + join(request.parameters.state, \"+\")'}\n")

	const root, json = "/in/desk/v1/bookings", "Content-Type: application/json"
	for _, c := range []struct {
		method, path, body, media string
		status                    int
		answer                    string
	}{
		{"GET", "/B-7", "", "", 200, "map[number:B-7 seats:2]"},
		{"GET", "/B-9", "", "", 404, "map[]"},
		{"GET", "/7", "", "", 422, "text like B-[0-9]+"},
		{"POST", "", `{"seats": 3}`, json, 201, "map[number:B-3 seats:3]"},
		{"POST", "", `{"seats": 30}`, json, 422, "at most 9"},
		{"POST", "", `{"seats": 3, "cat": true}`, json, 422, "cat"},
		{"POST", "", "", json, 422, "an empty body"},
		{"POST", "", "seats\n3\n", "Content-Type: text/csv", 415, "a body as application/json"},
		{"PUT", "", "", "", 405, ""},
		{"GET", "?at[lat]=-100", "", "", 422, "at least -90"},
		{"GET", "?state=open,lost", "", "", 422, "open · void"},
	} {
		headers := []string{}
		if c.media != "" {
			headers = append(headers, c.media)
		}
		resp, answer := w.Ask(c.method, root+c.path, c.body, headers...)
		require.Equal(t, c.status, resp.StatusCode, "%s %s: %v", c.method, c.path, answer)
		if c.status < 400 || c.status == 404 {
			if answer == nil {
				answer = map[string]any{}
			}
			require.Equal(t, c.answer, fmt.Sprint(answer))
			continue
		}
		require.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
		require.Contains(t, fmt.Sprint(answer), strings.Trim(c.answer, `"`))
	}
}
