package triggers

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/engine/shared"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// TestASlowTriggerKeepsNobodyWaiting: while one trigger is looked at, another is, and that one is not looked at once more.
func TestASlowTriggerKeepsNobodyWaiting(t *testing.T) {
	w := New(Config{})
	hold, began := make(chan struct{}), make(chan struct{})
	w.inBackground("skerry/slow", func() error { close(began); <-hold; return nil })
	<-began
	w.inBackground("skerry/slow", func() error { t.Error("looked at twice at once"); return nil })
	quick := make(chan struct{})
	w.inBackground("skerry/quick", func() error { close(quick); return nil })
	<-quick
	close(hold)
	w.Finish()
	again := make(chan struct{})
	w.inBackground("skerry/slow", func() error { close(again); return nil })
	<-again
	w.Finish()
}

// TestATriggerThatAsksSeldomAsksAgainSoonAfterAFailure: only a look that was answered puts the next one off.
func TestATriggerThatAsksSeldomAsksAgainSoonAfterAFailure(t *testing.T) {
	var heard shared.Hearing
	w := New(Config{DB: testkit.Project(t, "skerry", "Skerry", nil), Hearing: &heard})
	r := store.Deployment{Scope: testkit.Skerry, Flow: "gauge-readings", Number: 1}
	due := func() bool {
		_, due, err := w.taken(t.Context(), r, time.Hour)
		require.NoError(t, err)
		return due
	}
	require.True(t, due())
	require.True(t, due(), "the first look was not answered")
	require.NoError(t, w.asksNext(t.Context(), r, time.Hour))
	require.False(t, due(), "the look was answered")
}
