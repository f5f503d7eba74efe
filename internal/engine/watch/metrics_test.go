package watch

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// TestFiguresAreCountedByScopeAndTakenOnce: runs and uses of connections, well and failed; what was taken is not taken again.
func TestFiguresAreCountedByScopeAndTakenOnce(t *testing.T) {
	f := NewMetrics()
	live, trial := store.Scope{Project: "skerry", Environment: "Live"}, store.Scope{Project: "skerry", Environment: "Trial"}
	ran := func(s store.Scope, state store.State) {
		f.RunEnded(store.Run{Scope: s, Flow: "bookings", RecordsRead: 5, RecordsSetAside: 2}, state, 3*time.Millisecond)
	}
	ran(live, store.Done)
	ran(live, store.SetAside)
	ran(trial, store.Done)
	f.Called(live, "desk", time.Millisecond, true)

	got := f.take()
	require.Len(t, got, 2)
	byKind := map[string]store.Metric{}
	for _, m := range got[live] {
		byKind[m.Kind+" "+m.Name] = m
	}
	require.Len(t, byKind, 2)
	require.Equal(t, []int{2, 1}, []int{byKind["flow bookings"].Count, byKind["flow bookings"].Failed})
	require.Equal(t, []int{1, 1}, []int{byKind["connection desk"].Count, byKind["connection desk"].Failed})
	require.Len(t, got[trial], 1)
	require.Zero(t, got[trial][0].Failed)
	require.Empty(t, f.take(), "what was taken is not taken again")
	for name, want := range map[string]float64{"hollowreed_runs_total": 3, "hollowreed_records_total": 15, "hollowreed_calls_total": 1} {
		require.Equal(t, want, scraped(t, f, name), "who scrapes the process sees all that it has done: %s", name)
	}
}

// TestUsesOfConnectionsWaitForARun: they are polled all the time, and are kept only now and then where nothing runs.
func TestUsesOfConnectionsWaitForARun(t *testing.T) {
	f := NewMetrics()
	s := store.Scope{Project: "skerry", Environment: "Live"}
	f.Called(s, "desk", time.Millisecond, false)
	require.Len(t, f.take()[s], 1, "none was kept for long")
	f.Called(s, "desk", time.Millisecond, false)
	require.Empty(t, f.take())
	f.RunEnded(store.Run{Scope: s, Flow: "bookings"}, store.Done, time.Millisecond)
	require.Len(t, f.take()[s], 2)
}

// scraped is the sum of a counter over its labels.
func scraped(t *testing.T, f *Metrics, name string) (sum float64) {
	t.Helper()
	families, err := f.Registry.Gather()
	require.NoError(t, err)
	for _, family := range families {
		for _, m := range family.GetMetric() {
			if family.GetName() == name {
				sum += m.GetCounter().GetValue()
			}
		}
	}
	return sum
}
