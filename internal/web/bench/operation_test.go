package bench_test

import (
	"net/http"
	"net/url"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/web/webtest"
)

const listBookings = "/bench/connections/quayside/operations/list-bookings"

// TestAnOperationIsSetOnItsPage: what is written is in the part, in its place; pairs are added and taken away by their rows; what
// is as it is anyway needs no line.
func TestAnOperationIsSetOnItsPage(t *testing.T) {
	w := webtest.New(t)
	page := w.Shows(listBookings)
	w.Has(page, `name="set path"`)
	w.Has(page, `name="set query.name.0"`)
	w.Has(page, `data-help="`+listBookings+`/help?setting=query"`)
	save := func(pairs ...string) int {
		t.Helper()
		form := url.Values{"revision": {strconv.FormatInt(w.Draft("connections/quayside.yaml").Revision, 10)}, "name": {"List bookings"}, "request": {"booking-query"}, "response": {"booking"}}
		for i := 0; i < len(pairs); i += 2 {
			form.Set(pairs[i], pairs[i+1])
		}
		status, _ := w.Post(listBookings, form)
		return status
	}
	before := w.Text("connections/quayside.yaml")
	require.Equal(t, http.StatusSeeOther, save("set path", "/bookings", "set method", "GET"))
	require.Equal(t, before, w.Text("connections/quayside.yaml"), "nothing was changed")
	require.Equal(t, http.StatusSeeOther, save("set path", "/bookings/all", "set query.name.0", "since", "set query.formula.0", "since", "set query.name.1", "island", "set query.formula.1", `"OR"`, "set query.name.2", "", "set query.formula.2", ""))
	after := w.Text("connections/quayside.yaml")
	require.Contains(t, after, "path: /bookings/all")
	require.Contains(t, after, `island: '"OR"'`)
	require.NotContains(t, after, "size:", "its row was taken away")
	require.Equal(t, http.StatusSeeOther, save("set query.name.0", "since", "set query.formula.0", "snice"))
	w.Has(w.Shows(listBookings), "snice")
	w.Has(w.Shows(listBookings), "there is no")
}

// TestAFormulaOfAnOperationIsCompleted: with the fields of its request; and with those of its response where it is about that.
func TestAFormulaOfAnOperationIsCompleted(t *testing.T) {
	w := webtest.New(t)
	help := func(setting, rule string) string {
		return w.Shows(listBookings + "/help?setting=" + url.QueryEscape(setting) + "&rule=" + url.QueryEscape(rule) + "&at=" + strconv.Itoa(len(rule)))
	}
	w.Has(help("query", "sin"), "since")
	w.HasNot(help("query", "response.st"), "status")
	w.Has(help("fails when", "response.st"), "status")
	require.Equal(t, http.StatusNotFound, w.Get(listBookings+"/help?setting=riddle").StatusCode)
	require.Equal(t, http.StatusNotFound, w.Get("/bench/connections/quayside/operations/none/help?setting=query").StatusCode)
}
