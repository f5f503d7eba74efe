package journeys

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// until waits for a condition of the page or the database.
func (tb *tab) until(what string, is func() bool) {
	tb.T.Helper()
	require.Eventually(tb.T, is, 20*time.Second, 20*time.Millisecond, what)
}

// press presses the mouse where an element is seen: one that another covers, or that cannot be scrolled to, is a fault.
func (tb *tab) press(selector string) {
	tb.T.Helper()
	js := fmt.Sprintf(`(() => { const f = document.querySelector(%q), e = f?.matches("[data-shown]") ? f.nextElementSibling : f; if (!e) return null; e.scrollIntoView({block: "center", inline: "center"});
		const r = e.getBoundingClientRect(), x = r.left + r.width / 2, y = r.top + r.height / 2, top = document.elementFromPoint(x, y);
		return {X: x, Y: y, Free: !!top && (e === top || e.contains(top) || top.contains(e) || top.closest("label")?.control === e)} })()`, selector)
	var at *struct {
		X, Y float64
		Free bool
	}
	tb.until("the mouse to reach "+selector, func() bool {
		at = nil
		return chromedp.Run(tb.ctx, chromedp.Evaluate(js, &at)) == nil && at != nil && at.Free
	})
	tb.do(chromedp.MouseClickXY(at.X, at.Y))
}

// write puts a text in place of what stands in a field: a triple click takes hold of it.
func (tb *tab) write(selector, text string) {
	tb.T.Helper()
	tb.press(selector)
	tb.do(chromedp.Evaluate(entered+".select?.()", nil), typed(keysFor(text)))
}

// leave presses the mouse beside a field, so that what was written is taken.
func (tb *tab) leave() {
	tb.T.Helper()
	tb.press("h1")
	tb.quiet()
}

// quiet waits until nothing is under way on the page.
func (tb *tab) quiet() {
	tb.T.Helper()
	tb.sees("h1", "")
}

// put puts a step into a gap of the drawing: the gap, what is looked for, the offer.
func (tb *tab) put(gap, words, offer, title string) {
	tb.T.Helper()
	tb.quiet()
	tb.until("the offers for "+gap, func() bool { // a drawing that is replaced under the mouse is pressed again
		tb.press(`.gap[data-gap="` + gap + `"]`)
		ctx, cancel := context.WithTimeout(tb.ctx, time.Second)
		defer cancel()
		return chromedp.Run(ctx, chromedp.WaitReady("#pick", chromedp.ByQuery)) == nil
	})
	tb.sees("#panel .ph", "Add step")
	tb.write("#pick", words)
	tb.press(`#offers button[value="` + offer + `"]:not([hidden])`)
	tb.sees("#panel .ph", title)
}

// TestBookingsBecomeInvoicesByMouse: the flow is built from nothing, released and breaks; what it set aside is found by the
// booking's number, mended, and invoiced once. Keys are pressed only to write into fields.
func TestBookingsBecomeInvoicesByMouse(t *testing.T) {
	w := newWorld(t)
	address := w.desks()
	tb := w.tab()
	tb.open("/bench")
	tb.press(`a[href="/p/skerry/bench/flows/new"]`)
	tb.sees("h1", "New flow")
	tb.write("input[name=title]", "Bills of bookings")
	tb.press(`input[name=kind][value='new records']`)
	tb.press("#make-flow")
	tb.sees("h1", "Bills of bookings")
	tb.pick("#set-connection", "quayside")
	tb.sees("#set-operation", "List bookings")
	tb.pick("#set-operation", "list-bookings")
	tb.sees("#lanes", "list-bookings")
	tb.write("#set-watermark", "changed")
	tb.leave()
	tb.sees("#setting-with", "since")
	tb.write("#with-since", "rising")
	tb.write("#set-interval", "1")
	tb.leave()

	tb.put("steps:0", "its notation", "kind/read", "Read")
	tb.write("#set-as", "booking")
	tb.leave()
	tb.put("steps:1", "for each", "kind/each", "For each")
	tb.put("steps/1/steps:0", "reference", "kind/reference", "Set the reference")
	tb.write("#set-is", "booking.number")
	tb.leave()
	tb.put("steps/1/steps:1", "filter", "kind/filter", "Filter")
	tb.write("#set-where", "isAbsent(booking.invoice)")
	tb.sees("#out-where", "true")
	tb.leave()
	tb.put("steps/1/steps:2", "invoice", "mapping/booking-to-invoice", "Map to Invoice")
	tb.sees("#goes-out", "508.50")
	tb.put("steps/1/steps:3", "posting", "mapping/invoice-to-posting", "Map to")
	tb.put("steps/1/steps:4", "post", "operation/harbour-ledger/post-invoice", "Post an invoice")
	tb.put("steps/1/steps:5", "note", "operation/quayside/note-invoice", "Note")
	tb.write("#with-invoice", "text(posted.number)")
	tb.leave()
	tb.sees("#faults", "✓ No faults")
	require.Equal(t, "read each reference filter booking-to-invoice invoice-to-posting post-invoice note-invoice", w.outline("bills-of-bookings"))
	tb.press("#release")
	tb.sees("h1", "Release")
	tb.press("#do-release")
	tb.sees("h1", "Bills of bookings")
	w.newestOf("bills-of-bookings", store.Done)
	require.Equal(t, 1, w.invoices("B-20417"))

	closed := w.book(address, "Norholm Salt", "CAR")
	w.newestOf("bills-of-bookings", store.SetAside)
	tb.find("reference", closed, "the account of Norholm Salt is closed")
	_, err := w.Ledger.Exec(t.Context(), "update account set closed = false where customer = 'Norholm Salt'")
	require.NoError(t, err)
	tb.press("#asides button.go")
	tb.sees("#outcome", "done")
	require.Equal(t, 1, w.invoices(closed))

	bad := w.book(address, "Tove Lind", "SHIP")
	w.newestOf("bills-of-bookings", store.SetAside)
	tb.find("text", bad, "SHIP") // it failed before it was known by its number
	record := tb.value("#asides input[name=text]")
	tb.write("#asides input[name=text]", strings.Replace(record, "SHIP", "CAR", 1))
	tb.press("#asides button.go")
	tb.sees("#outcome", "done")
	require.Equal(t, 1, w.invoices(bad))

	// The ledger is down: the run waits and says for what; when it is there again it goes on by itself.
	values := map[string]string{"by": "address", "address": w.Ledger.Config().ConnString()}
	w.Reach("harbour-ledger", "sql", map[string]string{"by": "address", "address": "postgres://nobody@127.0.0.1:1/none?sslmode=disable"})
	late := w.book(address, "Tove Lind", "CAR")
	w.newestOf("bills-of-bookings", store.Retrying)
	tb.press(`nav a[href="/p/skerry/traffic"]`)
	tb.sees("h1", "Traffic")
	tb.pick("select[name=state]", string(store.Retrying))
	tb.press(`form[role=search] button`)
	tb.sees("#list [aria-label=Runs]", "cannot be reached")
	w.Reach("harbour-ledger", "sql", values)
	tb.until("the late one to be invoiced", func() bool { return w.invoices(late) == 1 })
}

// find opens the run that is found by a text in a field of the search.
func (tb *tab) find(field, text, why string) {
	tb.T.Helper()
	tb.press(`nav a[href="/p/skerry/traffic"]`)
	tb.sees("h1", "Traffic")
	tb.write("input[name="+field+"]", text)
	tb.press(`form[role=search] button`)
	tb.do(chromedp.WaitReady("input[name=" + field + "][value=" + text + "]"))
	tb.press("#list [aria-label=Runs] tbody a")
	tb.sees("#asides", why)
}

// TestMailStartsAFlow: the kind is chosen, a mailbox and what the mails are about; the mail of a try is seen, and each new one
// is a run.
func TestMailStartsAFlow(t *testing.T) {
	w := newWorld(t)
	w.everything()
	w.newestOf("letters-to-the-desk", store.Done)
	tb := w.tab()
	tb.open("/bench/flows/new")
	tb.write("input[name=title]", "Thanks")
	tb.press("input[name=kind][value=mail]")
	tb.press("#make-flow")
	tb.sees("h1", "Thanks")
	tb.pick("#set-connection", "quayside")
	tb.sees("#step-notes", "expected a connection to a mailbox")
	tb.pick("#set-connection", "desk-mailbox")
	tb.write("#set-subject", "invoice")
	tb.leave()
	tb.sees("#lanes", "about invoice")
	tb.sees("#goes-out", "attachments")
	tb.pick(`#set-sample`, "letter.json")
	tb.sees("#goes-out", "About booking B-20417")
	tb.put("steps:0", "log", "kind/log", "Log")
	tb.write("#set-text", "letter.subject")
	tb.sees("#out-text", "About booking")
	tb.leave()
	tb.sees("#faults", "✓ No faults")
	tb.open("/bench/flows/letters-to-the-desk?step=trigger")
	tb.sees("#goes-out", "Last looked at")
}

// TestWhatIsToThinkAboutLeadsToItsStep: an outcome that nothing is done about is no fault; it is listed, jumped to, and gone
// once something is said about it.
func TestWhatIsToThinkAboutLeadsToItsStep(t *testing.T) {
	w := newWorld(t)
	w.Release("quote", "flow: Quote\ntrigger: {kind: called, input: booking, output: invoice-note, as: b}\nsteps:\n  - {step: note, id: n, text: b.number}\n  - step: choose\n    id: c\n    name: From where\n    when:\n"+
		"      - {if: 'b.customer.country == \"NO\"', steps: [{step: answer, id: a, with: {number: b.number, invoice: b.number}}]}\n")
	tb := w.tab()
	tb.open("/bench/flows/quote?step=n")
	tb.sees("#faults", "✓ No faults · 2 warnings")
	tb.press("#faults")
	tb.sees(".faultlist", "no branch is for IS, FO of b.customer.country")
	tb.press(".faultlist a + a")
	tb.sees("#panel .ph", "From where")
	tb.sees("#step-notes", "no answer is given under Otherwise")
	tb.pick("#set-no-match", "set aside")
	tb.sees("#faults", "✓ No faults")
	tb.until("nothing to think about", func() bool { return !tb.visible("#step-notes .note") && !tb.visible("summary#faults") })
}

// TestANightlyScheduleIsBuiltByMouse: it calls a child flow each night; run now, its child's run is opened from it.
func TestANightlyScheduleIsBuiltByMouse(t *testing.T) {
	w := newWorld(t)
	w.Release("permit", "flow: Berth permit\ntrigger: {kind: called, input: invoice-note, as: asked}\nreference: asked.number\nsteps:\n  - {step: note, id: n, text: '\"permit \" + asked.number'}\n")
	tb := w.tab()
	tb.open("/bench")
	tb.press(`a[href="/p/skerry/bench/flows/new"]`)
	tb.sees("h1", "New flow")
	tb.write("input[name=title]", "Nightly permits")
	tb.press("input[name=kind][value=schedule]")
	tb.press("#make-flow")
	tb.sees("h1", "Nightly permits")
	tb.write("#set-cron", "30 2 * * *")
	tb.leave()
	tb.sees("#starts", "02:30:00")
	tb.pick("#set-missed", "none")
	tb.put("steps:0", "berth permit", "flow/permit", "Berth permit")
	tb.write("#with-number", `"B-20417"`)
	tb.write("#with-invoice", `"7"`)
	tb.leave()
	tb.sees("#faults", "✓ No faults")
	tb.press("#release")
	tb.sees("h1", "Release")
	tb.press("#do-release")
	tb.sees("h1", "Nightly permits")
	tb.press("#run-now")
	tb.sees("#outcome", "done")
	tb.sees("#children", "B-20417")
	tb.press("#children a")
	tb.sees("#started-by", "Nightly permits")
}

// TestAMessageIsSteppedThroughByMouse: halted before a step, a value is changed, a formula worked out, and the message goes on
// with the change; back again it is as it was.
func TestAMessageIsSteppedThroughByMouse(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/gauge-readings?step=keep&record=1")
	tb.sees("#panel .ph", "Keep rising")
	tb.press("#step-through")
	tb.sees("#halted", "before Read readings")
	tb.press("button[name=move][value=over]")
	tb.sees("#halted", "before Keep rising")
	tb.write("#evaluate", "reading.level_cm * 2")
	tb.press("form:has(#evaluate) button")
	tb.sees("#result", "600")
	tb.press(`a[data-path="reading.gauge"]`)
	tb.sees("#changing", "reading.gauge becomes")
	tb.write("#new-value", `"HV07"`)
	tb.press("#do-change")
	tb.sees("#trace", `reading.gauge = "HV07"`)
	tb.press("button[name=move][value=over]")
	tb.sees("#halted", "before Find station")
	tb.sees("#values", `"HV07"`)
	tb.press("button[name=move][value=back]")
	tb.sees("#halted", "before Keep rising")
	tb.press("button[name=move][value=on]")
	tb.sees("#told", "The message has come to its end: done")
	require.Zero(t, w.Count("select count(*) from tide_level"))
}
