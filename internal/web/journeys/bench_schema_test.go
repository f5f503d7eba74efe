package journeys

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/gauges"
)

const gaugePath = "/bench/schemas/gauge-reading"

// click presses the mouse in the middle of an element as soon as it is shown. It is found and measured in one go, since the
// page may be drawn anew between two looks; one that is covered for a while is waited for, and so are fonts and editors: what stands
// below them moves when they come.
func (tb *tab) click(selector string) {
	tb.T.Helper()
	js := fmt.Sprintf(`(() => { const e = [...document.querySelectorAll(%s)].find((e) => e.checkVisibility()); if (!e || document.fonts.status !== "loaded" || `+editorsCome+`) return null;
		e.scrollIntoView({block: "nearest", inline: "nearest"});
		const r = e.getClientRects()[0] ?? e.getBoundingClientRect(), x = r.left + r.width / 2, y = r.top + r.height / 2, top = document.elementFromPoint(x, y);
		return {X: x, Y: y, Free: !!top && (e.contains(top) || top.contains(e) || top.closest("label")?.control === e)} })()`, quoted(selector))
	var at *struct {
		X, Y float64
		Free bool
	}
	if tb.within(15*time.Second, func() bool { at = nil; return tb.asks(js, &at) && at != nil && at.Free }) {
		tb.do(chromedp.MouseClickXY(at.X, at.Y))
		return
	}
	if at == nil {
		tb.T.Fatalf("%s is not shown; the server logged %s", selector, tb.Logs.String())
	}
	tb.T.Fatalf("%s is covered", selector)
}

func TestTheRulerIsCutByClicksAndKeys(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(gaugePath)
	tb.sees("#fits", "all 48 records fit")
	tb.click("[data-cut='9']")
	tb.sees("#fields", "field_9")
	tb.sees("tr.sel", "9–12")
	tb.sees("#fits", "48 of 48 records do not fit") // the day lost its month
	tb.click("[data-cut='9']")
	tb.sees("#fits", "all 48 records fit")
	tb.click("[data-cut='5']")
	tb.sees("tr[data-field='0']", "1–12")
	tb.click("[data-key=undo]")
	tb.sees("tr[data-field='1']", "day")
	tb.focus("[data-cut='28']")
	tb.do(chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(8)))
	tb.sees("tr[data-field='4']", "24–28")
	tb.sees("tr[data-field='5']", "29–31")
	tb.sees("[data-cut='29']:focus", "")
}

// TestAnAddressBeyondTheSampleIsAnswered: a record, a field or a sample that is not there.
func TestAnAddressBeyondTheSampleIsAnswered(t *testing.T) {
	w := newWorld(t)
	for _, query := range []string{"?line=9999", "?line=-3", "?line=x", "?field=99.1", "?field=x", "?sample=none", "?find=zzz"} {
		for _, id := range []string{"gauge-reading", "manifest", "booking", "crew", "incident"} {
			require.Equal(t, http.StatusOK, w.Get("/bench/schemas/"+id+query).StatusCode, id+query)
		}
	}
}

func TestAFieldIsDescribedWhileItsValuesAreSeen(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(gaugePath + "?field=3")
	tb.sees("#reads-as", `"level_cm": 300.0`)
	tb.fill("#set-implied-decimals", "2")
	tb.sees("#reads-as", `"level_cm": 30.00`)
	tb.fill("#set-minimum", "100")
	tb.sees("#fits", "do not fit")
	tb.sees("#reads", "expected at least 100")
	tb.click("#reads .faultlist a")
	tb.sees("tr.sel", "level_cm")
	tb.fill("#set-minimum", "many")
	tb.sees("#field-notes", `expected decimal, found "many"`)
	tb.sees("#faults", "1 fault in the schema")
	tb.do(chromedp.Focus("#set-type"), chromedp.SetValue("#set-type", "text"), chromedp.Evaluate(`document.querySelector("#set-type").dispatchEvent(new Event("input", {bubbles: true})); document.querySelector("#set-type").dispatchEvent(new Event("change", {bubbles: true}))`, nil))
	tb.sees("label[for=set-pattern]", "Pattern")
}

func TestATreeIsTypedLikeAnOutline(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Mishap")
	tb.pick("#notation", "json")
	tb.do(chromedp.Submit("#title"))
	tb.sees("h1", "Mishap")
	tb.fill("#f-name", "number"+kb.Enter+"party"+kb.Enter+"name") // faster than it is drawn
	tb.sees("tr[data-field='2'].sel", "name")
	tb.sees("tr[data-field='1']", "party")
	tb.do(chromedp.Evaluate(`document.activeElement.blur()`, nil), typed(kb.ArrowUp))
	tb.sees("tr[data-field='1'].sel", "party")
	tb.do(typed("i"))
	tb.sees("tr[data-field='1']", "record")
	tb.sees("tr[data-field='1.0'].sel", "field")
	tb.sees("#f-name:focus", "") // where one types next
	tb.do(typed(kb.Escape), typed(kb.Delete), typed(kb.ArrowDown))
	tb.sees("tr[data-field='2'].sel", "name")
	tb.do(chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(8)))
	tb.sees("tr[data-field='1.0'].sel", "name")
	require.Equal(t, "schema: Mishap\nnotation: json\nfields:\n  - name: number\n    type: text\n  - name: party\n    type: record\n    fields:\n      - name: name\n        type: text\n", w.Text("schemas/mishap.yaml"))
}

func TestASchemaIsMadeOfAPastedSample(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Freight")
	tb.pick("#text", `[{"no":1,"made":"2031-03-01","lines":[{"sku":"A","qty":2.5}]},{"no":2,"made":"2031-03-02","note":"late","lines":[]}]`)
	tb.do(chromedp.Submit("#title"))
	tb.sees("#fits", "all 2 records fit")
	tb.sees("tr[data-field='1']", "date")
	tb.sees("tr[data-field='2']", "0..n")
	tb.sees("tr[data-field='3']", "0..1")
	tb.open("/bench/schemas/freight?field=3")
	tb.sees("#evidence", "seen in 1 of 2, longest 4")
	tb.do(chromedp.Submit("#seed"))
	tb.sees("#samples b", "freight-typical-1.json")
	tb.sees("#fits", "all 1 records fit")
	tb.sees("#reads-as", `"lines": [`)

	tb.open("/bench/schemas/new")
	tb.fill("#title", "Freight")
	tb.pick("#text", `{"broken":`)
	tb.do(chromedp.Submit("#title"))
	tb.sees(".fault", "the document ends too early")
	kept := tb.value("#text")
	require.Equal(t, `{"broken":`, kept, "what was pasted is not lost")
	tb.pick("#text", "a,b\n1,2\n")
	tb.do(chromedp.Submit("#title"))
	tb.sees(".fault", "Choose another title")
}

func TestASchemaIsMadeOfAFileAndOfAJSONSchema(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	file := filepath.Join(t.TempDir(), "crew list.csv")
	require.NoError(t, os.WriteFile(file, []byte("badge;name\r\n1;\xc5se\r\n2;Tove\r\n"), 0o644))
	tb.open("/bench/schemas/new")
	tb.do(chromedp.SetUploadFiles("#file", []string{file}), chromedp.Submit("#title"))
	tb.sees("#fits", "all 2 records fit")
	tb.sees("#reads-as", "Åse")
	tb.fill("#set-delimiter", ",")
	tb.sees("#fits", "do not fit")
	tb.fill("#set-delimiter", ";")
	tb.sees("#fits", "all 2 records fit")
	text := w.Text("schemas/crew-list.yaml")
	require.Contains(t, text, "encoding: ISO-8859-1\n  line end: CRLF\n  delimiter: ;\n")

	tb.open("/bench/schemas/new")
	tb.fill("#title", "Galley note")
	tb.pick("#text", `{"$schema":"https://json-schema.org/draft/2020-12/schema","type":"object","properties":{"a":{"type":"string","not":{}}}}`)
	tb.do(chromedp.Submit("#title"))
	tb.sees("#fields", "not carried over")
	tb.sees("#fields", "not: it is not checked")
}

func TestASchemaIsMadeOfAnXMLSchema(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	text, err := os.ReadFile("../../core/schema/xsd/testdata/order.xsd")
	require.NoError(t, err)
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Order")
	tb.pick("#text", string(text))
	tb.do(chromedp.Submit("#title"))
	tb.sees("tr[data-field='1.2']", "open")
	tb.sees("#fields", "order by no")
	tb.do(chromedp.Submit("#seed"))
	tb.sees("#fits", "all 1 records fit")
	tb.sees("#reads-as", `"sku"`)
}

func TestASchemaIsMadeOfATable(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/new")
	tb.fill("#title", "Piers")
	tb.fill("#query", "select gauge_code, name, datum_cm from stations")
	tb.do(chromedp.Submit("#title"))
	tb.sees(".fault", `relation "stations" does not exist`)
	tb.fill("#query", "select gauge_code, name, datum_cm from station order by 1")
	tb.do(chromedp.Submit("#title"))
	tb.sees("#fits", "records fit")
	tb.sees("tr[data-field='2']", "decimal")
	tb.sees("#reads-as", `"gauge_code": "HV07"`)
}

func TestARecordOfTrafficIsKeptAsASample(t *testing.T) {
	w := newWorld(t)
	w.Drop("bad.tide", gauges.Spoilt(11))
	r := w.Ended("bad.tide")
	tb := w.tab()
	tb.open("/traffic/runs/" + r.ID.String())
	tb.click("#keep")
	tb.sees("#samples b", "bad-record-")
	tb.sees("#fits", "1 of 1 records do not fit")
	tb.sees("#samples", "sk_0309.tide")
}

func TestASampleIsConvertedSideBySide(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/booking/convert")
	tb.sees("#verdict", "3 records")
	tb.fill("#set-root", "bookings")
	tb.sees("#converted", "<bookings>")
	tb.fill("#set-record", "b")
	tb.sees("#converted", "<number>B-20417</number>")
	tb.sees("#converted", "<b>")
	tb.pick("#to", "ndjson")
	tb.sees("#converted", `{"number":"B-20417"`)
	tb.open("/bench/schemas/sailing-event/convert")
	tb.sees("#converted", `<ev:event ev:id="E-310417">`)
	tb.sees("#converted", `xsi:nil="true"`)
	tb.fill("#set-namespaces", "ev urn:other")
	tb.sees("#converted", `xmlns:ev="urn:other"`)
	tb.pick("#set-null-as", "omitted")
	tb.until("the null to be left out", func() bool {
		var text string
		tb.on("#converted", `return e.textContent`, &text)
		return text != "" && !strings.Contains(text, "xsi:nil")
	})
	tb.sees("#keeping", "not kept yet")
	tb.click("#keep-choices")
	tb.sees("#keeping", "as the schema says")
	require.Contains(t, w.Text("schemas/sailing-event.yaml"), "null as: omitted")
	require.Contains(t, w.Text("schemas/sailing-event.yaml"), "ev: urn:other")
	tb.open("/bench/schemas/incident/convert")
	tb.sees("#converted", `"id":"I-0311"`)
	tb.sees("#after", "application/json")
	tb.open("/bench/schemas/incident/convert?to=csv")
	tb.sees("#verdict", "1 fault")
}

func TestALargeSchemaStaysUsable(t *testing.T) {
	w := newWorld(t)
	var part strings.Builder
	part.WriteString("schema: Large\nnotation: json\nfields:\n")
	for i := range 10_000 {
		fmt.Fprintf(&part, "  - {name: field_%05d, type: text, occurs: 0..1}\n", i)
	}
	w.Part("schemas/large.yaml", part.String())
	body, err := io.ReadAll(w.Get("/bench/schemas/large").Body)
	require.NoError(t, err)
	require.Equal(t, 250, strings.Count(string(body), `data-pick="row"`))
	require.Less(t, len(body), 1<<20, "only what can be looked at is sent")
	tb := w.tab()
	tb.open("/bench/schemas/large?find=field_07")
	tb.sees("#fields", "750 more fields are not drawn")
	tb.open("/bench/schemas/large?find=field_0742&field=7421")
	tb.sees("tr.sel", "field_07421")
	tb.fill("#f-name", "found")
	w.Keeps("schemas/large.yaml", "name: found, type")
	tb.sees("#head", "saved by")
}

func TestADraftIsComparedWithItsRelease(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(gaugePath + "/compare")
	tb.sees("#breaking", "no difference")
	tb.open(gaugePath + "?field=3")
	tb.fill("#f-name", "water_cm")
	tb.sees("tr.sel", "water_cm")
	tb.click("a[href='/p/skerry" + gaugePath + "/compare']")
	tb.sees("tbody", "level_cm → water_cm")
	tb.sees("tbody", "readers and writers")
	tb.sees("tbody", "above_datum_cm")
}

// TestASchemaIsEditedAsText: in its part file and as a JSON Schema; what the text would change is
// said before it is kept, and shows on the schema's page afterwards.
func TestASchemaIsEditedAsText(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/booking/source")
	tb.sees("#verdict", "3 of 3 records fit")
	edit := func(old, now string) {
		tb.do(chromedp.Evaluate(fmt.Sprintf(`(() => { const s = document.querySelector("#source"), at = s.value.indexOf(%q);
			s.focus(); s.setRangeText(%q, at, at + %d, "end"); s.dispatchEvent(new Event("input", {bubbles: true})); return at })()`, old, now, len(old)), nil))
	}
	edit("notation: json", "notation: [json")
	tb.sees("#verdict", "cannot be read")
	tb.click("#verdict [data-goto]")
	tb.sees("#source + .code .cm-content:focus", "notation")
	edit("notation: [json", "notation: json")
	tb.sees("#verdict", "as it is kept")
	edit("name: sailing", "name: departure")
	tb.sees("#verdict", "sailing")
	tb.sees("#verdict", "0 of 3 records fit")
	tb.do(chromedp.KeyEvent("s", chromedp.KeyModifiers(2)))
	tb.sees(".tag.draft", "draft 2")
	require.Contains(t, w.Text("schemas/booking.yaml"), "name: departure")
	tb.click("[data-key=undo]")
	tb.sees("#verdict", "3 of 3 records fit")

	tb.open("/bench/schemas/booking/source?as=jsonschema")
	edit(`"sailing": {`, `"pier": {"type": "string"}, "sailing": {`)
	tb.sees("#verdict", "pier")
	tb.sees("#verdict", "3 of 3 records fit")
	tb.sees("#verdict", "not kept yet")
	tb.click("#keep")
	tb.sees("#verdict", "as it is kept")
	tb.open("/bench/schemas/booking")
	tb.sees("#fields", "pier")
	require.Contains(t, w.Text("schemas/booking.yaml"), "name: pier")
}

// TestFieldsAreSharedBetweenSchemas: changed in one place, they are changed for all.
func TestFieldsAreSharedBetweenSchemas(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/booking?field=3")
	tb.sees("#f-name", "")
	tb.click("#share")
	tb.sees("tr.sel", "of customer")
	tb.sees("#fits", "all 3 records fit")
	tb.open("/bench/schemas/booking?field=3.0")
	tb.sees("section[aria-label=Field]", "Described by the schema Customer")
	tb.open("/bench/schemas/customer?field=0")
	tb.sees("#samples", "Used by")
	tb.fill("#set-max-length", "9")
	tb.sees("#fields", "0 … 9 characters")
	tb.open("/bench/schemas/booking")
	tb.sees("#fits", "1 of 3 records do not fit") // Ormlet Fish
	tb.sees("#reads .faultlist", "at most 9 characters")
	tb.click("#reads .faultlist a")
	tb.sees("#excerpt mark", "\"") // where the value begins, in the sample's own text
}
