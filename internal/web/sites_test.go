package web_test

import (
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/store"
	"hollowreed/internal/web/webtest"
)

// answered asks a server without following where it leads.
func answered(t *testing.T, method, address string) (status int, location, body string) {
	t.Helper()
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	req, err := http.NewRequestWithContext(t.Context(), method, address, nil)
	require.NoError(t, err)
	res, err := client.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, res.Header.Get("Location"), string(text)
}

// TestAddressesWithoutAProjectLeadToTheOldest: they were those of the only one; forms are sent on as they are.
func TestAddressesWithoutAProjectLeadToTheOldest(t *testing.T) {
	w := webtest.New(t)
	for address, want := range map[string]string{
		"GET /":                                  "/p/skerry/",
		"GET /bench/flows/gauge-readings?step=a": "/p/skerry/bench/flows/gauge-readings?step=a",
		"POST /bench/flows":                      "/p/skerry/bench/flows",
		"GET /traffic":                           "/p/skerry/traffic",
		"GET /estate/secrets":                    "/p/skerry/estate/secrets",
		"GET /p/skerry/":                         "/p/skerry/bench",
		"GET /oauth/callback?state=skerry.1&code=x": "/p/skerry/oauth/callback?state=skerry.1&code=x",
	} {
		method, path, _ := strings.Cut(address, " ")
		status, location, _ := answered(t, method, w.Server.URL+path)
		require.Contains(t, []int{http.StatusTemporaryRedirect, http.StatusFound}, status, address)
		require.Equal(t, want, location, address)
	}
	status, _, page := answered(t, http.MethodGet, w.Server.URL+"/p/none/bench")
	require.Equal(t, http.StatusNotFound, status)
	require.Contains(t, page, "There is no such project here.")
	res, err := http.Get(w.Server.URL + "/p/none/bench")
	require.NoError(t, err)
	res.Body.Close()
	require.Contains(t, res.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
	status, _, _ = answered(t, http.MethodGet, w.Server.URL+"/p/skerry/nothing")
	require.Equal(t, http.StatusNotFound, status)
}

// TestEachProjectHasPagesOfItsOwn: what one has is not shown by the other, not even to who knows its id.
func TestEachProjectHasPagesOfItsOwn(t *testing.T) {
	w := webtest.New(t)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.DB, func(tx pgx.Tx) error {
		_, err := store.AddProject(t.Context(), tx, "quay", "Quay & Sons", map[string]string{
			"project.yaml": "project: Quay & Sons\n", "flows/tidy.yaml": "flow: Tidy\ntrigger: {kind: person}\nsteps:\n  - {step: note, id: n, text: '\"tidy\"'}\n",
		}, webtest.Person.ID)
		return err
	}))
	quay := store.Scope{Project: "quay", Environment: w.Site.Environment}
	_, err := w.Engine.CreateRelease(t.Context(), quay, "tidy", "", webtest.Person.ID)
	require.NoError(t, err)
	own := w.Dropped("own.tide", gauges.Readings(9, 1))
	other := w.Server.URL + "/p/quay"
	status, _, page := answered(t, http.MethodGet, other+"/bench")
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, page, "Quay &amp; Sons")
	require.Contains(t, page, `href="/p/quay/bench/flows/tidy"`)
	require.NotContains(t, page, "gauge-readings")
	for _, link := range regexp.MustCompile(`(?:href|action|hx-get|hx-post|formaction)="(/[^"]*)"`).FindAllStringSubmatch(page, -1) {
		require.True(t, strings.HasPrefix(link[1], "/p/quay/") || strings.HasPrefix(link[1], "/assets/"), "it leads to %s", link[1])
	}

	w.Has(w.Shows("/traffic"), own.Reference)
	status, _, page = answered(t, http.MethodGet, other+"/traffic")
	require.Equal(t, http.StatusOK, status)
	require.NotContains(t, page, own.Reference)
	status, _, _ = answered(t, http.MethodGet, other+"/traffic/runs/"+own.ID.String())
	require.Equal(t, http.StatusNotFound, status, "a run of the other project")

	res, err := http.PostForm(other+"/bench/flows/tidy/run", url.Values{})
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.True(t, strings.HasPrefix(res.Request.URL.Path, "/p/quay/traffic/runs/"), res.Request.URL.Path)
	runs, err := store.Runs(t.Context(), w.DB, store.RunFilter{Scope: quay, Most: 5})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Equal(t, webtest.Person.ID, runs[0].StartedBy)
}
