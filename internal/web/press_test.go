package web

import (
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestAPressIsNotLostByARedraw: a button that is drawn anew while it is pressed is pressed all the same, and an answer for a
// part of the page that was drawn anew meanwhile is shown in what stands there now.
func TestAPressIsNotLostByARedraw(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/gauge-readings?step=keep")
	tb.sees("#panel .ph", "")
	const redraw = `htmx.ajax("GET", location.pathname + location.search, { target: "#work", swap: "outerHTML", select: "#work" })`
	for _, button := range []string{"#put", "button[value=switch]"} {
		tb.click("[data-step=keep]")
		tb.sees("#panel .ph", "Keep rising")
		tb.sees(button, "")
		var at struct{ X, Y float64 }
		tb.on(button, `const r = e.getBoundingClientRect(); return { X: r.left + r.width / 2, Y: r.top + r.height / 2 }`, &at)
		mouse := func(kind input.MouseType) chromedp.Action {
			return chromedp.MouseEvent(kind, at.X, at.Y, chromedp.ButtonLeft, chromedp.ClickCount(1))
		}
		tb.do(mouse(input.MousePressed), chromedp.Evaluate(redraw, nil, awaitPromise), mouse(input.MouseReleased))
		if button == "#put" {
			tb.sees("#pick:focus", "")
			tb.keys(kb.Escape)
		} else {
			tb.sees("#panel .ph", "off")
		}
	}
	tb.click("[data-step=keep]")
	tb.sees("#panel .ph", "Keep rising")
	tb.do(chromedp.Evaluate(`document.addEventListener("htmx:before:response", () => { const panel = document.querySelector("#panel"); panel.replaceWith(panel.cloneNode(true)); }, { once: true })`, nil))
	tb.click("#put")
	tb.sees("#pick:focus", "")
}
