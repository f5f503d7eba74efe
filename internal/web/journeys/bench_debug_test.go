package journeys

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// focused says whether an element has the focus.
func (tb *tab) focused(selector string) (is bool) {
	tb.T.Helper()
	tb.do(chromedp.Evaluate(`[document.activeElement, `+entered+`].some((el) => el.matches("`+selector+`"))`, &is))
	return is
}

// TestAMessageIsSteppedThroughWithAChangedValue: by keys alone. A value is changed on the way, and the steps behind it
// work with it; a formula is worked out; it halts where a mark says; settings are changed and the message goes on with
// them; going back takes the change back.
func TestAMessageIsSteppedThroughWithAChangedValue(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/gauge-readings?step=keep&record=1")
	tb.sees("#panel .ph", "Keep rising")
	tb.keys("t")
	tb.sees("#halted", "before Read readings")
	tb.keys("o")
	tb.sees("#halted", "before Keep rising")
	tb.sees("#values", `"SK04"`)
	tb.keys("e")
	require.Eventually(t, func() bool { return tb.focused("#evaluate") }, 5*time.Second, 20*time.Millisecond)
	tb.do(chromedp.Evaluate(entered+".select()", nil))
	tb.keys("reading.level_cm + 1000" + kb.Enter)
	tb.sees("#result", "1300.0")

	tb.tabTo(`a[data-path="reading.gauge"]`)
	tb.keys(kb.Enter)
	tb.sees("#changing", "reading.gauge becomes")
	tb.do(chromedp.Evaluate(`document.querySelector("#new-value").select()`, nil))
	tb.keys(`"nowhere` + kb.Enter)
	tb.sees("#changing .fault", "")
	tb.do(chromedp.Evaluate(`document.querySelector("#new-value").select()`, nil))
	tb.keys(`"HV07"` + kb.Enter)
	tb.sees("#trace", `reading.gauge = "HV07"`)
	tb.keys("o")
	tb.keys("o")
	tb.sees("#halted", "before To ledger row")
	tb.sees("#values", `"HV07"`)
	require.Zero(t, w.Count("select count(*) from tide_level"))

	tb.keys("g")
	tb.sees("#told", "The message has come to its end: done")
	tb.do(chromedp.Evaluate(`document.querySelector("#node-find").dispatchEvent(new MouseEvent("click", {bubbles: true, cancelable: true}))`, nil))
	tb.sees("#looked .ph", "Find station")
	tb.tabTo("#back-to")
	tb.keys(kb.Enter)
	tb.sees("#halted", "before Find station")
	tb.tabTo("#mark")
	tb.keys(kb.Enter)
	tb.sees("#looked .ph", "halts here")
	tb.keys("b")
	tb.sees("#halted", "before Keep rising")
	tb.keys("g")
	tb.sees("#halted", "before Find station")

	tb.keys("b")
	tb.sees("#halted", "before Keep rising")
	tb.tabTo("#settings")
	tb.keys(kb.Enter)
	tb.sees("#walking", "stepping through")
	tb.fill("#set-where", "false")
	tb.sees("#faults", "✓ No faults")
	tb.sees("#goes-out", "Skipped")
	tb.tabTo("#back-to-walk")
	tb.keys(kb.Enter)
	tb.sees("#halted", "before Keep rising")
	tb.keys("o")
	tb.sees("#told", "skipped")
}

// TestAStepIsDoneReallyInATry: when that is chosen, and only when somebody presses the button.
func TestAStepIsDoneReallyInATry(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/flows/gauge-readings?step=upsert&record=1")
	tb.sees("#goes-out", "in a try nothing is")
	tb.pick("#manner", "really")
	tb.sees("#goes-out", "in a try nothing is")
	require.Zero(t, w.Count("select count(*) from tide_level"))
	tb.click("[data-key=try]")
	tb.sees("#goes-out", "The row was inserted")
	n := w.Count("select count(*) from tide_level_write")
	require.Positive(t, n)
	tb.open("/bench/flows/gauge-readings?step=upsert&record=1")
	tb.sees("#goes-out", "The row was inserted")
	require.Equal(t, n, w.Count("select count(*) from tide_level_write"), "looking at the page writes nothing")
	require.False(t, strings.Contains(w.Text("flows/gauge-readings.yaml"), "really"), "what a try does is not part of the flow")
}
