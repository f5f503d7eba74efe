package app

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/all"
	"hollowreed/internal/standin/crewroll"
	"hollowreed/internal/standin/driftbox"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/standin/noticeboard"
	"hollowreed/internal/standin/office"
	"hollowreed/internal/standin/postroom"
	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// world is the demo project with its stand-ins, in this process.
type world struct {
	t      *testing.T
	db     *pgxpool.Pool
	ledger *pgxpool.Pool
	flags  flags
	engine *engine.Engine
	office string
	desk   *quayside.Desk
	board  *noticeboard.Board
	room   *postroom.Room
}

func newWorld(t *testing.T) *world {
	t.Helper()
	ctx := t.Context()
	data := t.TempDir()
	w := &world{t: t, office: filepath.Join(data, "stand-ins", "office"), desk: quayside.New(), board: &noticeboard.Board{}, room: postroom.New()}
	var err error
	address := testdb.New(t)
	w.db, err = store.Open(ctx, address)
	require.NoError(t, err)
	t.Cleanup(w.db.Close)
	ledgerURL := testdb.New(t)
	w.ledger, err = pgxpool.New(ctx, ledgerURL)
	require.NoError(t, err)
	t.Cleanup(w.ledger.Close)
	w.flags = flags{env: Demo.Environment, keyFile: filepath.Join(data, "key"), data: data, folders: []string{"stand-ins"}, database: address}
	pool, err := w.flags.connections(w.db)
	require.NoError(t, err)
	t.Cleanup(pool.Close)
	w.engine, err = engine.New(w.db, pool, engine.Options{PollInterval: 50 * time.Millisecond, Backoff: func(int) time.Duration { return 50 * time.Millisecond }})
	require.NoError(t, err)
	texts, err := project.Read(demo.Files)
	require.NoError(t, err)
	require.NoError(t, LoadDemo(ctx, w.db, w.engine, texts))
	running, err := all.Start(ctx, []standin.Standin{ledger.Standin(ledgerURL, ledgerURL, "x"), crewroll.Standin, driftbox.Standin, office.Standin, w.own()}, data)
	require.NoError(t, err)
	require.NoError(t, w.flags.settle(ctx, running))
	require.NoError(t, w.engine.Start(ctx))
	t.Cleanup(w.engine.Stop)
	return w
}

// own are the stand-ins whose insides the tests look at.
func (w *world) own() standin.Standin {
	return standin.Standin{Name: "own", Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		desk, err := standin.HTTP(ctx, &w.desk.Moods, &w.desk.Log, w.desk.Handler())
		if err != nil {
			return nil, err
		}
		board, err := standin.HTTP(ctx, &w.board.Moods, &w.board.Log, w.board.Handler())
		if err != nil {
			return nil, err
		}
		port, authority, err := w.room.Serve(ctx)
		if err != nil {
			return nil, err
		}
		box, boxAuthority, err := w.room.Desk.Serve(ctx)
		return &standin.Running{Reach: map[string]standin.Reach{
			"quayside":     {Kind: "http", Values: map[string]string{"address": desk, "sign in": "bearer token", "token": quayside.Token}},
			"noticeboard":  {Kind: "http", Values: map[string]string{"address": board, "sign in": "key in a header", "key name": "X-Board-Token", "token": noticeboard.Token}},
			"postroom":     {Kind: "mail", Values: postroom.Settings(port, authority)},
			"desk-mailbox": {Kind: "mailbox", Values: postroom.DeskSettings(box, boxAuthority)},
		}}, err
	}}
}

// ended waits until a run is over.
func (w *world) ended(id uuid.UUID) store.Run {
	w.t.Helper()
	var r store.Run
	require.Eventually(w.t, func() bool {
		var err error
		r, err = store.RunByID(w.t.Context(), w.db, id)
		require.NoError(w.t, err)
		return r.Ended()
	}, 30*time.Second, 20*time.Millisecond, "the run did not end: %v", r.Fault)
	return r
}

// byHand starts a flow and waits for its end.
func (w *world) byHand(flow string) store.Run {
	w.t.Helper()
	id, err := w.engine.StartRun(w.t.Context(), Demo, flow, DemoPerson.ID, nil)
	require.NoError(w.t, err)
	return w.ended(id)
}

// first waits for the first run of a flow that a trigger starts, and for its end.
func (w *world) first(flow string) store.Run {
	w.t.Helper()
	var id uuid.UUID
	require.Eventually(w.t, func() bool {
		runs, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Scope: Demo, Flow: flow, Most: 1})
		require.NoError(w.t, err)
		if len(runs) > 0 {
			id = runs[0].ID
		}
		return len(runs) > 0
	}, 30*time.Second, 20*time.Millisecond)
	return w.ended(id)
}

func (w *world) count(query string) (n int) {
	w.t.Helper()
	require.NoError(w.t, w.ledger.QueryRow(w.t.Context(), query).Scan(&n))
	return n
}

func TestBookingsBecomeInvoicesWithTheNumberWrittenBack(t *testing.T) {
	w := newWorld(t)
	r := w.first("booking-to-invoice")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 23, r.RecordsRead)
	require.Equal(t, 23, w.count("select count(*) from invoice"))
	require.Equal(t, 39, w.count("select count(*) from invoice_line"))
	for _, b := range w.desk.Booked() {
		require.NotEmpty(t, b.Invoice, b.Number)
	}
	require.Equal(t, 1, w.count("select count(*) from invoice where booking = 'B-20417' and net = 508.50"))

	// A ledger that goes down in the middle: what was posted is not posted again, and nothing is passed over.
	w.desk.Moods.Set(standin.Drop, true)
	page, err := w.desk.Page(t.Context())
	require.NoError(t, err)
	_, err = page.Actions[0].Do(t.Context()) // somebody books
	require.NoError(t, err)
	time.AfterFunc(1500*time.Millisecond, w.desk.Moods.Reset)
	require.Eventually(t, func() bool { return w.count("select count(*) from invoice") == 24 }, 60*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { b := w.desk.Booked(); return b[len(b)-1].Invoice != "" }, 30*time.Second, 20*time.Millisecond)
}

func TestKioskSignUpsAreUpsertedByCard(t *testing.T) {
	w := newWorld(t)
	r := w.first("kiosk-sign-ups")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, 12, r.RecordsRead)
	require.Equal(t, 9, w.count("select count(*) from kiosk_member"), "a card that signs up again has no second row")
	again := w.byHand("kiosk-sign-ups")
	require.Equal(t, store.Done, again.State)
	require.Equal(t, 9, w.count("select count(*) from kiosk_member"))
}

func TestTheCrewRosterIsWritten(t *testing.T) {
	w := newWorld(t)
	r := w.byHand("crew-roster")
	require.Equal(t, store.SetAside, r.State, "one badge is not in the directory")
	require.Equal(t, 1, r.Counts["keep"].Skipped, "one has no badge")
	require.Equal(t, 1, r.Counts["person"].SetAside)
	text, err := os.ReadFile(filepath.Join(w.office, "roster.xml"))
	require.NoError(t, err)
	require.Contains(t, string(text), `<member badge="4118">`)
	require.Contains(t, string(text), "<phone>+47 555 0101</phone>")
	require.Contains(t, string(text), "<vessel>Skua</vessel>")

	asides, err := store.Asides(t.Context(), w.db, r.ID, 10)
	require.NoError(t, err)
	require.Len(t, asides, 1)
	mended := strings.Replace(string(asides[0].Raw), "4999", "4120", 1)
	again, err := w.engine.Correct(t.Context(), asides[0].ID, &mended, DemoPerson.ID)
	require.NoError(t, err)
	require.Equal(t, store.Done, w.ended(again).State, "a record of an operation's answer is mended by hand")
	text, err = os.ReadFile(filepath.Join(w.office, "roster.xml"))
	require.NoError(t, err)
	require.Equal(t, 6, strings.Count(string(text), "<member "), "it stands in the file beside the others")
}

func TestNoticesAreMailedOnceAndPosted(t *testing.T) {
	w := newWorld(t)
	r := w.first("safety-notices")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	letters := w.room.Letters()
	require.Len(t, letters, 1)
	require.Contains(t, letters[0].Text, "Safety notice 1: Fog in Ling Sound")
	require.Equal(t, []string{"bridge@skerry.example"}, letters[0].To)
	_, err := w.ledger.Exec(t.Context(), "insert into safety_notice (title, body, reader) values ('Rope', 'Mind it.', 'deck@skerry.example')")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(w.room.Letters()) == 2 }, 30*time.Second, 20*time.Millisecond)

	r = w.byHand("crew-notice")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, []noticeboard.Post{{Board: "crew", Text: "Crew 506 on Tern: please fetch your badge"}}, w.board.Posts())
}

// TestALetterToTheDeskIsTold: its paper is kept by the booking's number, and the crew is told.
func TestALetterToTheDeskIsTold(t *testing.T) {
	w := newWorld(t)
	w.room.Desk.Deliver(postroom.Wrote(0))
	r := w.first("letters-to-the-desk")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	require.Equal(t, "B-20417", r.Reference)
	text, err := os.ReadFile(filepath.Join(w.office, "papers", "B-20417-vehicle.csv"))
	require.NoError(t, err)
	require.Equal(t, "plate,class\r\nSK 40117,CAR", string(text))
	posts := w.board.Posts()
	require.Equal(t, "Tove Lind <tove@post.example> about B-20417. My car has become a van. Is there room?", posts[len(posts)-1].Text)
}

func TestTheVesselListIsWritten(t *testing.T) {
	w := newWorld(t)
	r := w.byHand("vessel-list")
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	text, err := os.ReadFile(filepath.Join(w.office, "vessels.csv"))
	require.NoError(t, err)
	require.Contains(t, string(text), "Fulmar")
	require.NotContains(t, string(text), "Tern", "it is shorter than what was asked for")
	again, err := w.engine.Rerun(t.Context(), r.ID, engine.RerunOptions{By: DemoPerson.ID})
	require.NoError(t, err)
	require.Equal(t, store.Done, w.ended(again).State)
}

func TestScannedPapersNeedAConsent(t *testing.T) {
	w := newWorld(t)
	r := w.byHand("scanned-papers")
	require.Equal(t, store.SetAside, r.State)
	require.Contains(t, r.Fault.What(), "nobody has consented yet")
	grantConsent(t, w)
	require.NoError(t, w.engine.Resume(t.Context(), r.ID))
	r = w.ended(r.ID)
	require.Equal(t, store.Done, r.State, "%v", r.Fault)
	papers, err := os.ReadDir(filepath.Join(w.office, "papers"))
	require.NoError(t, err)
	require.Len(t, papers, 5)
}

// grantConsent keeps tokens as a consent gives them; the journey through the consent page is shown in the browser.
func grantConsent(t *testing.T, w *world) {
	t.Helper()
	up, err := w.flags.vault.Of(Demo).Settings(t.Context(), "driftbox")
	require.NoError(t, err)
	token, err := driftbox.Grant(t.Context(), up.Values["address"])
	require.NoError(t, err)
	require.NoError(t, w.flags.vault.Of(Demo).Set(t.Context(), system.TokensOf("driftbox"), token))
}

// TestSecretsAreSealed: no secret stands anywhere in the database in the clear, after flows have run and failed.
func TestSecretsAreSealed(t *testing.T) {
	w := newWorld(t)
	w.first("booking-to-invoice")
	w.byHand("crew-roster")
	w.byHand("crew-notice")
	w.board.Moods.Set(standin.Expire, true)
	w.byHand("crew-notice")
	w.byHand("scanned-papers")
	words := []string{quayside.Token, noticeboard.Token, postroom.Password, postroom.Word, crewroll.Password, driftbox.ClientSecret}
	runs, err := store.Runs(t.Context(), w.db, store.RunFilter{Scope: Demo, Most: 50})
	require.NoError(t, err)
	entries := 0
	for _, r := range runs { // journals are packed
		require.NoError(t, journal.Entries(t.Context(), w.db, r, func(e *journal.Entry) bool {
			entries++
			text, err := json.Marshal(e)
			require.NoError(t, err)
			for _, word := range words {
				require.NotContains(t, string(text), word)
			}
			return true
		}))
	}
	require.Greater(t, entries, 30)
	rows, err := w.db.Query(t.Context(), "select table_name from information_schema.tables where table_schema = 'public' and table_type = 'BASE TABLE'")
	require.NoError(t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.Greater(t, len(tables), 15)
	for _, table := range tables {
		for _, word := range words {
			var n int
			require.NoError(t, w.db.QueryRow(t.Context(), "select count(*) from "+pgx.Identifier{table}.Sanitize()+" x where position($1 in x::text) > 0 or position(encode($1::bytea, 'hex') in x::text) > 0", word).Scan(&n))
			require.Zero(t, n, "%s in %s", word, table)
		}
	}
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error {
		all, err := store.AllSealed(t.Context(), tx)
		require.NotEmpty(t, all)
		for _, s := range all {
			require.NotContains(t, string(s.Content), "postgres://", "what is kept is sealed")
			require.NotContains(t, string(s.Content), quayside.Token)
		}
		return err
	}))
}
