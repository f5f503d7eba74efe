package app

import (
	"math"
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheEnvironmentSaysHowOftenMemoryIsCollected, and the program where that says nothing.
func TestTheEnvironmentSaysHowOftenMemoryIsCollected(t *testing.T) {
	percent, limit := debug.SetGCPercent(100), debug.SetMemoryLimit(math.MaxInt64)
	t.Cleanup(func() { debug.SetGCPercent(percent); debug.SetMemoryLimit(limit) })
	t.Setenv("GOGC", "50")
	t.Setenv("GOMEMLIMIT", "1GiB")
	CollectSeldom()
	require.EqualValues(t, math.MaxInt64, debug.SetMemoryLimit(-1))
	require.Equal(t, 100, debug.SetGCPercent(100), "as it was set before")
	t.Setenv("GOGC", "")
	t.Setenv("GOMEMLIMIT", "")
	CollectSeldom()
	require.EqualValues(t, memoryLimit, debug.SetMemoryLimit(-1))
	require.Equal(t, garbagePercent, debug.SetGCPercent(100))
}
