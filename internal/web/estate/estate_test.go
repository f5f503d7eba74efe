package estate_test

import (
	"net/http"
	"net/url"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
	"hollowreed/internal/web/webtest"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// TestTheEstateShowsWhatAProjectStandsOn: its connections with how they answer, and its workers.
func TestTheEstateShowsWhatAProjectStandsOn(t *testing.T) {
	w := webtest.New(t)
	page := w.Shows("/estate")
	w.Has(page, "Harbour ledger")
	w.Has(page, w.Engine.ID)
	testkit.Until(t, "the ledger to be looked at", func() (store.Health, bool) {
		all, err := store.Healths(t.Context(), w.DB, testkit.Skerry)
		require.NoError(t, err)
		return all["harbour-ledger"], all["harbour-ledger"].Healthy
	})
	require.NoError(t, w.Site.Operator(webtest.As(t.Context(), webtest.Person)).NoteHealth(t.Context(), "Workbench", store.Health{Connection: "quayside", Fault: "port reached: refused"}))
	w.Has(w.Shows("/estate"), "port reached: refused")
}

// TestASecretIsKeptAndNeverShown: it is sealed under its name, told by its name and purpose, and goes when nothing uses it.
func TestASecretIsKeptAndNeverShown(t *testing.T) {
	w := webtest.New(t)
	const content = "a very private word"
	status, page := w.Sends("/estate/secrets", "name", "desk token", "type", "token", "about", "for the desk", "expires", "2020-01-01", "content", content)
	require.Equal(t, http.StatusOK, status)
	w.Has(page, "Kept desk token")
	w.Has(page, "for the desk")
	w.Has(page, "expired")
	w.HasNot(page, content)
	for what, form := range map[string][]string{
		"one of":          {"name", "x", "type", "riddle", "content", "y"},
		"a date":          {"name", "x", "type", "token", "expires", "soon", "content", "y"},
		"a name of small": {"name", "NO NAME!", "type", "token", "content", "y"},
	} {
		_, page := w.Sends("/estate/secrets", form...)
		w.HasNot(page, "Kept")
		require.NotEmpty(t, what)
	}
	status, _ = w.Sends("/estate/secrets?env=Nowhere", "name", "x", "type", "token", "content", "y")
	require.Equal(t, http.StatusNotFound, status)
	plain, err := w.Vault.Get(t.Context(), "desk token")
	require.NoError(t, err)
	require.Equal(t, content, plain)

	w.Reach("quayside", "http", map[string]string{"address": "http://127.0.0.1:1", "sign in": "bearer token", "token": "x"})
	status, page = w.Sends("/estate/secrets/remove", "name", "quayside token")
	require.NotEqual(t, http.StatusOK, status)
	w.Has(page, "quayside token is used by quayside")
	status, location := w.Post("/estate/secrets/remove", url.Values{"name": {"desk token"}})
	require.Equal(t, http.StatusSeeOther, status)
	require.Contains(t, location, "Removed")
	w.HasNot(w.Shows("/estate/secrets"), "for the desk")
	status, _ = w.Post("/estate/secrets/remove", url.Values{"name": {"desk token"}})
	require.Equal(t, http.StatusNotFound, status)
}
