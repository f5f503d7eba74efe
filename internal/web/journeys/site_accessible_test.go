package journeys

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestNoSeriousFaultOfAccessibility checks the screens with axe-core
// (WCAG 2.2 A and AA): none may have a serious or critical fault.
func TestNoSeriousFaultOfAccessibility(t *testing.T) {
	axe, err := os.ReadFile("../../../tools/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Skip("axe-core is not installed; make test installs it")
	}
	w := newWorld(t)
	var tb *tab
	for i, path := range []string{
		"/bench/mappings/booking-to-invoice?field=line", "/bench/mappings/booking-to-invoice?field=/variable/net", "/bench/mappings/booking-to-invoice/lineage?field=line",
		"/bench/mappings/booking-to-invoice/specification", "/bench/mappings/reading-to-tide-level/cases", "/bench/mappings/reading-to-tide-level/changes",
		"/bench/mappings/new", "/bench/tables/cargo-articles", "/bench/libraries/freight", "/bench/connections/harbour-ledger", "/bench/connections/quayside", "/bench/connections/new", "/bench/connections/quayside/operations/list-bookings", "/estate", "/estate/secrets", "/bench/parts", "/bench/formulas",
		"/bench", "/bench/flows/vehicle?step=cargo", "/bench/flows/new", "/traffic", "/traffic/aside", "/traffic/alerts?alert=trouble", "/traffic/figures",
	} {
		if i%9 == 0 { // a tab has its time
			tb = w.tab()
		}
		tb.open(path)
		tb.do(chromedp.Evaluate(string(axe), nil))
		var faults []string
		tb.do(chromedp.Evaluate(`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"], rules: {"label-content-name-mismatch": {enabled: true}, "empty-table-header": {enabled: true}}}).then((r) => r.violations.filter((v) => ["serious", "critical"].includes(v.impact)).map((v) => v.id + " at " + v.nodes.slice(0, 3).map((n) => n.target.join(" ") + " " + n.html.slice(0, 160)).join(" | ")))`, &faults, awaitPromise))
		require.Empty(t, faults, path)
	}
}
