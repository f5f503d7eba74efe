package engine

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/spool"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

const flowID = "gauge-readings"

// world is a database with the demo project released, a ledger and a watched folder.
type world struct {
	t         *testing.T
	db        *pgxpool.Pool
	url       string
	ledgerURL string
	ledger    *pgxpool.Pool
	folder    string
	done      string
	settings  connector.StaticSettings
	engine    *Engine
}

func newWorld(t *testing.T) *world {
	t.Helper()
	ctx := t.Context()
	w := &world{t: t, url: testdb.Like(t, "product", testkit.Demo(testkit.Mo)), ledgerURL: testdb.Like(t, "ledger", func(url string) error { return ledger.Seed(ctx, url) }), folder: t.TempDir(), done: t.TempDir()}
	var err error
	w.db, err = store.Open(ctx, w.url)
	require.NoError(t, err)
	t.Cleanup(w.db.Close)
	w.ledger, err = pgxpool.New(ctx, w.ledgerURL)
	require.NoError(t, err)
	t.Cleanup(w.ledger.Close)
	w.settings = connector.StaticSettings{
		"gauge-drop":     {Kind: "file", Values: system.Values{"folder": w.folder, "done": w.done}},
		"harbour-ledger": {Kind: "sql", Values: system.Values{"by": "address", "address": w.ledgerURL}},
	}
	return w
}

// start runs an engine and releases the flow.
func (w *world) start(o Options) *Engine {
	w.t.Helper()
	pool := connector.Same[store.Scope](w.settings, connector.Rules{})
	w.t.Cleanup(pool.Close)
	o.PollInterval, o.Heartbeat = 50*time.Millisecond, 100*time.Millisecond
	if o.StableFor == 0 {
		o.StableFor = 100 * time.Millisecond
	}
	if testing.Verbose() {
		o.Log = slog.New(slog.NewTextHandler(w.t.Output(), nil))
	}
	e, err := New(w.db, pool, o)
	require.NoError(w.t, err)
	if releases, err := store.NewestReleases(w.t.Context(), w.db, "skerry"); err == nil && len(releases) == 0 {
		_, err = e.CreateRelease(w.t.Context(), testkit.Skerry, flowID, "first", "mo")
		require.NoError(w.t, err)
	}
	require.NoError(w.t, e.Start(context.WithoutCancel(w.t.Context())))
	w.t.Cleanup(e.Stop)
	w.engine = e
	return e
}

func (w *world) drop(name, content string) {
	w.t.Helper()
	temp := filepath.Join(w.folder, name+".tmp")
	require.NoError(w.t, os.WriteFile(temp, []byte(content), 0o644))
	require.NoError(w.t, os.Rename(temp, filepath.Join(w.folder, name)))
}

// ended waits for the newest run of a file to end.
func (w *world) ended(file string) store.Run {
	w.t.Helper()
	return testkit.Ended(w.t, w.db, testkit.Skerry, file)
}

func (w *world) count(sql string, args ...any) (n int) {
	w.t.Helper()
	require.NoError(w.t, w.ledger.QueryRow(w.t.Context(), sql, args...).Scan(&n))
	return n
}

// reading is one line of a gauge file without its end.
func reading(gauge string, minute int, level int, trend string) string {
	return fmt.Sprintf("%s20310309%02d%02d00%05d038036%02d%s", gauge, 6+minute/60, minute%60, level, 10, trend)
}

func tide(lines ...string) string { return strings.Join(lines, "\r\n") + "\r\n" }

func TestAFileBecomesRowsOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	content := tide(reading("SK04", 12, 4125, "R"), reading("LC11", 12, 2870, "F"), reading("OR02", 12, 3100, "R"))
	w.drop("a.tide", content)
	r := w.ended("a.tide")
	require.Equal(t, store.Done, r.State)
	require.Equal(t, 3, r.RecordsRead)
	require.Equal(t, 2, r.Counts["upsert"].Inserted)
	require.Equal(t, 1, r.Counts["keep"].Skipped)
	require.FileExists(t, filepath.Join(w.done, "a.tide"))
	require.NoFileExists(t, filepath.Join(w.folder, "a.tide"))

	var above string
	require.NoError(t, w.ledger.QueryRow(t.Context(), "select above_datum_cm::text from tide_level where gauge_code = 'SK04'").Scan(&above))
	require.Equal(t, "443.5", above)

	w.drop("b.tide", content)
	again := w.ended("b.tide")
	require.Equal(t, store.Done, again.State)
	require.Equal(t, 2, again.Counts["upsert"].Updated, "the file's name is part of the row")
	w.drop("a.tide", content)
	testkit.Until(t, "the third run", func() (int, bool) {
		runs, _ := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Reference: "a.tide", Most: 9})
		return len(runs), len(runs) == 2 && runs[0].Ended()
	})
	third := w.ended("a.tide")
	require.Equal(t, 2, third.Counts["upsert"].Updated)
	require.Equal(t, 2, w.count("select count(*) from tide_level"))
}

func TestTheSameFileTwiceChangesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.drop("a.tide", tide(reading("SK04", 12, 4125, "R"), reading("HV07", 12, 4125, "R")))
	first := w.ended("a.tide")
	id, err := e.Rerun(t.Context(), first.ID, RerunOptions{By: "mo"})
	require.NoError(t, err)
	again := testkit.Until(t, "the repeat", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, id)
		require.NoError(t, err)
		return r, r.Ended()
	})
	require.Equal(t, 2, again.Counts["upsert"].Unchanged)
	require.Equal(t, 2, w.count("select count(*) from tide_level_write"))
}

func TestBadRecordsAreSetAsideAndMended(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	good := reading("SK04", 12, 4125, "R")
	w.drop("bad.tide", tide(
		good,
		strings.Replace(reading("SK04", 22, 4125, "R"), "04125", "04X25", 1), // not a number
		"SK04",                         // short
		reading("SK04", 32, 9999, "R"), // over the greatest level
		reading("ZZ99", 42, 4125, "R"), // no such station
		reading("SK04", 52, 4125, "R")+"more",
	)+reading("SK04", 59, 4125, "R")) // no line end
	r := w.ended("bad.tide")
	require.Equal(t, store.SetAside, r.State)
	require.Equal(t, 1, r.Counts["upsert"].Inserted)
	asides, err := store.Asides(t.Context(), w.db, r.ID, 100)
	require.NoError(t, err)
	var told []string
	for _, a := range asides {
		told = append(told, fmt.Sprintf("%s: %s", a.Step, a.Faults[0].Error()))
	}
	require.Equal(t, []string{
		`read: bad.tide:2:19: level_cm: expected digits with 1 implied decimal place, found "04X25"`,
		`read: bad.tide:3:5: day: expected 32 columns, found a line of 4`,
		`read: bad.tide:4:19 /level_cm: level_cm: expected at most 900, found 999.9`,
		`find: bad.tide:5: Find station: expected a row of station, found no row of station with gauge_code "ZZ99". Add the row, or mend the record's key`,
		`read: bad.tide:6:33: expected the line to end after column 32, found "more"`,
		`read: bad.tide:7:33: expected CR LF after the record, found the end of the file. The file may have been cut short`,
	}, told)

	for _, still := range []string{"SK04", strings.Replace(reading("SK04", 22, 4130, "R"), "4130", "41X0", 1)} {
		_, err = e.Correct(t.Context(), asides[0].ID, &still, "mo")
		require.ErrorContains(t, err, "it would be set aside again", "a mend is checked before it is sent")
	}
	text := reading("SK04", 22, 4130, "R")
	id, err := e.Correct(t.Context(), asides[0].ID, &text, "mo")
	require.NoError(t, err)
	mended := testkit.Until(t, "the mended run", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, id)
		require.NoError(t, err)
		return r, r.Ended()
	})
	require.Equal(t, store.Done, mended.State)
	require.Equal(t, r.ID, *mended.Parent)
	require.Equal(t, "mo", mended.StartedBy)
	require.Equal(t, 2, w.count("select count(*) from tide_level"))
	require.Equal(t, 1, w.count("select count(*) from tide_level where level_cm = 413.0 and source_file = 'bad.tide'"))
	entry, err := journal.Of(t.Context(), e.db, id, 0)
	require.NoError(t, err)
	require.Equal(t, 2, entry.Line, "a mended record keeps its line")

	_, err = e.Correct(t.Context(), asides[0].ID, &good, "mo")
	require.ErrorIs(t, err, store.ErrChanged, "a record is mended once")
}

func TestTheJournalHoldsEveryRecord(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{Batch: 2})
	w.drop("j.tide", tide(reading("SK04", 1, 4125, "R"), reading("SK04", 2, 4125, "F"), reading("SK04", 3, 4126, "R")))
	r := w.ended("j.tide")
	entry, err := journal.Of(t.Context(), e.db, r.ID, 2)
	require.NoError(t, err)
	require.Equal(t, 3, entry.Line)
	require.Equal(t, "done", string(entry.State))
	require.Equal(t, "inserted", string(entry.Effects[0].Effect))
	require.JSONEq(t, `{"id":17,"gauge_code":"SK04","name":"Ling Sound, north pier","datum_cm":-31.0}`, string(entry.Values["station"]))
	left, err := journal.Of(t.Context(), e.db, r.ID, 1)
	require.NoError(t, err)
	require.Equal(t, "keep", left.Step)
	_, err = journal.Of(t.Context(), e.db, r.ID, 3)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestAGrowingFileIsLeftAlone(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{StableFor: 600 * time.Millisecond})
	path := filepath.Join(w.folder, "slow.tide")
	f, err := os.Create(path)
	require.NoError(t, err)
	for i := range 12 {
		_, err := f.WriteString(tide(reading("SK04", i, 4125, "R")))
		require.NoError(t, err)
		time.Sleep(100 * time.Millisecond) // the writer's pace, shorter than the rest
		runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Most: 1})
		require.NoError(t, err)
		require.Empty(t, runs, "picked up half-written")
	}
	require.NoError(t, f.Close())
	require.Equal(t, 12, w.ended("slow.tide").RecordsRead)
}

func TestAnEmptyFileIsAFault(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.drop("empty.tide", "")
	r := w.ended("empty.tide")
	require.Equal(t, store.Stopped, r.State)
	require.Contains(t, r.Fault.What(), "an empty file")
}

func TestTheLedgerDownIsWaitedFor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	down := w.settings["harbour-ledger"]
	e := w.start(Options{Attempts: 2, Backoff: func(int) time.Duration { return 50 * time.Millisecond }})
	w.setLedger(false)
	w.drop("down.tide", tide(reading("SK04", 1, 4125, "R")))
	r := w.ended("down.tide")
	require.Equal(t, store.SetAside, r.State)
	require.Contains(t, r.Fault.What(), "cannot be reached")
	require.NotContains(t, r.Fault.Error(), down.Values["address"])
	w.setLedger(true)
	require.NoError(t, e.Resume(t.Context(), r.ID))
	require.Equal(t, store.Done, w.ended("down.tide").State)
	require.Equal(t, 1, w.count("select count(*) from tide_level"))
}

// setLedger takes the ledger's database down or up again.
func (w *world) setLedger(up bool) {
	w.t.Helper()
	conn, err := pgx.Connect(w.t.Context(), w.url)
	require.NoError(w.t, err)
	defer conn.Close(context.Background())
	name := w.ledger.Config().ConnConfig.Database
	_, err = conn.Exec(w.t.Context(), fmt.Sprintf("alter database %s allow_connections %t", name, up))
	require.NoError(w.t, err)
	if !up {
		_, err = conn.Exec(w.t.Context(), "select pg_terminate_backend(pid) from pg_stat_activity where datname = $1", name)
		require.NoError(w.t, err)
	}
}

func TestARunKeepsItsRelease(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.drop("one.tide", tide(reading("SK04", 1, 4125, "F")))
	require.Equal(t, 1, w.ended("one.tide").Counts["keep"].Skipped)
	draft, err := store.PartDraft(t.Context(), w.db, "skerry", "flows/gauge-readings.yaml")
	require.NoError(t, err)
	text := strings.Replace(draft.Text, `trend == "R" and level_cm > 0`, "level_cm > 0", 1)
	require.NotEqual(t, draft.Text, text)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error {
		return store.SavePart(t.Context(), tx, "skerry", draft.Path, text, draft.Revision, "mo")
	}))
	n, err := e.CreateRelease(t.Context(), testkit.Skerry, flowID, "falling ones too", "mo")
	require.NoError(t, err)
	require.Equal(t, 2, n)
	w.drop("two.tide", tide(reading("SK04", 2, 4125, "F")))
	r := w.ended("two.tide")
	require.Equal(t, 2, r.Release)
	require.Equal(t, 1, r.Counts["upsert"].Inserted)
}

func TestADoneFolderThatCannotBeWrittenLosesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := w.settings["gauge-drop"]
	s.Values["done"] = filepath.Join(w.done, "missing")
	w.settings["gauge-drop"] = s
	w.start(Options{})
	w.drop("full.tide", tide(reading("SK04", 1, 4125, "R")))
	r := w.ended("full.tide")
	require.Equal(t, store.Done, r.State)
	require.FileExists(t, filepath.Join(w.folder, "full.tide"))
	r = testkit.Until(t, "the warning", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, r.ID)
		require.NoError(t, err)
		return r, r.Warning != ""
	})
	require.Contains(t, r.Warning, "stays where it was dropped")
	require.NoError(t, os.Mkdir(s.Values["done"], 0o755))
	testkit.Until(t, "the file to be moved", func() (bool, bool) {
		_, err := os.Stat(filepath.Join(s.Values["done"], "full.tide"))
		return false, err == nil
	})
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Most: 9})
	require.NoError(t, err)
	require.Len(t, runs, 1, "one file, one run")
}

func TestAFileThatIsRemovedIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	w.drop("gone.tide", tide(reading("SK04", 1, 4125, "R")))
	r := w.ended("gone.tide")
	require.NoError(t, os.Remove(filepath.Join(w.done, "gone.tide")))
	id, err := e.Rerun(t.Context(), r.ID, RerunOptions{By: "mo"})
	require.NoError(t, err)
	again := testkit.Until(t, "the repeat", func() (store.Run, bool) {
		r, err := store.RunByID(t.Context(), w.db, id)
		require.NoError(t, err)
		return r, r.Ended()
	})
	require.Equal(t, store.Stopped, again.State)
	require.Contains(t, again.Fault.What(), "it was removed")
}

func TestAJobOfADeadWorkerIsGivenBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{Silence: time.Second})
	w.engine.Stop()
	_, err := w.db.Exec(t.Context(), "insert into worker (id, environment, heartbeat_at) values ('dead', 'Workbench', now())")
	require.NoError(t, err)
	id := uuid.Must(uuid.NewV7())
	require.NoError(t, store.AddRun(t.Context(), w.db, store.Run{
		ID: id, Scope: testkit.Skerry, Flow: flowID, Release: 1, Reference: "dead", File: "dead.tide", StartedBy: "mo",
	}, spool.Of([]byte(tide(reading("SK04", 1, 4125, "R"))))))
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error { return w.engine.enqueue(t.Context(), tx, testkit.Skerry, id) }))
	_, err = w.db.Exec(t.Context(), "update river_job set state = 'running', attempt = 1, attempted_at = now(), attempted_by = '{dead}'")
	require.NoError(t, err)
	w.start(Options{Silence: time.Second})
	require.Equal(t, store.Done, w.ended("dead").State)
}

// TestTheJournalKeepsWhatAMappingLeftOut: the notes of a record that went on, and the reason of one that
// was left out; and what a message was, so that a mapping can make it again.
func TestTheJournalKeepsWhatAMappingLeftOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	const path = "mappings/reading-to-tide-level.yaml"
	draft, err := store.PartDraft(t.Context(), w.db, "skerry", path)
	require.NoError(t, err)
	text := strings.NewReplacer("rules:\n", "on fault: omit field\nconditions:\n  - {when: level_cm > 300, reason: too low}\nrules:\n", "    formula: trend\n", "    formula: text(1 / (level_cm - level_cm))\n").Replace(draft.Text)
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error {
		return store.SavePart(t.Context(), tx, "skerry", path, text, draft.Revision, "mo")
	}))
	_, err = e.CreateRelease(t.Context(), testkit.Skerry, flowID, "", "mo")
	require.NoError(t, err)
	list, err := store.Releases(t.Context(), w.db, "skerry", 1)
	require.NoError(t, err)
	require.Equal(t, []string{"A surge at Orma slip"}, list[0].FailedCases)

	w.drop("notes.tide", tide(reading("SK04", 1, 4125, "R"), reading("SK04", 2, 1125, "R"), reading("SK04", 3, 4225, "R")))
	r := w.ended("notes.tide")
	require.Equal(t, 1, r.Counts["map"].Skipped)
	var entries []*journal.Entry
	require.NoError(t, journal.Entries(t.Context(), e.db, r, func(entry *journal.Entry) bool {
		entries = append(entries, entry)
		return true
	}))
	require.Len(t, entries, 3)
	require.Len(t, entries[0].Notes, 1)
	require.Equal(t, "/trend", entries[0].Notes[0].Place.Path)
	require.Equal(t, "too low", entries[1].Reason)
	p, err := e.Release(t.Context(), "skerry", flowID, r.Release)
	require.NoError(t, err)
	plan := p.Mapping("reading-to-tide-level")
	fr := plan.NewFrame()
	require.True(t, entries[2].Fill(plan, fr, r))
	require.Equal(t, "422.5", plan.Apply(fr).Value.Field("level_cm").String())
	seen := 0
	require.NoError(t, journal.Entries(t.Context(), e.db, r, func(*journal.Entry) bool { seen++; return false }))
	require.Equal(t, 1, seen)
}

// TestARunThatComesRightBehindAnotherBeginsAtOnce: the queue tells of several inserts within milliseconds only once; the workers look
// again without being told. They would not look by themselves before this test is over.
func TestARunThatComesRightBehindAnotherBeginsAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{Poll: time.Hour})
	w.add("asking", map[string]string{"flows/asking.yaml": "flow: Asking\ntrigger: {kind: person}\nsteps:\n  - {step: note, id: n, text: '\"x\"'}\n"})
	for range 30 {
		require.Equal(t, store.Done, w.begun("asking", nil).State)
	}
}
