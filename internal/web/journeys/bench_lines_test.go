package journeys

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
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
	tb.pick("#notation", "fixedwidth")
	tb.pick("#text", "HD0309\nW0012kg\nW0200kg\nHD0310\nW0007kg\nT01\n")
	tb.do(chromedp.Submit("#title"))
	tb.sees("#fits", "all 2 records fit")
	tb.sees("#reads-as", `"lines_w": [`)

	tb.open("/bench/schemas/new")
	tb.fill("#title", "Weigh list")
	tb.pick("#notation", "fixedwidth")
	tb.pick("#text", "W0012kg\nW0200kg\nNote\nW0007kg\nW0009kg\nNote two\n")
	tb.do(chromedp.Submit("#title"))
	tb.sees("#fits", "2 of 6 records do not fit")
	tb.click("#ruler button[name=like]")
	tb.sees("tr.sel", "field_2")
	tb.sees("#fits", "1 of 4 records do not fit")
	tb.open("/bench/schemas/weigh-list?field=3")
	tb.fill("#set-starts-with", "Note")
	tb.sees("#fields", "lines begin with Note")
	require.Contains(t, w.Text("schemas/weigh-list.yaml"), "starts with: Note")
}

// TestASchemaIsMadeOfSeveralFiles: of all samples together, or of a description in several documents.
func TestASchemaIsMadeOfSeveralFiles(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	dir := t.TempDir()
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Weighings")
	tb.do(chromedp.SetUploadFiles("#file", []string{put("w1.json", `{"no":1}`), put("w2.json", `{"no":2.5,"late":true}`)}), chromedp.Submit("#title"))
	tb.sees("tr[data-field='0']", "decimal")
	tb.sees("tr[data-field='1']", "0..1")
	tb.sees("#samples", "w2.json")

	tb.open("/bench/schemas/new")
	tb.fill("#title", "Split order")
	const xs = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">`
	tb.do(chromedp.SetUploadFiles("#file", []string{
		put("types.xsd", xs+`<xs:complexType name="t"><xs:sequence><xs:element name="qty" type="xs:int"/></xs:sequence></xs:complexType></xs:schema>`),
		put("order.xsd", xs+`<xs:include schemaLocation="types.xsd"/><xs:element name="order" type="t"/></xs:schema>`),
	}), chromedp.Submit("#title"))
	tb.sees("tr[data-field='0']", "qty")
	tb.fill("#f-name", "pieces")
	tb.sees("tr.sel", "pieces")
	tb.click("a[href$='/compare']")
	tb.sees("tbody", "pieces")
	tb.sees("#with", "as of")
}

// TestRecordsAreFolded: with the mouse and by key; in a large schema all but the chosen are folded from
// the start, and not even sent.
func TestRecordsAreFolded(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	visible := func() (n int) {
		tb.do(chromedp.Evaluate(`[...document.querySelectorAll("tr[data-field]")].filter((r) => !r.hidden).length`, &n))
		return n
	}
	tb.open("/bench/schemas/booking?field=3")
	all := visible()
	tb.click("[data-fold='4']")
	require.Equal(t, all-4, visible())
	tb.do(typed("f"))
	require.Equal(t, all-7, visible())
	tb.do(typed("f"))
	tb.click("[data-fold='4']")
	require.Equal(t, all, visible())

	var part strings.Builder
	part.WriteString("schema: Wide\nnotation: json\nfields:\n")
	for i := range 40 {
		fmt.Fprintf(&part, "  - name: group_%02d\n    type: record\n    fields:\n", i)
		for j := range 40 {
			fmt.Fprintf(&part, "      - {name: field_%02d_%02d, type: text}\n", i, j)
		}
	}
	w.Part("schemas/wide.yaml", part.String())
	tb.open("/bench/schemas/wide")
	tb.sees("#fields", "group_39")
	require.Equal(t, 80, visible(), "the first record is chosen")
	tb.click("[data-fold='7']")
	tb.sees("tr[data-field='7.39']", "field_07_39")
	require.Equal(t, 80, visible())
}
