package bench_test

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/store"
	"hollowreed/internal/web/webtest"
)

func TestRunsAreRepeatedAndNothingElse(t *testing.T) {
	w := webtest.New(t)
	w.Drop("a.tide", gauges.Readings(9, 12))
	r := w.Ended("a.tide")
	status, location := w.Post("/traffic/runs/"+r.ID.String()+"/repeat", nil)
	require.Equal(t, http.StatusSeeOther, status)
	require.NotEqual(t, "/traffic/runs/"+r.ID.String(), location)
	again := w.Ended("a.tide")
	for again.ID == r.ID {
		again = w.Ended("a.tide")
	}
	require.Equal(t, r.ID, *again.Parent)
	require.Equal(t, "mira", again.StartedBy)
	status, _ = w.Post("/traffic/runs/"+r.ID.String()+"/resume", nil)
	require.Equal(t, http.StatusConflict, status, "what is done is not resumed")
	status, _ = w.Post("/traffic/runs/"+r.ID.String()+"/cancel", nil)
	require.Equal(t, http.StatusSeeOther, status)
	after, err := store.RunByID(t.Context(), w.DB, r.ID)
	require.NoError(t, err)
	require.Nil(t, after.CancelBy, "what is over is not cancelled")
	for _, path := range []string{"/traffic/runs/none/repeat", "/traffic/runs/00000000-0000-0000-0000-000000000000/repeat", "/traffic/aside/none/mend", "/traffic/aside/99/let-go"} {
		status, _ = w.Post(path, nil)
		require.Equal(t, http.StatusNotFound, status, path)
	}
}

func TestARecordIsLetGoOnce(t *testing.T) {
	w := webtest.New(t)
	w.Drop("a.tide", gauges.Spoilt(11))
	r := w.Ended("a.tide")
	asides, err := store.Asides(t.Context(), w.DB, r.ID, 10)
	require.NoError(t, err)
	require.NotEmpty(t, asides)
	path := fmt.Sprintf("/traffic/aside/%d/", asides[0].ID)
	status, _ := w.Post(path+"let-go", nil)
	require.Equal(t, http.StatusSeeOther, status)
	status, _ = w.Post(path+"let-go", nil)
	require.Equal(t, http.StatusConflict, status)
	status, _ = w.Post(path+"mend", url.Values{"text": {"x"}})
	require.Equal(t, http.StatusConflict, status)
	a, err := store.AsideByID(t.Context(), w.DB, asides[0].ID)
	require.NoError(t, err)
	require.Equal(t, "discarded", a.State)
	require.Equal(t, "mira", *a.HandledBy)
}

// TestSamplesOfOneMoment: samples that are pasted at the same time, or brought under one name, are all kept.
func TestSamplesOfOneMoment(t *testing.T) {
	w := webtest.New(t)
	const many = 6
	before := strings.Count(w.Draft("schemas/booking.yaml").Text, "\n  - ")
	done := make(chan int, many)
	for i := range many {
		go func() {
			res, err := http.PostForm(w.Base()+"/bench/schemas/booking/samples", url.Values{"text": {fmt.Sprintf(`{"number": "B-%d"}`, i)}})
			if err == nil {
				res.Body.Close()
				done <- res.StatusCode
				return
			}
			done <- 0
		}()
	}
	for range many {
		require.Equal(t, http.StatusOK, <-done)
	}
	texts, _, err := store.Texts(t.Context(), w.DB, "skerry")
	require.NoError(t, err)
	for i := range many {
		found := 0
		for path, text := range texts {
			if strings.HasPrefix(path, "samples/booking-2") && strings.Contains(text, fmt.Sprintf(`"B-%d"`, i)) {
				require.Contains(t, texts["schemas/booking.yaml"], "- "+strings.TrimPrefix(path, "samples/")+"\n", "the schema names it")
				found++
			}
		}
		require.Equal(t, 1, found, i)
	}
	require.Equal(t, before+many, strings.Count(texts["schemas/booking.yaml"], "\n  - "))
}

func TestEditsChangeTheTextAndNothingElse(t *testing.T) {
	w := webtest.New(t)
	const flow, mapping = "flows/gauge-readings.yaml", "mappings/reading-to-tide-level.yaml"
	before := w.Draft(flow)
	form := url.Values{"revision": {fmt.Sprint(before.Revision)}, "set where": {`level_cm > 0`}, "set on fault": {"stop"}}
	status, _ := w.Post("/bench/flows/gauge-readings/steps/keep", form)
	require.Equal(t, http.StatusOK, status)
	want := strings.Replace(before.Text, `trend == "R" and level_cm > 0`, "level_cm > 0\n        on fault: stop", 1)
	require.Equal(t, want, w.Draft(flow).Text)
	require.Equal(t, "mira", w.Draft(flow).MadeBy)

	status, _ = w.Post("/bench/flows/gauge-readings/steps/trigger", url.Values{"revision": {fmt.Sprint(w.Draft(flow).Revision)}, "set glob": {"*.txt"}, "set interval": {"5"}})
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, w.Draft(flow).Text, "glob: '*.txt'\n  interval: 5\n")

	rule := func(field, kind, text string) string {
		d := w.Draft(mapping)
		status, _ := w.Post("/bench/mappings/reading-to-tide-level/rule", url.Values{"revision": {fmt.Sprint(d.Revision)}, "field": {field}, "kind": {kind}, "rule": {text}})
		require.Equal(t, http.StatusOK, status)
		return w.Draft(mapping).Text
	}
	old := w.Draft(mapping).Text
	require.Equal(t, strings.Replace(old, "  - field: trend\n    formula: trend\n", "", 1), rule("trend", "formula", ""))
	require.Equal(t, strings.Replace(old, "  - field: trend\n    formula: trend\n", "", 1)+"  - field: trend\n    constant: R\n", rule("trend", "constant", "R"))
	require.Contains(t, rule("unit", "formula", `"mm"`), "  - field: unit\n    formula: '\"mm\"'\n")

	for path, form := range map[string]url.Values{
		"/bench/flows/gauge-readings/steps/keep":     {"revision": {"1"}, "set where": {"true"}},
		"/bench/flows/gauge-readings/steps/trigger":  {"revision": {"many"}},
		"/bench/mappings/reading-to-tide-level/rule": {"field": {"unit"}, "rule": {"x"}},
		"/bench/undo": {"path": {flow}, "revision": {"1"}},
	} {
		status, _ := w.Post(path, form)
		require.Equal(t, http.StatusConflict, status, path)
	}
	for _, path := range []string{"/bench/flows/none/steps/keep", "/bench/mappings/none/rule"} {
		status, _ := w.Post(path, url.Values{"revision": {"1"}})
		require.Equal(t, http.StatusNotFound, status, path)
	}
}

func TestUndoLeadsBackToTheBenchOnly(t *testing.T) {
	w := webtest.New(t)
	const flow = "flows/gauge-readings.yaml"
	before := w.Draft(flow).Text
	status, _ := w.Post("/bench/flows/gauge-readings/steps/keep", url.Values{"revision": {"1"}, "set where": {"true"}})
	require.Equal(t, http.StatusOK, status)
	for _, c := range []struct{ way, back, location string }{
		{"undo", "/bench/flows/gauge-readings?step=keep", "/bench/flows/gauge-readings?step=keep"},
		{"redo", "https://elsewhere.example/", "/bench"},
		{"undo", "//elsewhere.example/bench/", "/bench"},
	} {
		status, location := w.Post("/bench/undo", url.Values{"path": {flow}, "revision": {fmt.Sprint(w.Draft(flow).Revision)}, "way": {c.way}, "back": {c.back}})
		require.Equal(t, http.StatusSeeOther, status)
		require.Equal(t, c.location, location)
	}
	require.Equal(t, before, w.Draft(flow).Text)
	status, _ = w.Post("/bench/undo", url.Values{"path": {flow}, "revision": {fmt.Sprint(w.Draft(flow).Revision)}, "way": {"undo"}})
	require.Equal(t, http.StatusNotFound, status, "there is nothing before the beginning")
}

func TestAFaultyDraftIsNotReleased(t *testing.T) {
	w := webtest.New(t)
	status, _ := w.Post("/bench/flows/gauge-readings/steps/keep", url.Values{"revision": {"1"}, "set where": {"no such name"}})
	require.Equal(t, http.StatusOK, status)
	status, _ = w.Post("/bench/flows/gauge-readings/release", nil)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	releases, err := store.Releases(context.Background(), w.DB, "skerry", 10)
	require.NoError(t, err)
	require.Len(t, releases, 1)
}
