package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
)

// shortRuns is how many messages each side deals with in a round, shortRounds how many rounds there are: the disk of a
// machine that others share is fast and slow by turns, so that only what was measured side by side can be compared.
const (
	shortRuns   = 600
	shortRounds = 7
)

// shortWorkers is how many are dealt with at once.
const shortWorkers = 50

// shortFlow is a message that is mapped and upserted, a run each.
var shortFlow = map[string]string{
	"project.yaml":         "project: Short\n",
	"connections/db.yaml":  "connection: Database\nkind: sql\n",
	"schemas/scan.yaml":    "schema: Scan\nnotation: json\nfields:\n  - {name: id, type: integer}\n  - {name: plate, type: text}\n",
	"schemas/row.yaml":     "schema: Row\nnotation: rows\nfields:\n  - {name: id, type: integer}\n  - {name: plate, type: text}\n",
	"mappings/to-row.yaml": "mapping: To row\nfrom:\n  - {name: scan, schema: scan}\nto: row\nrules:\n  - {field: id, formula: scan.id}\n  - {field: plate, formula: upper(scan.plate)}\n",
	"flows/short.yaml": `flow: Short
trigger: {kind: person, input: scan, as: scan}
steps:
  - {step: map, id: map, mapping: to-row, as: row}
  - {step: upsert, id: upsert, connection: db, table: scanned, from: row, key: id}
`,
}

// short measures runs of one message each beside a bare loop with a commit for each message, and beside River alone
// with a job for each, which writes one row in its own transaction. The messages are handed in by eight clients.
func short(dir string) error {
	ctx := context.Background()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg-short"), localpg.Options{Durable: true})
	if err != nil {
		return err
	}
	defer server.Stop()
	river, stopRiver, err := riverShort(ctx, server)
	if err != nil {
		return err
	}
	defer stopRiver()
	ours, stopOurs, err := engineShort(ctx, server)
	if err != nil {
		return err
	}
	defer stopOurs()
	bare, err := bareShort(ctx, server)
	if err != nil {
		return err
	}
	var times [3][]time.Duration
	var ratios []float64
	for round := range shortRounds {
		var took [3]time.Duration
		for i, side := range []func(from int) (time.Duration, error){bare, river, ours.round} {
			if took[i], err = side(round * shortRuns); err != nil {
				return err
			}
			times[i] = append(times[i], took[i])
		}
		ratios = append(ratios, took[1].Seconds()/took[2].Seconds())
	}
	delay, err := ours.startDelay(ctx)
	if err != nil {
		return err
	}
	rate := func(list []time.Duration) float64 { return shortRuns / median(list).Seconds() }
	fmt.Printf("%-44s %8.0f a second\n", "one commit for each message, bare pgx", rate(times[0]))
	fmt.Printf("%-44s %8.0f\n", "River alone, a job with one row each", rate(times[1]))
	fmt.Printf("%-44s %8.0f\n", "Hollow Reed, a run each", rate(times[2]))
	fmt.Printf("%-44s %8.2f of River alone, median of %d rounds (%.2f to %.2f)\n", "  ratio", median(ratios), shortRounds, slices.Min(ratios), slices.Max(ratios))
	fmt.Printf("%-44s %8.1f ms\n", "  a single message begins after, median", float64(delay.Microseconds())/1000)
	return nil
}

func median[T cmp.Ordered](list []T) T {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[len(sorted)/2]
}

// scanned makes a database with the table of the scans.
func scanned(ctx context.Context, server *localpg.Server, name string) (*pgxpool.Pool, string, error) {
	url, err := server.Create(ctx, name)
	if err != nil {
		return nil, "", err
	}
	db, err := pgxpool.New(ctx, url)
	if err == nil {
		_, err = db.Exec(ctx, "create table scanned (id int primary key, plate text not null)")
	}
	return db, url, err
}

// bareShort writes the rows one after the other, each with a commit of its own.
func bareShort(ctx context.Context, server *localpg.Server) (func(from int) (time.Duration, error), error) {
	db, _, err := scanned(ctx, server, "short_bare")
	if err != nil {
		return nil, err
	}
	return func(from int) (time.Duration, error) {
		began := time.Now()
		for i := from; i < from+shortRuns; i++ {
			if _, err := db.Exec(ctx, "insert into scanned values ($1, upper($2)) on conflict (id) do update set plate = excluded.plate", i, "sk 1"); err != nil {
				return 0, err
			}
		}
		return time.Since(began), nil
	}, nil
}

// shortArgs is the job of River alone.
type shortArgs struct {
	ID int `json:"id"`
}

// Kind is the job's stored name.
func (shortArgs) Kind() string { return "short" }

type shortWorker struct {
	river.WorkerDefaults[shortArgs]
	db *pgxpool.Pool
}

// Work writes one row in its own transaction.
func (w *shortWorker) Work(ctx context.Context, job *river.Job[shortArgs]) error {
	_, err := w.db.Exec(ctx, "insert into scanned values ($1, upper($2)) on conflict (id) do update set plate = excluded.plate", job.Args.ID, "sk 1")
	return err
}

func riverShort(ctx context.Context, server *localpg.Server) (side func(from int) (time.Duration, error), stop func(), err error) {
	db, _, err := scanned(ctx, server, "short_river")
	if err != nil {
		return nil, nil, err
	}
	migrator, err := rivermigrate.New(riverpgxv5.New(db), nil)
	if err == nil {
		_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	}
	if err != nil {
		return nil, nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &shortWorker{db: db})
	client, err := river.NewClient(riverpgxv5.New(db), &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: shortWorkers}}, Workers: workers, FetchCooldown: 2 * time.Millisecond,
	})
	if err == nil {
		err = client.Start(ctx)
	}
	if err != nil {
		return nil, nil, err
	}
	side = func(from int) (time.Duration, error) {
		began := time.Now()
		err := handIn(from, func(i int) error {
			_, err := client.Insert(ctx, shortArgs{ID: i}, nil)
			return err
		})
		if err != nil {
			return 0, err
		}
		return since(ctx, db, from, began)
	}
	return side, func() { client.Stop(ctx); db.Close() }, nil
}

// handIn hands all messages in by eight clients.
func handIn(from int, one func(i int) error) error {
	var wg sync.WaitGroup
	errs := make([]error, 8)
	for c := range errs {
		wg.Go(func() {
			for i := from + c; i < from+shortRuns && errs[c] == nil; i += len(errs) {
				errs[c] = one(i)
			}
		})
	}
	wg.Wait()
	i := slices.IndexFunc(errs, func(err error) bool { return err != nil })
	if i < 0 {
		return nil
	}
	return errs[i]
}

// since waits until the rows of a round are there.
func since(ctx context.Context, db *pgxpool.Pool, from int, began time.Time) (time.Duration, error) {
	for n := 0; ; time.Sleep(5 * time.Millisecond) {
		if err := db.QueryRow(ctx, "select count(*) from scanned where id >= $1", from).Scan(&n); err != nil {
			return 0, err
		}
		if n >= shortRuns {
			return time.Since(began), nil
		}
	}
}

// shortEngine is a started engine with the flow of the short runs.
type shortEngine struct {
	ctx        context.Context
	db, target *pgxpool.Pool
	e          *engine.Engine
}

func engineShort(ctx context.Context, server *localpg.Server) (*shortEngine, func(), error) {
	target, targetURL, err := scanned(ctx, server, "short_target")
	if err != nil {
		return nil, nil, err
	}
	url, err := server.Create(ctx, "short_ours")
	if err != nil {
		return nil, nil, err
	}
	db, err := store.Open(ctx, url)
	if err != nil {
		return nil, nil, err
	}
	outside := connector.Same[store.Scope](connector.StaticSettings{"db": {Kind: "sql", Values: system.Values{"by": "address", "address": targetURL}}}, connector.Rules{})
	e, err := engine.New(db, outside, engine.Options{Workers: shortWorkers})
	if err == nil {
		err = prepareShort(ctx, db, e)
	}
	if err == nil {
		err = e.Start(ctx)
	}
	if err != nil {
		return nil, nil, err
	}
	stop := func() {
		e.Stop()
		outside.Close()
		db.Close()
		target.Close()
	}
	return &shortEngine{ctx, db, target, e}, stop, nil
}

// round hands the messages of a round in and waits until their rows are there.
func (s *shortEngine) round(from int) (time.Duration, error) {
	began := time.Now()
	err := handIn(from, func(i int) error {
		_, err := s.e.StartRun(s.ctx, shortScope, "short", "bench", fmt.Appendf(nil, `{"id": %d, "plate": "sk 1"}`, i))
		return err
	})
	if err != nil {
		return 0, err
	}
	return since(s.ctx, s.target, from, began)
}

// shortScope is what the messages run in.
var shortScope = store.Scope{Project: "short", Environment: store.Environments[0]}

func prepareShort(ctx context.Context, db *pgxpool.Pool, e *engine.Engine) error {
	if err := store.AddPerson(ctx, db, store.Person{ID: "bench", Name: "Bench", Initials: "B"}); err != nil {
		return err
	}
	err := pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		_, err := store.AddProject(ctx, tx, "short", "Short", shortFlow, "bench")
		return err
	})
	if err != nil {
		return err
	}
	_, err = e.CreateRelease(ctx, shortScope, "short", "", "bench")
	return err
}

// startDelay is the median time from when a single message is handed in until its run begins.
func (s *shortEngine) startDelay(ctx context.Context) (time.Duration, error) {
	var delays []time.Duration
	for i := range 40 {
		id, err := s.e.StartRun(ctx, shortScope, "short", "bench", fmt.Appendf(nil, `{"id": %d, "plate": "one"}`, i))
		if err != nil {
			return 0, err
		}
		for {
			r, err := store.RunByID(ctx, s.db, id)
			if err != nil {
				return 0, err
			}
			if r.Ended() {
				delays = append(delays, r.StartedAt.Sub(r.CreatedAt))
				break
			}
			time.Sleep(2 * time.Millisecond)
		}
	}
	return median(delays), nil
}
