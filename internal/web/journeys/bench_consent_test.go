package journeys

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/driftbox"
	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/standin/sftpdrop"
)

// newConnection makes a connection of a kind by its page, without settings.
func (tb *tab) newConnection(kind, title string) {
	tb.T.Helper()
	tb.open("/bench/connections/new")
	tb.click(`input[value="` + kind + `"]`)
	tb.fill("#title", title)
	tb.keys("\r")
	tb.sees("h1", title)
}

// set fills a setting in.
func (tb *tab) set(name, text string) { tb.fill(`[name="set `+name+`"]`, text) }

func (tb *tab) save() {
	tb.T.Helper()
	tb.click("#save-settings")
	tb.sees("#said", "Saved")
}

// TestQuaysideIsConnectedFromItsDocument: from nothing to a booking that is kept as a sample.
func TestQuaysideIsConnectedFromItsDocument(t *testing.T) {
	w := newWorld(t)
	desk := quayside.New()
	address, err := standin.HTTP(t.Context(), &desk.Moods, &desk.Log, desk.Handler())
	require.NoError(t, err)
	tb := w.tab()
	tb.newConnection("http", "Booking desk")
	tb.set("address", address)
	tb.save()
	tb.click("#operations summary")
	tb.fill("#document-at", "/openapi.json")
	tb.click("#read-document")
	tb.sees("#said", "5 operations with their schemas")
	tb.sees("#operations", "List bookings")
	tb.click("#test-it")
	tb.sees("#test", "it does not take the sign-in")
	tb.pick(`[name="set sign in"]`, "bearer token")
	tb.fill(`[name="new token"]`, quayside.Token)
	tb.click("#save-settings")
	tb.sees("#said", "Saved")
	require.Equal(t, "booking-desk token", tb.value(`[name="set token"]`))
	tb.click("#test-it")
	tb.sees("#verdict", "Connected")

	tb.open("/bench/connections/booking-desk/operations/list-bookings")
	tb.fill("#ask-0", "2031-03-08T12:02:00Z")
	tb.click("#try-it")
	tb.sees("#outcome", "20 records")
	tb.sees("#answer", "B-20420")
	tb.sees(".exchange", "GET http://127.0.0.1")
	tb.sees(".exchange", "Authorization: Bearer ••••••")
	tb.keys("]")
	tb.sees("#which", "2 of 20")
	tb.sees("#answer", "B-20421")
	tb.click("#keep")
	tb.sees("#said", "Kept as the sample list-bookings-answer.json")
	require.NotContains(t, w.Text("samples/list-bookings-answer.json"), quayside.Token)
	tb.open("/bench/schemas/booking-desk-booking")
	tb.sees("#fits", "all 20 records fit")
	for _, page := range []string{"/bench/connections/booking-desk", "/bench/connections/booking-desk/operations/list-bookings", "/estate/secrets", "/bench/text?path=connections/booking-desk.yaml"} {
		require.NotContains(t, w.Body(page), quayside.Token)
	}
	require.NotContains(t, w.Logs.String(), quayside.Token)
}

// TestConsentFromNothingToAListedFolder: consent in place, then a token that expires is refreshed unseen, then a
// consent that is taken back says so.
func TestConsentFromNothingToAListedFolder(t *testing.T) {
	w := newWorld(t)
	box := driftbox.New()
	address, err := standin.HTTP(t.Context(), &box.Moods, &box.Log, box.Handler())
	require.NoError(t, err)
	tb := w.tab()
	tb.newConnection("http", "Papers box")
	tb.set("address", address)
	tb.pick(`[name="set sign in"]`, "oauth consent")
	tb.set("client", driftbox.Client)
	tb.fill(`[name="new client secret"]`, driftbox.ClientSecret)
	tb.set("authorize at", address+"/authorize")
	tb.set("token at", address+"/token")
	tb.set("scopes", driftbox.Scopes)
	tb.save()
	tb.sees("#consented", "no consent yet")
	tb.click("#consent")
	tb.away("h1", "Driftbox")
	tb.click("#deny")
	tb.sees("#said", "No consent: access_denied")
	tb.click("#consent")
	tb.away("h1", "Driftbox")
	tb.click("#allow")
	tb.sees("#said", "Connected: consent was given")
	tb.click("#test-it")
	tb.sees("#verdict", "Connected")

	tb.click("#operations details:last-of-type summary")
	tb.fill("#op-title", "List papers")
	tb.keys("\r")
	tb.sees("h1", "List papers")
	tb.set("path", "/files")
	tb.set("records", "/files")
	tb.pick(`[name="set pages"]`, "next field")
	tb.set("next", "/next")
	tb.click("#save-operation")
	tb.sees("#said", "Saved")
	tb.click("#try-it")
	tb.sees("#outcome", "5 records")
	tb.sees("#answer", "bill-of-lading-LS204.txt")
	box.Expire()
	tb.open("/bench/connections/papers-box/operations/list-papers")
	tb.click("#try-it")
	tb.sees("#outcome", "5 records")
	require.Equal(t, 1, box.Refreshed(), "a token that expired is refreshed unseen")
	tb.click("#keep")
	tb.sees("#said", "kept as the schema papers-box-list-papers")
	box.Revoke()
	tb.open("/bench/connections/papers-box/operations/list-papers")
	tb.click("#try-it")
	tb.sees("#answer", "The consent is gone")
	tb.open("/bench/connections/papers-box")
	tb.sees("#consented", "the consent is gone since")
	tb.click("#test-it")
	tb.sees("#verdict", "it does not work")
	tb.open("/estate")
	tb.sees("#connections", "the consent was taken back")
	require.Equal(t, http.StatusUnprocessableEntity, w.Get("/oauth/callback?state=made-up&code=x").StatusCode)
}

// TestTroubleIsNamedByItsCause: a closed port, another host key, an untrusted certificate; a wrong password is shown
// with the database.
func TestTroubleIsNamedByItsCause(t *testing.T) {
	w := newWorld(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed := l.Addr().String()
	require.NoError(t, l.Close())
	tb := w.tab()
	tb.newConnection("http", "Closed desk")
	tb.set("address", "http://"+closed)
	tb.save()
	tb.click("#test-it")
	tb.sees("#test", "nothing answers at "+closed)
	tb.sees("#test", "Check the port")

	server := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	tb.newConnection("http", "Strange desk")
	tb.set("address", server.URL)
	tb.save()
	tb.click("#test-it")
	tb.sees("#test", "the certificate is not of an authority that is trusted here")

	folder := t.TempDir()
	for _, dir := range []string{"outbox", "done"} {
		require.NoError(t, os.Mkdir(filepath.Join(folder, dir), 0o755))
	}
	drop, err := sftpdrop.New(folder)
	require.NoError(t, err)
	port, err := drop.Serve(t.Context())
	require.NoError(t, err)
	tb.newConnection("sftp", "Partner drop")
	for name, v := range drop.Settings(port) {
		if name != "password" && name != "host key" && name != "after" {
			tb.set(name, v)
		}
	}
	tb.fill(`[name="new password"]`, sftpdrop.Password)
	tb.save()
	tb.click("#test-it")
	tb.sees("#test", "nobody has compared yet")
	tb.sees("#test", drop.HostKey())
	tb.set("host key", drop.HostKey())
	tb.click("#save-settings")
	tb.sees("#test", "Press Test")
	tb.click("#test-it")
	tb.sees("#verdict", "Connected")
	drop.Moods.Set(standin.HostKey, true)
	tb.click("#test-it")
	tb.sees("#test", "THE HOST SHOWS ANOTHER KEY")
	require.NotContains(t, w.Body("/bench/connections/partner-drop"), sftpdrop.Password)
	tb.open("/estate")
	tb.sees("#connections", "THE HOST SHOWS ANOTHER KEY")
}

// pick chooses from a list as a person would.
func (tb *tab) pick(selector, text string) {
	tb.T.Helper()
	var got string
	tb.on(selector, `e.value = `+quoted(text)+`; for (const name of ["input", "change"]) e.dispatchEvent(new Event(name, { bubbles: true })); return e.value`, &got)
	require.Equal(tb.T, text, got)
}

// away waits until a page of another site shows a text.
func (tb *tab) away(selector, text string) {
	tb.T.Helper()
	require.Eventually(tb.T, func() bool {
		var there bool
		err := chromedp.Run(tb.ctx, chromedp.Evaluate(`document.readyState === "complete" && document.querySelector(`+quoted(selector)+`)?.textContent.includes(`+quoted(text)+`) === true`, &there))
		return err == nil && there
	}, 15*time.Second, 20*time.Millisecond)
}

func quoted(s string) string { text, _ := json.Marshal(s); return string(text) }

// TestNothingFromOutsideIsRenderedAsHTML: what a system answers is shown as text, wherever it is shown.
func TestNothingFromOutsideIsRenderedAsHTML(t *testing.T) {
	w := newWorld(t)
	evil := `<img src=x onerror="document.title='taken'"><script>document.title='taken'</script>`
	server := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		out.Header().Set("Content-Type", "application/json")
		if r.URL.Path == "/refuse" {
			out.Header().Set("WWW-Authenticate", evil)
			out.WriteHeader(http.StatusTeapot)
		}
		out.Write([]byte(`{"title": ` + quotedJSON(evil) + `, "` + "`<b>`" + `": 1}`))
	}))
	t.Cleanup(server.Close)
	w.Part("connections/evil-desk.yaml", "connection: Evil desk\nkind: http\noperations:\n  - {operation: ask, kind: read, path: /ask}\n  - {operation: refuse, kind: read, path: /refuse}\n")
	w.Reach("evil-desk", "http", map[string]string{"address": server.URL})
	tb := w.tab()
	for _, op := range []string{"ask", "refuse"} {
		tb.open("/bench/connections/evil-desk/operations/" + op)
		tb.click("#try-it")
		tb.sees("#answer", "onerror")
		var taken bool
		tb.do(chromedp.Evaluate(`document.title === "taken" || !!document.querySelector("#answer img, #answer script, #answer b")`, &taken))
		require.False(t, taken)
	}
}

func quotedJSON(s string) string { return `"` + strings.ReplaceAll(s, `"`, `\"`) + `"` }
