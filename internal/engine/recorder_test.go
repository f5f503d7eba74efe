package engine

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// table is what a recorder writes to: it can be away, refuse runs, and hold what comes.
type table struct {
	mu      sync.Mutex
	away    error
	bad     uuid.UUID
	gate    chan struct{} // nil: open
	rounds  [][]uuid.UUID
	told    []uuid.UUID
	written []uuid.UUID
}

func (t *table) record(_ context.Context, list []store.WholeRun) ([]bool, error) {
	if t.gate != nil {
		<-t.gate
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	var ids []uuid.UUID
	for _, w := range list {
		ids = append(ids, w.Run.ID)
	}
	t.rounds = append(t.rounds, ids)
	switch {
	case t.away != nil:
		return nil, t.away
	case slices.Contains(ids, t.bad):
		return nil, &pgconn.PgError{Code: "22021"}
	}
	t.written = append(t.written, ids...)
	return nil, nil
}

func (t *table) after(w store.WholeRun) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.told = append(t.told, w.Run.ID)
}

func (t *table) is(of func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	of()
}

func someRuns(n int) (list []store.WholeRun, ids []uuid.UUID) {
	for range n {
		w := store.WholeRun{}
		w.Run.ID = uuid.New()
		list, ids = append(list, w), append(ids, w.Run.ID)
	}
	return list, ids
}

func recorderOf(t *testing.T, to *table) *recorder {
	return newRecorder(t.Context(), slog.New(slog.DiscardHandler), to.record, to.after)
}

// TestRunsAreRecordedTogetherInTheirOrder: what comes while one round is under way is the next.
func TestRunsAreRecordedTogetherInTheirOrder(t *testing.T) {
	to := &table{gate: make(chan struct{})}
	r := recorderOf(t, to)
	list, ids := someRuns(10)
	require.True(t, r.add(list[0]))
	require.Eventually(t, func() bool { return len(r.waiting) == 0 }, 5*time.Second, time.Millisecond)
	for _, w := range list[1:] {
		require.True(t, r.add(w))
	}
	close(to.gate)
	r.close(t.Context())
	require.Equal(t, ids, to.written)
	require.Equal(t, ids, to.told)
	require.Equal(t, [][]uuid.UUID{ids[:1], ids[1:]}, to.rounds)
	require.False(t, r.add(list[0]), "it is closed")
}

// TestNothingIsLostWhileTheDatabaseIsAway: what was taken is recorded when it is there again; nothing more is taken meanwhile.
func TestNothingIsLostWhileTheDatabaseIsAway(t *testing.T) {
	to := &table{away: errors.New("connection refused")}
	r := recorderOf(t, to)
	list, ids := someRuns(2)
	require.True(t, r.add(list[0]))
	require.Eventually(t, r.failing.Load, 5*time.Second, time.Millisecond)
	require.False(t, r.add(list[1]), "its caller learns of it")
	require.Eventually(t, func() (many bool) { to.is(func() { many = len(to.rounds) > recordAttempts }); return many }, 10*time.Second, time.Millisecond)
	to.is(func() { to.away = nil })
	require.Eventually(t, func() bool { return !r.failing.Load() }, 5*time.Second, time.Millisecond)
	require.True(t, r.add(list[1]))
	r.close(t.Context())
	require.Equal(t, ids, to.written)
}

// TestARunThatIsRefusedHoldsUpNoOther: the others of its round are recorded without it.
func TestARunThatIsRefusedHoldsUpNoOther(t *testing.T) {
	to := &table{gate: make(chan struct{})}
	r := recorderOf(t, to)
	list, ids := someRuns(4)
	to.bad = ids[2]
	for _, w := range list {
		require.True(t, r.add(w))
	}
	close(to.gate)
	r.close(t.Context())
	require.ElementsMatch(t, []uuid.UUID{ids[0], ids[1], ids[3]}, to.written)
	require.ElementsMatch(t, to.written, to.told)
}

// TestNoMoreThanSomeWaitToBeRecorded: who comes when too many wait has to wait for its record.
func TestNoMoreThanSomeWaitToBeRecorded(t *testing.T) {
	to := &table{gate: make(chan struct{})}
	r := recorderOf(t, to)
	list, _ := someRuns(maxUnrecorded + mostTogether + 2)
	taken := 0
	for _, w := range list {
		if r.add(w) {
			taken++
		}
	}
	require.LessOrEqual(t, taken, maxUnrecorded+mostTogether, "a round of them is under way")
	require.GreaterOrEqual(t, taken, maxUnrecorded)
	close(to.gate)
	r.close(t.Context())
	require.Len(t, to.written, taken)
}
