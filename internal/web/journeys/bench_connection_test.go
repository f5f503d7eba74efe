package journeys

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// TestAConnectionIsTested: every stage of a database and of a folder, what the database offers, and a
// schema taken of it.
func TestAConnectionIsTested(t *testing.T) {
	w := newWorld(t)
	tb := w.tab()
	tb.open("/bench/connections/harbour-ledger")
	tb.sees("#offers", "station")
	tb.sees("#test", "Press Test")
	tb.keys("t")
	tb.sees("#verdict", "Connected")
	tb.sees("#health", "answers")
	tb.sees("#test", "port reached")
	tb.sees("#test", "signed in")
	tb.fill("#find-table", "_write")
	tb.keys("\r")
	tb.sees("#offers tbody tr:first-child", "tide_level_write")
	tb.click("#offers table button")
	tb.sees("h1", "tide_level_write")

	tb.open("/bench/connections/gauge-drop")
	tb.click("#test-it")
	tb.sees("#verdict", "Connected")
	tb.sees("#test", "permission to write")
	require.NoError(t, os.RemoveAll(w.Folder))
	tb.click("#test-it")
	tb.sees("#verdict", "it does not work")
	tb.sees("#test", "there is no folder")
	tb.sees("#test", "Make the folder")
	tb.open("/estate")
	tb.sees("#connections", "not usable")
	require.Equal(t, http.StatusNotFound, w.Get("/bench/connections/none").StatusCode)
}

// TestAConnectionIsMadeFromNothing: a kind is chosen, settings are filled in, a secret is sealed and never comes
// back, other environments have other settings, and an operation is described, tried and kept.
func TestAConnectionIsMadeFromNothing(t *testing.T) {
	w := newWorld(t)
	u, err := url.Parse(w.Ledger.Config().ConnString())
	require.NoError(t, err)
	tb := w.tab()
	tb.open("/bench/connections/new")
	tb.click(`input[value=sql]`)
	tb.fill("#title", "Second ledger")
	tb.keys("\r")
	tb.sees("h1", "Second ledger")
	tb.sees("#health", "not looked at yet")
	tb.click("#save-settings")
	tb.sees("#settings", "nothing was saved")
	tb.sees("#settings", "needed")
	require.False(t, tb.visible(`[name="set address"]`), "an address is not asked for where fields are chosen")
	tb.fill(`[name="set host"]`, u.Hostname())
	tb.fill(`[name="set port"]`, u.Port())
	tb.fill(`[name="set database"]`, strings.TrimPrefix(u.Path, "/"))
	tb.fill(`[name="set user"]`, u.User.Username())
	tb.fill(`[name="new password"]`, "not-the-word-9182")
	tb.click("#save-settings")
	tb.sees("#said", "Saved")
	require.Equal(t, "second-ledger password", tb.value(`[name="set password"]`))
	tb.click("#test-it")
	tb.sees("#verdict", "it does not work")
	tb.sees("#test", "The password is wrong")
	password, _ := u.User.Password()
	tb.open("/bench/connections/second-ledger")
	tb.fill(`[name="new password"]`, password)
	tb.click("#save-settings")
	tb.sees("#said", "Saved")
	tb.click("#test-it")
	tb.sees("#verdict", "Connected")
	for _, path := range []string{"/bench/connections/second-ledger", "/estate/secrets", "/bench/text?path=connections/second-ledger.yaml"} {
		require.NotContains(t, w.Body(path), "not-the-word-9182")
	}
	tb.open("/estate/secrets")
	tb.sees("#secrets", "second-ledger password")
	tb.sees("#secrets", "Mira Orrin")
	tb.open("/bench/connections/second-ledger?env=Live")
	require.Empty(t, tb.value(`[name="set host"]`), "the live environment has settings of its own")

	tb.open("/bench/connections/second-ledger")
	tb.click("#operations summary")
	tb.fill("#op-title", "Stations above")
	tb.keys("\r")
	tb.sees("h1", "Stations above")
	tb.fill(`[name="set statement"]`, "select id, name from station order by id")
	tb.click("#fetch-shape") // of what was just typed
	tb.sees("#said", "kept as the schema second-ledger-stations-above")
	require.Contains(t, w.Text("connections/second-ledger.yaml"), "statement: select id, name from station order by id")
	require.NotContains(t, w.Text("schemas/second-ledger-stations-above.yaml"), "datum_cm")
	tb.fill(`[name="set statement"]`, "select id, datum_cm, name from station order by id")
	tb.click("#fetch-shape")
	tb.sees("#said", "kept as the schema second-ledger-stations-above")
	require.Contains(t, w.Text("schemas/second-ledger-stations-above.yaml"), "datum_cm")
	tb.fill(`[name="set statement"]`, "select id, name, datum_cm from station order by id")
	tb.click("#try-it")
	tb.sees("#outcome", "4 records")
	tb.sees("#which", "1 of 4")
	tb.sees("#answer", "Ling Castle pier")
	tb.keys("]")
	tb.sees("#which", "2 of 4")
	tb.sees("#answer .exchange", "select id, name, datum_cm from station")
	tb.click("#keep")
	tb.sees("#said", "Kept as the sample")
	require.Contains(t, w.Text("samples/stations-above-answer.json"), "Havra quay")
}

// visible says whether an element is there and shown.
func (tb *tab) visible(selector string) (is bool) {
	tb.T.Helper()
	tb.do(chromedp.Evaluate(fmt.Sprintf(`document.querySelector(%q)?.checkVisibility() === true`, selector), &is))
	return is
}

// value is what stands in a field.
func (tb *tab) value(selector string) (text string) {
	tb.T.Helper()
	tb.on(selector, `return e.value`, &text)
	return text
}

// TestASecretIsNotSentElsewhere: whoever changes the address of a connection has to write its secret anew.
func TestASecretIsNotSentElsewhere(t *testing.T) {
	w := newWorld(t)
	form := func(address, token, fresh string) url.Values {
		s, err := store.SettingOf(t.Context(), w.DB, testkit.Skerry, "quayside")
		if err != nil {
			require.ErrorIs(t, err, store.ErrNotFound)
		}
		return url.Values{"version": {strconv.FormatInt(s.Version, 10)}, "set address": {address}, "set sign in": {"bearer token"}, "set token": {token}, "new token": {fresh}}
	}
	keep := func(form url.Values) int {
		status, _ := w.Post("/bench/connections/quayside/settings?env=Workbench", form)
		return status
	}
	require.Equal(t, 303, keep(form("http://desk.example:81/a", "", "hush")))
	require.Equal(t, 303, keep(form("http://desk.example:81/b", "quayside token", "")))
	require.Equal(t, 200, keep(form("http://evil.example", "quayside token", "")))
	s, err := store.SettingOf(t.Context(), w.DB, testkit.Skerry, "quayside")
	require.NoError(t, err)
	require.Equal(t, "http://desk.example:81/b", s.Chosen["address"])
	require.Equal(t, 303, keep(form("http://other.example", "quayside token", "hush")))
}
