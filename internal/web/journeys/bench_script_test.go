package journeys

import "testing"

// TestARuleIsAScript: a formula becomes a script and is run as one types, with its faults at their place, what it reads and makes in
// view; a branch can be one, too.
func TestARuleIsAScript(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=booking")
	tb.sees("#result", "B-20417")
	tb.pick("[name=kind]", "script")
	tb.sees("#script-use", "booking.number")
	tb.sees("#result", "B-20417")
	tb.fill("#formula", "const parts = booking.number.split(\"-\");\nreturn parts[1] + parts[0];")
	tb.sees("#result", "20417B")
	tb.fill("#formula", "return booking.numbre;")
	tb.sees("#verdict", `there is no field "numbre" in booking`)
	tb.sees(".cm-wrong", "numbre")
	tb.fill("#formula", "return booking.customer.na")
	tb.sees("#help", "name")
	tb.fill("#formula", "return booking.number.toLowerCase();")
	tb.sees("#result", "b-20417")

	tb.open("/bench/mappings/booking-to-invoice?field=totals")
	tb.sees("#rule", "totals")
}
