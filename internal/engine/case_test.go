package engine

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/store"
)

// played loads the draft with a case in it, and runs it.
func (w *world) played(text []byte, change func(texts map[string]string)) project.Result {
	w.t.Helper()
	texts, _, err := store.Texts(w.t.Context(), w.db, "skerry")
	require.NoError(w.t, err)
	texts = maps.Clone(texts)
	texts["cases/kept.yaml"] = string(text)
	if change != nil {
		change(texts)
	}
	p := project.Load("skerry", texts)
	require.Empty(w.t, p.Faults)
	for _, c := range p.CasesOf("") {
		if c.ID == "kept" {
			return p.RunCase(c)
		}
	}
	w.t.Fatal("the case is not there")
	return project.Result{}
}

// TestASampleBecomesACase: with what was looked up and what writing did; it holds without any system, until something is
// changed that matters to it.
func TestASampleBecomesACase(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	p := w.draft()
	run, f := e.Tries.SampleCase(t.Context(), p, flowID, "sk_0309.tide", 1, tries.TestOptions{})
	require.Nil(t, f)
	text, f := p.NewFlowCase("First reading", flowID, run)
	require.Nil(t, f)
	r := w.played(text, nil)
	require.True(t, r.OK(), "%v %v", r.Fault, r.Differences)
	require.Len(t, r.Case.Account, 3)
	require.Contains(t, r.Case.Account[0].Is, `"unit":"cm"`)

	r = w.played(text, func(texts map[string]string) {
		texts["mappings/reading-to-tide-level.yaml"] = strings.Replace(texts["mappings/reading-to-tide-level.yaml"], "constant: cm", "constant: mm", 1)
		delete(texts, "cases/surge-at-orma-slip.yaml")
	})
	require.Equal(t, "asked by upsert", r.Differences[0].Path)
	require.Contains(t, r.Differences[0].Found, `"unit":"mm"`)
	r = w.played(text, func(texts map[string]string) {
		texts["flows/gauge-readings.yaml"] = strings.Replace(texts["flows/gauge-readings.yaml"], `trend == "R"`, `trend == "F"`, 1)
	})
	require.Equal(t, []string{"asked by upsert", "record 1"}, []string{r.Differences[0].Path, r.Differences[1].Path})
	require.Contains(t, r.Differences[1].Found, "skipped at keep")
}

// TestARunBecomesACase: with what systems and flows that it called answered then, refusals among it.
func TestARunBecomesACase(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.add("splitting", map[string]string{"flows/greeting.yaml": greeting, "flows/splitting.yaml": strings.Replace(splitting, "%WAIT%", "yes", 1)})
	r := w.begun("splitting", card("S", "Ada Bad Cem"))
	run, p, err := e.Tries.RunCase(t.Context(), r)
	require.NoError(t, err)
	text, f := p.NewFlowCase("Three names", "splitting", run)
	require.Nil(t, f)
	require.Contains(t, string(text), "hello Ada")
	require.Contains(t, string(text), "the kiosk is closed")
	got := w.played(text, nil)
	require.True(t, got.OK(), "%v %v", got.Fault, got.Differences)
	require.Contains(t, got.Case.Account[len(got.Case.Account)-1].Is, "1 entries set aside")

	w.drop("case.tide", tide(reading("SK04", 1, 4125, "R"), reading("XX99", 2, 4125, "R")))
	run, p, err = e.Tries.RunCase(t.Context(), w.ended("case.tide"))
	require.NoError(t, err)
	text, f = p.NewFlowCase("Two readings", flowID, run)
	require.Nil(t, f)
	got = w.played(text, nil)
	require.True(t, got.OK(), "%v %v", got.Fault, got.Differences)
	require.Contains(t, string(text), "inserted")
	require.Contains(t, string(text), "set aside at find")
}
