package project

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const bookingFlow = `flow: Get a booking
trigger: {kind: operation, api: desk, api operation: get-booking}
steps:
  - step: choose
    id: known
    when:
      - if: request.parameters.number == "B-7"
        steps: [{step: respond, id: found, with: {number: request.parameters.number, seats: 2}}]
    otherwise:
      - {step: respond, id: none, status: "404"}
`

// withAPI is the demo with an API of the contract, and flows that answer it.
func withAPI(t *testing.T, more map[string]string) *Project {
	text, err := os.ReadFile("../contract/testdata/bookings-1.yaml")
	require.NoError(t, err)
	return loadDemo(t, func(texts map[string]string) {
		texts["apis/desk.yaml"] = "api: Desk\nbase: desk/v1\ncontract: desk.yaml\n"
		texts["contracts/desk.yaml"] = strings.Replace(string(text), "/papers/{name}.{ending}:", "/papers/{name}/{ending}:", 1)
		texts["flows/get-booking.yaml"] = bookingFlow
		for path, text := range more {
			texts[path] = text
		}
	})
}

// TestAFlowAnswersAnOperation: method, path, parameters, body and answers are those of the contract, and a release has all of it.
func TestAFlowAnswersAnOperation(t *testing.T) {
	p := withAPI(t, nil)
	require.Empty(t, p.Faults)
	plan := p.Flow("get-booking")
	require.Equal(t, "GET desk/v1/bookings/{number}", plan.Flow.Trigger.Method+" "+plan.Flow.Trigger.Path.Value)
	require.Equal(t, "number", plan.Given.Root.Fields[0].Name)
	require.Equal(t, []string{"number", "seats", "cabin"}, plan.Output.Root.Layout().Names)
	require.Contains(t, p.Uses("get-booking"), "apis/desk.yaml")
	require.Contains(t, p.Uses("get-booking"), "contracts/desk.yaml")
	require.Equal(t, "get-booking", p.AnsweredBy("desk")["get-booking"][0].ID)
	require.Nil(t, plan.Input)

	book := withAPI(t, map[string]string{"flows/book.yaml": "flow: Book\ntrigger: {kind: operation, api: desk, api operation: POST /bookings, as: wish}\nsteps:\n  - {step: respond, id: booked, with: {number: '\"B-\" + text(wish.seats)', seats: wish.seats}}\n"}).Flow("book")
	require.Empty(t, book.Faults)
	require.Equal(t, []string{"seats", "note"}, book.Input.Root.Layout().Names)
}

// TestWhatDoesNotFitAContractIsTold, where it is written.
func TestWhatDoesNotFitAContractIsTold(t *testing.T) {
	for _, c := range []struct{ path, old, now, want string }{
		{"flows/get-booking.yaml", "api: desk", "api: none", `flows/get-booking.yaml:2:33: there is no API "none"`},
		{"flows/get-booking.yaml", "operation: get-booking", "operation: lend", `expected an operation of Desk (list-bookings, book, get-booking, `},
		{"flows/get-booking.yaml", `status: "404"`, `status: "410"`, `status: expected a status that the contract has (200, 404), found 410`},
		{"flows/get-booking.yaml", "seats: 2}", "seats: '\"two\"'}", "expected integer for seats, found text"},
		{"flows/get-booking.yaml", "request.parameters.number ==", "request.parameters.none ==", `no field "none"`},
		{"apis/desk.yaml", "contract: desk.yaml", "contract: none.yaml", `apis/desk.yaml:3:11: contract: there is no contract "none.yaml"`},
		{"apis/desk.yaml", "base: desk/v1", "base: a b", "expected a path as bookings or v1/bookings"},
		{"contracts/desk.yaml", "operationId: book\n", "operationId: latest\n", `contracts/desk.yaml:`},
	} {
		p := withAPI(t, nil)
		text := p.Texts[c.path]
		require.Contains(t, text, c.old)
		var told []string
		for _, f := range p.With(c.path, strings.Replace(text, c.old, c.now, 1)).Faults {
			told = append(told, f.Error())
		}
		assert.Contains(t, strings.Join(told, "\n"), c.want, c.now)
	}
	two := withAPI(t, map[string]string{"flows/other.yaml": strings.Replace(bookingFlow, "Get a booking", "Another", 1)})
	require.ErrorContains(t, two.Faults, "Get a booking is started by GET desk/v1/bookings/{number} already")
}
