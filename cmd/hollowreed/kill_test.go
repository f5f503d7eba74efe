package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"hollowreed/demo"
	"hollowreed/internal/app"
	"hollowreed/internal/child"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// world is a loaded database, a ledger, and the real binary to work on them.
type world struct {
	t            *testing.T
	binary       string
	url          string
	db           *pgxpool.Pool
	ledger       *pgxpool.Pool
	folder, done string
	settings     string
}

// build builds the program.
func build(t *testing.T, binary string) {
	t.Helper()
	out, err := exec.Command("go", "build", "-o", binary, ".").CombinedOutput()
	require.NoError(t, err, string(out))
}

func newWorld(t *testing.T) *world {
	t.Helper()
	ctx := t.Context()
	dir := t.TempDir()
	w := &world{t: t, binary: filepath.Join(dir, "hollowreed"), folder: t.TempDir(), done: t.TempDir(), settings: filepath.Join(dir, "settings.yaml")}
	var err error
	build(t, w.binary)
	w.url = testdb.New(t)
	w.db, err = store.Open(ctx, w.url)
	require.NoError(t, err)
	t.Cleanup(w.db.Close)
	ledgerURL := testdb.New(t)
	require.NoError(t, ledger.Seed(ctx, ledgerURL))
	w.ledger, err = pgxpool.New(ctx, ledgerURL)
	require.NoError(t, err)
	t.Cleanup(w.ledger.Close)
	text, err := yaml.Marshal(map[string]map[string]string{
		"gauge-drop": {"kind": "file", "folder": w.folder, "done": w.done}, "harbour-ledger": {"kind": "sql", "by": "address", "address": ledgerURL},
	})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.settings, text, 0o600))
	settings, err := connector.ReadStaticSettings(w.settings)
	require.NoError(t, err)
	texts, err := project.Read(demo.Files)
	require.NoError(t, err)
	pool := connector.Same[store.Scope](settings, connector.Rules{})
	t.Cleanup(pool.Close)
	loader, err := engine.New(w.db, pool, engine.Options{})
	require.NoError(t, err)
	require.NoError(t, app.LoadDemo(ctx, w.db, loader, texts))
	return w
}

// worker starts the real process.
func (w *world) worker(args ...string) *child.Process {
	w.t.Helper()
	cmd := exec.Command(w.binary, append([]string{"worker", "--database", w.url, "--settings", w.settings, "--roots", os.TempDir()}, args...)...)
	cmd.Stderr = os.Stderr
	p, err := child.Start(cmd, syscall.SIGKILL)
	require.NoError(w.t, err)
	w.t.Cleanup(func() {
		p.Process.Kill()
		p.Wait()
	})
	return p
}

// kill kills one of several workers and starts another in its place.
func (w *world) kill(workers []*child.Process, i int, args ...string) {
	w.t.Helper()
	workers[i].Process.Kill() // or it has just ended by itself
	workers[i].Wait()
	workers[i] = w.worker(args...)
}

// revive starts others in place of workers that have ended by themselves: one does that from whom the database is taken while it
// starts.
func (w *world) revive(workers []*child.Process, args ...string) {
	w.t.Helper()
	for i, worker := range workers {
		if worker.HasEnded() {
			workers[i] = w.worker(args...)
		}
	}
}

func (w *world) newest() (store.Run, bool) {
	w.t.Helper()
	runs, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Scope: app.Demo, Flow: "gauge-readings", Most: 1})
	require.NoError(w.t, err)
	if len(runs) == 0 {
		return store.Run{}, false
	}
	return runs[0], true
}

// progressed waits until more than a number of records are dealt with, or the run is over.
func (w *world) progressed(beyond int, within time.Duration) store.Run {
	w.t.Helper()
	deadline := time.Now().Add(within)
	for {
		r, ok := w.newest()
		if ok && (r.RecordsRead > beyond || r.Ended()) {
			return r
		}
		if time.Now().After(deadline) {
			w.t.Fatalf("no progress beyond %d within %s: %+v", beyond, within, r)
		}
		time.Sleep(time.Millisecond)
	}
}

// truth is what the ledger must hold of a file, worked out without the product.
func truth(content, file string) map[string]string {
	datum := map[string]int{"LC11": -125, "SK04": -310, "OR02": 40, "HV07": -85}
	rows := map[string]string{}
	for _, line := range strings.Split(strings.TrimSpace(content), "\r\n") {
		if line[31] != 'R' {
			continue
		}
		var level int
		fmt.Sscanf(line[18:23], "%d", &level)
		gauge := line[:4]
		taken := fmt.Sprintf("%s-%s-%s %s:%s:%s", line[4:8], line[8:10], line[10:12], line[12:14], line[14:16], line[16:18])
		above := level - datum[gauge]
		sign := ""
		if above < 0 {
			sign, above = "-", -above
		}
		rows[gauge+" "+taken] = fmt.Sprintf("%d.%d %s%d.%d %s", level/10, level%10, sign, above/10, above%10, file)
	}
	return rows
}

func (w *world) rows() map[string]string {
	w.t.Helper()
	result, err := w.ledger.Query(w.t.Context(), `select gauge_code || ' ' || to_char(taken_at at time zone 'UTC', 'YYYY-MM-DD HH24:MI:SS'),
		level_cm::text || ' ' || above_datum_cm::text || ' ' || source_file from tide_level`)
	require.NoError(w.t, err)
	rows := map[string]string{}
	var key, value string
	_, err = pgx.ForEachRow(result, []any{&key, &value}, func() error {
		rows[key] = value
		return nil
	})
	require.NoError(w.t, err)
	return rows
}

// manyReadings is a file of distinct readings: 28 days of 100 readings of each gauge.
func manyReadings() string {
	var b strings.Builder
	for day := 1; day <= 28; day++ {
		b.WriteString(gauges.Readings(day, 100))
	}
	return b.String()
}

func TestKilledAnywhereNothingIsLostOrWrittenTwice(t *testing.T) {
	const kills = 24
	w := newWorld(t)
	content := manyReadings()
	total := strings.Count(content, "\n")
	require.NoError(t, gauges.Drop(w.folder, "kill.tide", content))
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 7))
	args := []string{"--batch", "20", "--beat", "50ms", "--silence", "500ms", "--rest", "50ms"}
	killed, midFile, taken := 0, 0, -1
	for killed < kills {
		worker := w.worker(args...)
		r := w.progressed(taken, 15*time.Second)
		time.Sleep(time.Duration(random.IntN(12_000)) * time.Microsecond) // the random point
		require.NoError(t, worker.Process.Kill())
		worker.Wait()
		killed++
		if r, _ = w.newest(); !r.Ended() {
			midFile++
		}
		taken = r.RecordsRead
		require.False(t, r.Ended() && killed < 20, "the file is too small for this machine: it ended after %d kills", killed)
		if r.Ended() {
			break
		}
	}
	w.worker(args...)
	r := w.progressed(total, 30*time.Second)
	require.Equal(t, store.Done, r.State, "%+v", r.Fault)
	require.Equal(t, total, r.RecordsRead)
	require.GreaterOrEqual(t, midFile, 20, "killed in mid-file")

	want := truth(content, "kill.tide")
	require.Equal(t, want, w.rows())
	var writes, twice int
	require.NoError(t, w.ledger.QueryRow(t.Context(), "select count(*) from tide_level_write").Scan(&writes))
	require.NoError(t, w.ledger.QueryRow(t.Context(), "select count(*) from (select 1 from tide_level_write group by gauge_code, taken_at having count(*) > 1) t").Scan(&twice))
	require.Equal(t, len(want), writes)
	require.Zero(t, twice, "rows written twice")
	var journaled, overlaps int
	require.NoError(t, w.db.QueryRow(t.Context(), "select coalesce(sum(records), 0) from journal where run = $1", r.ID).Scan(&journaled))
	require.NoError(t, w.db.QueryRow(t.Context(), `select count(*) from journal a join journal b on a.run = b.run and a.first < b.first and a.first + a.records > b.first where a.run = $1`, r.ID).Scan(&overlaps))
	require.Equal(t, total, journaled, "every record is in the journal")
	require.Zero(t, overlaps)
	t.Logf("killed %d times, %d of them in mid-file of %d records", killed, midFile, total)
}

func TestADeadWorkersRunIsTakenUpWithin15Seconds(t *testing.T) {
	w := newWorld(t)
	content := manyReadings()
	require.NoError(t, gauges.Drop(w.folder, "slow.tide", content))
	first := w.worker("--batch", "20")
	taken := w.progressed(0, 20*time.Second).RecordsRead
	require.NoError(t, first.Process.Kill())
	first.Wait()
	began := time.Now()
	r, _ := w.newest()
	require.False(t, r.Ended(), "it ended before it was killed")
	w.worker("--batch", "20")
	w.progressed(max(taken, r.RecordsRead), 15*time.Second)
	t.Logf("taken up again after %s", time.Since(began).Round(time.Millisecond))
}

// TestCtrlCEndsAWorker shows that a worker that is asked to stop ends cleanly and leaves the list.
func TestCtrlCEndsAWorker(t *testing.T) {
	w := newWorld(t)
	worker := w.worker()
	deadline := time.Now().Add(10 * time.Second)
	for {
		workers, err := store.Workers(t.Context(), w.db, app.Demo.Environment)
		require.NoError(t, err)
		if len(workers) == 1 {
			break
		}
		require.True(t, time.Now().Before(deadline), "the worker did not start")
		time.Sleep(10 * time.Millisecond)
	}
	require.NoError(t, worker.Process.Signal(os.Interrupt))
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	select {
	case <-worker.Ended():
		require.NoError(t, worker.Wait())
	case <-ctx.Done():
		t.Fatal("the worker did not end")
	}
	workers, err := store.Workers(t.Context(), w.db, app.Demo.Environment)
	require.NoError(t, err)
	require.Empty(t, workers)
	require.NoFileExists(t, "hollowreed.key", "it has its settings from a file, and needs no key")
}

// TestRunReallyWrites shows that run writes to the ledger only when it is told to.
func TestRunReallyWrites(t *testing.T) {
	w := newWorld(t)
	content := gauges.Readings(9, 12)
	input := filepath.Join(t.TempDir(), "sk_0309.tide")
	require.NoError(t, os.WriteFile(input, []byte(content), 0o644))
	args := []string{"run", "../../demo", "gauge-readings", "--input", input}
	out, err := exec.Command(w.binary, args...).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Empty(t, w.rows())
	for _, what := range []string{"inserted", "unchanged"} {
		out, err = exec.Command(w.binary, append(args, "--really", "--settings", w.settings)...).CombinedOutput()
		require.NoError(t, err, string(out))
		require.Contains(t, string(out), fmt.Sprintf("%d %s", len(truth(content, "")), what))
		require.Equal(t, truth(content, "sk_0309.tide"), w.rows())
	}
}
