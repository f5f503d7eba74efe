package journeys

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

const invoicePart = `schema: Invoice
notation: xml
notation settings: {root: invoice}
fields:
  - {name: booking_no, type: text, attribute: true}
  - {name: sailing, type: text}
  - {name: departure_date, type: date}
  - name: payer
    type: record
    fields:
      - {name: customer_name, type: text}
      - {name: email, type: text, occurs: 0..1}
  - name: line
    type: record
    occurs: 1..n
    fields:
      - {name: class, type: text}
      - {name: amount, type: decimal, constraints: {fraction digits: 2}}
      - {name: plate, type: text, occurs: 0..1}
  - {name: total, type: decimal}
`

// TestAMappingIsBuiltFromNothing: choose both sides, accept what matches by name, write the rest, and
// reach a mapping in which nothing is open.
func TestAMappingIsBuiltFromNothing(t *testing.T) {
	w := newWorld(t)
	w.Part("schemas/freight-bill.yaml", invoicePart)
	tb := w.tab()
	tb.open("/bench/mappings/new")
	tb.do(chromedp.Submit("#title"))
	tb.sees(".fault", "at least one source")
	tb.click("input[name=from][value=booking]")
	tb.pick("#to", "freight-bill")
	tb.do(chromedp.Submit("#title"))
	tb.sees("h1", "Booking → Invoice")
	tb.sees("#missing", "required fields have no rule")
	tb.do(typed("m"))
	tb.sees("#matches", "rules proposed")
	tb.sees("#matches", "the same name")
	tb.click("#accept")
	tb.sees("[data-target='line/class']", "CAR")
	tb.sees("[data-target='sailing']", "LS204")
	text := w.Text("mappings/booking-invoice.yaml")
	require.Contains(t, text, "  - field: line\n    each: line\n    as: line\n")
	require.NotContains(t, text, "total")

	tb.do(chromedp.Evaluate(`document.activeElement.blur()`, nil), typed("o"))
	for _, rule := range []struct{ field, formula, result string }{
		{"booking_no", "number", "B-20417"},
		{"departure_date", "date(departs)", "2031-03-09"},
		{"payer/customer_name", "customer.name", "Tove Lind"},
		{"line/amount", "price", "412.00"},
		{"total", "sum(map(line, .price))", "508.50"},
	} {
		tb.open("/bench/mappings/booking-invoice?show=open&field=" + rule.field)
		tb.fill("#formula", rule.formula)
		tb.sees("#result", rule.result)
	}
	tb.sees("#faults", "complete")
	tb.open("/bench/mappings/booking-invoice?show=open")
	tb.sees("#targets", "All required fields are mapped")
	tb.open("/bench/mappings/booking-invoice?field=line")
	tb.fill("#as", "position")
	require.Eventually(t, func() bool { return strings.Contains(w.Text("mappings/booking-invoice.yaml"), "as: position") }, 10*time.Second, 20*time.Millisecond)
	tb.sees("#faults", "complete")
	tb.sees("#unused", "5 not used") // those of the lines are used, through their list
}

// drag drops a source field onto a target field.
func (tb *tab) drag(source, target string) {
	tb.T.Helper()
	tb.do(chromedp.Evaluate(fmt.Sprintf(`(() => {
		const from = document.querySelector("[data-source='%s']"), to = document.querySelector("[data-target='%s']"), data = new DataTransfer();
		from.dispatchEvent(new DragEvent("dragstart", { bubbles: true, dataTransfer: data }));
		const over = to.dispatchEvent(new DragEvent("dragover", { bubbles: true, cancelable: true, dataTransfer: data }));
		to.dispatchEvent(new DragEvent("drop", { bubbles: true, cancelable: true, dataTransfer: data }));
		return over })()`, source, target), nil))
}

// TestRulesAreDragged: a field onto a field, a list onto a list; and both ends light up under the mouse.
func TestRulesAreDragged(t *testing.T) {
	w := newWorld(t)
	w.Part("schemas/freight-bill.yaml", invoicePart)
	w.Part("mappings/bill.yaml", "mapping: Bill\nfrom:\n  - {name: booking, schema: booking}\nto: freight-bill\n")
	tb := w.tab()
	tb.open("/bench/mappings/bill")
	tb.drag("booking.number", "booking_no")
	tb.sees("[data-target='booking_no'].sel", "B-20417")
	tb.drag("booking.line", "line")
	tb.sees("[data-target='line'].sel", "2 items")
	tb.drag("booking.line.price", "line/amount")
	tb.sees("[data-target='line/amount'].sel", "412.00")
	require.Contains(t, w.Text("mappings/bill.yaml"), "each: line\n    as: line\n")
	tb.do(chromedp.Evaluate(`document.querySelector("[data-source='booking.number']").dispatchEvent(new MouseEvent("mouseover", {bubbles: true}))`, nil))
	tb.sees("[data-target='booking_no'].lit", "number")
}

// TestAFormulaIsCompleted: by keys and with the mouse, with help for the function around the caret.
func TestAFormulaIsCompleted(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/reading-to-tide-level?field=station_name")
	tb.fill("#formula", "upp")
	tb.sees("#help .option:first-child", "upper(text)")
	tb.do(typed(kb.Tab), typed("station.na"))
	tb.sees("#help", "The text in capital letters")
	tb.sees("#help .option:first-child", "name")
	tb.do(typed(kb.ArrowDown), typed(kb.Enter))
	tb.sees("#result", "LING")
	text := tb.value("#formula")
	require.Equal(t, "upper(station.name)", text)
	tb.fill("#formula", "round(level_cm, 1")
	tb.sees("#help u", "places")
	tb.do(typed(kb.Escape))
	tb.sees("#formula + .code .cm-content:focus", "")
	tb.fill("#formula", "trend +")
	defer func() {
		tb.open("/bench/formulas?find=week")
		tb.sees("#tally", " of 1")
		tb.sees("#startOfWeek", "The Monday of the week")
		tb.open("/bench/formulas?find=zzz")
		tb.sees(".empty", "No function")
	}()
	tb.sees("#verdict .fault", "")
	tb.sees("#formula + .code .cm-wrong", "+")
	tb.fill("#formula", `upper(station.nme) + "x"`)
	tb.sees("#formula + .code .cm-wrong", "nme")
	tb.on("#formula + .code .cm-wrong", `if (!e.title.includes("nme")) throw new Error(e.title)`, nil)
	tb.sees("#verdict .fault", "nme")
	tb.open("/bench/mappings/reading-to-tide-level?field=station_name")
	tb.sees("#formula + .code .cm-wrong", "nme") // it is said of what stands there, too
}

// TestCasesAreKeptAndAccepted: the present result is kept; a change shows what comes out otherwise; what
// comes out is accepted.
func TestCasesAreKeptAndAccepted(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	const path = "/bench/mappings/reading-to-tide-level"
	tb.open(path + "?record=2")
	tb.click("#keep-case")
	tb.sees("#outcome", "2 of 2 passed")
	tb.open(path + "?field=unit")
	tb.fill("#formula", "mm")
	tb.sees("#cases", "2 failed")
	tb.click("#cases")
	tb.sees("#outcome", "2 of 2 failed")
	tb.sees(".panel tbody", `"mm"`)
	tb.click("form[action$='accept'] button")
	tb.sees("#outcome", "1 of 2 failed")
	tb.click("form[action$='accept'] button")
	tb.sees("#outcome", "2 of 2 passed")
	require.Contains(t, w.Text("cases/surge-at-orma-slip.yaml"), `"unit": "mm"`)
}

// TestOddAddressesOfMappingsAreAnswered: what is not there is said, and nothing breaks.
func TestOddAddressesOfMappingsAreAnswered(t *testing.T) {
	w := newWorld(t)
	for path, want := range map[string]int{
		"/bench/mappings/reading-to-tide-level?field=none&record=99999&show=odd": http.StatusOK,
		"/bench/mappings/reading-to-tide-level?show=open":                        http.StatusOK,
		"/bench/mappings/reading-to-tide-level/match?branch=none":                http.StatusOK,
		"/bench/mappings/reading-to-tide-level/help?field=none&rule=abc.&at=-5":  http.StatusOK,
		"/bench/mappings/reading-to-tide-level/help?field=unit&rule=%22x&at=99":  http.StatusOK,
		"/bench/mappings/none":                                                    http.StatusNotFound,
		"/bench/mappings/none/cases":                                              http.StatusNotFound,
		"/bench/mappings/none/match":                                              http.StatusNotFound,
		"/bench/schemas/booking/source?as=none":                                   http.StatusOK,
		"/bench/schemas/none/source":                                              http.StatusNotFound,
		"/bench/schemas/booking/convert?to=none":                                  http.StatusOK,
		"/bench/schemas/booking/convert?to=xml&set+namespaces=a+b+c&set+root=1+2": http.StatusOK,
		"/bench/schemas/booking/compare?with=edit:999999999":                      http.StatusNotFound,
		"/bench/schemas/booking/compare?with=none":                                http.StatusNotFound,
	} {
		require.Equal(t, want, w.Get(path).StatusCode, path)
	}
}
