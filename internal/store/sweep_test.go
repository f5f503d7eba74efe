package store

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
)

// TestOnlyWhatNobodyWaitsForIsSwept: runs go with all that belongs to them; what waits for somebody stays, however old.
func TestOnlyWhatNobodyWaitsForIsSwept(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	well, gone, failed, handled, open1 := over(t, db, "a", Done, nil), over(t, db, "b", Done, nil), over(t, db, "c", Stopped, fault.New(fault.Outside, "x")), over(t, db, "d", SetAside, fault.New(fault.Outside, "x")), over(t, db, "e", SetAside, nil)
	require.NoError(t, ResolveRun(t.Context(), db, handled.ID, AsideDiscarded))
	require.NoError(t, AddAside(t.Context(), db, []Aside{{Run: open1.ID, Step: "s", Raw: []byte("r"), Faults: fault.List{fault.New(fault.Range, "y")}}}))
	for _, r := range []Run{well, failed} {
		require.NoError(t, AddJournal(t.Context(), db, r.ID, 0, 1, []byte("j")))
		require.NoError(t, AddReferences(t.Context(), db, r, []running.Reference{{Record: 0, Text: "R"}}))
		require.NoError(t, AddEvents(t.Context(), db, r, []running.Event{{Step: "s", Text: "x"}}))
	}
	for _, r := range []Run{well, gone} {
		_, err := AddPickup(t.Context(), db, scope, "f", "/in/"+r.Reference, "1", r.ID)
		require.NoError(t, err)
	}
	n, err := SweepRuns(t.Context(), db, scope, "f", time.Now().Add(-time.Hour), 10)
	require.NoError(t, err)
	require.Zero(t, n, "none is that old")
	aged(t, db, "run", "ended_at", 2*time.Hour)
	aged(t, db, "run", "created_at", 3*time.Hour)
	n, err = SweepRuns(t.Context(), db, scope, "f", time.Now().Add(-time.Hour), 1)
	require.NoError(t, err)
	require.Equal(t, int64(1), n, "some at a time")
	for range 2 {
		_, err = SweepRuns(t.Context(), db, scope, "f", time.Now().Add(-time.Hour), 10)
		require.NoError(t, err)
	}
	runs, err := Runs(t.Context(), db, RunFilter{Scope: scope, Most: 10})
	require.NoError(t, err)
	require.Len(t, runs, 2)
	require.Equal(t, open1.ID, runs[0].ID)
	require.Equal(t, failed.ID, runs[1].ID)
	for _, table := range []string{"journal", "reference", "event"} {
		rows, _ := db.Query(t.Context(), "select run from "+table)
		left, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
		require.NoError(t, err)
		require.Equal(t, []uuid.UUID{failed.ID}, left, "what a run has left behind goes with it: %s", table)
	}
	_, err = PickupRun(t.Context(), db, scope, "f", "/in/a", "1")
	require.ErrorIs(t, err, ErrNotFound)
	fresh, err := AddPickup(t.Context(), db, scope, "f", "/in/a", "1", failed.ID)
	require.NoError(t, err)
	require.False(t, fresh, "a file that was taken is not taken again, though its run has gone")
}

// TestMessagesGoAndWhatBecameOfThemStays: of runs that ended well, as many as are said.
func TestMessagesGoAndWhatBecameOfThemStays(t *testing.T) {
	db := open(t)
	release(t, db, "one")
	first, second, aside := over(t, db, "a", Done, nil), over(t, db, "b", Done, nil), over(t, db, "c", SetAside, nil)
	require.NoError(t, SaveEffects(t.Context(), db, second.ID, "s", []EffectKey{{0, ""}, {1, ""}, {2, ""}}, []string{"x", "y", "z"}))
	require.NoError(t, AddJournal(t.Context(), db, second.ID, 0, 1, []byte("j")))
	aged(t, db, "run", "ended_at", 2*time.Hour)
	aged(t, db, "run", "created_at", 3*time.Hour)
	before := time.Now().Add(-time.Hour)
	n, err := SweepMessages(t.Context(), db, scope, "f", before, 10)
	require.NoError(t, err)
	require.Equal(t, int64(2), n, "runs are counted, not what belonged to them")
	for _, r := range []Run{first, second} {
		require.False(t, byID(t, db, r.ID).HasInput)
	}
	require.True(t, byID(t, db, aside.ID).HasInput, "somebody may run it again")
	known, err := Effects(t.Context(), db, second.ID, "s", []int{0, 1, 2})
	require.NoError(t, err)
	require.Empty(t, known)
	_, entries, err := JournalBatch(t.Context(), db, second.ID, 0)
	require.NoError(t, err)
	require.Equal(t, "j", string(entries))
	n, err = SweepMessages(t.Context(), db, scope, "f", before, 10)
	require.NoError(t, err)
	require.Zero(t, n)
}

// TestOneProcessHasALock until its transaction ends.
func TestOneProcessHasALock(t *testing.T) {
	db := open(t)
	in(t, db, func(tx pgx.Tx) error {
		mine, err := TryLock(t.Context(), tx, "sweep")
		require.NoError(t, err)
		require.True(t, mine)
		theirs, err := TryLock(t.Context(), db, "sweep")
		require.NoError(t, err)
		require.False(t, theirs)
		other, err := TryLock(t.Context(), db, "other")
		require.NoError(t, err)
		require.True(t, other)
		return nil
	})
	after, err := TryLock(t.Context(), db, "sweep")
	require.NoError(t, err)
	require.True(t, after)
}

// TestNotesAreKeptForATime: what is over is not recalled, and swept.
func TestNotesAreKeptForATime(t *testing.T) {
	db := open(t)
	const space = "s"
	past, future := time.Now().Add(-time.Minute), time.Now().Add(time.Hour)
	require.NoError(t, PutState(t.Context(), db, scope, space, []running.StateEntry{{Key: "a", Text: "for ever"}, {Key: "b", Text: "over", ExpiresAt: past}, {Key: "c", Text: "an hour", ExpiresAt: future}}))
	require.NoError(t, PutState(t.Context(), db, scope, "other", []running.StateEntry{{Key: "a", Text: "elsewhere"}}))
	known, err := GetState(t.Context(), db, scope, space, []string{"a", "b", "c", "d"})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"a": "for ever", "c": "an hour"}, known)
	require.NoError(t, PutState(t.Context(), db, scope, space, []running.StateEntry{{Key: "a", Text: "anew", ExpiresAt: future}}))
	list, err := ListState(t.Context(), db, scope, space, 10)
	require.NoError(t, err)
	require.Equal(t, []StateEntry{{"a", "anew"}, {"c", "an hour"}}, list)
	n, err := SweepKept(t.Context(), db, scope.Environment, 10)
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	require.NoError(t, DeleteState(t.Context(), db, scope, space, "a", "z"))
	list, err = ListState(t.Context(), db, scope, space, 10)
	require.NoError(t, err)
	require.Equal(t, []StateEntry{{"c", "an hour"}}, list)
	require.NoError(t, DeleteState(t.Context(), db, scope, space))
	list, err = ListState(t.Context(), db, scope, space, 10)
	require.NoError(t, err)
	require.Empty(t, list)
	known, err = GetState(t.Context(), db, scope, "other", []string{"a"})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"a": "elsewhere"}, known)
}

// TestTriesRemember: how steps are dealt with, and the last answer to each question, by flow.
func TestTriesRemember(t *testing.T) {
	db := open(t)
	require.NoError(t, SetCallMode(t.Context(), db, scope, "f/post", "really"))
	require.NoError(t, SetCallMode(t.Context(), db, scope, "f/post", "not at all"))
	chosen, err := CallModes(t.Context(), db, scope)
	require.NoError(t, err)
	require.Equal(t, map[string]trial.CallMode{"f/post": "not at all"}, chosen)
	require.NoError(t, SaveRecordedCall(t.Context(), db, scope, []trial.RecordedCall{{Flow: "f", Step: "s", Request: "1", Response: "one"}, {Flow: "g", Step: "s", Request: "1", Response: "g's"}}))
	require.NoError(t, SaveRecordedCall(t.Context(), db, scope, []trial.RecordedCall{{Flow: "f", Step: "s", Request: "1", Response: "uno"}, {Flow: "f", Step: "s", Request: "2", Fault: fault.New(fault.Outside, "no")}}))
	rec, err := RecordedCalls(t.Context(), db, scope, "f")
	require.NoError(t, err)
	got := map[string]trial.RecordedCall{}
	for _, h := range rec.All() {
		got[h.Flow+h.Request] = h
	}
	require.Len(t, got, 2)
	require.Equal(t, "uno", got["f1"].Response)
	require.Equal(t, "no", got["f2"].Fault.Message)
	rec, err = RecordedCalls(t.Context(), db, scope, "f", "g")
	require.NoError(t, err)
	require.Len(t, rec.All(), 3)
}
