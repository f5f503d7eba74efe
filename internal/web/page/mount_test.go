package page

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// TestLinksOfAPageLeadBelowItsProject: those that lead within the project, in attributes that hold addresses, and no text that
// looks like one.
func TestLinksOfAPageLeadBelowItsProject(t *testing.T) {
	for page, want := range map[string]string{
		`<a href="/bench">`:                             `<a href="/p/quay/bench">`,
		`<a class="x"` + "\n" + `href="/traffic?a=b">`:  `<a class="x"` + "\n" + `href="/p/quay/traffic?a=b">`,
		`<form action="/find"><a href="/find#a">`:       `<form action="/p/quay/find"><a href="/p/quay/find#a">`,
		`<b hx-get="/estate/x" hx-post="/releases/y">`:  `<b hx-get="/p/quay/estate/x" hx-post="/p/quay/releases/y">`,
		`<button formaction="/bench/a"`:                 `<button formaction="/p/quay/bench/a"`,
		`<body data-stream="/live">`:                    `<body data-stream="/p/quay/live">`,
		`<i data-help="/bench/help?x">`:                 `<i data-help="/p/quay/bench/help?x">`,
		`<a href="/assets/app.css">`:                    `<a href="/assets/app.css">`,
		`<a href="/benches">`:                           `<a href="/benches">`,
		`<a href="//bench/x">`:                          `<a href="//bench/x">`,
		`<a href="https://a.example/bench">`:            `<a href="https://a.example/bench">`,
		`<input value="/bench/x">`:                      `<input value="/bench/x">`,
		`<input name="back" value="/traffic" ` + "\n>":  `<input name="back" value="/traffic" ` + "\n>",
		`<i data-text="/live">`:                         `<i data-text="/live">`,
		`<textarea>href=&#34;/bench&#34;</textarea>`:    `<textarea>href=&#34;/bench&#34;</textarea>`,
		`<p>/bench</p>`:                                 `<p>/bench</p>`,
		`<a href="/bench`:                               `<a href="/p/quay/bench`,
		`="/bench">`:                                    `="/bench">`,
		``:                                              ``,
		`<a href="/live"><a href="/live"></a>="/find" `: `<a href="/p/quay/live"><a href="/p/quay/live"></a>="/find" `,
	} {
		require.Equal(t, want, string(mounted("/p/quay", []byte(page))))
		require.Equal(t, page, string(mounted("", []byte(page))), "where the project stands at the root")
	}
}

// TestAMountedPageKnowsWhoAsks: what leads on leads below the project, and elsewhere where it leads elsewhere.
func TestAMountedPageKnowsWhoAsks(t *testing.T) {
	for to, want := range map[string]string{
		"/bench/parts": "/p/quay/bench/parts", "/traffic": "/p/quay/traffic", "https://a.example/bench": "https://a.example/bench", "//a.example/bench": "//a.example/bench", "/p/other/bench": "/p/other/bench",
	} {
		rec := httptest.NewRecorder()
		r := httptest.NewRequest(http.MethodGet, "/p/quay/bench/new", nil)
		Mount(rec, r, "quay", store.Person{ID: "ta"}, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			require.Equal(t, "/bench/new", r.URL.Path)
			require.Equal(t, "ta", Person(r.Context()).ID)
			w.Header().Set("HR-Location", to)
			http.Redirect(w, r, to, http.StatusSeeOther)
		}))
		require.Equal(t, want, rec.Header().Get("Location"))
		require.Equal(t, want, rec.Header().Get("HR-Location"))
		require.Equal(t, http.StatusSeeOther, rec.Code)
	}
	require.Empty(t, Person(t.Context()).ID, "nobody asks")
}

// TestTheStateOfAConsentSaysOfWhichProjectItIs.
func TestTheStateOfAConsentSaysOfWhichProjectItIs(t *testing.T) {
	require.Equal(t, "quay-2", ProjectOf(StateOf("quay-2")))
	require.NotEqual(t, StateOf("quay"), StateOf("quay"))
	for _, odd := range []string{"", "made-up", "."} {
		require.Empty(t, ProjectOf(odd))
	}
}
