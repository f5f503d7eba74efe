package engine

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// TestWhatIsKeptOfMessages: everything, the ends and faults, or nothing, as the flow says; a record that was set aside is
// kept with its text in any case.
func TestWhatIsKeptOfMessages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.change("flows/gauge-readings.yaml", "reference: run.file\n", "reference: run.file\nkeeps: ends and faults\n")
	e := w.start(Options{})
	entries := func(name string) (good, bad *journal.Entry) {
		w.drop(name, tide(reading("SK04", 1, 4125, "R"), reading("XX99", 2, 4125, "R")))
		r := w.ended(name)
		var err error
		good, err = journal.Of(t.Context(), e.db, r.ID, 0)
		require.NoError(t, err)
		bad, err = journal.Of(t.Context(), e.db, r.ID, 1)
		require.NoError(t, err)
		asides, err := store.Asides(t.Context(), w.db, r.ID, 5)
		require.NoError(t, err)
		require.Contains(t, string(asides[0].Raw), "XX99")
		return good, bad
	}
	names := func(e *journal.Entry) string {
		var list []string
		for _, name := range []string{"reading", "station", "row"} {
			if e.Values[name] != nil {
				list = append(list, name)
			}
		}
		return strings.Join(list, " ")
	}
	good, bad := entries("ends.tide")
	require.Equal(t, "reading row", names(good))
	require.Equal(t, "reading", names(bad))
	require.NotEmpty(t, bad.Faults)

	w.change("flows/gauge-readings.yaml", "keeps: ends and faults\n", "keeps: nothing\n")
	_, err := e.CreateRelease(t.Context(), testkit.Skerry, flowID, "", "mo")
	require.NoError(t, err)
	good, bad = entries("nothing.tide")
	require.Empty(t, names(good)+names(bad)+good.Raw+bad.Raw)
	require.Equal(t, running.Done, good.State)
	require.NotEmpty(t, bad.Faults, "what became of it is kept")
}

// TestOldRunsAreRemoved: with all that belongs to them, when their time is over; one whose records wait for somebody stays,
// and a file is not taken twice because its run is gone.
func TestOldRunsAreRemoved(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.change("flows/gauge-readings.yaml", "reference: run.file\n", "reference: run.file\nkept for: 1\n")
	e := w.start(Options{Sweep: 50 * time.Millisecond})
	w.drop("good.tide", tide(reading("SK04", 1, 4125, "R")))
	w.drop("bad.tide", tide(reading("XX99", 1, 4125, "R")))
	good, bad := w.ended("good.tide"), w.ended("bad.tide")
	_, err := e.Rerun(t.Context(), good.ID, RerunOptions{By: "mo"})
	require.NoError(t, err)
	_, err = w.db.Exec(t.Context(), "update run set created_at = created_at - interval '26 hours', ended_at = now() - interval '25 hours' where id = any($1)", []any{good.ID, bad.ID})
	require.NoError(t, err)
	testkit.Until(t, "the old run to go", func() (int, bool) {
		n := 0
		require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from run where id = $1", good.ID).Scan(&n))
		return n, n == 0
	})
	for _, table := range []string{"journal", "effect", "reference"} {
		n := 0
		require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from "+table+" where run = $1", good.ID).Scan(&n))
		require.Zero(t, n, table)
	}
	_, err = store.RunByID(t.Context(), w.db, bad.ID)
	require.NoError(t, err, "its record waits for somebody")
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Reference: "good.tide", Most: 5})
	require.NoError(t, err)
	require.Len(t, runs, 1, "the one that was run again")
	require.Nil(t, runs[0].Parent)
}

// TestTheFiguresOfAFlowAndItsConnections are those of all workers together.
func TestTheFiguresOfAFlowAndItsConnections(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{Health: time.Hour})
	w.drop("one.tide", tide(reading("SK04", 1, 4125, "R")))
	w.drop("two.tide", tide(reading("XX99", 1, 4125, "R")))
	w.ended("one.tide")
	w.ended("two.tide")
	figures := testkit.Until(t, "the figures", func() (map[string]store.MetricAt, bool) {
		list, err := store.Metrics(t.Context(), w.db, testkit.Skerry, time.Now().Add(-time.Hour), 600)
		require.NoError(t, err)
		by := map[string]store.MetricAt{}
		for _, f := range list {
			was := by[f.Kind+" "+f.Name]
			f.Count, f.Failed = f.Count+was.Count, f.Failed+was.Failed
			by[f.Kind+" "+f.Name] = f
		}
		return by, by["flow gauge-readings"].Count == 2 && by["connection harbour-ledger"].Count >= 2
	})
	require.Equal(t, 1, figures["flow gauge-readings"].Failed)
	f := store.Metric{Durations: figures["flow gauge-readings"].Durations}
	require.Positive(t, f.Quantile(0.5))
	families, err := w.engine.Metrics().Gather()
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, m := range families {
		seen[m.GetName()] = true
	}
	for _, name := range []string{"hollowreed_runs_total", "hollowreed_run_seconds", "hollowreed_calls_total", "hollowreed_workers", "hollowreed_aside_records"} {
		require.True(t, seen[name], name)
	}
}

func TestSpansOfDurations(t *testing.T) {
	f := store.Metric{}
	for _, ms := range []int{0, 1, 2, 3, 4, 5, 100, 1 << 30} {
		f.Add(time.Duration(ms)*time.Millisecond, false)
	}
	require.Equal(t, []int32{2, 1, 2, 1}, f.Durations[:4])
	require.Equal(t, int32(1), f.Durations[store.Spans-1])
	require.Equal(t, 4*time.Millisecond, f.Quantile(0.5))
	require.Equal(t, 128*time.Millisecond, f.Quantile(0.8))
}

// TestLargeInputsAreKeptInPieces: what an operation answers, or another machine's file, is kept with its run in pieces, read
// again piece by piece, and given to a run that is done again.
func TestLargeInputsAreKeptInPieces(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	const n = 40_000
	_, err := w.ledger.Exec(t.Context(), "create table heap (id int primary key, text text); insert into heap select i, repeat('kelp', 25) from generate_series(1, $1) i", pgx.QueryExecModeSimpleProtocol, n)
	require.NoError(t, err)
	w.add("heaps", map[string]string{
		"schemas/heap.yaml":               "schema: Heap\nnotation: json\nfields:\n  - {name: id, type: integer}\n  - {name: text, type: text}\n",
		"connections/harbour-ledger.yaml": w.part("connections/harbour-ledger.yaml") + "  - operation: heap\n    name: Heap\n    kind: query\n    statement: select id, text from heap order by id\n    response: heap\n",
		"flows/heaps.yaml":                "flow: Heaps\ntrigger: {kind: person}\nkeeps: nothing\nsteps:\n  - {step: read, id: read, connection: harbour-ledger, operation: heap, as: heap}\n  - {step: each, id: each, of: heap, steps: [{step: tally, id: t, as: total, becomes: total + id}]}\n  - {step: note, id: n, text: text(total)}\n",
	})
	r := w.begun("heaps", nil)
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, n, r.RecordsRead)
	pieces := func(id uuid.UUID) (n int) {
		require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from run_content where run = $1", id).Scan(&n))
		return n
	}
	require.Greater(t, pieces(r.ID), 2)
	require.Equal(t, strconv.Itoa(n*(n+1)/2), w.noted(r))
	_, err = w.ledger.Exec(t.Context(), "drop table heap")
	require.NoError(t, err)
	again, err := e.Rerun(t.Context(), r.ID, RerunOptions{By: "mo", Same: true})
	require.NoError(t, err)
	second := w.over(again)
	require.Equal(t, n, second.RecordsRead, "with the records that the first has read")
	require.Equal(t, pieces(r.ID), pieces(again))
}
