package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/app"
	"hollowreed/internal/child"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/store"
)

// crashing is how long workers are killed: longer where HOLLOWREED_CRASH says so, as 5m.
func crashing(t *testing.T) time.Duration {
	text := os.Getenv("HOLLOWREED_CRASH")
	if text == "" {
		return 10 * time.Second
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err)
	return d
}

// sailings writes a manifest with a number of sailings of forty vehicles each, and notes what must be boarded.
func sailings(file, n int, boarded map[string]string) string {
	classes := []string{"CAR", "VAN", "LOR", "BUS"}
	var b strings.Builder
	for s := range n {
		sailing := fmt.Sprintf("%c%c%03d", 'A'+file%26, 'A'+file/26, s)
		fmt.Fprintf(&b, "S%s20310309%-20s\n", sailing, "Ling Castle")
		for v := range 40 {
			plate := fmt.Sprintf("P%d %d", s, v)
			fmt.Fprintf(&b, "V%-10s%s%04d\n", plate, classes[v%4], 300+v)
			boarded[sailing+" "+plate] = fmt.Sprintf("%s %d.%02d", classes[v%4], (300+v)/100, (300+v)%100)
		}
		fmt.Fprintf(&b, "T%04d%07d\n", 40, 0)
	}
	return b.String()
}

// TestThreeWorkersLoseNothing: manifests become a run for each vehicle while workers are killed at random points and
// the database drops its connections. Every vehicle has one run, all runs end, and the ledger holds the truth.
func TestThreeWorkersLoseNothing(t *testing.T) {
	w := newWorld(t)
	args := []string{"--beat", "100ms", "--silence", "1s", "--rest", "50ms", "--batch", "2"}
	workers := make([]*child.Process, 3)
	for i := range workers {
		workers[i] = w.worker(args...)
	}
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 11))
	boarded := map[string]string{}
	kills, files := 0, 0
	for end := time.Now().Add(crashing(t)); time.Now().Before(end); {
		if files < 100 {
			require.NoError(t, gauges.Drop(w.folder, fmt.Sprintf("m%03d.man", files), sailings(files, 6, boarded)))
			files++
		}
		time.Sleep(time.Duration(200+random.IntN(800)) * time.Millisecond) // the random point
		w.revive(workers, args...)
		if random.IntN(4) == 0 {
			_, err := w.db.Exec(t.Context(), "select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()")
			require.NoError(t, err)
			continue
		}
		w.kill(workers, random.IntN(len(workers)), args...)
		kills++
	}
	require.Positive(t, kills)
	left := func() (n int) {
		require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from run where state in ('waiting', 'running', 'retrying') and flow in ('manifest', 'vehicle')").Scan(&n))
		return n
	}
	require.Eventually(t, func() bool {
		w.revive(workers, args...)
		var manifests int
		require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from run where flow = 'manifest'").Scan(&manifests))
		return manifests == files && left() == 0
	}, 90*time.Second, 100*time.Millisecond, "%d runs are not over", left())

	rows, err := w.ledger.Query(t.Context(), "select sailing || ' ' || plate, class || ' ' || length_m from boarding")
	require.NoError(t, err)
	got := map[string]string{}
	for rows.Next() {
		var key, value string
		require.NoError(t, rows.Scan(&key, &value))
		got[key] = value
	}
	require.NoError(t, rows.Err())
	require.Equal(t, boarded, got)
	var vehicles, done int
	require.NoError(t, w.db.QueryRow(t.Context(), "select count(*), count(*) filter (where state = 'done') from run where project = $1 and flow = 'vehicle'", app.DemoProject).Scan(&vehicles, &done))
	require.Equal(t, len(boarded), vehicles, "one run for each vehicle")
	require.Equal(t, len(boarded), done)
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: app.Demo, Flow: "manifest", Most: 1000})
	require.NoError(t, err)
	for _, r := range runs {
		require.Equal(t, store.Done, r.State, "%s: %v", r.File, r.Fault)
		require.Equal(t, 6, r.RecordsRead)
	}
	t.Logf("%d kills, %d files, %d vehicles", kills, files, vehicles)
}
