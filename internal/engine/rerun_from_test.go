package engine

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// TestARunBeginsAgainAtAStep: with what its records had come to there; those that failed behind it are done again, those
// that had left before are not; the new run is found from the records that it mends.
func TestARunBeginsAgainAtAStep(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Batch: 2})
	w.drop("again.tide", tide(reading("SK04", 1, 4125, "R"), reading("XX99", 2, 4125, "R"), reading("SK04", 3, 4125, "F"), reading("SK04", 4, 4125, "R")))
	first := w.ended("again.tide")
	require.Equal(t, 1, first.RecordsSetAside)
	_, err := w.ledger.Exec(t.Context(), "insert into station (id, gauge_code, name, datum_cm) select 99, 'XX99', 'New pier', 0 where not exists (select from station where gauge_code = 'XX99')")
	require.NoError(t, err)
	id, err := e.RerunFrom(t.Context(), first.ID, "find", "mo")
	require.NoError(t, err)
	r := w.over(id)
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 4, r.RecordsRead)
	require.Equal(t, 3, r.Counts["find"].In)
	require.Nil(t, r.Counts["keep"])
	require.Equal(t, 1, r.Counts["upsert"].Inserted)
	require.Equal(t, 2, r.Counts["upsert"].Unchanged)
	entry, err := journal.Of(t.Context(), e.db, id, 2)
	require.NoError(t, err)
	require.Equal(t, running.Skipped, entry.State)
	asides, err := store.Asides(t.Context(), w.db, first.ID, 5)
	require.NoError(t, err)
	require.Equal(t, store.AsideRerun, asides[0].State)
	require.Equal(t, id, *asides[0].Rerun)

	for _, step := range []string{"read", "each", "nowhere"} {
		_, err = e.RerunFrom(t.Context(), first.ID, step, "mo")
		require.ErrorContains(t, err, "cannot begin at this step")
	}
}

// TestAMessageBeginsAgainAtAStep: a run without records, on a newer release, with what the steps before had yielded.
func TestAMessageBeginsAgainAtAStep(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	const text = "flow: Two\ntrigger: {kind: person, input: sign-up}\nsteps:\n  - {step: set, id: s, values: {when: 'input.name + \" at \" + text(run.started_at)'}}\n  - {step: stop, id: x, text: when}\n"
	w.add("two", map[string]string{"flows/two.yaml": text})
	first := w.begun("two", card("F1", "Ada"))
	require.Equal(t, store.SetAside, first.State)
	w.add("two", map[string]string{"flows/two.yaml": strings.Replace(text, "{step: stop, id: x", "{step: note, id: x", 1)})
	id, err := e.RerunFrom(t.Context(), first.ID, "x", "mo")
	require.NoError(t, err)
	r := w.over(id)
	require.Equal(t, store.Done, r.State)
	require.Equal(t, first.Fault.Message, w.noted(r), "computed by the first run")
	require.Nil(t, r.Counts["s"])
}
