package inbound_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

const joined = `openapi: 3.1.0
info: {title: Joined, version: "1"}
paths:
  /fares/{class}:
    get:
      operationId: fare
      parameters:
        - {name: class, in: path, required: true, schema: {type: string}}
        - {name: length, in: query, schema: {type: number}}
      responses:
        "200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}
        "404": {description: none}
  /orders:
    post:
      operationId: order
      requestBody: {required: true, content: {application/json: {schema: {$ref: "#/components/schemas/Order"}}}}
      responses: {"200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}}
    put:
      operationId: order-mapped
      requestBody: {required: true, content: {application/json: {schema: {$ref: "#/components/schemas/Order"}}}}
      responses: {"200": {description: x, content: {application/json: {schema: {$ref: "#/components/schemas/Price"}}}}}
components:
  schemas:
    Price: {type: object, required: [price], properties: {price: {type: number}, until: {type: string, format: date}}}
    Order: {type: object, required: [vehicle], properties: {vehicle: {type: object, required: [class], properties: {class: {type: string}, length: {type: number}}}, coupon: {type: string}}}
`

// fareBackend gives fares, and remembers what it was asked.
type fareBackend struct {
	mu    sync.Mutex
	asked []string
	*httptest.Server
}

func newFareBackend(t *testing.T) *fareBackend {
	b := &fareBackend{}
	b.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" {
			return // a look whether it answers
		}
		body, _ := io.ReadAll(r.Body)
		b.mu.Lock()
		b.asked = append(b.asked, r.Method+" "+r.URL.RequestURI()+" "+r.Header.Get("X-Class")+" "+string(body))
		b.mu.Unlock()
		rw.Header().Set("Content-Type", "application/json")
		class := r.URL.Query().Get("class")
		switch {
		case class == "NONE":
			rw.WriteHeader(404)
		case class == "BROKEN":
			rw.WriteHeader(500)
		case class == "ODD":
			io.WriteString(rw, `{"fare":"much"}`)
		default:
			rw.Header().Set("Etag", `"1"`)
			io.WriteString(rw, `{"fare":120.50,"currency":"NOK","validUntil":"2031-04-01"}`)
		}
	}))
	t.Cleanup(b.Close)
	return b
}

func (b *fareBackend) last() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.asked) == 0 {
		return ""
	}
	return b.asked[len(b.asked)-1]
}

func publishJoined(t *testing.T, w *webtest.World, ways string) {
	t.Helper()
	w.Part("contracts/prices.yaml", joined)
	w.Part("mappings/order-to-fare.yaml", `mapping: Order → fare
from: [{name: order, schema: "prices.yaml#/components/schemas/Order"}]
to: tariff-get-fare-request
rules:
  - {field: class, formula: upper(vehicle.class)}
  - {field: length_m, formula: 'vehicle.length ?? 4.0'}
  - {field: route, formula: '"north"'}
`)
	w.Part("mappings/fare-to-price.yaml", `mapping: Fare → price
from: [{name: fare, schema: tariff-fare}]
to: prices.yaml#/components/schemas/Price
rules:
  - {field: price, formula: fare.fare}
  - {field: until, formula: validUntil}
`)
	w.Part("apis/prices.yaml", "api: Joined\ncontract: prices.yaml\nlog: all\noperations:\n"+ways)
	_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.APIs, "prices"), "", "mira")
	require.NoError(t, err)
}

// TestAnOperationOfAConnectionAnswersWithoutAFlow: its request is made of the caller's by fields or by a mapping, its response likewise;
// no run is left behind, and what is at fault is told as the caller's, the system's, or nobody's.
func TestAnOperationOfAConnectionAnswersWithoutAFlow(t *testing.T) {
	w := webtest.New(t)
	b := newFareBackend(t)
	w.Reach("tariff", "http", map[string]string{"address": b.URL})
	w.Change("connections/tariff.yaml", "    path: /fares\n", "    path: /fares\n    none: no answer\n")
	publishJoined(t, w, `
  - {operation: fare, answered by: operation, connection: tariff, calls: get-fare, with: {class: request.parameters.class, length_m: 'request.parameters.length ?? 4.2', route: '"south"'}, respond: {price: response.fare * 2, until: response.validUntil}}
  - {operation: order, answered by: operation, connection: tariff, calls: get-fare, request mapping: order-to-fare, response mapping: fare-to-price}
`)
	for _, c := range []struct {
		method, path, body, answer, asked string
		status                            int
	}{
		{"GET", "/fares/CAR", "", `{"price":241.00,"until":"2031-04-01"}`, "GET /fares?class=CAR&length_m=4.2&route=south", 200},
		{"GET", "/fares/CAR?length=7.25", "", `{"price":241.00,"until":"2031-04-01"}`, "length_m=7.25", 200},
		{"GET", "/fares/CAR?length=long", "", `"schema":"#/paths/~1fares~1{class}/get/parameters/1/schema"`, "length_m=7.25", 422},
		{"GET", "/fares/CAR?length=long", "", "query length", "length_m=7.25", 422},
		{"GET", "/fares/NONE", "", "", "class=NONE", 404},
		{"GET", "/fares/BROKEN", "", "the system behind this", "class=BROKEN", 502},
		{"GET", "/fares/ODD", "", "the system behind this", "class=ODD", 502},
		{"POST", "/orders", `{"vehicle":{"class":"lorry","length":12.5}}`, `{"price":120.50,"until":"2031-04-01"}`, "class=LORRY&length_m=12.5&route=north", 200},
		{"POST", "/orders", `{"vehicle":{"length":12.5}}`, `"pointer":"/vehicle"`, "class=LORRY", 422},
		{"POST", "/orders", `{"vehicle":{"length":12.5}}`, `"schema":"#/components/schemas/Order/properties/vehicle/required"`, "class=LORRY", 422},
		{"POST", "/orders", `{"vehicle":{"class":"x","length":"far"}}`, `"schema":"#/components/schemas/Order/properties/vehicle/properties/length"`, "class=LORRY", 422},
		{"POST", "/orders", `{"vehicle"`, "faults", "class=LORRY", 422},
		{"PUT", "/orders", `{"vehicle":{"class":"x"}}`, "nothing answers it yet", "class=LORRY", 501},
	} {
		resp, answer := ask(t, w, c.method, c.path, c.body, "Content-Type: application/json")
		require.Equal(t, c.status, resp.StatusCode, "%s: %s", c.path, answer)
		require.Contains(t, answer, c.answer, c.path)
		require.Contains(t, b.last(), c.asked, c.path)
		require.NotContains(t, answer, b.URL)
	}
	runs, err := store.Runs(t.Context(), w.DB, store.RunFilter{Scope: testkit.Skerry, Most: 50})
	require.NoError(t, err)
	require.Empty(t, runs, "no run is kept")
	b.Close()
	resp, answer := ask(t, w, "GET", "/fares/CAR", "")
	require.Equal(t, 502, resp.StatusCode, answer)
	require.NotContains(t, answer, "127.0.0.1", "where our systems are is nobody's business")
}

// TestStepsStandBeforeAndBehindABackend: a request is refused by a formula, mapped, and given headers; so is what comes back. The rest
// of an exchange stays as it is.
func TestStepsStandBeforeAndBehindABackend(t *testing.T) {
	w := webtest.New(t)
	b := newFareBackend(t)
	w.Reach("tariff", "http", map[string]string{"address": b.URL})
	publishJoined(t, w, `
  - operation: order
    answered by: pass-through
    connection: tariff
    path: /fares
    refuse if: input.vehicle.length > 20
    refusal status: 409
    refusal text: '"no longer than 20 m, found " + text(input.vehicle.length)'
    request mapping: order-to-fare
    request headers: "X-Class: ${input.vehicle.class}"
    response mapping: fare-to-price
    response headers: "X-Until: ${validUntil}"
  - {operation: fare, answered by: pass-through, connection: tariff, path: /fares, refuse if: 'request.parameters.class == "BIKE"', response headers: "Cache-Control: max-age=9"}
`)
	resp, answer := ask(t, w, "POST", "/orders", `{"vehicle":{"class":"lorry"},"coupon":"X"}`, "Content-Type: application/json")
	require.Equal(t, 200, resp.StatusCode, answer)
	require.JSONEq(t, `{"price":120.50,"until":"2031-04-01"}`, answer)
	require.Equal(t, `POST /fares lorry {"class":"LORRY","length_m":4.0,"route":"north"}`, strings.TrimSpace(b.last()))
	require.Equal(t, "2031-04-01", resp.Header.Get("X-Until"))
	require.Empty(t, resp.Header.Get("Etag"), "which was of another body")

	resp, answer = ask(t, w, "POST", "/orders", `{"vehicle":{"class":"lorry","length":21}}`, "Content-Type: application/json")
	require.Equal(t, 409, resp.StatusCode)
	require.Contains(t, answer, "no longer than 20 m, found 21")
	resp, _ = ask(t, w, "GET", "/fares/BIKE", "")
	require.Equal(t, 403, resp.StatusCode)
	require.Contains(t, b.last(), "POST", "what is refused does not reach the backend")

	resp, answer = ask(t, w, "GET", "/fares/CAR?class=CAR", "")
	require.Equal(t, 200, resp.StatusCode)
	require.Contains(t, answer, `"currency":"NOK"`)
	require.Equal(t, "max-age=9", resp.Header.Get("Cache-Control"))
	require.Equal(t, `"1"`, resp.Header.Get("Etag"))
	resp, answer = ask(t, w, "POST", "/orders?class=ODD", `{"vehicle":{"class":"lorry"}}`, "Content-Type: application/json")
	require.Equal(t, 502, resp.StatusCode, answer)
	resp, _ = ask(t, w, "POST", "/orders?class=NONE", `{"vehicle":{"class":"lorry"}}`, "Content-Type: application/json")
	require.Equal(t, 404, resp.StatusCode, "what says that something is wrong is not mapped")
}
