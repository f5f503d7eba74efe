package engine

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/engine/tries"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// many is a file of rising readings that differ in their time.
func many(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "SK04%d%02d%02d%02d%02d00%05d038036%02dR\r\n", 2031+i/600_000, 1+i/50_000%12, 1+i/1440%28, i/60%24, i%60, 1000+i%7000, 10)
	}
	return b.String()
}

func (w *world) change(path, old, now string) {
	w.t.Helper()
	draft, err := store.PartDraft(w.t.Context(), w.db, "skerry", path)
	require.NoError(w.t, err)
	text := strings.Replace(draft.Text, old, now, 1)
	require.NotEqual(w.t, draft.Text, text)
	require.NoError(w.t, pgx.BeginFunc(w.t.Context(), w.db, func(tx pgx.Tx) error {
		return store.SavePart(w.t.Context(), tx, "skerry", path, text, draft.Revision, "mo")
	}))
}

func (w *world) run(file string) store.Run {
	w.t.Helper()
	return testkit.Until(w.t, "a run of "+file, func() (store.Run, bool) {
		runs, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Reference: file, Most: 1})
		require.NoError(w.t, err)
		if len(runs) == 0 {
			return store.Run{}, false
		}
		return runs[0], true
	})
}

func TestTheLedgerGoesDownInMidRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Batch: 20, Attempts: 2, Backoff: func(int) time.Duration { return 100 * time.Millisecond }})
	w.drop("mid.tide", many(4000))
	testkit.Until(t, "some progress", func() (store.Run, bool) {
		r := w.run("mid.tide")
		return r, r.RecordsRead > 0
	})
	w.setLedger(false)
	r := w.ended("mid.tide")
	require.Equal(t, store.SetAside, r.State)
	require.Less(t, r.RecordsRead, 4000, "it was over before the ledger went down")
	require.Contains(t, r.Fault.What(), fmt.Sprintf("%d records are dealt with already", r.RecordsRead))
	w.setLedger(true)
	require.NoError(t, e.Resume(t.Context(), r.ID))
	require.ErrorIs(t, e.Resume(t.Context(), r.ID), store.ErrChanged, "resumed once")
	r = testkit.Until(t, "the end", func() (store.Run, bool) {
		r := w.run("mid.tide")
		return r, r.Ended()
	})
	require.Equal(t, store.Done, r.State)
	require.Equal(t, 4000, r.RecordsRead)
	require.Equal(t, 4000, w.count("select count(*) from tide_level"))
	require.Equal(t, 4000, w.count("select count(*) from tide_level_write"), "nothing was written twice")
}

func TestARunIsCancelledAndResumed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Batch: 10})
	w.drop("long.tide", many(6000))
	testkit.Until(t, "some progress", func() (store.Run, bool) {
		r := w.run("long.tide")
		return r, r.RecordsRead > 0
	})
	require.NoError(t, e.Cancel(t.Context(), w.run("long.tide").ID, "mo"))
	r := w.ended("long.tide")
	require.Equal(t, store.Stopped, r.State)
	require.Equal(t, fault.Cancelled, r.Fault.Code)
	require.Contains(t, r.Fault.What(), "stopped by mo")
	require.Equal(t, r.RecordsRead, w.count("select count(*) from tide_level"))
	require.NoError(t, e.Resume(t.Context(), r.ID))
	r = testkit.Until(t, "the end", func() (store.Run, bool) {
		r := w.run("long.tide")
		return r, r.Ended()
	})
	require.Equal(t, 6000, r.RecordsRead)
}

func TestARunStopsAtTheFirstFaultWhenToldTo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.change("flows/gauge-readings.yaml", "    as: reading\n", "    as: reading\n    on fault: stop\n")
	w.start(Options{})
	w.drop("stop.tide", tide(reading("SK04", 1, 4125, "R"), "bad", reading("SK04", 2, 4125, "R")))
	r := w.ended("stop.tide")
	require.Equal(t, store.Stopped, r.State)
	require.Contains(t, r.Fault.Error(), "stop.tide:2:")
	require.Equal(t, 1, w.count("select count(*) from tide_level"), "the record before the faulty one is done")
	require.Equal(t, 1, r.RecordsRead)
}

func TestRecordsWithoutAStationAreLeftOutWhenToldTo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.change("flows/gauge-readings.yaml", "        as: station\n", "        as: station\n        none: leave out\n")
	e := w.start(Options{})
	w.drop("out.tide", tide(reading("ZZ99", 1, 4125, "R"), reading("SK04", 2, 4125, "R")))
	r := w.ended("out.tide")
	require.Equal(t, store.Done, r.State)
	require.Equal(t, 1, r.Counts["find"].Skipped)
	entry, err := journal.Of(t.Context(), e.db, r.ID, 0)
	require.NoError(t, err)
	require.Equal(t, `no row of station with gauge_code "ZZ99"`, entry.Reason)
}

func TestADraftWithFaultsIsNotReleased(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.change("mappings/reading-to-tide-level.yaml", "formula: station.id", "formula: station.idd")
	_, err := e.CreateRelease(t.Context(), testkit.Skerry, flowID, "", "mo")
	require.ErrorIs(t, err, ErrFaults)
	require.ErrorContains(t, err, "the mapping reading-to-tide-level has 1 fault")
	_, err = e.CreateRelease(t.Context(), testkit.Skerry, "nothing", "", "mo")
	require.ErrorIs(t, err, project.ErrNoPart)
}

func TestTwoWorkersTakeAFileOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.start(Options{})
	const files = 30
	for i := range files {
		w.drop(fmt.Sprintf("f%02d.tide", i), tide(reading("SK04", i, 4125+i, "R")))
	}
	testkit.Until(t, "all files to be done", func() (int, bool) {
		runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, State: store.Done, Most: 100})
		require.NoError(t, err)
		return len(runs), len(runs) >= files
	})
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Most: 100})
	require.NoError(t, err)
	require.Len(t, runs, files)
	require.Equal(t, files, w.count("select count(*) from tide_level_write"))
	left, err := os.ReadDir(w.folder)
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestOnlyFilesOfTheMaskInTheFolderItselfAreTaken(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	secret := filepath.Join(t.TempDir(), "secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(w.folder, "link.tide")))
	require.NoError(t, os.Mkdir(filepath.Join(w.folder, "folder.tide"), 0o755))
	for _, name := range []string{".hidden.tide", "half.tide.part", "other.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.folder, name), []byte("x"), 0o644))
	}
	w.start(Options{})
	w.drop("good.tide", tide(reading("SK04", 1, 4125, "R")))
	require.Equal(t, store.Done, w.ended("good.tide").State)
	w.drop("second.tide", tide(reading("SK04", 2, 4125, "R")))
	w.ended("second.tide")
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Most: 9})
	require.NoError(t, err)
	require.Len(t, runs, 2)
	content, err := os.ReadFile(secret)
	require.NoError(t, err)
	require.Equal(t, "secret", string(content))
}

func TestADoneFileIsNotReplaced(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.drop("same.tide", tide(reading("SK04", 1, 4125, "R")))
	w.ended("same.tide")
	w.drop("same.tide", tide(reading("SK04", 2, 4125, "R")))
	testkit.Until(t, "the second run", func() (int, bool) {
		runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, State: store.Done, Most: 9})
		require.NoError(t, err)
		return len(runs), len(runs) == 2
	})
	first, err := os.ReadFile(filepath.Join(w.done, "same.tide"))
	require.NoError(t, err)
	require.Equal(t, tide(reading("SK04", 1, 4125, "R")), string(first))
	done, err := os.ReadDir(w.done)
	require.NoError(t, err)
	require.Len(t, done, 2)
}

func TestATryWritesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	texts, _, err := store.Texts(t.Context(), w.db, "skerry")
	require.NoError(t, err)
	texts["samples/big.tide"] = strings.Repeat(gauges.Readings(9, 12), 30)
	p := project.Load("skerry", texts)
	trial := e.Tries.RunTest(t.Context(), p, flowID, "sk_0309.tide", tries.TestOptions{})
	require.Nil(t, trial.Fault)
	require.False(t, trial.More)
	require.Equal(t, 17, trial.Counts["upsert"].Out)
	require.Zero(t, w.count("select count(*) from tide_level"))
	big := e.Tries.RunTest(t.Context(), p, flowID, "big.tide", tries.TestOptions{})
	require.Len(t, big.Items, tries.MaxTried)
	require.True(t, big.More)
	require.NotNil(t, e.Tries.RunTest(t.Context(), p, flowID, "none.tide", tries.TestOptions{}).Fault)
	require.NotNil(t, e.Tries.RunTest(t.Context(), p, "none", "sk_0309.tide", tries.TestOptions{}).Fault)
	w.setLedger(false)
	require.Nil(t, e.Tries.RunTest(t.Context(), p, flowID, "sk_0309.tide", tries.TestOptions{}).Fault, "a try that nobody has asked for reaches no system")
	down := e.Tries.RunTest(t.Context(), p, flowID, "sk_0309.tide", tries.TestOptions{ReadSystems: true})
	require.Contains(t, down.Fault.What(), "cannot be reached")
	require.Equal(t, 17, down.Counts["keep"].Out, "the steps before it are shown")
}

func TestHostileBytesAreSetAside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	good := reading("SK04", 1, 4125, "R")
	w.drop("hostile.tide", tide(
		"\x00\x00\x00\x00"+good[4:], "\xff\xfe\xfd\xfc"+good[4:], strings.Repeat("\x00", 32), "'; --"+good[5:], good,
	)+strings.Repeat("\r", 100)+"\x1a")
	r := w.ended("hostile.tide")
	require.Equal(t, store.SetAside, r.State)
	require.Equal(t, 5, r.RecordsSetAside)
	require.Equal(t, 1, r.Counts["upsert"].Inserted)
	asides, err := store.Asides(t.Context(), w.db, r.ID, 10)
	require.NoError(t, err)
	require.Equal(t, "\xff\xfe\xfd\xfc"+good[4:], string(asides[1].Raw), "the bytes are kept as they came")
}

// TestADiskThatIsFullLosesNothing moves a done file to a small file system of its own.
func TestADiskThatIsFullLosesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	mount := func(options string) error { return syscall.Mount("tmpfs", w.done, "tmpfs", 0, options) }
	if err := mount("size=4k"); err != nil {
		t.Skipf("only root can make a small file system: %s", err)
	}
	t.Cleanup(func() { syscall.Unmount(w.done, syscall.MNT_DETACH) })
	var content strings.Builder
	for i := range 400 {
		content.WriteString(tide(reading("SK04", i, 4125, "R")))
	}
	w.start(Options{})
	w.drop("big.tide", content.String())
	r := w.ended("big.tide")
	require.Equal(t, store.Done, r.State)
	testkit.Until(t, "the warning", func() (string, bool) {
		r, err := store.RunByID(t.Context(), w.db, r.ID)
		require.NoError(t, err)
		return r.Warning, strings.Contains(r.Warning, "no space left")
	})
	require.FileExists(t, filepath.Join(w.folder, "big.tide"))
	left, err := os.ReadDir(w.done)
	require.NoError(t, err)
	require.Empty(t, left, "no half of the file stays behind")

	require.NoError(t, syscall.Mount("tmpfs", w.done, "tmpfs", syscall.MS_REMOUNT, "size=1m"))
	testkit.Until(t, "the file is moved", func() (bool, bool) {
		moved, err := os.ReadFile(filepath.Join(w.done, "big.tide"))
		return err == nil, err == nil && string(moved) == content.String()
	})
	require.NoFileExists(t, filepath.Join(w.folder, "big.tide"))
	require.Equal(t, 400, w.count("select count(*) from tide_level_write"), "the file was run once")
}

// TestARunWhoseRestWasNotRecordedGoesOn: the queue could not be told that it rests, since the database was away; its worker
// lives, and takes it up again.
func TestARunWhoseRestWasNotRecordedGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Silence: time.Second})
	w.add("resting", map[string]string{"flows/resting.yaml": "flow: Resting\ntrigger: {kind: person, input: sign-up}\nsteps:\n  - {step: wait, id: w, seconds: '2'}\n"})
	id := w.begin("resting", card("R1", "Rut"))
	w.resting(id)
	testkit.Until(t, "the job to be snoozed", func() (int64, bool) {
		tag, err := w.db.Exec(t.Context(), "update river_job set state = 'running', attempted_at = now() - interval '1 minute', attempted_by = array[$2] where args->>'run' = $1 and state in ('scheduled', 'available')", id.String(), e.ID)
		require.NoError(t, err)
		return tag.RowsAffected(), tag.RowsAffected() == 1
	})
	require.Equal(t, store.Done, w.over(id).State)
}

// TestARunThatAnotherWorkerTookOnIsNotForgotten: the job of the first one does not end while the other is at work, and when
// that one is gone, the run is taken on again.
func TestARunThatAnotherWorkerTookOnIsNotForgotten(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{Silence: time.Minute})
	held, err := w.ledger.Begin(t.Context())
	require.NoError(t, err)
	defer held.Rollback(context.WithoutCancel(t.Context()))
	_, err = held.Exec(t.Context(), "lock table tide_level in access exclusive mode")
	require.NoError(t, err)
	w.drop("held.tide", tide(reading("SK04", 1, 4125, "R")))
	id := testkit.Until(t, "the write to hang", func() (id uuid.UUID, is bool) {
		runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Reference: "held.tide", Most: 1})
		require.NoError(t, err)
		if len(runs) == 1 {
			id = runs[0].ID
		}
		return id, w.count("select count(*) from pg_stat_activity where wait_event_type = 'Lock' and query like '%tide_level%' and datname = current_database()") > 0
	})
	require.NoError(t, store.Heartbeat(t.Context(), w.db, testkit.Skerry.Environment, "other"))
	_, err = store.Claim(t.Context(), w.db, id, "other")
	require.NoError(t, err)
	require.NoError(t, held.Rollback(t.Context()))
	testkit.Until(t, "the first to have noticed", func() (struct{}, bool) { return struct{}{}, !w.engine.active.has(id) })
	r, err := store.RunByID(t.Context(), w.db, id)
	require.NoError(t, err)
	require.Equal(t, store.Running, r.State)
	require.NoError(t, store.Deregister(t.Context(), w.db, "other"))
	require.Equal(t, store.Done, w.ended("held.tide").State)
	require.Equal(t, 1, w.count("select count(*) from tide_level_write"), "and nothing was written twice")
}

// TestARunThatEndsItsWorkersIsSetAside: one at which several workers ended in turn is not taken on until somebody looked into
// it, and then goes on.
func TestARunThatEndsItsWorkersIsSetAside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	_, err := w.db.Exec(t.Context(), "alter table run alter deaths set default 3")
	require.NoError(t, err)
	e := w.start(Options{})
	w.drop("deadly.tide", many(20))
	r := w.ended("deadly.tide")
	require.Equal(t, store.SetAside, r.State)
	require.Equal(t, fault.Limit, r.Fault.Code)
	require.Contains(t, r.Fault.What(), "the server ended 3 times while it worked on this run")
	require.NoError(t, e.Resume(t.Context(), r.ID))
	r = testkit.Until(t, "the end", func() (store.Run, bool) {
		r := w.run("deadly.tide")
		return r, r.Ended()
	})
	require.Equal(t, store.Done, r.State)
	require.Equal(t, 20, r.RecordsRead)
}

// TestASilentWorkerCallsNoOtherDead: when the database was away all workers were silent, and each waits until the others had time
// to say that they live. No run is taken for one that ends its workers because of that.
func TestASilentWorkerCallsNoOtherDead(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ctx := t.Context()
	const silence = 400 * time.Millisecond
	e, err := New(w.db, connector.Same[store.Scope](w.settings, connector.Rules{}), Options{Silence: silence, Heartbeat: 20 * time.Millisecond})
	require.NoError(t, err)
	other := func() {
		_, err := w.db.Exec(ctx, "insert into worker (id, environment, heartbeat_at) values ('other', 'Workbench', now() - interval '10 seconds') on conflict (id) do update set heartbeat_at = excluded.heartbeat_at")
		require.NoError(t, err)
	}
	there := func() bool { return w.works("other") }
	called := func(began time.Time) {
		t.Helper()
		testkit.Until(t, "the other to be called dead", func() (bool, bool) {
			require.NoError(t, e.heartbeat(ctx))
			return there(), !there()
		})
		require.GreaterOrEqual(t, time.Since(began), silence)
	}
	for _, before := range []string{"it is new", "it was silent"} {
		other()
		began := time.Now()
		require.NoError(t, e.heartbeat(ctx))
		require.True(t, there(), before)
		called(began)
		e.beaten = time.Now().Add(-2 * silence) // as after a time without the database
	}
}

func (w *world) works(id string) bool {
	w.t.Helper()
	list, err := store.Workers(w.t.Context(), w.db, testkit.Skerry.Environment)
	require.NoError(w.t, err)
	return slices.ContainsFunc(list, func(o store.Worker) bool { return o.ID == id })
}
