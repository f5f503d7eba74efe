package engine

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// told are the texts that the flow of the alerts was run with, in their order.
func (w *world) told() (texts []string) {
	w.t.Helper()
	runs, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Flow: "telling", State: store.Done, Most: 50})
	require.NoError(w.t, err)
	for i := len(runs) - 1; i >= 0; i-- {
		entry, err := journal.Of(w.t.Context(), w.engine.db, runs[i].ID, running.WholeRun)
		require.NoError(w.t, err)
		texts = append(texts, entry.Notes[0].Message)
	}
	return texts
}

func (w *world) tells(n int) []string {
	w.t.Helper()
	return testkit.Until(w.t, "alerts to be told", func() ([]string, bool) {
		texts := w.told()
		return texts, len(texts) >= n
	})
}

const telling = `
flow: Telling
trigger: {kind: person, input: trouble, as: trouble}
steps:
  - {step: note, id: n, text: 'trouble.state + ": " + trouble.text'}
`

// missing is the fault of a reading of a station that the ledger does not know.
func missing(code string) string {
	return "Find station: expected a row of station, found no row of station with gauge_code \"" + code + "\""
}

// TestAlertsAreToldOncePerCause: when a flow has failed often enough for one cause, again after a while, and when it is over;
// of several workers one tells it.
func TestAlertsAreToldOncePerCause(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, path := range []string{"alerts/no-readings.yaml", "alerts/systems-down.yaml", "alerts/trouble.yaml"} {
		w.change(path, "run flow: trouble-to-the-board\n", "run flow: trouble-to-the-board\ndisabled: true\n")
	}
	o := Options{Alerts: 50 * time.Millisecond, Health: time.Hour}
	w.start(o)
	w.start(o)
	w.add("telling", map[string]string{"flows/telling.yaml": telling})
	w.add("telling", map[string]string{"alerts/twice.yaml": "alert: Twice\nwhen: a flow fails\nflow: gauge-readings\ntimes: 2\nwithin: 3600\nreminder: 0\nruns: telling\n"})
	w.drop("one.tide", tide(reading("XX99", 1, 4125, "R")))
	w.ended("one.tide")
	w.drop("good.tide", tide(reading("SK04", 1, 4125, "R")))
	w.ended("good.tide")
	require.Empty(t, w.told(), "once is not often enough")
	w.drop("two.tide", tide(reading("XX77", 1, 4125, "R")))
	w.ended("two.tide")
	require.Equal(t, []string{`raised: 2 times: ` + missing("XX77") + `, in two.tide (gauge-readings)`}, w.tells(1))
	w.drop("three.tide", tide(reading("XX55", 1, 4125, "R")))
	w.ended("three.tide")
	testkit.Until(t, "the third to be counted", func() (int, bool) {
		open, err := store.OpenAlertStates(t.Context(), w.db, testkit.Skerry, "twice")
		require.NoError(t, err)
		return open[0].Count, open[0].Count == 3
	})

	_, err := w.db.Exec(t.Context(), "update set_aside set state = 'discarded'")
	require.NoError(t, err)
	require.Equal(t, `cleared: over: 3 times: `+missing("XX55")+`, in three.tide (gauge-readings)`, w.tells(2)[1], "the third was counted, and not told")
	alarms, err := store.AlertStates(t.Context(), w.db, testkit.Skerry, 10)
	require.NoError(t, err)
	require.Len(t, alarms, 1)
	require.NotNil(t, alarms[0].ResolvedAt)
	require.NotNil(t, alarms[0].Run)
}

// TestAlertsOfAbsenceBacklogAndLongRuns: nothing arrives, runs wait, a run takes long, a connection is down; what lasts is
// told again.
func TestAlertsOfAbsenceBacklogAndLongRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, path := range []string{"alerts/no-readings.yaml", "alerts/systems-down.yaml", "alerts/trouble.yaml"} {
		w.change(path, "run flow: trouble-to-the-board\n", "run flow: trouble-to-the-board\ndisabled: true\n")
	}
	broken := store.Scope{Project: "broken", Environment: testkit.Skerry.Environment} // it has no parts, and stands before the other
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error {
		if _, err := store.AddProject(t.Context(), tx, broken.Project, "Broken", nil, "mo"); err != nil {
			return err
		}
		n, err := store.AddRelease(t.Context(), tx, store.Release{Project: broken.Project, Flow: "f", MadeBy: "mo"}, map[string]string{"flows/f.yaml": "flow: F\n"})
		if err != nil {
			return err
		}
		return store.Deploy(t.Context(), tx, broken, "f", n, "mo")
	}))
	w.start(Options{Alerts: 50 * time.Millisecond, Health: 100 * time.Millisecond})
	_, err := w.engine.CreateRelease(t.Context(), testkit.Skerry, flowID, "first", "mo")
	require.NoError(t, err)
	w.add("telling", map[string]string{"flows/telling.yaml": telling})
	w.add("resting", map[string]string{"flows/resting.yaml": "flow: Resting\ntrigger: {kind: person, input: sign-up}\nsteps:\n  - {step: wait, id: w, seconds: 'input.kiosk == \"K1\" ? 60 : 0'}\n"})
	w.add("telling", map[string]string{
		"alerts/a.yaml": "alert: Silence\nwhen: nothing arrives\nflow: gauge-readings\nwithin: 1\nreminder: 1\nruns: telling\n",
	})
	require.Equal(t, []string{"raised: nothing has ever arrived", "reminder: nothing has ever arrived"}, w.tells(2)[:2])
	w.change("alerts/a.yaml", "alert: Silence\n", "alert: Silence\noff: true\n")

	n := len(w.told())
	w.begin("resting", card("A1", "Ada"))
	w.begin("resting", card("A2", "Bo"))
	w.add("telling", map[string]string{"alerts/b.yaml": "alert: Backlog\nwhen: a backlog grows\nflow: resting\ntimes: 1\nreminder: 0\nruns: telling\n"})
	require.Contains(t, w.tells(n+1), "raised: 2 runs wait")
}

// TestWhatComesAgainIsToldInTheRhythm: each time, or at most so often; and it is over only when nothing of it waits any more.
func TestWhatComesAgainIsToldInTheRhythm(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, path := range []string{"alerts/no-readings.yaml", "alerts/systems-down.yaml", "alerts/trouble.yaml"} {
		w.change(path, "run flow: trouble-to-the-board\n", "run flow: trouble-to-the-board\ndisabled: true\n")
	}
	w.start(Options{Site: "http://127.0.0.1:1", Alerts: 50 * time.Millisecond, Health: time.Hour})
	w.change("schemas/trouble.yaml", "  - {name: since, type: timestamp}\n", "  - {name: since, type: timestamp}\n  - {name: count, type: integer}\n")
	w.add("telling", map[string]string{"flows/telling.yaml": "\nflow: Telling\ntrigger: {kind: person, input: trouble, as: trouble}\nsteps:\n" +
		`  - {step: note, id: n, text: 'trouble.state + " " + text(trouble.count) + " " + (trouble.value ?? "") + " " + (trouble.reference ?? "") + " " + (trouble.address ?? "")'}` + "\n"})
	w.add("telling", map[string]string{"alerts/each.yaml": "alert: Each\nwhen: a flow fails\nflow: gauge-readings\nwithin: 2\nreminder: 0\ntells: each\nruns: telling\n"})
	w.drop("one.tide", tide(reading("XX99", 1, 4125, "R")))
	w.ended("one.tide")
	require.Regexp(t, `^raised 1 no row of station with gauge_code "XX99" one.tide http://127.0.0.1:1/p/skerry/traffic/runs/[0-9a-f-]{36}$`, w.tells(1)[0])
	w.drop("two.tide", tide(reading("XX77", 1, 4125, "R")))
	w.ended("two.tide")
	require.Regexp(t, `^again 2 no row of station with gauge_code "XX77" two.tide http`, w.tells(2)[1])

	looked := testkit.Until(t, "the window to be over", func() (time.Time, bool) {
		var newest time.Time
		err := w.db.QueryRow(t.Context(), "select max(ended_at) from run where flow = 'gauge-readings'").Scan(&newest)
		require.NoError(t, err)
		return newest, time.Since(newest) > 3*time.Second
	})
	open, err := store.OpenAlertStates(t.Context(), w.db, testkit.Skerry, "each")
	require.NoError(t, err)
	require.Len(t, open, 1, "both records wait still, though they came before %s", looked)
	require.Len(t, w.told(), 2)
	_, err = w.db.Exec(t.Context(), "update set_aside set state = 'discarded'")
	require.NoError(t, err)
	require.Equal(t, "cleared 2", w.tells(3)[2][:9])
}
