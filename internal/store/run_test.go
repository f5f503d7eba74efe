package store

import (
	"context"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/spool"
)

// running makes a run that a worker has taken on.
func startedRun(t *testing.T, db *pgxpool.Pool, reference string) Run {
	t.Helper()
	r, err := Claim(t.Context(), db, addRun(t, db, reference), "w")
	require.NoError(t, err)
	return r
}

// over makes a run that has ended.
func over(t *testing.T, db *pgxpool.Pool, reference string, state State, f *fault.Fault) Run {
	t.Helper()
	r := startedRun(t, db, reference)
	require.NoError(t, CloseOrRetry(t.Context(), db, r, state, f, nil))
	return byID(t, db, r.ID)
}

func byID(t *testing.T, db *pgxpool.Pool, id uuid.UUID) Run {
	t.Helper()
	r, err := RunByID(t.Context(), db, id)
	require.NoError(t, err)
	return r
}

// aged makes rows of a table as if they had been written so long ago.
func aged(t *testing.T, db *pgxpool.Pool, table, column string, by time.Duration) {
	t.Helper()
	_, err := db.Exec(t.Context(), "update "+table+" set "+column+" = "+column+" - make_interval(secs => $1)", by.Seconds())
	require.NoError(t, err)
}

// job puts a job of a run into the queue.
func job(t *testing.T, db *pgxpool.Pool, run uuid.UUID, state, worker string, in time.Duration) (id int64) {
	t.Helper()
	args, err := json.Marshal(map[string]uuid.UUID{"run": run})
	require.NoError(t, err)
	require.NoError(t, db.QueryRow(t.Context(), `insert into river_job (state, attempt, max_attempts, attempted_at, attempted_by, kind, args, queue, priority, scheduled_at)
		values ($1, 2, 6, now() - interval '1 minute', array[$2], 'run', $3, 'workbench', 1, now() + make_interval(secs => $4)) returning id`, state, worker, args, in.Seconds()).Scan(&id))
	return id
}

// jobState is the state of a job and whether it is due.
func jobState(t *testing.T, db *pgxpool.Pool, id int64) (state string, due bool) {
	t.Helper()
	require.NoError(t, db.QueryRow(t.Context(), "select state, scheduled_at <= now() from river_job where id = $1", id).Scan(&state, &due))
	return state, due
}

// TestFreeRunsAreClaimedTogether: those that wait for their turn, that are over or that nobody knows are left out.
func TestFreeRunsAreClaimedTogether(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	free, again := addRun(t, db, "a"), addRun(t, db, "b")
	done := over(t, db, "c", Done, nil).ID
	turn := uuid.Must(uuid.NewV7())
	require.NoError(t, AddRun(t.Context(), db, Run{ID: turn, Scope: scope, Flow: "f", Release: 1, IsLimited: true, StartedBy: "mo"}, nil))
	runs, err := ClaimFree(t.Context(), db, []uuid.UUID{free, again, done, turn, uuid.Must(uuid.NewV7())}, "w")
	require.NoError(t, err)
	got := map[uuid.UUID]Run{}
	for _, r := range runs {
		got[r.ID] = r
		require.Equal(t, int64(1), r.ClaimVersion)
		require.Equal(t, Running, r.State)
		require.NotNil(t, r.StartedAt)
	}
	require.Len(t, got, 2)
	require.Contains(t, got, free)
	require.Contains(t, got, again)
	none, err := ClaimFree(t.Context(), db, nil, "w")
	require.NoError(t, err)
	require.Empty(t, none)
}

// TestEndsAreRecordedTogether: each with its journal; who was asked to stop does not end, who was taken on by another
// records nothing, and one that cannot be recorded takes the others with it.
func TestEndsAreRecordedTogether(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	well, asked, old := startedRun(t, db, "a"), startedRun(t, db, "b"), startedRun(t, db, "c")
	require.NoError(t, Cancel(t.Context(), db, asked, "mo"))
	_, err := Claim(t.Context(), db, old.ID, "other")
	require.NoError(t, err)
	well.RecordsRead, well.Counts = 3, map[string]*running.Counts{"n": {In: 3, Out: 3}}
	list := []RunResult{{Run: well, State: Done, Entries: []byte("j")}, {Run: asked, State: Done, Entries: []byte("k")}, {Run: old, State: Done, Entries: []byte("l")}}
	ended, err := CloseRuns(t.Context(), db, list)
	require.NoError(t, err)
	require.Nil(t, ended[0].CancelledBy)
	require.Equal(t, "mo", *ended[1].CancelledBy)
	require.True(t, ended[2].TakenOn)
	r := byID(t, db, well.ID)
	require.Equal(t, Done, r.State)
	require.NotNil(t, r.EndedAt)
	require.Equal(t, 3, r.Counts["n"].Out)
	_, entries, err := JournalBatch(t.Context(), db, well.ID, -1)
	require.NoError(t, err)
	require.Equal(t, "j", string(entries))
	require.Equal(t, Running, byID(t, db, asked.ID).State)
	require.Nil(t, byID(t, db, asked.ID).EndedAt)
	require.Equal(t, Running, byID(t, db, old.ID).State)

	one, two := startedRun(t, db, "d"), startedRun(t, db, "e")
	_, err = CloseRuns(t.Context(), db, []RunResult{{Run: one, State: Done, Entries: []byte{}}, {Run: two, State: "no such state", Entries: []byte{}}})
	require.Error(t, err)
	require.Equal(t, Running, byID(t, db, one.ID).State, "all of them or none")
	ended, err = CloseRuns(t.Context(), db, []RunResult{{Run: one, State: SetAside, Fault: fault.New(fault.Range, "too much\x00"), Entries: []byte{}}})
	require.NoError(t, err)
	require.False(t, ended[0].TakenOn)
	require.Equal(t, "too much␀", byID(t, db, one.ID).Fault.Message)
}

// TestARunThatIsAskedToStopIsWoken: one that waits for another try is taken on at once to stop; one that is over stays
// as it is.
func TestARunThatIsAskedToStopIsWoken(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	r := startedRun(t, db, "a")
	at := time.Now().Add(time.Hour)
	require.NoError(t, CloseOrRetry(t.Context(), db, r, Retrying, fault.New(fault.Outside, "away"), &at))
	id := job(t, db, r.ID, "scheduled", "w", time.Hour)
	other := job(t, db, uuid.Must(uuid.NewV7()), "scheduled", "w", time.Hour)
	none, err := Cancelled(t.Context(), db, []uuid.UUID{r.ID}, 0)
	require.NoError(t, err)
	require.Empty(t, none)
	require.NoError(t, Cancel(t.Context(), db, r, "mo"))
	state, due := jobState(t, db, id)
	require.Equal(t, "available", state)
	require.True(t, due)
	_, due = jobState(t, db, other)
	require.False(t, due)
	list, err := Cancelled(t.Context(), db, []uuid.UUID{r.ID}, time.Minute)
	require.NoError(t, err)
	require.Empty(t, list, "it has some time to stop by itself")
	aged(t, db, "run", "cancel_at", 2*time.Minute)
	list, err = Cancelled(t.Context(), db, []uuid.UUID{r.ID}, time.Minute)
	require.NoError(t, err)
	require.Equal(t, []uuid.UUID{r.ID}, list)
	done := over(t, db, "b", Done, nil)
	require.NoError(t, Cancel(t.Context(), db, done, "mo"))
	require.Nil(t, byID(t, db, done.ID).CancelBy)
}

// TestARunRestsAndGoesOn: that it was taken on to rest is no try; one that was set aside goes on from where it came to.
func TestARunRestsAndGoesOn(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	r := startedRun(t, db, "a")
	until := time.Now().Add(time.Hour).Truncate(time.Millisecond)
	require.NoError(t, Suspend(t.Context(), db, r, until))
	now := byID(t, db, r.ID)
	require.Equal(t, Waiting, now.State)
	require.Equal(t, 0, now.Attempt)
	require.WithinDuration(t, until, *now.NextAttemptAt, time.Millisecond)
	fresh, err := Claim(t.Context(), db, r.ID, "w")
	require.NoError(t, err)
	require.ErrorIs(t, Suspend(t.Context(), db, r, until), ErrTakenOn)
	require.ErrorIs(t, Resume(t.Context(), db, r.ID), ErrChanged, "it is not over")
	require.NoError(t, Cancel(t.Context(), db, fresh, "mo"))
	require.NoError(t, CloseOrRetry(t.Context(), db, fresh, Stopped, fault.New(fault.Stopped, "somebody did"), nil))
	require.NoError(t, Resume(t.Context(), db, r.ID))
	now = byID(t, db, r.ID)
	require.Equal(t, Waiting, now.State)
	require.Nil(t, now.CancelBy)
	require.Nil(t, now.Fault)
	require.Nil(t, now.EndedAt)

	require.NoError(t, Warn(t.Context(), db, r, "the file is still there"))
	require.NoError(t, SetDone(t.Context(), db, r, "/done/a"))
	now = byID(t, db, r.ID)
	require.Equal(t, "the file is still there", now.Warning)
	require.Equal(t, "/done/a", now.DonePath)
	require.NoError(t, Warn(t.Context(), db, r, ""))
	require.Empty(t, byID(t, db, r.ID).Warning)
}

// TestAStepStartsAChildOnce: whoever does the step again finds the run that it has started.
func TestAStepStartsAChildOnce(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	parent := addRun(t, db, "a")
	start := func(path string) (child Run, fresh bool) {
		in(t, db, func(tx pgx.Tx) (err error) {
			child, fresh, err = AddChild(t.Context(), tx, Run{
				ID: uuid.Must(uuid.NewV7()), Scope: scope, Flow: "f", Of: "f", Release: 1, Parent: &parent, StartedBy: "mo",
				Caller: Caller{Step: "call", Record: 4, Path: path, Depth: 1},
			})
			return err
		})
		return child, fresh
	}
	first, fresh := start("")
	require.True(t, fresh)
	again, fresh := start("")
	require.False(t, fresh)
	require.Equal(t, first.ID, again.ID)
	other, fresh := start("line/2")
	require.True(t, fresh)
	require.NotEqual(t, first.ID, other.ID)
	children, err := Children(t.Context(), db, parent, 10)
	require.NoError(t, err)
	require.Len(t, children, 2)
	require.Equal(t, "call", children[0].Caller.Step)
}

// TestInputsArePieces: a long one is kept and read in pieces, copied for another run, and replaced by nobody whose claim is old.
func TestInputsArePieces(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	r := startedRun(t, db, "a")
	long := strings.Repeat("0123456789abcdef", 1<<17) // 2 MB
	var content spool.Spool
	defer content.Close()
	_, err := content.Write([]byte(long))
	require.NoError(t, err)
	in(t, db, func(tx pgx.Tx) error { return SaveInput(t.Context(), tx, r, &content) })
	read := func(id uuid.UUID) string {
		text, err := io.ReadAll(OpenInput(t.Context(), db, id))
		require.NoError(t, err)
		return string(text)
	}
	require.True(t, long == read(r.ID))
	require.True(t, byID(t, db, r.ID).HasInput)
	var pieces int
	require.NoError(t, db.QueryRow(t.Context(), "select count(*) from run_content where run = $1", r.ID).Scan(&pieces))
	require.Positive(t, pieces, "no row is large")
	again := addRun(t, db, "b")
	in(t, db, func(tx pgx.Tx) error { return CopyInput(t.Context(), tx, r.ID, again) })
	require.True(t, long == read(again))
	_, err = Claim(t.Context(), db, r.ID, "other")
	require.NoError(t, err)
	err = pgx.BeginFunc(t.Context(), db, func(tx pgx.Tx) error { return SaveInput(t.Context(), tx, r, spool.Of([]byte("late"))) })
	require.ErrorIs(t, err, ErrTakenOn)
	require.True(t, long == read(r.ID))
	fresh := byID(t, db, r.ID)
	in(t, db, func(tx pgx.Tx) error { return SaveInput(t.Context(), tx, fresh, spool.Of([]byte("short"))) })
	require.Equal(t, "short", read(r.ID), "nothing of the long one is left")
	in(t, db, func(tx pgx.Tx) error { return SaveInput(t.Context(), tx, fresh, spool.Of(nil)) })
	require.Empty(t, read(r.ID))
	require.True(t, byID(t, db, r.ID).HasInput, "an empty one is one, too")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = io.ReadAll(OpenInput(ctx, db, r.ID))
	require.ErrorIs(t, err, context.Canceled)
}

// TestWhatIsCollectedStaysInItsOrder: over the runs whose records belong together.
func TestWhatIsCollectedStaysInItsOrder(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	first, mended, other := startedRun(t, db, "a"), startedRun(t, db, "b"), startedRun(t, db, "c")
	require.NoError(t, AddAside(t.Context(), db, []Aside{{Run: first.ID, Record: 4, Step: "s", Raw: []byte("x"), Faults: fault.List{fault.New(fault.Range, "x")}}}))
	asides, err := Asides(t.Context(), db, first.ID, 1)
	require.NoError(t, err)
	require.NoError(t, CloseAside(t.Context(), db, asides[0].ID, AsideRerun, &mended.ID, "mo"))
	for _, from := range []uuid.UUID{first.ID, mended.ID} {
		family, err := RelatedRuns(t.Context(), db, from)
		require.NoError(t, err)
		require.Equal(t, []uuid.UUID{first.ID, mended.ID}, family)
	}
	for i, text := range []string{"third", "first", "second"} {
		require.NoError(t, Collect(t.Context(), db, first.ID, "s", []int{9, 0, 5}[i], []byte(text)))
	}
	require.NoError(t, Collect(t.Context(), db, mended.ID, "s", 0, []byte("fourth")))
	require.NoError(t, Collect(t.Context(), db, other.ID, "s", 0, []byte("another's")))
	require.NoError(t, Collect(t.Context(), db, first.ID, "t", 0, []byte("another step's")))
	var got []string
	require.NoError(t, Collected(t.Context(), db, []uuid.UUID{first.ID, mended.ID}, "s", func(content []byte) error {
		got = append(got, string(content))
		return nil
	}))
	require.Equal(t, []string{"first", "second", "third", "fourth"}, got)
	require.ErrorIs(t, Collected(t.Context(), db, []uuid.UUID{first.ID}, "s", func([]byte) error { return io.ErrShortWrite }), io.ErrShortWrite)
}

// TestTheJournalIsReadInItsOrder: the batch of a record is found, and all are gone through until nobody wants more.
func TestTheJournalIsReadInItsOrder(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	id := addRun(t, db, "a")
	for _, b := range []struct{ first, n int }{{100, 50}, {-1, 1}, {0, 100}} {
		require.NoError(t, AddJournal(t.Context(), db, id, b.first, b.n, []byte{byte('a' + b.n/50)}))
	}
	for record, want := range map[int]int{-1: -1, 0: 0, 99: 0, 100: 100, 149: 100} {
		first, _, err := JournalBatch(t.Context(), db, id, record)
		require.NoError(t, err)
		require.Equal(t, want, first, "%d", record)
	}
	_, entries, err := JournalBatch(t.Context(), db, id, 150)
	require.NoError(t, err)
	require.Equal(t, "b", string(entries), "the last one before it")
	var order []byte
	all := func(most int) string {
		order = nil
		require.NoError(t, JournalBatches(t.Context(), db, id, func(entries []byte) (bool, error) {
			order = append(order, entries...)
			return len(order) < most, nil
		}))
		return string(order)
	}
	require.Equal(t, "acb", all(10))
	require.Equal(t, "ac", all(2))

	r := byID(t, db, id)
	require.NoError(t, AddReferences(t.Context(), db, r, []running.Reference{{Record: 3, Text: "LS-7"}, {Record: 4, Text: "LS-8"}}))
	refs, err := References(t.Context(), db, id, 10)
	require.NoError(t, err)
	require.Equal(t, []running.Reference{{Record: 3, Text: "LS-7"}, {Record: 4, Text: "LS-8"}}, refs)
	runs, err := Runs(t.Context(), db, RunFilter{Scope: scope, Reference: "ls-8", Most: 5})
	require.NoError(t, err)
	require.Len(t, runs, 1, "a run is found by what its records are known by")
	require.NoError(t, AddEvents(t.Context(), db, r, []running.Event{{Step: "n", Record: 3, Text: "late"}}))
	events, err := Events(t.Context(), db, scope, 10)
	require.NoError(t, err)
	require.Equal(t, "late", events[0].Text)
}

// TestTurnsAreTaken: as many at once as may be, and one at a time of a lane, the oldest first.
func TestTurnsAreTaken(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	laned := func(lane string) uuid.UUID {
		id := uuid.Must(uuid.NewV7())
		require.NoError(t, AddRun(t.Context(), db, Run{ID: id, Scope: scope, Flow: "f", Release: 1, OrderingKey: lane, IsLimited: true, StartedBy: "mo"}, nil))
		return id
	}
	free := func(id uuid.UUID, lane string, atOnce int) (is bool) {
		in(t, db, func(tx pgx.Tx) (err error) {
			is, err = MayStart(t.Context(), tx, id, scope, "f", lane, atOnce)
			return err
		})
		return is
	}
	a1, a2, b1 := laned("a"), laned("a"), laned("b")
	require.True(t, free(a1, "a", 0))
	require.False(t, free(a2, "a", 0), "an older one of its lane waits")
	require.True(t, free(b1, "b", 0))
	_, err := Claim(t.Context(), db, a1, "w")
	require.NoError(t, err)
	require.False(t, free(b1, "b", 1), "one is under way")
	require.True(t, free(b1, "b", 2))
	n, err := CountActive(t.Context(), db, scope, "f")
	require.NoError(t, err)
	require.Equal(t, 3, n)
	require.NoError(t, CloseOrRetry(t.Context(), db, byID(t, db, a1), Done, nil, nil))
	require.True(t, free(a2, "a", 1))
}

// TestAWorkersOwnJobsAreReclaimed: those on which it does not work, since their end could not be recorded.
func TestAWorkersOwnJobsAreReclaimed(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	lost, busy, other := addRun(t, db, "a"), addRun(t, db, "b"), addRun(t, db, "c")
	jobs := []int64{job(t, db, lost, "running", "me", 0), job(t, db, busy, "running", "me", 0), job(t, db, other, "running", "them", 0)}
	n, err := Reclaim(t.Context(), db, "me", []uuid.UUID{busy}, 5*time.Second)
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	for i, want := range []string{"available", "running", "running"} {
		state, _ := jobState(t, db, jobs[i])
		require.Equal(t, want, state)
	}
	n, err = Reclaim(t.Context(), db, "me", []uuid.UUID{busy}, 5*time.Minute)
	require.NoError(t, err)
	require.Zero(t, n, "what was just taken on may still be begun")
}

// TestARunBeginsWhenItIsTakenOn: not when the transaction began in which its turn was waited for.
func TestARunBeginsWhenItIsTakenOn(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	before, after := startedRun(t, db, "before"), addRun(t, db, "after")
	var second Run
	require.NoError(t, pgx.BeginFunc(t.Context(), db, func(tx pgx.Tx) (err error) {
		if _, err := tx.Exec(t.Context(), "select 1"); err != nil {
			return err
		}
		require.NoError(t, CloseOrRetry(t.Context(), db, before, Done, nil, nil))
		second, err = Claim(t.Context(), tx, after, "w")
		return err
	}))
	first := byID(t, db, before.ID)
	require.False(t, second.StartedAt.Before(*first.EndedAt), "the second began %s, the first ended %s", second.StartedAt, first.EndedAt)
}
