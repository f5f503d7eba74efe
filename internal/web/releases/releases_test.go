package releases_test

import (
	"net/http"
	"net/url"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/testdb"
	"hollowreed/internal/web/webtest"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// TestReleasesAreListed: each with its number, note and who made it; one is made of the draft, unless that is what runs already.
func TestReleasesAreListed(t *testing.T) {
	w := webtest.New(t)
	page := w.Shows("/releases")
	w.Has(page, "First light")
	w.Has(page, webtest.Person.Name)
	w.Has(w.Shows("/bench/flows/vehicle/release"), "Release")
	status, _ := w.Post("/bench/flows/vehicle/release", url.Values{"note": {"vehicles are warned about"}})
	require.Equal(t, http.StatusSeeOther, status)
	page = w.Shows("/releases")
	w.Has(page, "vehicles are warned about")
	w.Change("flows/vehicle.yaml", "class == ", "no.such == ")
	status, _ = w.Post("/bench/flows/vehicle/release", url.Values{"note": {"with a fault"}})
	require.NotEqual(t, http.StatusSeeOther, status)
	w.HasNot(w.Shows("/releases"), "with a fault")
}
