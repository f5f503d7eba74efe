package journeys

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
	"hollowreed/internal/testkit"
)

// TestAnAPIIsPublished: of its contract alone it answers by examples; an operation is passed through, guards are set, a caller gets a
// key, and it is called on its page.
func TestAnAPIIsPublished(t *testing.T) {
	w := newWorld(t)
	w.everything()
	_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, project.ReleaseID(project.APIs, "bookings"), "First light", "mira")
	require.NoError(t, err)
	tb := w.tab()
	tb.open("/bench/apis/bookings?operation=sailing")
	tb.sees("#operations", "/sailings/{sailing}")
	tb.shot("/tmp/api1.png")
	tb.open("/estate/callers")
	tb.fill("#name", "Kiosk on the pier")
	tb.click("#add-caller")
	tb.sees("#new-key", "shown this once")
	tb.shot("/tmp/api2.png")
	var key string
	tb.on("#key", "return e.textContent", &key)
	tb.open("/bench/apis/bookings?operation=booking")
	tb.click("#send")
	tb.sees("#call", "401")
	tb.fill("#call-key", key)
	tb.click("#send")
	tb.sees("#fits", "fits the contract")
	tb.sees("#answer", "B-20417")
	tb.shot("/tmp/api3.png")
	tb.click("#send")
	tb.sees("#call", "it is the same")

	tb.open("/bench/apis/bookings?operation=sailing")
	tb.click("#change-guards summary")
	tb.fill("#set-rate-limit", "5")
	tb.sees("#guard-rows", "5 a minute")
	tb.pick("#answered-by", "pass-through")
	tb.sees("#operations", "passed through, to no connection")
	tb.sees("#setting-connection", "Connection")
	tb.shot("/tmp/api4.png")
	tb.open("/bench/apis/bookings/changes")
	tb.sees("h1", "Contract")
	tb.shot("/tmp/api5.png")
	tb.open("/bench/parts")
	tb.click("#new-api")
	tb.shot("/tmp/api6.png")
}
