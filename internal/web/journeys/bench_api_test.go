package journeys

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestAnAPIIsPublished: of its contract alone it answers by examples; an operation is passed through, guards are set, a caller gets a
// key, and it is called on its page.
func TestAnAPIIsPublished(t *testing.T) {
	w := newWorld(t)
	w.everything()
	tb := w.tab()
	tb.open("/bench/apis/bookings?operation=sailing")
	tb.sees("#operations", "/sailings/{sailing}")
	tb.open("/estate/callers")
	tb.fill("#name", "Kiosk on the pier")
	tb.click("#add-caller")
	tb.sees("#new-key", "shown this once")
	var key string
	tb.on("#key", "return e.textContent", &key)
	tb.open("/bench/apis/bookings?operation=booking")
	tb.click("#send")
	tb.sees("#call", "401")
	tb.fill("#call-key", key)
	tb.click("#send")
	tb.sees("#fits", "fits the contract")
	tb.sees("#answer", "B-20417")
	tb.click("#compare")
	tb.click("#send")
	tb.sees("#call", "it is the same")
	tb.sees("#compared", "the same")
	tb.fill("#case-title", "A booking by its number")
	tb.click("#keep-case")
	tb.sees("#cases", "A booking by its number")
	tb.fill("#call-key", key)
	tb.click("#call-cases")
	tb.sees("#cases", "as expected")
	tb.fill("[name='p path number']", "B-1")
	tb.click("#send")
	tb.sees("#sent-calls", "/B-1")
	tb.click("#cases a")
	tb.sees("#curl", "B-20417")

	tb.open("/bench/apis/bookings?operation=sailing")
	tb.click("#change-guards summary")
	tb.fill("#set-rate-limit", "5")
	tb.sees("#guard-rows", "5 a minute")
	tb.pick("#answered-by", "pass-through")
	tb.sees("#operations", "passed through, to no connection")
	tb.sees("#setting-connection", "Connection")
	tb.do(chromedp.Navigate(w.Calls.URL + "/p/skerry/docs/bookings"))
	tb.sees("h1", "Bookings")
	tb.open("/bench/apis/berths")
	tb.sees("#port", "ListBerths")
	tb.open("/bench/apis/bookings/changes")
	tb.sees("h1", "Contract")
	tb.open("/bench/parts")
	tb.click("#new-api")
}

// TestAnOperationIsDraftedFromContracts: a chain is proposed with its reasons, accepted, released, and answers.
func TestAnOperationIsDraftedFromContracts(t *testing.T) {
	w := newWorld(t)
	w.everything()
	tb := w.tab()
	tb.open("/bench/parts/delete?path=flows/fare-quote.yaml")
	tb.click("#delete")
	tb.sees("#said", "Deleted")
	tb.open("/bench/apis/fares")
	tb.sees("#unanswered", "1 operation")
	tb.click("#draft")
	tb.sees("#proposal-1", "Registry → Tariff")
	tb.sees("#proposal-1", "mm made m")
	tb.click("#accept-1")
	tb.sees("h1", "Fare quote")
	tb.open("/bench/apis/fares")
	tb.click("#send")
	tb.sees("#fits", "fits the contract")
	tb.sees("#answer", "361.36")
	tb.fill("[name='p path plate']", "SK 99999")
	tb.click("#send")
	tb.sees("#call", "404")
}
