package traffic_test

import (
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

const (
	goodLine = "SK04203103090712000412503803610R\r\n"
	badLine  = "XX99203103090722000412503803610R\r\n"
)

// TestWhatWasSetAsideIsWork: somebody takes it, notes what is to be known, runs it again or lets it go; all of it is kept.
func TestWhatWasSetAsideIsWork(t *testing.T) {
	w := webtest.New(t)
	r := w.Dropped("work.tide", goodLine+badLine+strings.Replace(badLine, "XX99", "XX98", 1))
	require.Equal(t, 2, r.RecordsSetAside)
	list, err := store.WorkItems(t.Context(), w.DB, store.WorkFilter{Scope: testkit.Skerry, Most: 10})
	require.NoError(t, err)
	require.Len(t, list, 2)
	key := func(i int) string { return "a" + strconv.FormatInt(list[i].Aside, 10) }

	page := w.Shows("/traffic/aside")
	w.Has(page, "XX98")
	w.Has(page, "nobody")
	status, page := w.Sends("/traffic/aside", "do", "assign", "id", key(0), "id", key(1))
	require.Equal(t, 200, status)
	w.Has(page, "took 2 of what was set aside")
	w.HasNot(page, `<span class="dim">nobody</span>`)
	_, page = w.Sends("/traffic/aside/"+key(0)+"/note", "note", "the pier is <new>", "back", "/traffic/aside?owner=mira")
	w.Has(page, "the pier is &lt;new&gt;")
	w.Has(w.Shows("/traffic/aside?owner=-"), "Nothing needs attention")
	w.Has(w.Shows("/traffic/aside?text=a+row+of+station"), "XX98")
	w.Has(w.Shows("/traffic/aside?text=no+such+fault"), "Nothing needs attention")

	status, page = w.Sends("/traffic/aside", "do", "discard", "id", key(0))
	require.Equal(t, 200, status)
	w.HasNot(page, "the pier is")
	status, _ = w.Sends("/traffic/aside", "do", "discard", "id", key(0))
	require.Equal(t, 409, status, "it is no longer open")
	_, err = w.Ledger.Exec(t.Context(), "insert into station (id, gauge_code, name, datum_cm) values (98, 'XX99', 'New pier', 0)")
	require.NoError(t, err)
	status, _ = w.Sends("/traffic/aside", "do", "rerun", "id", key(1))
	require.Equal(t, 200, status)
	require.Eventually(t, func() bool { return w.Count("select count(*) from tide_level where gauge_code = 'XX99'") == 1 }, 10*time.Second, 20*time.Millisecond)
	require.Contains(t, w.Shows("/traffic/runs/"+r.ID.String()), "ran again record 2")
	status, _ = w.Sends("/traffic/aside", "do", "assign")
	require.Equal(t, 422, status, "nothing is chosen")
}

// TestAFaultLeadsToWhatTheSchemaAsks: from what was set aside to the field of the schema that refused it.
func TestAFaultLeadsToWhatTheSchemaAsks(t *testing.T) {
	w := webtest.New(t)
	r := w.Dropped("dates.tide", goodLine+strings.Replace(goodLine, "20310309", "20311340", 1))
	require.Equal(t, 1, r.RecordsSetAside)
	link := regexp.MustCompile(`href="(/bench/schemas/gauge-reading\?rule=\d+)">what the schema asks`).FindStringSubmatch(w.Shows("/traffic/runs/" + r.ID.String()))
	require.Len(t, link, 2)
	require.Regexp(t, `<input[^>]*id="f-name"[^>]*value="day"`, w.Shows(link[1]))
}

// TestARunThatFailedAsAWholeIsWork: it stays in the list until it is run again or let go.
func TestARunThatFailedAsAWholeIsWork(t *testing.T) {
	w := webtest.New(t)
	r := w.Dropped("empty.tide", "")
	require.Equal(t, store.Stopped, r.State)
	w.Has(w.Shows("/traffic/aside"), "the whole run")
	_, page := w.Sends("/traffic/aside/r"+r.ID.String()+"/note", "note", "the gauge was cleaned")
	w.Has(page, "the gauge was cleaned")
	status, page := w.Sends("/traffic/aside", "do", "discard", "id", "r"+r.ID.String())
	require.Equal(t, 200, status)
	w.Has(page, "Nothing needs attention")
	w.Has(page, "discarded empty.tide")
}

// TestRunsAreFoundByTheirMessages: the search is saved and found again; the journal is downloaded.
func TestRunsAreFoundByTheirMessages(t *testing.T) {
	w := webtest.New(t)
	one := w.Dropped("one.tide", goodLine)
	w.Dropped("two.tide", strings.Replace(goodLine, "SK04", "HV07", 1))
	page := w.Shows("/traffic?text=hv07")
	w.Has(page, "two.tide")
	w.HasNot(page, "one.tide")
	w.Has(page, "looked into 2 runs")
	w.Has(w.Shows("/traffic?text=nowhere"), "No runs that match")
	_, page = w.Sends("/traffic/searches", "name", "Havn", "query", "text=hv07&before=x")
	w.Has(page, "Havn")
	w.Has(w.Shows("/traffic"), `href="/traffic?text=hv07"`)
	w.Sends("/traffic/searches", "name", "Havn", "query", "text=hv07", "do", "remove")
	w.HasNot(w.Shows("/traffic"), "Havn")

	journal := w.Shows("/traffic/runs/" + one.ID.String() + "/journal.ndjson")
	w.Has(journal, `"gauge":"SK04"`)
	raw := w.Shows("/traffic/runs/" + one.ID.String() + "?step=map&record=1&view=raw")
	w.Has(raw, "&#34;gauge&#34;: &#34;SK04&#34;")
	w.Has(w.Shows("/traffic/figures"), "Gauge readings to the ledger")
	w.Has(w.Shows("/traffic/figures?span=week"), "last week")
	w.Has(w.Shows("/metrics"), `hollowreed_runs_total{flow="gauge-readings",outcome="done",project="skerry"} 2`)
	status, page := w.Sends("/traffic/runs/"+one.ID.String()+"/from", "step", "map")
	require.Equal(t, 200, status)
	w.Has(page, "an earlier run")
}

// TestAlertsAreSetOnAPage: with what fits their kind; one that cannot work says why, and is mended in place.
func TestAlertsAreSetOnAPage(t *testing.T) {
	w := webtest.New(t)
	w.Has(w.Shows("/traffic/alerts"), "Trouble in any flow")
	page := w.Shows("/traffic/alerts?alert=new&when=nothing+arrives")
	w.Has(page, "Deadline (time of day)")
	w.HasNot(page, `name="set threshold"`)
	status, page := w.Sends("/traffic/alerts", "title", "No scans", "when", "nothing arrives", "set flow", "gauge-readings", "set window", "60", "set deadline", "dawn", "set run flow", "trouble-to-the-board")
	require.Equal(t, 200, status)
	w.Has(page, "expected a time of day as 06:30")
	w.Has(page, "has a fault")
	revision := page[strings.Index(page, `name="revision" value="`)+len(`name="revision" value="`):]
	revision = revision[:strings.Index(revision, `"`)]
	change := []string{"id", "no-scans", "title", "No scans", "when", "nothing arrives", "set flow", "gauge-readings", "set window", "60", "set deadline", "06:30", "set run flow", "trouble-to-the-board", "revision", revision}
	status, page = w.Sends("/traffic/alerts", change...)
	require.Equal(t, 200, status)
	w.Has(page, "nothing arrives for Gauge readings to the ledger by 06:30")
	status, _ = w.Sends("/traffic/alerts", change...)
	require.Equal(t, 409, status, "somebody else changed it meanwhile")
	w.Has(w.Text("alerts/no-scans.yaml"), "06:30")
}
