package journeys

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// book makes a booking at the desk.
func (w *world) book(address, customer, class string) string {
	w.T.Helper()
	body := fmt.Sprintf(`{"sailing": "LS204", "departs": "2031-03-09T07:30:00Z", "customer": {"name": %q, "country": "NO"}, "line": [{"class": %q, "length_m": 4.4, "plate": "SK 1", "price": 412.00}]}`, customer, class)
	req, err := http.NewRequestWithContext(w.T.Context(), http.MethodPost, address+"/bookings", bytes.NewReader([]byte(body)))
	require.NoError(w.T, err)
	req.Header.Set("Authorization", "Bearer "+quayside.Token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(w.T, err)
	defer resp.Body.Close()
	var text bytes.Buffer
	_, err = text.ReadFrom(resp.Body)
	require.NoError(w.T, err)
	require.Equal(w.T, 201, resp.StatusCode, text.String())
	_, rest, _ := strings.Cut(text.String(), `"number":"`)
	number, _, _ := strings.Cut(rest, `"`)
	return number
}

// invoices counts those of a booking.
func (w *world) invoices(booking string) int {
	return w.Count("select count(*) from invoice where booking = '" + booking + "'")
}

// TestABookingThatFailsIsFoundMendedAndInvoiced: by keys alone. The account of its customer is closed, a class is unknown,
// the ledger is down: each is found by the booking's number, mended where it is, and invoiced once.
func TestABookingThatFailsIsFoundMendedAndInvoiced(t *testing.T) {
	w := newWorld(t)
	address := w.desks()
	w.Change("flows/booking-to-invoice.yaml", "interval: 5", "interval: 1")
	w.Change("flows/booking-to-invoice.yaml", "      - step: filter\n", "      - {step: reference, id: known, name: Known by its number, is: booking.number}\n      - step: keep\n")
	_, err := w.Engine.CreateRelease(t.Context(), testkit.Skerry, "booking-to-invoice", "", "mira")
	require.NoError(t, err)
	w.newestOf("booking-to-invoice", store.Done)

	closed := w.book(address, "Norholm Salt", "CAR")
	tb := w.tab()
	found := func(field, booking, what string) {
		require.Eventually(t, func() bool {
			list, err := store.WorkItems(t.Context(), w.DB, store.WorkFilter{Scope: testkit.Skerry, Flow: "booking-to-invoice", Most: 1})
			return err == nil && len(list) == 1
		}, 20*time.Second, 20*time.Millisecond)
		tb.open("/traffic")
		tb.tabTo("input[name=" + field + "]")
		tb.keys(booking + kb.Enter)
		tb.do(chromedp.WaitReady("input[name=" + field + "][value=" + booking + "]")) // what is listed is what was searched for
		tb.sees("#list [aria-label=Runs]", "Booking to invoice")
		tb.tabTo("#list [aria-label=Runs] tbody a")
		tb.keys(kb.Enter)
		tb.sees("#asides", what)
	}
	found("reference", closed, "the account of Norholm Salt is closed")
	require.Zero(t, w.invoices(closed))
	_, err = w.Ledger.Exec(t.Context(), "update account set closed = false where customer = 'Norholm Salt'")
	require.NoError(t, err)
	tb.tabTo("#asides button.go")
	tb.keys(kb.Enter)
	tb.sees("#outcome", "done")
	require.Equal(t, 1, w.invoices(closed))

	bad := w.book(address, "Tove Lind", "SHIP")
	found("text", bad, "SHIP") // it failed before it was known by its number
	tb.tabTo("#asides input[name=text]")
	record := tb.value("#asides input[name=text]")
	tb.do(chromedp.Evaluate(entered+".select()", nil))
	tb.keys(strings.Replace(record, "SHIP", "CAR", 1) + kb.Enter)
	tb.sees("#outcome", "done")
	require.Equal(t, 1, w.invoices(bad))

	values := map[string]string{"by": "address", "address": w.Ledger.Config().ConnString()}
	away := map[string]string{"by": "address", "address": "postgres://nobody@127.0.0.1:1/none?sslmode=disable"}
	w.Reach("harbour-ledger", "sql", away)
	late := w.book(address, "Tove Lind", "CAR")
	w.newestOf("booking-to-invoice", store.Retrying)
	tb.open("/traffic?flow=booking-to-invoice&state=retrying")
	tb.sees("#list [aria-label=Runs]", "cannot be reached")
	w.Reach("harbour-ledger", "sql", values)
	require.Eventually(t, func() bool { return w.invoices(late) == 1 }, 40*time.Second, 50*time.Millisecond, "it goes on by itself")
}

// TestANightlyScheduleRunsAChild: built by keys alone from nothing; it runs, and its child's run is opened from it.
func TestANightlyScheduleRunsAChild(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
		return store.AddPart(t.Context(), tx, "skerry", "schemas/vehicle-card.yaml", "schema: Vehicle card\nnotation: json\nfields:\n  - {name: card, type: text}\n", "mira")
	}))
	w.Release("permit", "flow: Berth permit\ntrigger: {kind: called, input: vehicle-card, as: asked}\nreference: asked.card\nsteps:\n  - {step: note, id: n, text: '\"permit \" + asked.card'}\n")
	tb := w.tab()
	tb.open("/bench/flows/new")
	tb.keys("Nightly permits")
	tb.tabTo("input[name=kind]")
	tb.keys(kb.ArrowDown + kb.ArrowDown + kb.ArrowDown)
	tb.tabTo("#make-flow")
	tb.keys(kb.Enter)
	tb.sees("h1", "Nightly permits")
	tb.setting("#set-cron", "30 2 * * *")
	tb.sees("#starts", "02:30:00")
	tb.chosen("#set-missed", "none")
	tb.Keeps("flows/nightly-permits.yaml", "missed: none")
	tb.quiet()
	tb.keys(kb.Escape) // out of the field behind it
	tb.step("berth permit", "Berth permit")
	tb.setting("#with-card", `"SK 40117"`)
	tb.sees("#faults", "✓ No faults")
	tb.tabTo("#release")
	tb.keys(kb.Enter)
	tb.sees("h1", "Release")
	tb.tabTo("#do-release")
	tb.keys(kb.Enter)
	tb.sees("h1", "Nightly permits")
	tb.tabTo("#run-now")
	tb.keys(kb.Enter)
	tb.sees("#outcome", "done")
	tb.sees("#children", "SK 40117")
	tb.tabTo("#children a")
	tb.keys(kb.Enter)
	tb.sees("#started-by", "Nightly permits")
	tb.sees("#goes-out", "permit SK 40117")
}
