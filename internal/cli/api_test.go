package cli

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const bookingsContract = "../core/contract/testdata/bookings-1.yaml"

// TestAContractIsCheckedAndCompared: a contract in order is listed, one at fault ends with 1, and so does what breaks callers.
func TestAContractIsCheckedAndCompared(t *testing.T) {
	code, out, errs := call(t, "", "api", "check", bookingsContract)
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, "Bookings 1.4.0: 6 operations\n")
	require.Contains(t, out, "POST    /bookings  body application/json  answers 201 422\n")
	require.Contains(t, out, "DELETE  /bookings/{number}  parameters 1  answers 204  deprecated\n")
	text, err := os.ReadFile(bookingsContract)
	require.NoError(t, err)
	broken := file(t, "broken.yaml", strings.Replace(string(text), "'#/components/requestBodies/Wish'", "'#/nowhere'", 1))
	code, _, errs = call(t, "", "api", "check", broken)
	require.Equal(t, exitFaults, code)
	require.Contains(t, errs, "#/nowhere leads nowhere")
	code, _, errs = call(t, "", "api", "check", file(t, "no.yaml", "a: 1"))
	require.Equal(t, exitInput, code, errs)

	newer := file(t, "newer.yaml", strings.NewReplacer("maximum: 9", "maximum: 4", "deprecated: true", "summary: Give it back").Replace(string(text)))
	code, out, errs = call(t, "", "api", "diff", bookingsContract, newer)
	require.Equal(t, exitFaults, code)
	require.Equal(t, "breaks  POST /bookings, body, seats: maximum 9 → 4\n", out)
	require.Equal(t, "1 change, 1 breaks callers\n", errs)
	code, out, _ = call(t, "", "api", "diff", newer, bookingsContract)
	require.Equal(t, exitDone, code)
	require.Contains(t, out, "DELETE /bookings/{number}: deprecated\n")
	code, out, _ = call(t, "", "api", "diff", "--breaking", newer, bookingsContract)
	require.Equal(t, exitDone, code)
	require.Empty(t, out)
}

// TestAnAPIIsImportedExportedAndDrafted: from its contract into a project that has no faults; out again with an address; the flow that is
// proposed for an operation is written as a part.
func TestAnAPIIsImportedExportedAndDrafted(t *testing.T) {
	dir := folder(t, map[string]string{"project.yaml": "project: Desk\n"})
	document := filepath.Join(demoFolder, "contracts", "bookings.openapi.yaml")
	code, out, errs := call(t, "", "api", "import", dir, document)
	require.Equal(t, exitDone, code, errs)
	require.Equal(t, "contracts/bookings.openapi.yaml\napis/bookings.yaml\n", out)
	code, out, _ = call(t, "", "check", dir)
	require.Equal(t, exitDone, code, out)
	code, _, errs = call(t, "", "api", "import", dir, document)
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "exists")
	code, out, errs = call(t, "", "api", "export", dir, "bookings", "--server", "https://calls.skerry.example/in/bookings")
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, `url: "https://calls.skerry.example/in/bookings"`)
	require.Contains(t, out, "operationId: book")
	code, out, errs = call(t, "", "api", "import", dir, filepath.Join(demoFolder, "contracts", "berths.wsdl"), "--id", "berths")
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, "contracts/berths.wsdl")
	code, out, errs = call(t, "", "api", "export", dir, "berths", "--server", "https://calls.skerry.example/in/berths")
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, `location="https://calls.skerry.example/in/berths"`)

	code, out, errs = call(t, "", "api", "draft", demoFolder, "fares", "quote")
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, "call registry/get-vehicle")
	require.Contains(t, out, "mm made m")
	code, out, errs = call(t, "", "api", "draft", demoFolder, "fares", "quote", "--accept", "1", "--cache")
	require.Equal(t, exitDone, code, errs)
	kept, err := os.ReadFile(filepath.Join(demoFolder, "flows", "fare-quote.yaml"))
	require.NoError(t, err)
	require.Equal(t, string(kept), out, "the flow of the demo is what is proposed")
}

// TestAnAPIIsCalled: with what is given and the examples of the contract for the rest; what breaks the contract is told.
func TestAnAPIIsCalled(t *testing.T) {
	answer := `{"plate": "SK 40117", "vehicle_class": "CAR", "price": 361.36, "currency": "NOK", "valid_until": "2031-12-31"}`
	var asked string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = r.URL.RequestURI()
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, answer)
	}))
	defer server.Close()
	code, out, errs := call(t, "", "api", "call", demoFolder, "fares", "quote", "route=LING-HOLM", "--address", server.URL+"/in/fares")
	require.Equal(t, exitDone, code, errs)
	require.Equal(t, "/in/fares/quotes/SK%2040117?route=LING-HOLM", asked)
	require.Equal(t, answer+"\n", out)
	answer = `{"price": "much"}`
	code, _, errs = call(t, "", "api", "call", demoFolder, "fares", "quote", "--address", server.URL+"/in/fares")
	require.Equal(t, exitFaults, code)
	require.Contains(t, errs, "breaks the contract: ")
}
