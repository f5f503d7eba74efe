package journeys

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// shows reads a page, which must answer well.
func (w *world) shows(path string) string {
	w.t.Helper()
	resp, err := http.Get(w.server.URL + path)
	require.NoError(w.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(w.t, err)
	require.Equal(w.t, 200, resp.StatusCode, "%s: %s", path, text)
	return flowing(string(text))
}

// sends sends a form and gives the page that it leads to.
func (w *world) sends(path string, pairs ...string) (int, string) {
	w.t.Helper()
	form := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		form.Add(pairs[i], pairs[i+1])
	}
	resp, err := http.PostForm(w.server.URL+path, form)
	require.NoError(w.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(w.t, err)
	return resp.StatusCode, flowing(string(text))
}

// has and hasNot look for a text in a page, which is too long to be told.
func (w *world) has(page, text string) {
	w.t.Helper()
	if !strings.Contains(page, text) {
		w.t.Fatalf("the page does not have %q", text)
	}
}

func (w *world) hasNot(page, text string) {
	w.t.Helper()
	if strings.Contains(page, text) {
		w.t.Fatalf("the page has %q", text)
	}
}

// dropped drops a file and waits for the end of its run.
func (w *world) dropped(name, content string) store.Run {
	w.t.Helper()
	require.NoError(w.t, os.WriteFile(filepath.Join(w.folder, "."+name), []byte(content), 0o644))
	require.NoError(w.t, os.Rename(filepath.Join(w.folder, "."+name), filepath.Join(w.folder, name)))
	var r store.Run
	require.Eventually(w.t, func() bool {
		runs, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Project: "skerry", Reference: name, Most: 1})
		if err != nil || len(runs) == 0 {
			return false
		}
		r = runs[0]
		return r.Ended()
	}, 15*time.Second, 20*time.Millisecond)
	return r
}

const (
	goodLine = "SK04203103090712000412503803610R\r\n"
	badLine  = "XX99203103090722000412503803610R\r\n"
)

// TestWhatWasSetAsideIsWork: somebody takes it, notes what is to be known, runs it again or lets it go; all of it is kept.
func TestWhatWasSetAsideIsWork(t *testing.T) {
	w := newWorld(t)
	r := w.dropped("work.tide", goodLine+badLine+strings.Replace(badLine, "XX99", "XX98", 1))
	require.Equal(t, 2, r.Aside)
	list, err := store.WorkItems(t.Context(), w.db, store.WorkFilter{Project: "skerry", Most: 10})
	require.NoError(t, err)
	require.Len(t, list, 2)
	key := func(i int) string { return "a" + strconv.FormatInt(list[i].Aside, 10) }

	page := w.shows("/traffic/aside")
	w.has(page, "XX98")
	w.has(page, "nobody")
	status, page := w.sends("/traffic/aside", "do", "take", "id", key(0), "id", key(1))
	require.Equal(t, 200, status)
	w.has(page, "took 2 of what was set aside")
	w.hasNot(page, `<span class="dim">nobody</span>`)
	_, page = w.sends("/traffic/aside/"+key(0)+"/note", "note", "the pier is <new>", "back", "/traffic/aside?owner=mira")
	w.has(page, "the pier is &lt;new&gt;")
	w.has(w.shows("/traffic/aside?owner=-"), "Nothing waits for somebody")
	w.has(w.shows("/traffic/aside?text=a+row+of+station"), "XX98")
	w.has(w.shows("/traffic/aside?text=no+such+fault"), "Nothing waits for somebody")

	status, page = w.sends("/traffic/aside", "do", "let go", "id", key(0))
	require.Equal(t, 200, status)
	w.hasNot(page, "the pier is")
	status, _ = w.sends("/traffic/aside", "do", "let go", "id", key(0))
	require.Equal(t, 409, status, "it is no longer open")
	_, err = w.ledger.Exec(t.Context(), "insert into station (id, gauge_code, name, datum_cm) values (98, 'XX99', 'New pier', 0)")
	require.NoError(t, err)
	status, _ = w.sends("/traffic/aside", "do", "run again", "id", key(1))
	require.Equal(t, 200, status)
	require.Eventually(t, func() bool { return w.count("select count(*) from tide_level where gauge_code = 'XX99'") == 1 }, 10*time.Second, 20*time.Millisecond)
	require.Contains(t, w.shows("/traffic/runs/"+r.ID.String()), "ran again record 2")
	status, _ = w.sends("/traffic/aside", "do", "take")
	require.Equal(t, 422, status, "nothing is chosen")
}

// TestAFaultLeadsToWhatTheSchemaAsks: from what was set aside to the field of the schema that refused it.
func TestAFaultLeadsToWhatTheSchemaAsks(t *testing.T) {
	w := newWorld(t)
	r := w.dropped("dates.tide", goodLine+strings.Replace(goodLine, "20310309", "20311340", 1))
	require.Equal(t, 1, r.Aside)
	link := regexp.MustCompile(`href="(/bench/schemas/gauge-reading\?rule=\d+)">what the schema asks`).FindStringSubmatch(w.shows("/traffic/runs/" + r.ID.String()))
	require.Len(t, link, 2)
	require.Regexp(t, `<input[^>]*id="f-name"[^>]*value="day"`, w.shows(link[1]))
}

// TestARunThatFailedAsAWholeIsWork: it stays in the list until it is run again or let go.
func TestARunThatFailedAsAWholeIsWork(t *testing.T) {
	w := newWorld(t)
	r := w.dropped("empty.tide", "")
	require.Equal(t, store.Stopped, r.State)
	w.has(w.shows("/traffic/aside"), "the whole run")
	_, page := w.sends("/traffic/aside/r"+r.ID.String()+"/note", "note", "the gauge was cleaned")
	w.has(page, "the gauge was cleaned")
	status, page := w.sends("/traffic/aside", "do", "let go", "id", "r"+r.ID.String())
	require.Equal(t, 200, status)
	w.has(page, "Nothing waits for somebody")
	w.has(page, "let go empty.tide")
}

// TestRunsAreFoundByTheirMessages: the search is saved and found again; the journal is downloaded.
func TestRunsAreFoundByTheirMessages(t *testing.T) {
	w := newWorld(t)
	one := w.dropped("one.tide", goodLine)
	w.dropped("two.tide", strings.Replace(goodLine, "SK04", "HV07", 1))
	page := w.shows("/traffic?text=hv07")
	w.has(page, "two.tide")
	w.hasNot(page, "one.tide")
	w.has(page, "looked into 2 runs")
	w.has(w.shows("/traffic?text=nowhere"), "No runs that match")
	_, page = w.sends("/traffic/searches", "name", "Havn", "query", "text=hv07&before=x")
	w.has(page, "Havn")
	w.has(w.shows("/traffic"), `href="/traffic?text=hv07"`)
	w.sends("/traffic/searches", "name", "Havn", "query", "text=hv07", "do", "remove")
	w.hasNot(w.shows("/traffic"), "Havn")

	journal := w.shows("/traffic/runs/" + one.ID.String() + "/journal.ndjson")
	w.has(journal, `"gauge":"SK04"`)
	raw := w.shows("/traffic/runs/" + one.ID.String() + "?step=map&record=1&view=raw")
	w.has(raw, "&#34;gauge&#34;: &#34;SK04&#34;")
	w.has(w.shows("/traffic/figures"), "Gauge readings to the ledger")
	w.has(w.shows("/traffic/figures?span=week"), "last week")
	w.has(w.shows("/metrics"), `hollowreed_runs_total{flow="gauge-readings",outcome="done"} 2`)
	status, page := w.sends("/traffic/runs/"+one.ID.String()+"/from", "step", "map")
	require.Equal(t, 200, status)
	w.has(page, "an earlier run")
}

// TestAlertsAreSetOnAPage: with what fits their kind; one that cannot work says why, and is mended in place.
func TestAlertsAreSetOnAPage(t *testing.T) {
	w := newWorld(t)
	w.has(w.shows("/traffic/alerts"), "Trouble in any flow")
	page := w.shows("/traffic/alerts?alert=new&when=nothing+arrives")
	w.has(page, "By the time of day")
	w.hasNot(page, `name="set times"`)
	status, page := w.sends("/traffic/alerts", "title", "No scans", "when", "nothing arrives", "set flow", "gauge-readings", "set within", "60", "set by", "dawn", "set runs", "trouble-to-the-board")
	require.Equal(t, 200, status)
	w.has(page, "expected a time of day as 06:30")
	w.has(page, "has a fault")
	revision := page[strings.Index(page, `name="revision" value="`)+len(`name="revision" value="`):]
	revision = revision[:strings.Index(revision, `"`)]
	change := []string{"id", "no-scans", "title", "No scans", "when", "nothing arrives", "set flow", "gauge-readings", "set within", "60", "set by", "06:30", "set runs", "trouble-to-the-board", "revision", revision}
	status, page = w.sends("/traffic/alerts", change...)
	require.Equal(t, 200, status)
	w.has(page, "nothing arrives for Gauge readings to the ledger by 06:30")
	status, _ = w.sends("/traffic/alerts", change...)
	require.Equal(t, 409, status, "somebody else changed it meanwhile")
	w.has(w.text("alerts/no-scans.yaml"), "06:30")
}
