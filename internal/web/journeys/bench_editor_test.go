package journeys

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// TestTextsInALanguageHaveAnEditor: in the colours of their language, with numbered lines, undo of its own and search; what is
// typed before the editor has come, and what others write into the field, stays.
func TestTextsInALanguageHaveAnEditor(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/libraries/freight?function=checkDigit")
	tb.sees("#source + .code .cm-gutters", "2")
	tb.until("the text to be coloured", func() bool { // the editor reads a language when it has the time
		var colours int
		return tb.asks(`new Set([...document.querySelectorAll(".cm-line span")].map((e) => getComputedStyle(e).color)).size`, &colours) && colours > 2
	})
	before := tb.value("#source")
	tb.on("#source", `e.focus(); e.setSelectionRange(0, 0)`, nil)
	tb.do(typed("// first"))
	require.Equal(t, "// first"+before, tb.value("#source"))
	tb.do(chromedp.KeyEvent("z", chromedp.KeyModifiers(2)))
	require.Equal(t, before, tb.value("#source"), "the editor's own undo")
	tb.on("#source", `e.value = "return 7"; e.dispatchEvent(new Event("input", { bubbles: true }))`, nil)
	tb.sees(".cm-content", "return 7")
	tb.sees("#outcome", "failed")
	tb.do(chromedp.KeyEvent(kb.Escape))
	require.False(t, tb.focused(".cm-content"), "Esc leaves the editor")
	w.Keeps("libraries/freight.yaml", "return 7")

	tb.open("/bench/samples/bookings.json?as=booking")
	tb.sees("#source + .code .cm-content", "B-20417")
	tb.fill("#source", `[{"number": "B-1"`)
	tb.sees("#verdict", "do not fit")
	tb.click("#verdict .faultlist a")
	require.True(t, tb.focused("#source + .code .cm-content"), "a fault leads to its line")
	require.Equal(t, `[{"number": "B-1"`, tb.value("#source"))
}

// TestATextWithoutItsEditorIsAFieldAsAnyOther.
func TestATextWithoutItsEditorIsAFieldAsAnyOther(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/libraries/freight?function=plate")
	tb.do(chromedp.Evaluate(`document.body.removeAttribute("data-editor")`, nil))
	tb.pick("[name=kind]", "script")
	tb.sees("#source", "")
	tb.fill("#source", "return raw")
	w.Keeps("libraries/freight.yaml", "return raw")
	require.False(t, tb.focused(".cm-content"))
}
