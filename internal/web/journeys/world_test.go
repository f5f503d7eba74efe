// Package journeys holds what is tried of the whole site: people's ways through it in a browser, and what programs ask of it. The
// world in which that happens stands in world_test.go; the files are named by what people do.
package journeys

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/berthmaster"
	"hollowreed/internal/standin/crewroll"
	"hollowreed/internal/standin/driftbox"
	"hollowreed/internal/standin/gates"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/standin/noticeboard"
	"hollowreed/internal/standin/office"
	"hollowreed/internal/standin/postroom"
	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/standin/registry"
	"hollowreed/internal/standin/sftpdrop"
	"hollowreed/internal/standin/tariff"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

func TestMain(m *testing.M) {
	debug.SetGCPercent(400) // the machine has memory; its processors are what the tests wait for
	code := testdb.Main(m)
	closeBrowser()
	os.Exit(code)
}

// world is a running site that is looked at in a browser.
type world struct{ *webtest.World }

func newWorld(t testing.TB) *world { return &world{webtest.New(t)} }

// browser is one Chromium for all tests of the package.
var browser = sync.OnceValues(func() (context.Context, error) {
	dir, err := os.MkdirTemp("", "hollowreed-chromium-")
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium-headless-shell"), chromedp.UserDataDir(dir), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("no-proxy-server", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"),
		chromedp.Flag("disable-background-timer-throttling", true), chromedp.Flag("disable-renderer-backgrounding", true), chromedp.Flag("disable-backgrounding-occluded-windows", true),
		chromedp.Flag("force-device-scale-factor", "1"), chromedp.Flag("font-render-hinting", "none"),
	)
	alloc, _ := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, _ := chromedp.NewContext(alloc)
	closeBrowser = func() {
		chromedp.Cancel(ctx)
		os.RemoveAll(dir)
	}
	return ctx, chromedp.Run(ctx)
})

var closeBrowser = func() {}

// window opens a window of the browser: tabs of one window would be hidden by each other, and a hidden one draws nothing.
func window(root context.Context) (id target.ID, err error) {
	err = chromedp.Run(root, chromedp.ActionFunc(func(ctx context.Context) error {
		id, err = target.CreateTarget("about:blank").WithNewWindow(true).WithWidth(1280).WithHeight(800).Do(cdp.WithExecutor(ctx, chromedp.FromContext(root).Browser))
		return err
	}))
	return id, err
}

// tab opens a window of 1280 by 800 and fails the test for every error that the page logs.
func (w *world) tab() *tab {
	w.T.Helper()
	root, err := browser()
	require.NoError(w.T, err)
	id, err := window(root)
	require.NoError(w.T, err)
	ctx, cancel := chromedp.NewContext(root, chromedp.WithTargetID(id))
	w.T.Cleanup(cancel)
	ctx, stop := context.WithTimeout(ctx, 2*time.Minute)
	w.T.Cleanup(stop)
	tb := &tab{world: w, ctx: ctx}
	chromedp.ListenTarget(ctx, tb.listen)
	tb.do(chromedp.ActionFunc(func(ctx context.Context) error {
		if err := emulation.SetDeviceMetricsOverride(1280, 800, 1, false).Do(ctx); err != nil {
			return err
		}
		if err := emulation.SetFocusEmulationEnabled(true).Do(ctx); err != nil {
			return err
		}
		if _, err := cdppage.AddScriptToEvaluateOnNewDocument(leaving + met).Do(ctx); err != nil {
			return err
		}
		return cdppage.BringToFront().Do(ctx)
	}))
	w.T.Cleanup(tb.tellWhatItMet) // behind what fails the test last
	w.T.Cleanup(func() {
		tb.mu.Lock()
		defer tb.mu.Unlock()
		if len(tb.errors) > 0 {
			w.T.Errorf("errors in the browser: %v", tb.errors)
		}
	})
	return tb
}

// tellWhatItMet logs where a tab of a failed test was and what its page met last.
func (tb *tab) tellWhatItMet() {
	if !tb.T.Failed() {
		return
	}
	var told string
	err := chromedp.Run(tb.ctx, chromedp.Evaluate(`[location.pathname + location.search, document.querySelector("h1")?.textContent, document.querySelector("#panel .ph")?.textContent, document.querySelector("#problem")?.textContent, ...hrMet].join("\n")`, &told))
	tb.T.Logf("the tab was at %s (%v)", told, err)
}

// met keeps in a page what it met last: presses, keys, requests and what they brought, with where the focus was.
const met = `globalThis.hrMet = [];
for (const name of ["pointerdown", "pointerup", "click", "keydown", "submit", "hr-sent", "hr-change", "htmx:before:request", "htmx:finally:request", "htmx:before:swap", "htmx:after:swap", "htmx:error"]) {
  addEventListener(name, (e) => {
    const ctx = e.detail?.ctx, id = (el) => el && (el.id || el.name || el.tagName || "document");
    hrMet.push([Math.round(performance.now()), name, e.isTrusted || ctx ? "" : "by script", e.key, id(e.target), ctx?.request?.method, ctx?.request?.action, ctx && "into " + id(ctx.target), ctx?.status, "focus on " + id(document.activeElement)].filter(Boolean).join(" "));
    if (hrMet.length > 300) hrMet.shift();
  }, true);
}`

// leaving marks a document that another one is about to take the place of, so that nobody looks at it any more.
const leaving = `addEventListener("submit", (e) => queueMicrotask(() => { if (!e.defaultPrevented) document.documentElement.dataset.leaving = "yes"; }));
addEventListener("beforeunload", () => { document.documentElement.dataset.leaving = "yes"; });
`

type tab struct {
	*world
	ctx    context.Context
	mu     sync.Mutex
	errors []string
}

func (tb *tab) listen(ev any) {
	tb.mu.Lock()
	defer tb.mu.Unlock()
	switch ev := ev.(type) {
	case *runtime.EventExceptionThrown:
		tb.errors = append(tb.errors, ev.ExceptionDetails.Error())
	case *log.EventEntryAdded:
		if ev.Entry.Level == log.LevelError {
			tb.errors = append(tb.errors, ev.Entry.Text+" "+ev.Entry.URL)
		}
	}
}

func (tb *tab) do(actions ...chromedp.Action) {
	tb.T.Helper()
	if err := chromedp.Run(tb.ctx, actions...); err != nil {
		tb.mu.Lock()
		defer tb.mu.Unlock()
		tb.T.Fatalf("%v; the page logged %v; the server logged %s", err, tb.errors, tb.Logs.String())
	}
}

func (tb *tab) open(path string) {
	tb.T.Helper()
	tb.do(chromedp.Navigate(tb.Base()+path), chromedp.WaitReady("#main"), chromedp.Evaluate("document.fonts.ready.then(() => true)", nil, awaitPromise))
}

func awaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// within says whether something comes to be true in time.
func (tb *tab) within(most time.Duration, is func() bool) bool {
	for end := time.Now().Add(most); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if is() {
			return true
		}
	}
	return false
}

// asks evaluates an expression in the page; it is false while the page is just being replaced by another.
func (tb *tab) asks(js string, answer any) bool {
	return chromedp.Run(tb.ctx, chromedp.Evaluate(js, answer)) == nil
}

// sees waits until an element holds a text.
func (tb *tab) sees(selector, text string) {
	tb.T.Helper()
	// A page is only seen once its scripts are there, since keys would be lost before, and while it waits for nothing.
	js := fmt.Sprintf(`document.readyState === "complete" && !document.documentElement.dataset.leaving && !document.querySelector(".htmx-request") && [...document.querySelectorAll(%q)].some(e => e.textContent.replace(/\s+/g, " ").includes(%q))`, selector, text)
	if tb.within(15*time.Second, func() bool {
		var there bool
		return tb.asks(js, &there) && there
	}) {
		return
	}
	var got string
	chromedp.Run(tb.ctx, chromedp.Evaluate(fmt.Sprintf(`[...document.querySelectorAll(%q)].map(e => e.textContent).join(" | ")`, selector), &got))
	tb.T.Fatalf("%s does not show %q but %q; the server logged %s", selector, text, strings.Join(strings.Fields(got), " "), tb.Logs.String())
}

// on does something with an element e as soon as it is shown, or there where it is a hidden field, and keeps what is returned. It is found and used in one go,
// since the page may be drawn anew between two looks.
func (tb *tab) on(selector, js string, returned any) {
	tb.T.Helper()
	js = fmt.Sprintf(`(() => { const e = document.querySelector(%s); if (!e || e.type !== "hidden" && !e.checkVisibility()) return { Shown: false }; return { Shown: true, Is: (() => { %s })() ?? null } })()`, quoted(selector), js)
	if tb.within(15*time.Second, func() bool {
		was := struct {
			Shown bool
			Is    any
		}{Is: returned}
		return tb.asks(js, &was) && was.Shown
	}) {
		return
	}
	tb.T.Fatalf("%s is not shown; the server logged %s", selector, tb.Logs.String())
}

// entered is the field that is typed into: of an editor the one behind it.
const entered = `(document.activeElement?.closest(".code")?.previousElementSibling ?? document.activeElement)`

// editorsCome says whether texts that are shown have no editor yet, which will take their place.
const editorsCome = `[...document.querySelectorAll("textarea[data-code]:not([data-shown])")].some((e) => e.checkVisibility())`

// focus sets the focus on an element and takes hold of what stands in it.
func (tb *tab) focus(selector string) {
	tb.T.Helper()
	tb.until("the editors are there", func() bool {
		var come bool
		return tb.asks(editorsCome, &come) && !come
	})
	tb.on(selector, `e.focus(); e.select?.()`, nil)
}

// fill replaces what stands in a field, as by typing.
func (tb *tab) fill(selector, text string) {
	tb.T.Helper()
	tb.focus(selector)
	tb.do(typed(keysFor(text)))
}

// paste puts a text into a field at once, where half of it would be refused while it is typed.
func (tb *tab) paste(selector, text string) {
	tb.T.Helper()
	tb.focus(selector)
	tb.do(input.InsertText(text))
}

// keysFor are the keys that put a text in place of what is selected.
func keysFor(text string) string {
	if text == "" {
		return kb.Delete
	}
	return text
}

func (tb *tab) shot(path string) {
	tb.T.Helper()
	var png []byte
	tb.do(chromedp.Evaluate("document.fonts.ready.then(() => true)", nil, awaitPromise), chromedp.CaptureScreenshot(&png))
	require.NoError(tb.T, os.WriteFile(path, png, 0o644))
}

// everything starts the stand-ins of the demo, releases its flows and starts those that a person starts.
func (w *world) everything() {
	w.T.Helper()
	for _, s := range []standin.Standin{
		quayside.Standin, crewroll.Standin, noticeboard.Standin, postroom.Standin, driftbox.Standin, berthmaster.Standin, sftpdrop.Standin, office.Standin, registry.Standin, tariff.Standin,
	} {
		running, err := s.Start(w.T.Context(), w.T.TempDir())
		require.NoError(w.T, err)
		for id, r := range running.Reach {
			w.Reach(id, r.Kind, r.Values)
		}
	}
	texts, err := project.Read(demo.Files)
	require.NoError(w.T, err)
	p := project.Load("skerry", texts)
	for _, part := range slices.Concat(p.Parts(project.Channels), p.Parts(project.Flows), p.Parts(project.APIs)) {
		if part.ID != "gauge-readings" {
			_, err := w.Engine.CreateRelease(w.T.Context(), testkit.Skerry, project.ReleaseID(part.Kind, part.ID), "First light", "mira")
			require.NoError(w.T, err)
		}
	}
	for _, flow := range []string{"crew-roster", "vessel-list", "crew-notice"} {
		_, err := w.Engine.StartRun(w.T.Context(), testkit.Skerry, flow, "mira", nil)
		require.NoError(w.T, err)
	}
}

// TestScreenshots takes the pictures of the documentation, when asked to.
func TestScreenshots(t *testing.T) {
	dir := os.Getenv("SCREENSHOTS")
	if dir == "" {
		t.Skip("SCREENSHOTS names no folder")
	}
	require.NoError(t, os.MkdirAll(dir, 0o755))
	w := newWorld(t)
	w.everything()
	w.Drop("sk_0309.tide", gauges.Readings(9, 12))
	w.Ended("sk_0309.tide")
	w.Drop("sk_0311.tide", gauges.Spoilt(11))
	aside := w.Ended("sk_0311.tide")
	w.Drop("sk_0312.tide", gauges.Readings(12, 12))
	w.Ended("sk_0312.tide")
	w.Drop("ls204_0309.man", w.sample("ls204_0309.man"))
	w.newestOf("vehicle", store.Done)
	tb := w.tab()
	for _, s := range []struct{ name, path string }{
		{"bench", "/bench"},
		{"flow", "/bench/flows/vehicle?step=cargo"},
		{"mapping", "/bench/mappings/booking-to-invoice?field=line"},
		{"schema", "/bench/schemas/gauge-reading?line=3&field=3"},
		{"schema-tree", "/bench/schemas/booking?field=4.1"},
		{"connection", "/bench/connections/quayside"},
		{"operation", "/bench/connections/quayside/operations/list-bookings"},
		{"library", "/bench/libraries/freight?function=checkDigit"},
		{"release", "/bench/flows/gauge-readings/release"},
		{"api", "/bench/apis/bookings?operation=booking"},
		{"channel", "/bench/channels/sailing-log"},
		{"api-draft", "/bench/apis/fares/draft?operation=quote"},
		{"traffic", "/traffic"},
		{"aside", "/traffic/aside"},
		{"alerts", "/traffic/alerts?alert=trouble"},
		{"run", "/traffic/runs/" + aside.ID.String()},
		{"estate", "/estate"},
		{"mapping-changes", "/bench/mappings/reading-to-tide-level/changes"},
		{"schema-compare", "/bench/schemas/gauge-reading/compare"},
	} {
		if s.name == "schema-compare" {
			tb.open("/bench/schemas/gauge-reading?field=3")
			tb.fill("#f-name", "water_cm")
			tb.fill("#set-maximum", "950")
			tb.sees("#fields", "950")
		}
		if s.name == "release" {
			tb.open("/bench/flows/gauge-readings?step=keep")
			tb.fill("#set-where", "level_cm > 0")
			tb.sees("#state", "differs")
		}
		if s.name == "mapping-changes" {
			tb.open("/bench/mappings/reading-to-tide-level?field=level_cm")
			tb.fill("#formula", "round(level_cm)")
			tb.sees("#result", "")
			tb.open("/bench/mappings/reading-to-tide-level?field=trend")
			tb.fill("#formula", `recode(trend, "R", "rising", "F", "falling")`)
			tb.sees("#result", "ing")
		}
		tb.open(s.path)
		if s.name == "channel" {
			for n := range 12 {
				scan := engine.NewMessage{Media: "application/json", Body: gates.Scan(417+n, time.Date(2031, 3, 9, 6, 41, 4*n, 0, time.UTC))}
				_, err := w.Engine.PutMessages(t.Context(), testkit.Skerry, "gate-scans", []engine.NewMessage{scan})
				require.NoError(t, err)
			}
			tb.sees("#messages", "G2-000427")
		}
		if s.name == "connection" {
			tb.click("#test-it")
			tb.sees("#verdict", "Connected")
		}
		if s.name == "operation" {
			tb.click("#try-it")
			tb.sees("#outcome", "records")
		}
		tb.shot(filepath.Join(dir, s.name+".png"))
	}
}
