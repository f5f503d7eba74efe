package journeys

import (
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
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

// TestAPressIsNotLostWhenThePageMoves: a button that moves away from under the pointer while it is pressed is pressed all the
// same, whether it is drawn anew or not. Who moves the pointer away meant no press.
func TestAPressIsNotLostWhenThePageMoves(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/gauge-readings?step=keep")
	const redraw = `{ const panel = document.querySelector("#panel"), next = panel.cloneNode(true); panel.replaceWith(next); htmx.process(next) } `
	const shift = `{ const pad = document.createElement("div"); pad.style.height = "90px"; document.querySelector("#panel").prepend(pad) }`
	for _, c := range []struct {
		change string
		moved  float64
	}{{shift, 0}, {redraw + shift, 0}, {shift, 9}, {redraw + shift, 9}} {
		tb.click("[data-step=keep]")
		tb.sees("#panel .ph", "Keep rising")
		tb.quiet() // what Escape asked for may come last, and would draw the button anew where it was
		var at struct{ X, Y float64 }
		tb.on("#put", `const r = e.getBoundingClientRect(); return { X: r.left + r.width / 2, Y: r.top + r.height / 2 }`, &at)
		mouse := func(kind input.MouseType, moved float64) chromedp.Action {
			return chromedp.MouseEvent(kind, at.X, at.Y-moved, chromedp.ButtonLeft, chromedp.ClickCount(1))
		}
		tb.do(mouse(input.MousePressed, 0), chromedp.Evaluate(c.change, nil), mouse(input.MouseReleased, c.moved))
		if c.moved > 0 {
			tb.quiet()
			var there bool
			tb.do(chromedp.Evaluate(`!!document.querySelector("#pick")`, &there))
			require.False(t, there)
			continue
		}
		tb.sees("#pick:focus", "")
		tb.keys(kb.Escape)
	}
}

// TestASecondPressIsDoneAfterTheFirst: a button that is pressed while what it did before is on its way is pressed again on the
// page that this brings; a double click is one press. Neither is refused as somebody else's change.
func TestASecondPressIsDoneAfterTheFirst(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/gauge-readings?step=keep")
	tb.sees("#panel .ph", "Keep rising")
	const slow = `document.addEventListener("htmx:before:request", ({ detail: { ctx } }) => { const real = ctx.fetch; ctx.fetch = (...a) => new Promise((go) => setTimeout(go, 300)).then(() => real(...a)); }, { once: true })`
	twice := func(second int64) {
		tb.do(chromedp.Evaluate(`document.querySelector("details.menu:has([value=duplicate])").open = true; `+slow, nil))
		var at struct{ X, Y float64 }
		tb.on("button[value=duplicate]", `const r = e.getBoundingClientRect(); return { X: r.left + r.width / 2, Y: r.top + r.height / 2 }`, &at)
		for _, n := range []int64{1, second} {
			tb.do(chromedp.MouseEvent(input.MousePressed, at.X, at.Y, chromedp.ButtonLeft, chromedp.ClickCount(int(n))), chromedp.MouseEvent(input.MouseReleased, at.X, at.Y, chromedp.ButtonLeft, chromedp.ClickCount(int(n))))
		}
	}
	steps := func() int { return strings.Count(w.Text("flows/gauge-readings.yaml"), "step: filter") }
	twice(1)
	tb.until("two more steps", func() bool { return steps() == 3 })
	tb.quiet()
	twice(2)
	tb.until("one more step", func() bool { return steps() == 4 })
	tb.quiet()
	require.Equal(t, 4, steps())
	tb.sees("#panel .ph", "Keep rising")
	var problem string
	tb.do(chromedp.Evaluate(`document.querySelector("#problem").textContent`, &problem))
	require.Empty(t, problem)
}

// TestAChoiceByLettersOutlivesARedraw: the letters that choose from a select mean one choice, though the form around it is
// drawn anew between them.
func TestAChoiceByLettersOutlivesARedraw(t *testing.T) {
	w := newWorld(t)
	w.Part("flows/nightly.yaml", "flow: Nightly\ntrigger: {kind: schedule, cron: 30 2 * * *}\nsteps:\n  - {step: note, id: n, text: '\"x\"'}\n")
	tb := w.tab()
	tb.open("/bench/flows/nightly?step=trigger")
	tb.sees("#starts", "02:30:00")
	tb.fill("#set-cron", "30 3 * * *")
	tb.do(chromedp.Evaluate(`globalThis.redrawn = new Promise((done) => document.addEventListener("htmx:before:request", function hold({ detail: { ctx } }) {
		if (ctx.request.method !== "GET") return;
		document.removeEventListener("htmx:before:request", hold);
		const real = ctx.fetch;
		ctx.fetch = (...a) => new Promise((go) => { globalThis.goOn = go; }).then(() => real(...a));
		document.addEventListener("htmx:after:swap", () => done(true), { once: true });
	})); true`, nil))
	tb.keys(kb.Escape) // the field is left, and the form drawn anew
	tb.until("the redraw to be asked for", func() bool {
		var held bool
		tb.do(chromedp.Evaluate("typeof goOn === 'function'", &held))
		return held
	})
	tb.focus("#set-missed")
	tb.keys("n")
	tb.do(chromedp.Evaluate("goOn(); redrawn", nil, awaitPromise))
	tb.keys("one")
	var chosen string
	tb.do(chromedp.Evaluate(`document.querySelector("#set-missed:focus").value`, &chosen))
	require.Equal(t, "none", chosen)
	w.Keeps("flows/nightly.yaml", "missed: none")
	w.Keeps("flows/nightly.yaml", "cron: 30 3 * * *")
	tb.quiet()
	require.Contains(t, w.Text("flows/nightly.yaml"), "missed: none")
	tb.sees("#starts", "03:30:00")
}

// TestWhatIsTypedBesideAChangeIsKept: what is typed while a button's change is on its way is kept with it, for the field that
// it was typed for: where its form is drawn anew, where the field has moved, and where another field is shown then.
func TestWhatIsTypedBesideAChangeIsKept(t *testing.T) {
	w := newWorld(t)
	w.Part("schemas/parcel.yaml", "schema: Parcel\nnotation: csv\nfields:\n  - {name: first, type: text}\n  - {name: second, type: text}\n")
	tb := w.tab()
	tb.open("/bench/schemas/parcel?field=0")
	for _, c := range []struct{ op, note string }{{"down", "moved"}, {"after", "left behind"}} {
		tb.sees("[data-field].sel", "first")
		tb.do(chromedp.Evaluate(`document.addEventListener("htmx:before:request", ({ detail: { ctx } }) => { const real = ctx.fetch; ctx.fetch = (...a) => new Promise((go) => { globalThis.goOn = go; }).then(() => real(...a)); }, { once: true })`, nil))
		tb.on("button.op[hx-vals*='\"op\":\""+c.op+"\"']", "e.click()", nil)
		tb.on("#set-notes", `e.value = "`+c.note+`"; e.dispatchEvent(new Event("input", { bubbles: true })); e.dispatchEvent(new Event("change", { bubbles: true }))`, nil)
		tb.do(chromedp.Evaluate("goOn()", nil))
		tb.until(c.note+" to be kept with the first", func() bool {
			return strings.Contains(w.Text("schemas/parcel.yaml"), "name: first, type: text, notes: "+c.note)
		})
		tb.until("all to be sent", func() bool {
			var done bool
			tb.do(chromedp.Evaluate(`!document.documentElement.hasAttribute("data-unsent")`, &done))
			return done
		})
		tb.quiet()
		var problem string
		tb.do(chromedp.Evaluate(`document.querySelector("#problem").textContent`, &problem))
		require.Empty(t, problem)
	}
	require.Regexp(t, `(?s)name: second, type: text\}.*name: first, type: text, notes: left behind\}.*name: field`, w.Text("schemas/parcel.yaml"))
}
