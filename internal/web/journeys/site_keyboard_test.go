package journeys

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// keys presses keys, one after another.
func (tb *tab) keys(keys string) {
	tb.T.Helper()
	tb.do(typed(keys))
}

// typed presses keys as a keyboard does: what a key writes comes with its going down, in one event, so that nothing falls
// between both.
func typed(keys string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for _, r := range keys {
			events := kb.Encode(r)
			if len(events) == 3 {
				down, char := events[0], events[1]
				down.Type, down.Text, down.UnmodifiedText = input.KeyDown, char.Text, char.UnmodifiedText
				events = []*input.DispatchKeyEventParams{down, events[2]}
			}
			for _, e := range events {
				if err := e.Do(ctx); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// soon says whether an element comes to hold a text within some seconds.
func (tb *tab) soon(selector, text string) bool {
	tb.T.Helper()
	js := fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))`, selector, text)
	return tb.within(4*time.Second, func() bool {
		var there bool
		return tb.asks(js, &there) && there
	})
}

// tabTo presses Tab until an element has the focus.
func (tb *tab) tabTo(selector string) {
	tb.T.Helper()
	for range 400 {
		var there bool
		tb.do(chromedp.Evaluate(fmt.Sprintf(`!!%s?.matches(%q)`, entered, selector), &there))
		if there {
			return
		}
		tb.keys(kb.Tab)
	}
	tb.T.Fatalf("Tab does not lead to %s", selector)
}

// TestAnInvoiceIsMappedByKeyboardAlone: from the bookings of the demo to its invoices, from nothing to no
// open field; a case is kept, a schema is broken and the mapping mended.
func TestAnInvoiceIsMappedByKeyboardAlone(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/new")
	tb.tabTo("input[name=from][value=booking]")
	tb.keys(" ")
	tb.tabTo("#to")
	tb.keys("Invoice")
	tb.tabTo("#title")
	tb.keys("Bill of a booking" + kb.Enter)
	tb.sees("h1", "Bill of a booking")
	for range 3 { // the browser may drop a key that comes right when a page has taken another one's place
		tb.keys("m")
		if tb.soon("#matches", "proposed") {
			break
		}
	}
	tb.sees("#matches", "proposed")
	tb.tabTo("#accept")
	tb.keys(kb.Enter)
	tb.sees("[data-target=line]", "2 items")

	rules := map[string][2]string{ // the formula of a field, and what it makes of the sample
		"booking": {"number", "B-20417"}, "issued": {"date(departs)", "2031-03-09"}, "due": {"addDays(date(departs), 14)", "2031-03-23"}, "currency": {`"NOK"`, "NOK"},
		"party[buyer]/name": {"customer.name", "Tove Lind"}, "party[buyer]/country": {"customer.country", "NO"},
		"party[seller]/name": {`"Skerry Line"`, "Skerry Line"}, "party[seller]/country": {`"NO"`, "NO"},
		"line/no": {"n", "1"}, "line/article": {`table("cargo-articles", class).article`, "7010"}, "line/text": {`table("cargo-articles", class).title`, "Car up to 5 m"},
		"line/quantity": {"1", "1"}, "line/amount": {"price", "412.00"}, "line/vat": {"round(price / 4, 2)", "103"},
		"totals/net": {"sum(line, .price)", "508.50"}, "totals/vat": {"round(sum(line, .price) / 4, 2)", "127.12"}, "totals/gross": {"round(sum(line, .price) * 1.25, 2)", "635.62"},
	}
	parties := false
	for range 40 {
		var name, open string
		tb.do(chromedp.Evaluate(`document.querySelector("#next-open")?.href ?? ""`, &open))
		tb.do(chromedp.Evaluate(`document.querySelector("[data-target].sel .tag.bad, [data-target].sel b.text-clay") ? document.querySelector("#row-name").value : ""`, &name))
		if name == "" && open == "" {
			break
		}
		switch {
		case name == "party" && !parties:
			parties = true
			tb.tabTo("#options summary")
			tb.keys(kb.Enter)
			tb.tabTo("#apart-target")
			tb.keys(kb.Enter)
			tb.sees("#matches", `party [role = "SE"]`)
			for _, role := range []string{"BY", "SE"} {
				tb.tabTo(fmt.Sprintf(`#matches input[value='role = "%s"']`, role))
				tb.keys(" ")
			}
			tb.tabTo("#tell-apart")
			tb.keys(kb.Enter)
			tb.sees("[data-target='party[seller]']", "one entry")
		case name == "line/no":
			tb.do(chromedp.Evaluate(`document.activeElement.blur()`, nil))
			tb.open("/bench/mappings/bill-of-a-booking?field=line")
			tb.tabTo("#options summary")
			tb.keys(kb.Enter)
			tb.tabTo("[name=index]")
			tb.keys("n")
			w.Keeps("mappings/bill-of-a-booking.yaml", "index: n")
			tb.open("/bench/mappings/bill-of-a-booking?field=line/no")
			fallthrough
		case name != "":
			rule, known := rules[name]
			require.True(t, known, "nothing is known of %s", name)
			tb.keys(kb.Enter)
			tb.sees("#formula + .code .cm-content:focus", "")
			tb.keys(rule[0])
			tb.sees("#result", rule[1])
			tb.keys(kb.Escape + kb.Escape)
		}
		tb.do(chromedp.Evaluate(`document.activeElement?.blur()`, nil))
		tb.do(chromedp.Evaluate(`document.querySelector("#next-open")?.href ?? ""`, &open))
		if open == "" {
			break
		}
		tb.keys("o")
		require.Eventually(t, func() bool {
			var now string
			tb.do(chromedp.Evaluate(`document.querySelector("#row-name").value`, &now))
			return now != name
		}, 20*time.Second, 20*time.Millisecond)
	}
	tb.sees("#faults", "3 of 3 map")
	tb.sees("#show", "open 0")
	tb.tabTo("#keep-case")
	tb.keys(kb.Enter)
	tb.sees("#outcome", "1 of 1 passed")

	w.Change("schemas/booking.yaml", "name: departs", "name: departs_at")
	tb.open("/bench/mappings/bill-of-a-booking")
	tb.sees("#mends", "departs_at")
	tb.tabTo("#mend")
	tb.keys(kb.Enter)
	tb.sees("#faults", "0 of 3 map") // the sample still has the old name
}
