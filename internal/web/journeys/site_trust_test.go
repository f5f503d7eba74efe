package journeys

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// typedWhileMarked writes a formula anew many times, right after its field was entered; between the field being entered and the
// keys, and between two keys, what is written there is underlined. It tells what came of the first formula that went wrong.
const typedWhileMarked = `(async () => {
	const f = document.querySelector("#formula"), next = (ms) => new Promise((r) => setTimeout(r, ms));
	const underline = () => f.editor.mark([{ from: 0, to: f.value.length, text: "wrong" }]);
	for (let trial = 0; trial < 40; trial++) {
		const text = trial % 2 ? "a b" : "x";
		document.activeElement.blur();
		f.focus();
		f.select();
		await next(trial);
		underline();
		await next(0);
		for (const c of text) {
			document.execCommand("insertText", false, c);
			await next(trial % 3);
			underline();
			await next(0);
		}
		if (f.value !== text) return text + " came to be " + f.value;
	}
	return "";
})()`

// TestNoKeyFallsBeforeTheLast: what is typed stands as it was typed, also where a text is underlined right after it was entered.
func TestNoKeyFallsBeforeTheLast(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	tb.fill("#formula", "x")
	var wrong string
	tb.do(chromedp.Evaluate(typedWhileMarked, &wrong, awaitPromise))
	require.Empty(t, wrong)
}

// TestCompletionNeverOverwrites: Tab takes a suggestion only when a part of it was typed, or somebody moved to it; a word
// that is complete stays as it is, and the list is inside of the window, at the caret.
func TestCompletionNeverOverwrites(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	for text, want := range map[string]string{
		"customer.name": "customer.name", // complete
		"today()":       "today()",       // nothing fits behind it
		"number + ":     "number + ",     // nothing of a name is typed
	} {
		tb.fill("#formula", text)
		tb.do(typed(kb.Tab))
		require.Equal(t, want, tb.value("#formula"))
	}
	tb.fill("#formula", "customer.na")
	tb.sees("#help .option", "name")
	var inside bool
	tb.do(chromedp.Evaluate(`(() => { const r = document.querySelector("#help").getBoundingClientRect(); return r.top >= 0 && r.left >= 0 && r.right <= innerWidth && r.bottom <= innerHeight && r.height > 20 })()`, &inside))
	tb.quiet()
	tb.until("the list at the caret", func() (near bool) {
		tb.do(chromedp.Evaluate(`(() => { const r = document.querySelector("#help").getBoundingClientRect(), f = document.querySelector("#formula").getBoundingClientRect(); return Math.min(Math.abs(r.top - f.bottom), Math.abs(f.top - r.bottom)) < 8 && r.left > f.left })()`, &near))
		return near
	})
	require.True(t, inside, "inside of the window")
	tb.do(typed(kb.Escape))
	require.Equal(t, "customer.na", tb.value("#formula"), "Esc closes the list and nothing else")
	tb.do(typed("m"))
	tb.sees("#help .option", "name")
	tb.do(typed(kb.Tab))
	require.Equal(t, "customer.name", tb.value("#formula"))
	tb.fill("#formula", "number + ")
	tb.sees("#help .option", "number")
	tb.do(typed(kb.ArrowDown), typed(kb.Enter))
	require.Contains(t, tb.value("#formula"), "number + ", "an entry that was moved to is taken")
	require.NotEqual(t, "number + ", tb.value("#formula"))
}

// rowName finds the row that the form of the answer is about.
var rowName = regexp.MustCompile(`name="field" id="row-name" value="([^"]*)"`)

// TestAnEditKeepsItsRow: the answer to an edit never leads to another row, so that what is typed next belongs to the same.
func TestAnEditKeepsItsRow(t *testing.T) {
	w := newWorld(t)
	const of = "/bench/mappings/booking-to-invoice/rule"
	edit := func(field string, pairs ...string) string {
		t.Helper()
		status, page := w.Sends(of, append(pairs, "field", field, "revision", strconv.FormatInt(w.Draft(invoiceRules).Revision, 10))...)
		require.Equal(t, 200, status)
		found := rowName.FindStringSubmatch(page)
		require.NotNil(t, found)
		return found[1]
	}
	first := w.Text(invoiceRules)
	row := edit("/variable/", "name", "discount", "rule", "")
	require.Equal(t, "/variable/discount", row, "a variable that has a name and no formula yet")
	require.Equal(t, first, w.Text(invoiceRules))
	row = edit(row, "name", "discount", "rule", "net / 10")
	require.Contains(t, w.Text(invoiceRules), "  - name: discount\n    formula: net / 10\n")
	row = edit(row, "name", "discount", "rule", "")
	row = edit(row, "name", "discount", "rule", "net / 20")
	require.Equal(t, "/variable/discount", row, "emptied and written again")
	require.Contains(t, w.Text(invoiceRules), "  - name: discount\n    formula: net / 20\n")

	row = edit("/condition/", "rule", `customer.country == "FO"`)
	require.Equal(t, "/condition/1", row)
	row = edit("/condition/0", "rule", "")
	require.Equal(t, "/condition/", row, "not the one that has its place now")
	edit(row, "rule", "net > 1")
	require.Contains(t, w.Text(invoiceRules), `customer.country == "FO"`)
	require.Contains(t, w.Text(invoiceRules), "net > 1")

	row = edit("party[buyer]", "kind", "record", "rule", "")
	require.Equal(t, "party[buyer]", row)
}

// TestANewVariableOnScreen: its name, Tab, its formula.
func TestANewVariableOnScreen(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice")
	tb.click("#add-variable")
	tb.sees("[data-target='/variable/'].sel", "value1")
	tb.fill("#name", "rebate")
	tb.do(typed(kb.Tab))
	tb.fill("#formula", "net / 10")
	tb.sees("[data-target='/variable/rebate']", "50.85")
	w.Keeps(invoiceRules, "  - name: rebate\n    formula: net / 10\n")
	require.NotContains(t, w.Text(invoiceRules), "  - field: number\n    formula: net / 10\n")
}

// TestAClickWaitsForWhatWasTyped: what stands in a form that waits to be sent is kept before what is clicked is done, and
// nothing is refused.
func TestAClickWaitsForWhatWasTyped(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	for _, text := range []string{"number", "number + number", "upper(number)"} {
		tb.fill("#formula", text)
		tb.click("[data-target=currency]")
		tb.sees("[data-target=currency].sel", "currency")
		tb.fill("#formula", `"EUR"`)
		tb.click("[data-target=note]")
		tb.sees("[data-target=note].sel", "note")
		require.Equal(t, text, tb.value("#formula"))
	}
	tb.sees("#problem", "")
	w.Keeps(invoiceRules, "formula: upper(number)")
}

// TestTheSchemaOfAnAnswerIsInItsNotation: XML stays XML, with its repeated element as the records, and the next try reads
// what the first one did.
func TestTheSchemaOfAnAnswerIsInItsNotation(t *testing.T) {
	w := newWorld(t)
	server := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		out.Header().Set("Content-Type", "application/xml")
		out.Write([]byte(`<?xml version="1.0"?><ports xmlns="urn:ports"><port code="LC"><name>Ling Castle</name></port><port code="OR"><name>Orma</name></port></ports>`))
	}))
	t.Cleanup(server.Close)
	w.Part("connections/ports.yaml", "connection: Ports\nkind: http\noperations:\n  - {operation: list, name: List ports, kind: read, path: /ports}\n")
	w.Reach("ports", "http", map[string]string{"address": server.URL})
	try := func() string {
		t.Helper()
		status, at := w.Post("/bench/connections/ports/operations/list/try", url.Values{})
		require.Equal(t, 303, status)
		return strings.SplitN(at, "?", 2)[0]
	}
	keep := func() {
		t.Helper()
		status, at := w.Post(try()+"/keep", url.Values{"revision": {strconv.FormatInt(w.Draft("connections/ports.yaml").Revision, 10)}})
		require.Equal(t, 303, status, at)
	}
	keep()
	s := w.project().Schema("ports-list")
	require.NotNil(t, s)
	require.Equal(t, "xml", s.Notation.Name)
	require.Equal(t, "port", s.Settings.RecordName)
	require.NotNil(t, s.Root.Field("code"))
	require.True(t, s.Root.Field("code").WireFormat.Attribute)
	page := w.Body(try())
	require.True(t, strings.Contains(page, "1 of 2"), "two ports")
	require.True(t, strings.Contains(page, "Ling Castle"))
	keep()
	require.Len(t, w.project().Schema("ports-list").Samples, 2, "it is kept as a sample, too")
}

// TestATryHoldsAnUpsertAgainstItsTable: what the first run would stop at is a fault of the page, until it is mended.
func TestATryHoldsAnUpsertAgainstItsTable(t *testing.T) {
	w := newWorld(t)
	const path = "/bench/flows/gauge-readings?step=upsert"
	try := func() string {
		t.Helper()
		status, _ := w.Post("/bench/flows/gauge-readings/try", url.Values{"step": {"upsert"}})
		require.Equal(t, 303, status)
		return w.Body(path)
	}
	const told = "the key station_id of the table tide_level has no unique constraint"
	require.False(t, strings.Contains(try(), "no unique constraint"))
	w.Change("flows/gauge-readings.yaml", "key: gauge_code, taken_at", "key: station_id")
	require.False(t, strings.Contains(w.Body(path), told), "nobody has asked the system yet")
	require.True(t, strings.Contains(try(), told))
	require.True(t, strings.Contains(w.Body(path), told), "drawn again")
	w.Change("flows/gauge-readings.yaml", "key: station_id", "key: gauge_code, taken_at")
	require.False(t, strings.Contains(w.Body(path), told))
}

// TestASampleThatCannotBeReadIsSaid: a mapping is not complete over the records that are left.
func TestASampleThatCannotBeReadIsSaid(t *testing.T) {
	w := newWorld(t)
	const sure = "no required field can be absent"
	require.True(t, strings.Contains(w.Body("/bench/mappings/reading-to-tide-level"), sure))
	require.False(t, strings.Contains(w.Body("/bench/mappings/invoice-to-posting"), sure), "some of it may be")
	w.Part("samples/bad.json", `[{"number": "B-1", "departs": "not a time"}, {"number": "B-2", "sailing": "LS204", "departs": "2031-03-09T07:30:00Z", "customer": {"name": "Tove Lind", "country": "NO"}, "line": [{"class": "CAR", "price": 412.00}]}]`)
	w.Change("schemas/booking.yaml", "bookings.json", "bad.json")
	text := w.Body("/bench/mappings/booking-to-invoice")
	require.False(t, strings.Contains(text, sure), "not said of a sample that is not whole")
	require.True(t, strings.Contains(text, "1 cannot be read"))
	require.True(t, strings.Contains(text, "1 of 2 map"))
	require.True(t, strings.Contains(text, "not a time"), "for what")
	require.False(t, strings.Contains(text, "✓ complete"))
}

// TestTheRulerShowsTheLine: each character once, as wide as the bytes that it takes.
func TestTheRulerShowsTheLine(t *testing.T) {
	w := newWorld(t)
	w.Part("samples/crew.txt", "Þóra  LC\r\nJon   OR\r\n")
	w.Part("schemas/crew-list.yaml", "schema: Crew list\nnotation: fixedwidth\nnotation settings: {count: bytes}\nsamples: [crew.txt]\nfields:\n  - {name: name, type: text, columns: 1-8}\n  - {name: port, type: text, columns: 9-10}\n")
	p := w.project()
	require.Empty(t, p.Faults)
	text := w.Body("/bench/schemas/crew-list")
	cells := regexp.MustCompile(`whitespace-pre"\s+data-width="(\d+)px">([^<]*)</span>`).FindAllStringSubmatch(text, -1)
	line := ""
	for _, c := range cells {
		pixels, err := strconv.Atoi(c[1])
		require.NoError(t, err)
		line += c[2] + strconv.Itoa(pixels/15)
	}
	require.True(t, strings.HasPrefix(line, "Þ2ó2r1a1 1 1L1C1"), line)
}

// TestTheRequestIsShown: what would be sent in a try, and what was sent and answered in a run; for a record that was refused,
// too.
func TestTheRequestIsShown(t *testing.T) {
	w := newWorld(t)
	address := w.desks()
	w.Change("flows/booking-to-invoice.yaml", "interval: 5", "interval: 1")
	_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, "booking-to-invoice", "", "mira")
	require.NoError(t, err)
	r := w.newestOf("booking-to-invoice", store.Done)

	body := w.Body("/bench/flows/booking-to-invoice?step=note")
	require.Contains(t, body, "What would be sent")
	require.Contains(t, body, "→ PUT "+address+"/bookings/B-20417/invoice")
	require.Contains(t, body, "Authorization: Bearer ••••••")
	require.NotContains(t, body, "What was sent")
	body = w.Body("/bench/flows/booking-to-invoice?step=post")
	require.Contains(t, body, "$1 = B-20417 (:booking)")

	at := "/traffic/runs/" + r.ID.String()
	body = w.Body(at + "?step=note&record=1")
	require.Contains(t, body, "What was sent and answered")
	require.Contains(t, body, "{&#34;invoice&#34;:&#34;7001&#34;}")
	require.Contains(t, body, "← HTTP/1.1 200 OK")
	require.NotContains(t, body, quayside.Token)
	require.Contains(t, w.Body(at+"?step=post&record=1"), "What is sent with these values", "rows of one transaction are not kept apart")

	require.NotContains(t, w.Body("/traffic/runs/"+r.ID.String()+"/journal.ndjson"), quayside.Token)
}

// TestAMappingIsMadeFromTheStep: a step outside of its each offers to be put into one; a mapping is made for it in place with
// both schemas known, and its sources are chosen among what fits.
func TestAMappingIsMadeFromTheStep(t *testing.T) {
	w := newWorld(t)
	w.desks()
	require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
		return store.AddPart(t.Context(), tx, "skerry", "flows/orders.yaml", "flow: Orders\ntrigger: {kind: records, connection: quayside, operation: list-bookings, rising: changed, with: {since: rising}}\nsteps:\n  - {step: read, id: read, as: order}\n  - {step: map, id: map, mapping: booking-to-invoice, as: invoice}\n", "mira")
	}))
	tb := w.tab()
	tb.open("/bench/flows/orders?step=map")
	tb.sees("#setting-mapping .fault", "Choose under Sources")
	tb.sees("#setting-sources", "choose…")
	tb.click("#wrap-it")
	tb.sees("#faults", "No faults")
	tb.sees("#panel .ph", "Map")
	require.Contains(t, w.Text("flows/orders.yaml"), "booking: order")
	require.Equal(t, "order", tb.value("#sources-booking"))

	tb.pick("#set-mapping", "")
	tb.sees("#new-mapping", "order")
	tb.pick("#new-to", "invoice")
	tb.click("#make-mapping")
	tb.sees("h1", "Booking → Invoice")
	require.Contains(t, w.Text("flows/orders.yaml"), "mapping: booking-invoice")
	require.Contains(t, w.Text("mappings/booking-invoice.yaml"), "name: order")
	tb.open("/bench/flows/orders?step=map")
	tb.sees("#faults", "fault")
	tb.sees("#panel", "Open the mapping")
}

// TestARefusedFormStays: with all that was typed, the reason at the field that it is about, and the focus there.
func TestARefusedFormStays(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/new")
	tb.click("input[name=kind][value=schedule]")
	tb.fill("input[name=title]", "Booking to invoice"+kb.Enter)
	tb.sees(".field:has(input[name=title]) .refusal", "there is one of that title already")
	require.Equal(t, "Booking to invoice", tb.value("input[name=title]"))
	require.True(t, tb.focused("input[name=title]"))
	require.True(t, tb.visible("input[name=kind][value=schedule]:checked"))
	tb.keys(" two" + kb.Enter)
	tb.sees("h1", "Booking to invoice two")
}

// TestANewStepShowsWhatIsNeeded: calmly, in the words of the form, and never by a line of a file.
func TestANewStepShowsWhatIsNeeded(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
		return store.AddPart(t.Context(), tx, "skerry", "flows/fresh.yaml", "flow: Fresh\ntrigger: {kind: person}\nsteps:\n  - {step: keep, id: keep}\n  - {step: map, id: map}\n", "mira")
	}))
	tb := w.tab()
	tb.open("/bench/flows/fresh?step=keep")
	tb.sees("#faults", "2 still needed")
	tb.sees("#setting-where", "still needed")
	require.False(t, tb.visible("#panel .fault"))
	tb.do(chromedp.Evaluate(`document.querySelector("#faults").click()`, nil))
	tb.sees(".faultlist", "Condition is still needed")
	tb.fill("#set-where", "run.lenght > 1")
	tb.sees("#setting-where .fault", "lenght")
	tb.sees("#faults", "1 fault")
	require.NotContains(t, w.Body("/bench/flows/fresh?step=keep"), "fresh.yaml:")
	tb.fill("#set-where", "true")
	tb.sees("#faults", "1 still needed")
}

// TestTheBestHitStandsFirst: the name itself, its beginning, a word of it, what is in it; then descriptions. Formulas, values
// and functions are found, and Enter opens the first hit however fast it is pressed.
func TestTheBestHitStandsFirst(t *testing.T) {
	w := newWorld(t)
	first := func(typed string) string {
		text := regexp.MustCompile(`<a href="([^"]*)"`).FindStringSubmatch(w.Body("/find?q=" + url.QueryEscape(typed)))
		require.NotNil(t, text, typed)
		return text[1]
	}
	require.Equal(t, "/bench/mappings/booking-to-invoice", first("Booking → invoice"))
	require.Equal(t, "/bench/schemas/booking", first("booking"))
	require.Equal(t, "/bench/connections/quayside", first("quays"))
	require.Equal(t, "/bench/formulas?find=trim", first("trim"))
	require.Contains(t, first("checkDigit"), "/bench/libraries/freight?function=checkDigit")
	require.Equal(t, "/bench/flows/booking-to-invoice?step=keep", first("isAbsent(booking"))
	require.Contains(t, w.Body("/find?q=nothingofthatname"), "No results for")

	tb := w.tab()
	tb.open("/bench")
	tb.focus("#find")
	tb.do(typed("quayside" + kb.Enter))
	tb.sees("h1", "Quayside")

	tb.open("/bench/flows/gauge-readings?step=find")
	tb.do(typed("i"))
	tb.sees("#panel .ph", "Add step")
	for typed, want := range map[string]string{"write files": "Write files", "map": "Map to Tide level", "log": "Log", "filter": "Filter"} {
		tb.fill("#pick", typed)
		var offered string
		tb.on("#offers", `return [...e.querySelectorAll(".offer")].filter((o) => !o.hidden).sort((a, b) => a.style.order - b.style.order)[0].dataset.name`, &offered)
		require.Equal(t, want, offered, typed)
	}
}

// TestPagesFitANarrowWindow: at 1,024 pixels nothing stands beyond the edge of a page.
func TestPagesFitANarrowWindow(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.do(emulation.SetDeviceMetricsOverride(1024, 768, 1, false))
	for _, path := range []string{
		"/bench", "/bench/flows/vehicle?step=cargo", "/bench/mappings/booking-to-invoice?field=line", "/bench/mappings/reading-to-tide-level/changes", "/bench/schemas/gauge-reading?field=3",
		"/bench/connections/quayside", "/bench/tables/cargo-articles", "/bench/libraries/freight", "/bench/parts", "/bench/text?path=flows/vehicle.yaml", "/traffic", "/traffic/aside", "/traffic/alerts?alert=trouble", "/traffic/figures", "/estate", "/releases",
	} {
		tb.open(path)
		var width int
		tb.do(chromedp.Evaluate(`document.documentElement.scrollWidth`, &width))
		require.LessOrEqual(t, width, 1024, path)
	}
}

// TestAPartIsRenamed: who uses it is shown first, all drafts that name it follow, and it can be taken back.
func TestAPartIsRenamed(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/parts")
	tb.click(`[aria-label="Rename Booking → invoice"]`)
	tb.sees("#followers", "Booking to invoice")
	tb.fill("#title", "Booking → bill")
	tb.fill("#id", "reading-to-tide-level")
	tb.click("#do-rename")
	tb.sees(".field:has(#id) .refusal", "already")
	tb.fill("#id", "booking-to-bill")
	tb.click("#do-rename")
	tb.sees("#said", "parts that name it follow")
	require.Contains(t, w.Text("flows/booking-to-invoice.yaml"), "mapping: booking-to-bill")
	require.Contains(t, w.Text("mappings/booking-to-bill.yaml"), "mapping: Booking → bill")
	tb.open("/bench/mappings/booking-to-bill")
	tb.sees("h1", "Booking → bill")
	tb.do(chromedp.NavigateBack(), chromedp.WaitReady("#said"))
	tb.click("#undo-rename")
	tb.sees("#said", "Renamed mappings/booking-to-bill.yaml")
	require.Contains(t, w.Text("flows/booking-to-invoice.yaml"), "mapping: booking-to-invoice")
	tb.open("/bench/flows/gauge-readings")
	tb.open("/bench/parts/rename?path=flows/gauge-readings.yaml")
	tb.sees("#rename", "its runs and releases are kept under its id")
	tb.fill("#title", "Gauges")
	tb.click("#do-rename")
	tb.sees("#said", "Renamed")
	tb.open("/bench/flows/gauge-readings")
	tb.sees("h1", "Gauges")
}

// TestASampleIsEditedAsText: with its check beside it, records are copied and dull values replaced, and all can be undone.
func TestASampleIsEditedAsText(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/samples/bookings.json")
	tb.sees("#verdict", "all 3 records fit")
	before := w.Text("samples/bookings.json")
	tb.pick("#source", strings.Replace(before, `"Tove Lind"`, `"string"`, 1))
	tb.sees("#verdict", "not saved yet")
	tb.click("#save-sample")
	tb.sees("#said", "Saved")
	tb.click("#do-liven")
	tb.sees("#said", "1 value was replaced")
	require.NotContains(t, w.Text("samples/bookings.json"), `"string"`)
	tb.click("#do-copy")
	tb.sees("#said", "Copied record 1")
	tb.sees("#verdict", "all 4 records fit")
	tb.pick("#source", strings.Replace(w.Text("samples/bookings.json"), `"departs"`, `"departed"`, 1))
	tb.sees("#verdict", "1 of 4 records do not fit")
	tb.click("#verdict .faultlist a")
	require.True(t, tb.focused("#source + .code .cm-content"))
	tb.fill("#copy", "9")
	tb.do(chromedp.Evaluate(`document.querySelector("#copy").removeAttribute("max")`, nil))
	tb.click("#do-copy")
	tb.sees(".refusal", "departed") // nothing of a record that cannot be read is lost
	tb.open("/bench/samples/bookings.json")
	for revision := 6; revision < 10; revision++ {
		tb.sees(".where .tag", fmt.Sprintf("draft %d", revision-1))
		tb.click("[data-key=undo]")
		tb.sees(".where .tag", fmt.Sprintf("draft %d", revision))
	}
	require.Equal(t, before, w.Text("samples/bookings.json"))
}

// TestAFlowIsTriedWithWhatIsTyped: parameters of a GET and a message by hand, without a sample; what is made up says so, and
// what does not fit is told at the top.
func TestAFlowIsTriedWithWhatIsTyped(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
		for path, text := range map[string]string{
			"schemas/asked.yaml":  "schema: Asked\nnotation: json\nfields:\n  - {name: number, type: text}\n  - {name: seats, type: integer}\n",
			"schemas/wanted.yaml": "schema: Wanted\nnotation: json\nfields:\n  - {name: booking, type: text}\n  - {name: most, type: integer}\n",
			"flows/seats.yaml":    "flow: Seats\ntrigger: {kind: person, input: asked, as: asked}\nsteps:\n  - {step: note, id: n, text: 'asked.number + \" \" + text(asked.seats)'}\n",
			"flows/invoices.yaml": "flow: Invoices\ntrigger: {kind: request, method: GET, path: 'invoices/{booking}', parameters: wanted}\nsteps:\n  - {step: note, id: n, text: 'request.parameters.booking + \" \" + text(request.parameters.most)'}\n",
		} {
			if err := store.AddPart(t.Context(), tx, "skerry", path, text, "mira"); err != nil {
				return err
			}
		}
		return nil
	}))
	tb := w.tab()
	tb.open("/bench/flows/seats?step=n")
	tb.sees("#made-note", "made up")
	tb.click("#try-with")
	tb.pick("#typed-message", `{"number": "B-7", "seats": 4}`)
	tb.click("#do-typed")
	tb.sees("#typed-note", "what was typed")
	tb.sees("#goes-out", "B-7 4")
	tb.click("#try-with")
	tb.pick("#typed-message", `{"number": "B-7", "seats": "four"}`)
	tb.click("#do-typed")
	tb.sees("#step-notes", "what was typed does not fit Asked")
	tb.click("#try-with")
	tb.click("#forget-typed")
	tb.sees("#made-note", "made up")

	tb.open("/bench/flows/invoices?step=n")
	tb.click("#try-with")
	tb.fill("#typed-address", "invoices/B-20417?most=5")
	tb.click("#do-typed")
	tb.sees("#goes-out", "B-20417 5")
	tb.click("#try-with")
	tb.fill("#typed-address", "invoices/B-20417?most=five")
	tb.click("#do-typed")
	tb.sees("#step-notes", "the caller would be answered 422")
	tb.click("#try-with")
	tb.fill("#typed-address", "bills/7")
	tb.click("#do-typed")
	tb.sees(".field:has(#typed-address) .refusal", "expected a path as invoices/{booking}")
}

// TestTheFocusStandsWhereOneTypesNext: after New, Inside, a click on a row, and on pages that make something.
func TestTheFocusStandsWhereOneTypesNext(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	for path, field := range map[string]string{
		"/bench/flows/new": "#flow-title", "/bench/schemas/new": "#title", "/bench/mappings/new": "input[name=from]", "/bench/connections/new": "input[name=kind]", "/traffic/alerts?alert=new": "#title",
	} {
		tb.open(path)
		tb.sees(field+":focus", "")
	}
	tb.open("/bench/schemas/booking?field=4")
	tb.click(`.op[aria-label="new field below (N)"]`)
	tb.sees("#f-name:focus", "")
	tb.keys("deck")
	tb.sees("tr.sel", "deck")
	tb.open("/bench/mappings/booking-to-invoice")
	tb.click("[data-target=note]")
	tb.sees("[data-target=note].sel", "note")
	tb.sees("#formula + .code .cm-content:focus", "")
}

// TestUpsertsAreHeldAgainstTheirTables: of an operation when somebody asks, and of a flow when it is released.
func TestUpsertsAreHeldAgainstTheirTables(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
		text := w.Text("connections/harbour-ledger.yaml") + "  - operation: keep-station\n    name: Keep a station\n    kind: upsert\n    table: station\n    key: datum_mm\n    request: station\n"
		d, err := store.LockDraft(t.Context(), tx, "skerry", "connections/harbour-ledger.yaml")
		if err != nil {
			return err
		}
		if err := store.SavePart(t.Context(), tx, "skerry", d.Path, text, d.Revision, "mira"); err != nil {
			return err
		}
		return store.AddPart(t.Context(), tx, "skerry", "flows/stations.yaml", "flow: Stations\ntrigger: {kind: person, input: station, as: row}\nsteps:\n  - {step: call, id: keep, name: Keep it, connection: harbour-ledger, operation: keep-station, from: row}\n", "mira")
	}))
	tb := w.tab()
	tb.open("/bench/connections/harbour-ledger/operations/keep-station")
	tb.click("#check-table")
	tb.sees("#problem", "unique")
	tb.open("/bench/flows/stations/release")
	tb.click("#do-release")
	tb.sees("#problem", "release it without that check")
	tb.click("input[name=unchecked]")
	tb.click("#do-release")
	tb.sees("#state", "release 1")
}

// TestALibraryThatBreaksRulesSaysSo: on its own page, and the flow that does not use what changed is not another.
func TestALibraryThatBreaksRulesSaysSo(t *testing.T) {
	w := newWorld(t)
	require.NotContains(t, w.Body("/bench/libraries/freight"), `id="broken"`)
	require.NotContains(t, w.Body("/bench/flows/gauge-readings"), "differs from release")
	w.Change("libraries/freight.yaml", "name: plate\n", "name: plates\n")
	w.Change("project.yaml", "project: Skerry Line", "project: Skerry Line and more")
	w.Change("connections/harbour-ledger.yaml", "operation: on-watch\n", "operation: on-watch-now\n")
	body := w.Body("/bench/libraries/freight")
	require.Contains(t, body, "faults with the draft")
	require.Contains(t, body, "/bench/mappings/booking-to-invoice")
	require.NotContains(t, w.Body("/bench/flows/gauge-readings"), "differs from release", "it uses neither")
}
