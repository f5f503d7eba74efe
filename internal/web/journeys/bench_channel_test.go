package journeys

import (
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// TestAQueueIsCopiedBridgedAndMended: a queue is copied and bridged to a topic, messages are seen as they come, without refreshing; a flow
// that subscribes is paused, sent back, and goes on.
func TestAQueueIsCopiedBridgedAndMended(t *testing.T) {
	w := newWorld(t)
	w.everything()
	tb := w.tab()
	tb.open("/bench/parts")
	tb.click("#new-channel")
	tb.fill("#channel-title", "Gate audit")
	tb.pick("#channel-kind", "topic")
	tb.click("#create-channel")
	tb.sees("h1", "Gate audit")
	tb.sees("#live", "release the channel")
	tb.pick("#set-schema", "gate-scan")
	tb.sees("#head", "not released")
	tb.click("#release")
	tb.click("#release-now")
	tb.sees("#head", "release 1")

	tb.open("/bench/channels/gate-scans-copy")
	tb.pick("#bridge-to", "gate-audit")
	tb.click("#add-bridge")
	tb.sees("h1", "Copy of the gate")
	tb.sees("svg", "to gate-audit")

	tb.open("/bench/channels/gate-scans")
	tb.pick("#copy-to", "gate-audit")
	tb.fill("#copy-where", `gate == "G2"`)
	tb.click("#add-copy")
	tb.sees("#copies", `gate == "G2"`)
	tb.click("#release")
	tb.click("#release-now")
	tb.sees("#head", "release 2")
	tb.click("#put")
	tb.click("#put-now")
	tb.sees("#messages", "G2-000417")

	other := w.tab()
	other.open("/bench/channels/sailing-log")
	other.sees("#messages", "G2-000417")
	other.open("/bench/channels/gate-audit")
	other.sees("#messages", "G2-000417")
	tb.click("#put")
	tb.fill("#key", "G7")
	tb.click("#put-now")
	tb.sees("#messages", "G7")
	other.sees("#messages tbody tr:nth-child(2)", "G2-000417")

	tb.open("/bench/channels/consignments")
	tb.sees("#readers", "Consignment billing")
	tb.click("#put")
	tb.click("#put-now")
	tb.sees("#messages", "C-5501")
	tb.click("#messages a")
	tb.sees("#chosen", "Salt fish")
	tb.focus("#put-again")
	tb.do(typed(kb.Enter))
	tb.sees("#messages tbody tr:nth-child(2)", "C-5501")
	tb.click("#readers summary")
	tb.fill("#readers [name='reason']", "month end")
	tb.click("#readers [value='pause']")
	tb.sees("#readers", "paused")
	tb.sees("#readers", "month end")
	tb.click("#readers summary")
	tb.click("#readers [value='resume']")
	tb.sees("#readers tbody tr:nth-child(1) [value='pause']", "Pause")
	tb.open("/estate")
	tb.sees("#channels", "Consignments")
	tb.open("/bench")
	tb.sees("main", "Sailing log")
}
