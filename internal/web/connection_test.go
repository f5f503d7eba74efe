package web

import (
	"net/http"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAConnectionIsTested: every stage of a database and of a folder, what the database offers, and a
// schema taken of it.
func TestAConnectionIsTested(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/connections/harbour-ledger")
	tb.sees("#offers", "station")
	tb.sees("#test", "Press Test")
	tb.keys("t")
	tb.sees("#verdict", "it works")
	tb.sees("#test", "port reached")
	tb.sees("#test", "signed in")
	tb.fill("#find-table", "_write")
	tb.keys("\r")
	tb.sees("#offers", "tide_level_write")
	tb.click("#offers button")
	tb.sees("h1", "tide_level_write")

	tb.open("/bench/connections/gauge-drop")
	tb.click("#test-it")
	tb.sees("#verdict", "it works")
	tb.sees("#test", "permission to write")
	require.NoError(t, os.RemoveAll(w.folder))
	tb.click("#test-it")
	tb.sees("#verdict", "it does not work")
	tb.sees("#test", "there is no folder")
	tb.sees("#test", "Make the folder")
	require.Equal(t, http.StatusNotFound, w.get("/bench/connections/none").StatusCode)
}
