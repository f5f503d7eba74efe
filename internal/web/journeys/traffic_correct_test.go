package journeys

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// TestABadMessageIsFoundMendedAndRunAgain: a vehicle without a length is refused by the ledger; it is found by its
// plate and among the causes, its message is mended, and the run that is done again boards it.
func TestABadMessageIsFoundMendedAndRunAgain(t *testing.T) {
	w := newWorld(t)
	w.everything()
	tb := w.tab()
	tb.open("/bench/flows/vehicle?step=upsert")
	tb.sees("#panel .ph", "Upsert boarding")
	tb.do(chromedp.Evaluate(`document.querySelector("#message").closest("details").open = true`, nil))
	tb.fill("#message", `{"sailing": "LS204", "plate": "QX 9", "class": "CAR", "length_m": 0, "dangerous": false}`)
	tb.click("#run-now")
	tb.sees("h1", "QX 9")
	tb.sees("#outcome", "set aside")
	tb.sees("#work .fault", "check")
	id := w.newestOf("vehicle", store.SetAside).ID.String()

	tb.open("/traffic")
	tb.sees("#causes", "Upsert boarding")
	tb.click("#causes a")
	tb.sees("#list [aria-label=Runs]", "QX 9")
	tb.open("/traffic?reference=qx")
	tb.click("#list [aria-label=Runs] tbody a")
	tb.sees("h1", "QX 9")
	tb.do(chromedp.Evaluate(`document.querySelector("#mend-message").closest("details").open = document.querySelector("#again-menu").parentElement.open = true`, nil))
	tb.fill("#message", `{"sailing": "LS204", "plate": "QX 9", "class": "CAR", "length_m": 4.2, "dangerous": false}`)
	tb.click(".menu button.go")
	tb.sees("#outcome", "done")
	again := w.newestOf("vehicle", store.Done)
	require.Equal(t, id, again.Parent.String())
	require.Equal(t, 1, again.Counts["upsert"].Inserted)
}

// newestOf waits for a run of a flow in a state.
func (w *world) newestOf(flow string, state store.State) (r store.Run) {
	w.T.Helper()
	require.Eventually(w.T, func() bool {
		runs, err := store.Runs(w.T.Context(), w.DB, store.RunFilter{Scope: testkit.Skerry, Flow: flow, State: state, Most: 1})
		if err != nil || len(runs) == 0 {
			return false
		}
		r = runs[0]
		return true
	}, 20*time.Second, 20*time.Millisecond)
	return r
}

// sample is a sample of the demo.
func (w *world) sample(name string) string {
	w.T.Helper()
	text, err := demo.Files.ReadFile("samples/" + name)
	require.NoError(w.T, err)
	return string(text)
}

// TestOneMessageIsSeenAsManyRuns: the run of a manifest shows those that it started, each leads back to it, and the
// sailing is found by its number.
func TestOneMessageIsSeenAsManyRuns(t *testing.T) {
	w := newWorld(t)
	w.everything()
	w.Drop("ls204.man", w.sample("ls204_0309.man"))
	parent := w.newestOf("manifest", store.Done)
	w.newestOf("vehicle", store.Done)
	tb := w.tab()
	tb.open("/traffic/runs/" + parent.ID.String() + "?step=board")
	tb.sees("#references", "LS210")
	tb.sees("#comes-in", "entry 1 of 4")
	tb.click("#comes-in [aria-label='Entry after']")
	tb.sees("#comes-in", "entry 2 of 4")
	tb.sees("#children", "OF 221")
	tb.click("#children tbody a")
	tb.sees("#started-by", "ls204.man")
	tb.open("/traffic?reference=ls210")
	tb.sees("#list [aria-label=Runs]", "ls204.man")
}

// TestARunTellsWhatItPassedOver: which fields of the message its schema lacks, and leads to the schema.
func TestARunTellsWhatItPassedOver(t *testing.T) {
	w := newWorld(t)
	w.everything()
	w.Drop("ls204.man", w.sample("ls204_0309.man"))
	r := w.newestOf("manifest", store.Done)
	_, err := w.DB.Exec(t.Context(), `update run set counts = jsonb_set(counts, '{read}', counts->'read' || '{"ignored": {"line/axles": 41, "source": 1}, "blank": 2}') where id = $1`, r.ID)
	require.NoError(t, err)
	tb := w.tab()
	tb.open("/traffic/runs/" + r.ID.String())
	tb.sees("#passed-over", "2 fields that the schema lacks were passed over: line/axles (41 times), source (once). Open the schema Sailing manifest 2 blank lines were skipped.")
	tb.click("#passed-over a")
	tb.sees("h1", "Sailing manifest")
}

// TestATriggerIsPausedWithAReason: the flow says that it is paused, by whom and why, until it starts runs again.
func TestATriggerIsPausedWithAReason(t *testing.T) {
	w := newWorld(t)
	w.everything()
	tb := w.tab()
	tb.open("/bench/flows/kiosk-sign-ups?step=trigger")
	tb.sees("#starts", ":")
	tb.fill("#pausing [name=reason]", "the kiosks are cleaned")
	tb.click("#pause")
	tb.sees("#why", "Paused by Mira Orrin")
	tb.sees("#why", "the kiosks are cleaned")
	tb.click("#go-on")
	tb.sees("#pause", "Pause")
	tb.fill("#set-cron", "0 6 * * 1-5")
	tb.sees("#lanes", "0 6 * * 1-5")
	tb.fill("#set-cron", "six o'clock")
	tb.sees("#step-notes", "expected a cron expression")
}

// TestEveryKindOfStepHasAPage: with its settings and its example as it runs.
func TestEveryKindOfStepHasAPage(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/steps?kind=choose")
	tb.sees("#main", "Group fare")
	tb.sees("#main table", "When no condition is true")
	tb.do(chromedp.Evaluate(`document.querySelector("#node-group").dispatchEvent(new MouseEvent("click", {bubbles: true, cancelable: true}))`, nil))
	tb.sees("#main .ph", "Set values")
}
