package engine

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// TestMessagesAreSearched: for what the steps have yielded, in large and small letters alike.
func TestMessagesAreSearched(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Batch: 3})
	w.drop("one.tide", tide(reading("SK04", 1, 4125, "R"))+many(8))
	w.drop("two.tide", tide(reading("HV07", 1, 4125, "R")))
	one := w.ended("one.tide")
	w.ended("two.tide")
	found, err := journal.Search(t.Context(), e.db, store.RunFilter{Scope: testkit.Skerry}, `"sk04"`, 10)
	require.NoError(t, err)
	require.Len(t, found.Runs, 1)
	require.Equal(t, one.ID, found.Runs[0])
	require.Equal(t, 2, found.Looked)
	require.Nil(t, found.Last)
	found, err = journal.Search(t.Context(), e.db, store.RunFilter{Scope: testkit.Skerry}, "no such thing", 10)
	require.NoError(t, err)
	require.Empty(t, found.Runs)
}
