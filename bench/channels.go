package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/app"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
)

// Sizes of what is put and taken.
const (
	channelMessages = 40_000
	channelBatch    = 100
	channelWorkers  = 4
	channelBacklog  = 2_000_000
	channelRounds   = 5
	latencyMessages = 200
)

var channelParts = map[string]string{
	"project.yaml":          "project: Channels\n",
	"channels/scans.yaml":   "channel: Scans\nkind: queue\nschema: scan\n",
	"channels/told.yaml":    "channel: Told\nkind: topic\nschema: scan\n",
	"schemas/scan.yaml":     "schema: Scan\nnotation: json\nfields:\n  - {name: scan, type: text}\n  - {name: gate, type: text}\n  - {name: plate, type: text}\n",
	"flows/on-scan.yaml":    "flow: On scan\ntrigger: {kind: message, channel: scans}\nsteps:\n  - {step: log, id: told, text: input.scan}\n",
	"flows/scans-told.yaml": "flow: Told\nfrom: scans\nto: told\n",
}

const scanBody = `{"scan": "G2-000417", "gate": "G2", "plate": "SK 40117"}`

// channelBench is a database with what is compared.
type channelBench struct {
	ctx context.Context
	db  *pgxpool.Pool
}

// channels compares channels with bare tables: putting, taking, several subscribers, a backlog, and how soon a run starts.
func channels(dir string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if err := os.Chmod(dir, 0o755); err != nil { // the server reads what it begins with
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg-channels"), localpg.Options{Durable: true})
	if err != nil {
		return err
	}
	defer server.Stop()
	at, err := server.Create(ctx, "channels")
	if err != nil {
		return err
	}
	db, err := store.Open(ctx, at)
	if err != nil {
		return err
	}
	defer db.Close()
	b := &channelBench{ctx, db}
	if _, err := db.Exec(ctx, "create table bare (id bigint generated always as identity primary key, body bytea not null)"); err != nil {
		return err
	}
	fmt.Printf("channels, %d at a time, %d workers\n", channelBatch, channelWorkers)
	var puts, takes []float64
	for range channelRounds {
		barePut, bareTake, err := b.round(b.barePut, b.bareTake)
		if err != nil {
			return err
		}
		id, reader, err := b.fresh("round")
		if err != nil {
			return err
		}
		put, take, err := b.round(func() error { return b.put(id) }, func() (int, error) { return b.take(reader) })
		if err != nil {
			return err
		}
		puts, takes = append(puts, barePut.Seconds()/put.Seconds()), append(takes, bareTake.Seconds()/take.Seconds())
		fmt.Printf("  bare: %7.0f put/s %7.0f taken/s    channel: %7.0f put/s %7.0f taken/s\n", rate(barePut), rate(bareTake), rate(put), rate(take))
	}
	fmt.Printf("  ratio                                          put %.2f, take %.2f of the bare table, medians of %d turns\n", middle(puts), middle(takes), channelRounds)
	if err := b.subscribers(); err != nil {
		return err
	}
	if err := b.backlog(); err != nil {
		return err
	}
	return b.latency()
}

func rate(d time.Duration) float64 { return channelMessages / d.Seconds() }

func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

var freshChannels atomic.Int64

// fresh is a channel with a reader.
func (b *channelBench) fresh(name string) (id, reader int, err error) {
	id, err = store.ChannelID(b.ctx, b.db, benchScope, fmt.Sprint(name, freshChannels.Add(1)))
	if err != nil {
		return 0, 0, err
	}
	r, err := store.AddReader(b.ctx, b.db, id, "", store.FromBeginning)
	return id, r.ID, err
}

var benchScope = store.Scope{Project: "channels", Environment: store.Environments[0]}

// round puts all messages and takes them all, and says how long each took.
func (b *channelBench) round(put func() error, take func() (int, error)) (putting, taking time.Duration, err error) {
	began := time.Now()
	if err := allWorkers(func(n int) error {
		for range channelMessages / channelBatch / channelWorkers {
			if err := put(); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return 0, 0, err
	}
	putting = time.Since(began)
	began = time.Now()
	var taken atomic.Int64
	err = allWorkers(func(int) error {
		for taken.Load() < channelMessages {
			n, err := take()
			if err != nil {
				return err
			}
			taken.Add(int64(n))
		}
		return nil
	})
	return putting, time.Since(began), err
}

// allWorkers does something with several workers.
func allWorkers(do func(n int) error) error {
	errs := make(chan error, channelWorkers)
	var all sync.WaitGroup
	for n := range channelWorkers {
		all.Go(func() { errs <- do(n) })
	}
	all.Wait()
	close(errs)
	for err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *channelBench) barePut() error {
	bodies := make([][]byte, channelBatch)
	for i := range bodies {
		bodies[i] = []byte(scanBody)
	}
	_, err := b.db.Exec(b.ctx, "insert into bare (body) select * from unnest($1::bytea[])", bodies)
	return err
}

func (b *channelBench) bareTake() (n int, err error) {
	err = pgx.BeginFunc(b.ctx, b.db, func(tx pgx.Tx) error {
		rows, _ := tx.Query(b.ctx, "select id, body from bare order by id limit $1 for update skip locked", channelBatch)
		ids, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (id int64, err error) {
			var body []byte
			return id, row.Scan(&id, &body)
		})
		if err != nil || len(ids) == 0 {
			return err
		}
		n = len(ids)
		_, err = tx.Exec(b.ctx, "delete from bare where id = any($1)", ids)
		return err
	})
	return n, err
}

func (b *channelBench) put(id int) error {
	list := make([]store.ChannelMessage, channelBatch)
	for i := range list {
		list[i] = store.ChannelMessage{MessageID: uuid.NewString(), Key: "G2", Media: "application/json", Body: []byte(scanBody)}
	}
	return store.PutMessages(b.ctx, b.db, id, list)
}

func (b *channelBench) take(reader int) (int, error) {
	token := uuid.New()
	list, err := store.TakeMessages(b.ctx, b.db, reader, channelBatch, time.Minute, token, false)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	at := make([]store.ChannelPlace, len(list))
	for i, m := range list {
		at[i] = m.ChannelPlace
	}
	return store.Acknowledge(b.ctx, b.db, reader, token, at)
}

// subscribers says what three subscriptions cost beside one: putting and taking together.
func (b *channelBench) subscribers() error {
	cost := func(n int) (time.Duration, error) {
		id, _, err := b.fresh("topic")
		if err != nil {
			return 0, err
		}
		var readers []int
		for i := range n {
			r, err := store.AddReader(b.ctx, b.db, id, fmt.Sprint("s", i), store.FromBeginning)
			if err != nil {
				return 0, err
			}
			readers = append(readers, r.ID)
		}
		began := time.Now()
		if err := allWorkers(func(int) error {
			for range channelMessages / channelBatch / channelWorkers {
				if err := b.put(id); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return 0, err
		}
		for _, r := range readers {
			if _, _, err := b.round(func() error { return nil }, func() (int, error) { return b.take(r) }); err != nil {
				return 0, err
			}
		}
		return time.Since(began), nil
	}
	var ratios []float64
	for range 3 {
		one, err := cost(1)
		if err != nil {
			return err
		}
		three, err := cost(3)
		if err != nil {
			return err
		}
		ratios = append(ratios, three.Seconds()/one.Seconds())
	}
	fmt.Printf("  three subscriptions cost %.2f of one, putting and taking\n", middle(ratios))
	return nil
}

// backlog says what a backlog costs those that put and take.
func (b *channelBench) backlog() error {
	var before, behind [2][]float64
	id, reader, err := b.fresh("backlog")
	if err != nil {
		return err
	}
	measure := func(into *[2][]float64) error {
		for range channelRounds {
			put, take, err := b.round(func() error { return b.put(id) }, func() (int, error) { return b.take(reader) })
			if err != nil {
				return err
			}
			into[0], into[1] = append(into[0], rate(put)), append(into[1], rate(take))
		}
		return nil
	}
	if err := measure(&before); err != nil {
		return err
	}
	_, err = b.db.Exec(b.ctx, `insert into channel_message (channel, message_id, key, headers, media, body, origin)
		select $1, 'm' || n, 'G2', '', 'application/json', convert_to($2, 'UTF8'), '' from generate_series(1, $3) n`, id, scanBody, channelBacklog)
	if err == nil {
		_, err = b.db.Exec(b.ctx, "analyze channel_message")
	}
	if err != nil {
		return err
	}
	if err := measure(&behind); err != nil {
		return err
	}
	fmt.Printf("  with a backlog of %d messages: put %.2f, take %.2f of without\n", channelBacklog, middle(behind[0])/middle(before[0]), middle(behind[1])/middle(before[1]))
	return nil
}

// latency says how soon after its message a run starts.
func (b *channelBench) latency() error {
	app.CollectSeldom()
	outside := connector.Same[store.Scope](connector.StaticSettings{}, connector.Rules{})
	defer outside.Close()
	e, err := engine.New(b.db, outside, engine.Options{})
	if err != nil {
		return err
	}
	if err := store.AddPerson(b.ctx, b.db, store.Person{ID: "bench", Name: "Bench", Initials: "B"}); err != nil {
		return err
	}
	err = pgx.BeginFunc(b.ctx, b.db, func(tx pgx.Tx) error {
		_, err := store.AddProject(b.ctx, tx, benchScope.Project, "Channels", channelParts, "bench")
		return err
	})
	if err == nil {
		_, err = e.CreateRelease(b.ctx, benchScope, project.ReleaseID(project.Flows, "on-scan"), "", "bench")
	}
	if err == nil {
		err = e.Start(b.ctx)
	}
	if err != nil {
		return err
	}
	defer e.Stop()
	for i := range latencyMessages {
		if _, err := e.PutMessages(b.ctx, benchScope, "scans", []engine.NewMessage{{ID: fmt.Sprint("l", i), Media: "application/json", Body: []byte(scanBody)}}); err != nil {
			return err
		}
		time.Sleep(15 * time.Millisecond)
	}
	var n int
	var median, late float64
	for range 200 {
		err = b.db.QueryRow(b.ctx, `select count(*), coalesce(percentile_cont(0.5) within group (order by took), 0), coalesce(percentile_cont(0.95) within group (order by took), 0) from
			(select extract(epoch from r.started_at - m.put_at)::float8 * 1000 took from run r join channel_message m on m.message_id = convert_from(r.request, 'UTF8')::json->>'id' where r.flow = 'on-scan' and r.started_at is not null) s`).Scan(&n, &median, &late)
		if err != nil || n == latencyMessages {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err == nil {
		fmt.Printf("  a run starts %.1f ms after its message (p95 %.1f ms), %d of %d\n", median, late, n, latencyMessages)
	}
	return err
}
