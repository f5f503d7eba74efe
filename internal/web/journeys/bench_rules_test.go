package journeys

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

const invoiceRules = "mappings/booking-to-invoice.yaml"

// TestTheWiderRulesOnScreen: a variable, a condition, the further settings of an each, one more feed, and
// what a fault does.
func TestTheWiderRulesOnScreen(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice")
	tb.click("#add-variable")
	tb.sees("h1", "Booking → invoice")
	tb.fill("#name", "discount")
	tb.fill("#formula", "net / 10")
	tb.sees("#result", "50.85")
	tb.sees("[data-target='/variable/discount']", "50.85")
	w.Keeps(invoiceRules, "  - name: discount\n    formula: net / 10\n")
	tb.fill("#name", "rebate")
	tb.sees("[data-target='/variable/rebate']", "50.85")

	tb.open("/bench/mappings/booking-to-invoice?field=/variable/net")
	tb.fill("#name", "net_sum")
	w.Keeps(invoiceRules, "formula: net_sum / 10")
	w.Keeps(invoiceRules, "formula: net_sum + vat")
	tb.sees("#faults", "3 of 3 map")
	tb.fill("#name", "net")
	w.Keeps(invoiceRules, "formula: net / 10")

	tb.click("#add-condition")
	tb.sees("label[for=formula]", "only where")
	tb.fill("#formula", `customer.country == "FO"`)
	tb.sees("#result", "false")
	tb.fill("[name=reason]", "not from the Faroes")
	tb.sees("#left-out", "skipped: not from the Faroes")
	w.Keeps(invoiceRules, "reason: not from the Faroes")
	tb.fill("#formula", "")
	w.Keeps(invoiceRules, "    reason: nothing to pay\nvariables:")

	tb.open("/bench/mappings/booking-to-invoice?field=line")
	tb.fill("[name='sort by']", "price")
	tb.sees("[data-target='line/article']", "7300")
	tb.fill("[name=where]", `class == "CAR"`)
	tb.sees("[data-target=line]", "1 item")
	tb.fill("[name=variables]", "half = price / 2")
	w.Keeps(invoiceRules, "    variables:\n      - name: half\n        formula: price / 2\n")
	tb.open("/bench/mappings/booking-to-invoice?field=line/amount")
	tb.fill("#formula", "half")
	tb.sees("#result", "206")

	tb.open("/bench/mappings/booking-to-invoice?field=line")
	tb.fill("#label", "deposit")
	tb.click("#add-feed")
	tb.sees("[data-target='line[deposit]'].sel", "one entry")
	tb.sees("#missing", "required fields have no rule")
	tb.click("#remove-feed")
	tb.sees("#faults", "1 of 3 map · 1 kind of fault") // an invoice needs a line, and the others have no car
	require.NotContains(t, w.Text(invoiceRules), "deposit")
	tb.pick("#on-fault", "omit field")
	w.Keeps(invoiceRules, "on fault: omit field")
}

// TestPartiesAreToldApart: the items of a source's list by a qualifier, as branches that can be mapped; and
// entries of the target by the codes of its schema.
func TestPartiesAreToldApart(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	tb.click("[data-source='booking.line'] [data-apart]")
	tb.sees("#matches", `line [class = "CAR"]`)
	tb.sees("#matches", "1 here")
	tb.sees("#matches", "lorry, by length")
	tb.click(`#matches input[value='class = "CAR"']`)
	tb.click("#matches input[value='last']")
	tb.click("#tell-apart")
	tb.sees("[data-source='car_up_to_5_m.plate']", "SK 40117")
	tb.sees("[data-source='last_line.class']", "PAX")
	w.Keeps(invoiceRules, `formula: find(booking.line, .class == "CAR")`)
	tb.fill("#formula", "")
	w.Keeps(invoiceRules, "formula: net + vat\n")
	tb.click("[data-source='car_up_to_5_m.plate'] .pick")
	tb.sees("#result", "SK 40117")

	tb.open("/bench/mappings/booking-to-invoice?field=party[buyer]")
	tb.do(chromedp.Evaluate(`document.querySelector("#options").open = true`, nil))
	tb.click("#apart-target")
	tb.sees("#matches", `party [role = "SE"]`)
}

// TestTreesFoldAndAreSearched.
func TestTreesFoldAndAreSearched(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice")
	count := func(selector string) int {
		var n int
		tb.do(chromedp.Evaluate(`[...document.querySelectorAll("`+selector+`")].filter((r) => !r.hidden).length`, &n))
		return n
	}
	all := count("#sources [data-depth]")
	tb.click("[data-source='booking.customer'] [data-twist]")
	require.Equal(t, all-3, count("#sources [data-depth]"))
	tb.fill("[data-find='#sources']", "plate")
	require.Equal(t, 3, count("#sources [data-depth]"), "the field and the two around it")
	tb.fill("[data-find='#sources']", "")
	tb.click("#unused")
	tb.sees("#unused[aria-pressed=true]", "not used")
	unused := count("#sources [data-depth]")
	require.Less(t, unused, all-3)
	tb.click("[data-only=used]")
	tb.sees("[data-only=used][aria-pressed=true]", "used")
	require.Greater(t, count("#sources [data-depth]"), unused)
	tb.fill("[data-find='#fields']", "vat")
	require.Equal(t, 5, count("#fields [data-depth]"), "three fields of the name, and the list and the record around them")
}

func TestATableIsKeptOnScreen(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/tables/cargo-articles")
	tb.fill("[name=r0c1]", "7011")
	w.Keeps("tables/cargo-articles.yaml", `[CAR, 7011, Car up to 5 m, 25]`)
	tb.fill("[name=r3c3]", "twelve")
	tb.sees("#faults", "expected decimal")
	tb.fill("[name=r3c3]", "12.5")
	tb.sees("#faults", "No faults")
	tb.fill("#paste", "class,title\nBUS,\"Coach, to 15 m\"\nCAR,Car\n")
	tb.do(chromedp.Submit("#paste"))
	tb.sees("[name=r4c2][value='Coach, to 15 m']", "")
	w.Keeps("tables/cargo-articles.yaml", `[BUS, "", 'Coach, to 15 m', ""]`)
	tb.click("#add-row")
	tb.sees("#faults", "fault")
	tb.click("button[name=remove][value='5']")
	tb.sees("#faults", "No faults")
	tb.open("/bench/mappings/booking-to-invoice?field=line/text")
	tb.sees("#result", "Car")

	status := func(path string, form url.Values) int {
		code, _ := w.Post(path, form)
		return code
	}
	require.Equal(t, http.StatusSeeOther, status("/bench/tables", url.Values{"title": {"Port fees"}, "columns": {"port*, fee decimal"}}))
	w.Keeps("tables/port-fees.yaml", "  - name: fee\n    type: decimal\n")
	require.Equal(t, http.StatusUnprocessableEntity, status("/bench/tables", url.Values{"title": {"X"}, "columns": {"port"}}))
	require.Equal(t, http.StatusUnprocessableEntity, status("/bench/tables", url.Values{"title": {""}, "columns": {"port*"}}))
	require.Equal(t, http.StatusNotFound, w.Get("/bench/tables/none").StatusCode)
}

// TestALibraryIsWrittenAndPublished: a function is changed, its cases say so; a version is published and
// used, and the draft goes on without touching the project.
func TestALibraryIsWrittenAndPublished(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/libraries/freight?function=plate")
	tb.sees("#outcome", "4 cases")
	tb.click("#publish")
	tb.sees("#version", "version 1")
	w.Keeps("libraries/freight@1.yaml", "version: 1")
	tb.pick("#version", "1")
	tb.click("#use")
	tb.sees("#using", "version 1 is used")
	w.Keeps("project.yaml", "libraries:\n  freight: 1\n")
	tb.open("/bench/libraries/freight?function=plate")
	tb.fill("#source", `"plate " + raw`)
	tb.sees("#outcome", "2 of 4 cases failed")
	tb.sees("#case-results", `found "plate sk40117"`)
	tb.fill("#source", `"plate " + rw`)
	tb.sees("#case-results", `there is no "rw" here`)
	tb.fill("#source", "raw")
	tb.paste("#cases", `freight.plate("a = b") = a = b`)
	tb.sees("#outcome", "3 cases")
	tb.fill("#name", "label")
	tb.sees("#case-results", `has no function "plate"`)
	tb.open("/bench/mappings/booking-to-invoice?field=line/plate")
	tb.sees("#result", "SK 40117")
	tb.open("/bench/libraries/freight")
	tb.fill("#new-name", "twice")
	tb.click("#add-function")
	tb.sees("#function", "freight.twice(x)")
	tb.pick("[name=kind]", "script")
	tb.fill("#source", "return x +")
	tb.sees("#case-results", "Unexpected")
	tb.fill("#source", "return x + x")
	tb.paste("#cases", "freight.twice(4) = 8")
	tb.sees("#case-results", "✓")
	tb.click("#remove")
	require.Eventually(t, func() bool { return !strings.Contains(w.Text("libraries/freight.yaml"), "twice") }, 20*time.Second, 20*time.Millisecond)
	require.Equal(t, http.StatusNotFound, w.Get("/bench/libraries/none").StatusCode)
	code, _ := w.Post("/bench/libraries", url.Values{"title": {"Harbour dues"}})
	require.Equal(t, http.StatusSeeOther, code)
	require.Contains(t, w.Text("libraries/harbour_dues.yaml"), "library: Harbour dues")
}

// TestWhatWouldChange: the draft beside the release on the messages of a run; one of them kept as a case,
// which then fails, and the release says so.
func TestWhatWouldChange(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/reading-to-tide-level/changes")
	tb.sees("main", "No message has come")
	w.Drop("sk_0309.tide", w.Text("samples/sk_0309.tide"))
	r := w.Ended("sk_0309.tide")
	tb.open("/bench/mappings/reading-to-tide-level/changes")
	tb.sees("#outcome", "messages come out the same")
	tb.fill("#reference", "sk_99")
	tb.keys("\r")
	tb.sees("main", "No message of such a reference")

	tb.open("/traffic/runs/" + r.ID.String() + "?step=map&record=1")
	tb.click("#keep-case")
	tb.sees("h1", "Cases")
	tb.sees("#outcome", "2 of 2")

	tb.open("/bench/mappings/reading-to-tide-level?field=unit")
	tb.fill("#formula", "m")
	w.Keeps("mappings/reading-to-tide-level.yaml", "constant: m\n")
	tb.open("/bench/mappings/reading-to-tide-level?field=is_surge")
	tb.fill("#formula", "level_cm > surge_cm + 1000")
	tb.sees("#result", "false")
	tb.open("/bench/mappings/reading-to-tide-level/changes?most=100")
	tb.sees("#outcome", "would change")
	tb.sees("table", "− cm")
	tb.sees("table", `"cm" → "m"`)
	tb.open("/bench/flows/gauge-readings/release")
	tb.sees("#cases", "2 of 2 cases fail")
	tb.sees("#cases", `/unit: expected "cm", found "m"`)
	tb.click("#do-release")
	tb.sees("h1", "Gauge readings")
	tb.open("/releases")
	tb.sees("table", "2 cases failed")
}

// TestABrokenSchemaIsMended: fields of both sides are renamed; the mapping proposes what mends it, and one
// rule that belongs to nothing is taken out.
func TestABrokenSchemaIsMended(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice")
	tb.sees("#faults", "3 of 3 map")
	w.Change("schemas/booking.yaml", "name: remark", "name: comment")
	w.Change("schemas/invoice.yaml", "{name: due, type: date}", "{name: payable_by, type: date}")
	w.Change("schemas/invoice.yaml", "{name: plate, type: text, occurs: 0..1}", "{name: cabin, type: integer, occurs: 0..1}")
	tb.open("/bench/mappings/booking-to-invoice")
	tb.sees("#mends", "2 mends proposed")
	tb.sees("#mends", "remark → comment")
	tb.sees("#mends", "due → payable_by")
	tb.sees("#mends", "line/plate")
	tb.click("#mend")
	tb.sees("[data-target=payable_by]", "2031-03-23")
	tb.sees("#mends", "Rules without a field")
	tb.click("#mends tbody button")
	tb.sees("#faults", "3 of 3 map") // the field that the schema no longer knows is passed over
	require.NotContains(t, w.Text(invoiceRules), "line/plate")
}

// TestTwoEditAMapping: who saved later is told, and nothing is overwritten.
func TestTwoEditAMapping(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	w.Change(invoiceRules, "constant: NOK", "constant: NOK # checked")
	tb.fill("#formula", "number")
	tb.sees("#problem", "Someone else saved this after you opened it")
	require.Contains(t, w.Text(invoiceRules), "# checked")
	require.Contains(t, w.Text(invoiceRules), "formula: remark")
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	tb.fill("#formula", "number")
	tb.sees("#result", "B-20417")
	tb.mu.Lock()
	defer tb.mu.Unlock()
	require.Len(t, tb.errors, 1)
	require.Contains(t, tb.errors[0], "409")
	tb.errors = nil
}

// TestASampleIsChosenAndOneFieldMatched.
func TestASampleIsChosenAndOneFieldMatched(t *testing.T) {
	w := newWorld(t)
	w.Part("samples/faroes.json", `[{"number": "B-30001", "sailing": "LS204", "departs": "2031-03-10T07:30:00Z", "customer": {"name": "Rúna", "country": "FO"}, "line": [{"class": "PAX", "price": 96.50}], "remark": "late"}]`)
	w.Change("schemas/booking.yaml", "  - bookings.json\n", "  - bookings.json\n  - faroes.json\n")
	tb := w.tab()
	tb.open("/bench/mappings/booking-to-invoice?field=note")
	tb.sees("[data-target=booking]", "B-20417")
	tb.pick("#sample", "faroes.json")
	tb.sees("[data-target=booking]", "B-30001")
	tb.sees("#result", "late")
	tb.fill("#formula", "upper(remark)")
	tb.sees("#result", "LATE")
	tb.click("[data-target='party[buyer]/mail']")
	tb.sees("label[for=formula]", "party[buyer]/mail")
	tb.fill("#formula", "")
	w.Keeps(invoiceRules, "formula: customer.name\n  - field: party[buyer]/country")
	tb.open("/bench/mappings/booking-to-invoice?field=party[buyer]/mail&sample=faroes.json")
	tb.click("#match-one")
	tb.sees("#matches", "1 rule proposed")
	tb.click("#accept")
	w.Keeps(invoiceRules, "formula: customer.mail")
}

// TestAMappingByScript: made from nothing, written in place, with its result beside every field and its
// faults by line.
func TestAMappingByScript(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/new")
	tb.click("input[name=from][value=booking]")
	tb.click("input[name=by][value=script]")
	tb.pick("#to", "invoice")
	tb.pick("#title", "By hand")
	tb.do(chromedp.Submit("#title"))
	tb.sees("h1", "By hand")
	tb.sees("#verdict", "booking")
	tb.fill("#formula", "return { booking: booking.number, currency: 'NOK', line: booking.line.map((l, i) => ({ no: i + 1, text: l.class })) };")
	tb.sees("[data-target=booking]", "B-20417")
	tb.sees("[data-target=line]", "2 items")
	tb.sees("[data-target='line/text']", "CAR")
	tb.fill("#formula", "return { booking: bookng.number };")
	tb.sees("#verdict", "bookng is not defined")
	w.Keeps("mappings/by-hand.yaml", "bookng")
}

// TestAListIsJoined: a list as a further source, looked up by key.
func TestAListIsJoined(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/reading-to-tide-level?field=station_name")
	tb.click("#add-source")
	tb.pick("#source-schema", "station")
	tb.pick("#source-name", "stations")
	tb.click("form input[name=list]")
	tb.click("#take-source")
	tb.sees("#sources", "stations")
	w.Keeps("mappings/reading-to-tide-level.yaml", "  - name: stations\n    schema: station\n    list: true\n")
	tb.fill("#formula", `find(stations, .gauge_code == reading.gauge).name`)
	tb.sees("#result", "Ling")
	tb.sees("#verdict", "text")
}

// TestRowsThatFlowsChangedAreSeenAndTakenBack: a flow sets a row and takes another away, its columns are offered; the table
// shows both beside its own rows, and lets go of them one by one or all at once.
func TestRowsThatFlowsChangedAreSeenAndTakenBack(t *testing.T) {
	w := newWorld(t)
	w.Release("tariff", "flow: Tariff\ntrigger: {kind: person}\nsteps:\n  - {step: change, id: set, table: cargo-articles, row: {class: '\"BUS\"', article: '\"7099\"', title: '\"Bus\"'}}\n"+
		"  - {step: change, id: gone, table: cargo-articles, do: take it away, row: {class: '\"PAX\"'}}\n  - {step: look up, id: find, table: cargo-articles, match: {class: '\"BUS\"'}}\n")
	tb := w.tab()
	tb.open("/bench/flows/tariff?step=find")
	tb.sees("#panel .ph", "Look up in a table")
	require.Equal(t, `"BUS"`, tb.value("#match-class"))
	tb.open("/bench/flows/tariff?step=set")
	require.Equal(t, `"7099"`, tb.value("#row-article"))
	tb.sees("#faults", "✓ No faults")
	tb.press("#run-now")
	tb.sees("#outcome", "done")
	tb.open("/bench/tables/cargo-articles")
	tb.sees("#by-flows", "BUS")
	tb.sees("#by-flows", "7099")
	tb.sees("#by-flows tr", "taken away")
	tb.sees("#by-flows", "PAX")
	tb.press("#by-flows tbody button")
	tb.until("one to be left", func() bool {
		var n int
		return chromedp.Run(tb.ctx, chromedp.Evaluate(`document.querySelectorAll("#by-flows tbody tr").length`, &n)) == nil && n == 1
	})
	tb.press("#forget-all")
	tb.until("none to be left", func() bool {
		var there bool
		return chromedp.Run(tb.ctx, chromedp.Evaluate(`document.readyState === "complete" && !!document.querySelector("#rows") && !document.querySelector("#by-flows")`, &there)) == nil && there
	})
}
