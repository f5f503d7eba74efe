package engine

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

// TestCallersAreBounded: all of them, and those of one address, who do not shut out others.
func TestCallersAreBounded(t *testing.T) {
	w := callers{most: 3, each: 2}
	one, two := w.admit("a"), w.admit("a")
	require.NotNil(t, one)
	require.NotNil(t, two)
	require.Nil(t, w.admit("a"))
	three := w.admit("b")
	require.NotNil(t, three)
	require.Nil(t, w.admit("c"))
	one()
	require.NotNil(t, w.admit("a"))
	three()
	two()
	require.NotNil(t, w.admit("b"))
	require.Equal(t, 2, w.all)
	require.Equal(t, map[string]int{"a": 1, "b": 1}, w.of)
}

// TestCallersAreWoken: all who wait for a run, and nobody else; who is gone is forgotten.
func TestCallersAreWoken(t *testing.T) {
	var w callers
	run, other := uuid.New(), uuid.New()
	first, doneFirst := w.on(run)
	second, doneSecond := w.on(run)
	third, doneThird := w.on(other)
	require.ElementsMatch(t, []uuid.UUID{run, other}, w.runs())
	w.wake(run)
	w.wake(run)
	<-first
	<-second
	require.Empty(t, third)
	doneFirst()
	doneSecond()
	doneThird()
	require.Empty(t, w.waiting)
	w.wake(run)
}
