package cli

import (
	"os"
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
