package journeys

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// desks starts Quayside and lets the world's connection reach it at its address.
func (w *world) desks() (address string) {
	w.T.Helper()
	running, err := quayside.Standin.Start(w.T.Context(), w.T.TempDir())
	require.NoError(w.T, err)
	for id, r := range running.Reach {
		w.Reach(id, r.Kind, r.Values)
		address = r.Values["address"]
	}
	return address
}

// step puts a step behind the chosen one by keys alone: I, what is looked for, Enter.
func (tb *tab) step(words, title string) {
	tb.T.Helper()
	tb.quiet()
	tb.keys("i" + words + kb.Enter) // what is typed before the list is there is not lost
	if !tb.soon("#panel .ph", title) && tb.stillChoosing(words) {
		tb.tabTo("#pick")
		tb.do(chromedp.Evaluate(entered+".select()", nil))
		tb.keys(words + kb.Enter)
	}
	tb.sees("#panel .ph", title)
}

// stillChoosing says whether the list of steps is open and nothing is on its way, and logs what it holds: on a machine with
// too much to do a key behind the opening of the list was lost now and then, beside many other tabs.
func (tb *tab) stillChoosing(words string) bool {
	tb.T.Helper()
	var left string
	tb.do(chromedp.Evaluate(`document.querySelector("#pick") && !document.querySelector("form[data-sending]") ? JSON.stringify({pick: document.querySelector("#pick").value, problem: document.querySelector("#problem")?.textContent, refused: document.querySelector(".refusal")?.textContent, focus: document.activeElement?.outerHTML.slice(0, 200)}) : ""`, &left))
	if left != "" {
		tb.T.Logf("%q is typed again: %s", words, left)
	}
	return left != ""
}

// setting writes a setting of the chosen step by keys alone and leaves it.
func (tb *tab) setting(selector, text string) {
	tb.T.Helper()
	tb.tabTo(selector)
	tb.do(chromedp.Evaluate(entered+".select()", nil))
	tb.keys(text)
	for range 2 { // the first closes what is suggested
		var typing bool
		tb.do(chromedp.Evaluate(entered+`.matches("input, textarea")`, &typing))
		if typing {
			tb.keys(kb.Escape)
		}
	}
}

// chosen waits until a setting of a list is what was chosen by typing.
func (tb *tab) chosen(selector, typed string) {
	tb.T.Helper()
	tb.tabTo(selector)
	tb.keys(typed + kb.Tab)
}

// TestBookingsBecomeInvoicesByKeyboardAlone: a flow is built from nothing, each step offered with what it needs
// filled in; it has no faults, is released, and its first run posts the invoices.
func TestBookingsBecomeInvoicesByKeyboardAlone(t *testing.T) {
	w := newWorld(t)
	w.desks()
	tb := w.tab()
	tb.open("/bench/flows/new")
	tb.keys("Bills of bookings")
	tb.tabTo("input[name=kind]")
	tb.keys(kb.ArrowDown)
	tb.tabTo("#make-flow")
	tb.keys(kb.Enter)
	tb.sees("h1", "Bills of bookings")
	tb.sees("#faults", "still needed")
	tb.chosen("#set-connection", "Quay")
	tb.sees("#set-operation", "List bookings")
	tb.chosen("#set-operation", "List")
	tb.setting("#set-watermark", "changed")
	tb.sees("#setting-with", "since")
	tb.setting("#with-since", "rising")

	tb.step("its notation", "Read")
	tb.setting("#set-as", "booking")
	tb.step("for each", "For each")
	tb.step("filter", "Filter")
	tb.setting("#set-where", "isAbsent(booking.invoice)")
	tb.sees("#out-where", "true")
	tb.step("map to invoice", "Map to Invoice")
	tb.sees("#goes-out", "508.50")
	tb.step("map to posting", "Map to")
	tb.step("post an invoice", "Post an invoice")
	tb.step("note invoice", "Note")
	tb.setting("#with-invoice", "text(posted.number)")
	tb.sees("#faults", "✓ No faults")
	require.Equal(t, []string{"read", "each", "filter", "booking-to-invoice", "invoice-to-posting", "post-invoice", "note-invoice"}, w.steps("bills-of-bookings"))

	tb.tabTo("#release")
	tb.keys(kb.Enter)
	tb.sees("h1", "Release")
	tb.tabTo("#do-release")
	tb.keys(kb.Enter)
	require.Eventually(t, func() bool {
		runs, err := store.Runs(t.Context(), w.DB, store.RunFilter{Scope: testkit.Skerry, Flow: "bills-of-bookings", State: store.Done, Most: 1})
		return err == nil && len(runs) == 1 && runs[0].Counts["post-invoice"] != nil && runs[0].Counts["post-invoice"].Called > 0
	}, 15*time.Second, 20*time.Millisecond)
}

// steps are the ids of a flow's steps.
func (w *world) steps(id string) (ids []string) {
	w.T.Helper()
	p := w.project()
	for _, ps := range p.Flow(id).Steps {
		ids = append(ids, ps.Step.ID)
	}
	return ids
}

func (w *world) project() *project.Project {
	w.T.Helper()
	texts, _, err := store.Texts(w.T.Context(), w.DB, "skerry")
	require.NoError(w.T, err)
	return project.Load("skerry", texts)
}

// outline is the tree of a flow as it is written in its part.
func (w *world) outline(id string) string {
	var ids []string
	for line := range strings.Lines(w.Text("flows/" + id + ".yaml")) {
		if name, ok := strings.CutPrefix(strings.TrimLeft(line, " -"), "id: "); ok {
			ids = append(ids, strings.TrimSpace(name))
		}
	}
	return strings.Join(ids, " ")
}

// TestStepsAreMovedWithTheMouse: a gap is clicked, a step dragged to another gap, copied, wrapped, switched off and
// taken away; every change is undone again.
func TestStepsAreMovedWithTheMouse(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	const page = "/bench/flows/booking-to-invoice?step=keep"
	was := w.Text("flows/booking-to-invoice.yaml")
	tb.open(page)
	tb.sees("#panel .ph", "Without an invoice")
	tb.do(chromedp.Evaluate(`document.querySelector('.gap[data-gap="steps/1/steps:2"]').dispatchEvent(new MouseEvent("click", {bubbles: true, cancelable: true}))`, nil))
	tb.sees("#panel .ph", "Add step")
	tb.fill("#pick", "log")
	tb.sees("#offers", "Log")
	tb.click(`#offers button[value="kind/log"]`)
	tb.sees("#panel .ph", "Log")
	require.Equal(t, "read each keep map log posting post note", w.outline("booking-to-invoice"))
	tb.carry("#node-log", `.gap[data-gap="steps/1/steps:0"]`)
	tb.sees("#lanes", "Log")
	w.eventually("booking-to-invoice", "read each log keep map posting post note")
	tb.sees("#panel .ph", "Log")
	tb.ctrl("c")
	tb.ctrl("v")
	w.eventually("booking-to-invoice", "read each log log2 keep map posting post note")
	tb.sees("#node-log2.sel", "Log")
	tb.keys(kb.Delete)
	w.eventually("booking-to-invoice", "read each log keep map posting post note")
	tb.sees("#node-log.sel", "Log")
	tb.keys("o")
	tb.sees("#node-log.off", "disabled")
	tb.do(chromedp.Evaluate(`document.querySelector("#doing details").open = true`, nil))
	tb.click(`#doing button[value="wrap try"]`)
	tb.sees("#panel .ph", "Try")
	require.Equal(t, "read each try log keep map posting post note", w.outline("booking-to-invoice"))
	for range 6 {
		revision := tb.value("#rev-doing")
		tb.ctrl("z")
		require.Eventually(t, func() bool {
			var now bool
			err := chromedp.Run(tb.ctx, chromedp.Evaluate(fmt.Sprintf(`document.readyState === "complete" && document.querySelector("#rev-doing")?.value !== %q`, revision), &now))
			return err == nil && now
		}, 15*time.Second, 20*time.Millisecond)
	}
	require.Eventually(t, func() bool { return w.Text("flows/booking-to-invoice.yaml") == was }, 15*time.Second, 20*time.Millisecond)
}

// ctrl presses a key with Ctrl held down.
func (tb *tab) ctrl(key string) {
	tb.T.Helper()
	tb.do(chromedp.KeyEvent(key, chromedp.KeyModifiers(input.ModifierCtrl)))
}

// eventually waits until the draft's steps are as they should be.
func (w *world) eventually(flow, outline string) {
	w.T.Helper()
	require.Eventually(w.T, func() bool { return w.outline(flow) == outline }, 15*time.Second, 20*time.Millisecond, "the steps are %s", w.outline(flow))
}

// carry drags one element of a drawing onto another with the mouse.
func (tb *tab) carry(from, to string) {
	tb.T.Helper()
	var a, b struct{ X, Y float64 }
	at := func(selector string) string {
		return fmt.Sprintf(`(() => { const r = document.querySelector(%q).getBoundingClientRect(); return {X: r.left + r.width / 2, Y: r.top + r.height / 2} })()`, selector)
	}
	tb.do(chromedp.Evaluate(at(from), &a), chromedp.Evaluate(at(to), &b))
	tb.do(
		chromedp.MouseEvent(input.MousePressed, a.X, a.Y, chromedp.ButtonLeft, chromedp.ClickCount(1)),
		chromedp.MouseEvent(input.MouseMoved, (a.X+b.X)/2, (a.Y+b.Y)/2, chromedp.ButtonLeft),
		chromedp.MouseEvent(input.MouseMoved, b.X, b.Y, chromedp.ButtonLeft),
		chromedp.MouseEvent(input.MouseReleased, b.X, b.Y, chromedp.ButtonLeft, chromedp.ClickCount(1)),
	)
}

// TestStepsArePutUnderCompensateAndFinally: tracks that have no steps yet are not drawn, and are filled from the step.
func TestStepsArePutUnderCompensateAndFinally(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	for step, track := range map[string]string{"warn": "Finally", "post": "Compensate"} {
		tb.open("/bench/flows/vehicle?step=" + step)
		tb.sees("#node-"+step+".sel", "")
		tb.do(chromedp.Evaluate(`document.querySelector("#doing details").open = true`, nil))
		tb.click("#under-" + track)
		tb.sees("#panel .ph", "Add step")
		tb.keys("logs a text" + kb.Enter)
		tb.sees("#panel .ph", "Log")
		tb.sees("#lanes", track)
	}
	require.Contains(t, w.Text("flows/vehicle.yaml"), "compensate:\n")
	require.Contains(t, w.Text("flows/vehicle.yaml"), "finally:\n")
}

// TestSomebodyElseChangedTheFlow: a change from an old page is refused and says so; nothing is overwritten.
func TestSomebodyElseChangedTheFlow(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/booking-to-invoice?step=keep")
	tb.sees("#panel .ph", "Without an invoice")
	w.Change("flows/booking-to-invoice.yaml", "name: Without an invoice", "name: Not billed yet")
	tb.keys("d")
	tb.sees("#problem", "Someone else saved this")
	require.Len(t, tb.errors, 1)
	require.Contains(t, tb.errors[0], "409")
	tb.errors = nil // the refused request is logged by the browser
	require.Contains(t, w.Text("flows/booking-to-invoice.yaml"), "Not billed yet")
	require.Equal(t, "read each keep map posting post note", w.outline("booking-to-invoice"))
}

// TestFaultsLeadToTheirSteps: the list of faults jumps to the step and shows the fault at its setting.
func TestFaultsLeadToTheirSteps(t *testing.T) {
	w := newWorld(t)
	w.Change("flows/booking-to-invoice.yaml", "where: isAbsent(booking.invoice)", "where: isAbsent(booking.bill)")
	tb := w.tab()
	tb.open("/bench/flows/booking-to-invoice?step=post")
	tb.sees("#faults", "1 fault")
	tb.do(chromedp.Evaluate(`document.querySelector("#faults").click()`, nil))
	tb.sees(".faultlist", "bill")
	tb.click(".faultlist a")
	tb.sees("#panel .ph", "Without an invoice")
	tb.sees("#panel", "bill")
	tb.fill("#set-where", "isAbsent(booking.invoice)")
	tb.sees("#faults", "✓ No faults")
}
