package journeys

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/store"
)

const flowPath = "/bench/flows/gauge-readings"

func TestTheChartIsLive(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench?flow=gauge-readings")
	tb.sees("#chart", "Gauge readings to the ledger")
	tb.sees("#chart", "waiting")
	w.Drop("live.tide", gauges.Readings(9, 12))
	tb.sees("#chart", "in step")
	tb.click("#open-flow")
	tb.sees("#lanes", "")
	tb.sees("h1", "Gauge readings to the ledger")
}

func TestAFilterIsChangedWithTheDataInView(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(flowPath + "?step=keep")
	tb.sees("#lanes", "31 skipped")
	tb.sees("#comes-in", `"SK04"`)

	tb.fill("#set-where", "level_cm > 450")
	tb.sees("#lanes", "36 skipped")
	tb.sees("#state", "differs from release 1")

	tb.fill("#set-where", "level > 450")
	tb.sees("#panel", `there is no "level" here`)
	tb.sees("#faults", "1 fault")
	tb.sees("#lanes", "48 set aside") // no record passes a faulty step
	var focused string
	tb.do(chromedp.Evaluate(entered+".id", &focused))
	require.Equal(t, "set-where", focused, "typing goes on where it was")

	tb.paste("#set-where", `gauge + 1 > 2`)
	tb.sees("#panel", "expected a number beside +, found text")

	tb.do(chromedp.Evaluate(`document.activeElement.blur()`, nil))
	tb.click("[data-key=undo]")
	tb.sees("#lanes", "")
	tb.sees("#panel", `there is no "level" here`)
}

func TestStepsAndRecordsAreChosenByKeys(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(flowPath + "?step=keep")
	tb.do(typed(kb.ArrowRight))
	tb.sees("#node-find[aria-current]", "Find station")
	tb.sees("#goes-out", `"Ling Sound, north pier"`)
	tb.do(typed(kb.ArrowRight))
	tb.sees("#node-map[aria-current]", "To ledger row")
	tb.sees("#goes-out", "above_datum_cm")
	tb.do(typed("]"))
	tb.sees("#comes-in", "record 2 of 48")
	tb.do(typed("["))
	tb.sees("#comes-in", "record 1 of 48")
	tb.do(typed("]]]"))
	tb.sees("#comes-in", "record 4 of 48") // keys typed faster than they are answered
	tb.do(typed("/"))
	tb.sees("#find:focus", "")
	tb.fill("#find", "datum")
	tb.sees("#found", "datum_cm")
	tb.fill("#find", "length_m")
	tb.sees("#found a[href$='booking?field=4.1']", "Booking · length_m") // deep inside
}

func TestTheKeyOfAnUpsertIsChecked(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(flowPath + "?step=upsert")
	tb.fill("#set-key", "gauge_code, take_at")
	tb.sees("#panel", `row has no field "take_at"`)
	tb.fill("#set-key", "gauge_code, taken_at")
	tb.sees("#faults", "No faults")
}

func TestARuleIsChangedAndItsResultSeen(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/mappings/reading-to-tide-level?field=above_datum_cm")
	tb.sees("[data-source='station.name']", "Ling Sound, north pier")
	tb.sees("[data-target=above_datum_cm]", "331.0")
	var ribbons int
	tb.do(chromedp.Evaluate(`document.querySelectorAll("#ribbons path").length`, &ribbons))
	require.Greater(t, ribbons, 9, "ribbons are drawn")

	tb.fill("#formula", "round(level_cm * 3, 1)")
	tb.sees("#result", "900.0")
	tb.sees("[data-target=above_datum_cm]", "900.0")
	tb.fill("#formula", "gauge")
	tb.sees("#verdict", "expected decimal, found text")
	tb.fill("#formula", "level_cm +")
	tb.sees("#verdict", "the formula ends too early")
	tb.fill("#formula", kb.Backspace)
	tb.sees("#missing", "1 required field has no rule")
	tb.sees("[data-target=above_datum_cm]", "no rule")
	tb.click("[data-source='reading.surge_cm']")
	tb.sees("#result", "380")
	tb.sees("#faults", "complete")
	tb.do(chromedp.Evaluate(`document.activeElement.blur()`, nil), typed(kb.ArrowDown))
	tb.sees("[data-target=is_surge][aria-current]", "level_cm >= surge_cm")
}

func TestTheSchemaStandsOnItsRuler(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/schemas/gauge-reading")
	tb.sees("#work", "all 48 records fit")
	tb.sees("#reads-as", `"gauge": "SK04"`)
	tb.do(typed("]"))
	tb.sees("#reads-as", `"gauge": "LC11"`)
}

func TestAReleaseTakesEffectAtOnce(t *testing.T) {
	w := newWorld(t)
	w.Drop("one.tide", gauges.Readings(9, 12))
	require.Equal(t, 1, w.Ended("one.tide").Release)
	tb := w.tab()
	tb.open(flowPath + "?step=keep")
	tb.fill("#set-where", "level_cm > 0")
	tb.sees("#state", "differs")
	tb.click("#release")
	tb.sees("#do-release", "")
	tb.sees(".diff .del", `trend == "R" and level_cm > 0`)
	tb.fill("#note", "all levels")
	tb.click("#do-release")
	tb.sees("#lanes", "")
	tb.sees("#state", "release 2")
	w.Drop("two.tide", gauges.Readings(10, 12))
	r := w.Ended("two.tide")
	require.Equal(t, 2, r.Release)
	require.Equal(t, 48, r.Counts["upsert"].Inserted)
	tb.open("/releases")
	tb.sees("#main", "all levels")
	tb.sees("#main", "Mira Orrin")
}

func TestASetAsideRecordIsMendedInPlace(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/traffic")
	tb.sees("#list", "A run appears here")
	tb.sees("[data-live]", "live")
	w.Drop("sk_0311.tide", gauges.Spoilt(11))
	tb.sees("#list", "sk_0311.tide") // no reload: it is live
	tb.sees("#list", "set aside")
	tb.open("/traffic?reference=SK_03&state=set+aside")
	tb.click("#list [aria-label=Runs] tbody a")
	tb.sees("#asides", "")
	tb.sees("#asides", "sk_0311.tide:3:19")
	tb.sees("#asides", `found "0X1 5"`)
	line := tb.value("#asides input")
	tb.fill("#asides input", strings.Replace(line, "0X1 5", "04125", 1))
	tb.click("#asides .btn.go")
	tb.sees("#outcome", "")
	tb.sees("#outcome", "done")
	tb.sees("#main", "an earlier run")
	tb.sees("#main", "started by Mira Orrin")
	tb.open("/traffic?reference=nothing-like-it")
	tb.sees("#list", "No runs that match")
}

func TestTwoEditorsAreTold(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open(flowPath + "?step=keep")
	draft, err := store.PartDraft(t.Context(), w.DB, "skerry", "flows/gauge-readings.yaml")
	require.NoError(t, err)
	res, err := http.PostForm(w.Base()+flowPath+"/steps/keep", url.Values{"revision": {fmt.Sprint(draft.Revision)}, "set where": {"level_cm > 1"}})
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	tb.fill("#set-where", "level_cm > 2")
	tb.sees("#problem", "Someone else saved this after you opened it")
	after, err := store.PartDraft(t.Context(), w.DB, "skerry", "flows/gauge-readings.yaml")
	require.NoError(t, err)
	require.Contains(t, after.Text, "level_cm > 1")
	tb.mu.Lock()
	tb.errors = nil // the refused request is logged by the browser
	tb.mu.Unlock()
}

func TestOnlyLoopbackNamesAndOwnFormsAreServed(t *testing.T) {
	w := newWorld(t)
	req, err := http.NewRequest(http.MethodGet, w.Base()+"/bench", nil)
	require.NoError(t, err)
	req.Host = "rebound.example"
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusMisdirectedRequest, res.StatusCode)

	req, err = http.NewRequest(http.MethodPost, w.Base()+flowPath+"/release", strings.NewReader("note=x"))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	res, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusForbidden, res.StatusCode)
}

func TestPagesAnswerAndEscape(t *testing.T) {
	w := newWorld(t)
	w.Drop("<b>x.tide", gauges.Readings(9, 1))
	r := w.Ended("<b>x.tide")
	for path, status := range map[string]int{
		"/bench": 200, "/bench/parts": 200, "/bench/text": 200, "/estate": 200, "/releases": 200, "/traffic": 200,
		flowPath: 200, flowPath + "?step=trigger": 200, flowPath + "?step=nothing&record=9999": 200, flowPath + "/release": 200,
		"/bench/schemas/station": 200, "/bench/schemas/tide-level": 200, "/traffic/runs/" + r.ID.String(): 200,
		"/bench/flows/none": 404, "/bench/mappings/none": 404, "/bench/schemas/none": 404, "/traffic/runs/none": 404,
		"/bench/text?path=../secret": 404, "/nothing": 404, "/find?q=tide": 200,
	} {
		res := w.Get(path)
		require.Equal(t, status, res.StatusCode, path)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NotContains(t, string(body), "<b>x.tide", path)
		require.NotContains(t, string(body), "postgres://", path)
	}
}
