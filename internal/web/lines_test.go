package web

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestLinesOfSeveralTypesAreDescribedOnTheRuler: from a pasted file with headings, details and totals
// to records with their details inside, on the sample itself.
func TestLinesOfSeveralTypesAreDescribedOnTheRuler(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/manifest?line=1&field=3.3.0")
	tb.sees("#fits", "all 4 records fit")
	tb.sees("#ruler", "cutting the lines of cargo")
	tb.click("[data-cut='12']")
	tb.sees("tr.sel", "12–21")
	tb.sees("tr[data-field='3.3.0']", "2–11")
	tb.click("#ruler a[href*='field=4.0']") // the total's line
	tb.sees("#ruler", "cutting the lines of total")
	tb.sees("[data-cut='6'].cut", "")

	tb.open("/bench/schemas/new")
	tb.fill("#title", "Weigh bridge")
	tb.do(chromedp.SetValue("#notation", "fixedwidth"), chromedp.SetValue("#text", "HD0309\nW0012kg\nW0200kg\nHD0310\nW0007kg\nT01\n"), chromedp.Submit("#title"))
	tb.sees("#fits", "all 2 records fit")
	tb.sees("#reads-as", `"lines_w": [`)

	tb.open("/bench/schemas/new")
	tb.fill("#title", "Weigh list")
	tb.do(chromedp.SetValue("#notation", "fixedwidth"), chromedp.SetValue("#text", "W0012kg\nW0200kg\nNote\nW0007kg\nW0009kg\nNote two\n"), chromedp.Submit("#title"))
	tb.sees("#fits", "2 of 6 records do not fit")
	tb.click("#ruler button[name=like]")
	tb.sees("tr.sel", "field_2")
	tb.sees("#fits", "1 of 4 records do not fit")
	tb.open("/bench/schemas/weigh-list?field=3")
	tb.fill("#f-begins", "Note")
	tb.sees("#fields", "lines begin with Note")
	require.Contains(t, w.text("schemas/weigh-list.yaml"), "begins: Note")
}
