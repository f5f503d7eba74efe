package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"hollowreed/demo"
	"hollowreed/internal/app"
	"hollowreed/internal/connector"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/store"
)

// durable compares the whole way of a file into PostgreSQL: recorded as a run, journaled, set
// aside, resumable; with a program that only does the work, in the same batches of 500 rows, each
// batch in its own transaction.
func durable(dir string) error {
	ctx := context.Background()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg"), localpg.Options{Durable: true})
	if err != nil {
		return err
	}
	defer server.Stop()
	file := filepath.Join(dir, "readings.tide")
	rows, err := readings(file)
	if err != nil {
		return err
	}
	handURL, err := ledgerIn(ctx, server, "by_hand")
	if err != nil {
		return err
	}
	began := time.Now()
	if err := handDurable(ctx, handURL, file); err != nil {
		return err
	}
	hand := time.Since(began)
	ours, peak, err := engineDurable(ctx, server, dir, file)
	if err != nil {
		return err
	}
	fmt.Printf("%-34s %10d\n", "file to PostgreSQL, by hand", int(float64(rows)/hand.Seconds()))
	fmt.Printf("%-34s %10d %26d\n", "file to PostgreSQL, Hollow Reed", int(float64(rows)/ours.Seconds()), peak>>20)
	fmt.Printf("%-34s %10.2f of the speed of the hand-written program, %d rows\n", "  ratio", hand.Seconds()/ours.Seconds(), rows)
	return nil
}

// readings writes a file of gauge readings, and says how many.
func readings(file string) (rows int, err error) {
	f, err := os.Create(file)
	if err != nil {
		return 0, err
	}
	w := bufio.NewWriter(f)
	for day := 1; rows < rowsDurable; day++ {
		text := strings.ReplaceAll(gauges.Readings(day%28+1, 80), "2031", strconv.Itoa(1900+day))
		rows += strings.Count(text, "\n")
		w.WriteString(text)
	}
	return rows, errors.Join(w.Flush(), f.Close())
}

// peakSince is the most memory that this process has had since a time, in bytes; from notes that time.
func peakSince(from bool) (int64, error) {
	if from {
		debug.FreeOSMemory()
		return 0, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0) // proc(5): resets the peak
	}
	text, err := os.ReadFile("/proc/self/status")
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	kb, _, _ := strings.Cut(strings.TrimSpace(rest), " ")
	n, _ := strconv.ParseInt(kb, 10, 64)
	return n << 10, err
}

func ledgerIn(ctx context.Context, s *localpg.Server, name string) (string, error) {
	url, err := s.Create(ctx, name)
	if err != nil {
		return "", err
	}
	return url, ledger.Seed(ctx, url)
}

func engineDurable(ctx context.Context, s *localpg.Server, dir, file string) (took time.Duration, peak int64, err error) {
	ledgerURL, err := ledgerIn(ctx, s, "by_engine")
	if err != nil {
		return 0, 0, err
	}
	url, err := s.Create(ctx, "hollowreed")
	if err != nil {
		return 0, 0, err
	}
	db, err := store.Open(ctx, url)
	if err != nil {
		return 0, 0, err
	}
	defer db.Close()
	in, done := filepath.Join(dir, "in"), filepath.Join(dir, "done")
	for _, d := range []string{in, done} {
		if err := os.Mkdir(d, 0o755); err != nil {
			return 0, 0, err
		}
	}
	outside := connector.Same[store.Scope](connector.StaticSettings{
		"gauge-drop":     {Kind: "file", Values: system.Values{"folder": in, "done": done}},
		"harbour-ledger": {Kind: "sql", Values: system.Values{"by": "address", "address": ledgerURL}},
	}, connector.Rules{})
	defer outside.Close()
	e, err := engine.New(db, outside, engine.Options{PollInterval: 20 * time.Millisecond, StableFor: time.Millisecond})
	if err != nil {
		return 0, 0, err
	}
	texts, err := project.Read(demo.Files)
	if err != nil {
		return 0, 0, err
	}
	if err := app.LoadDemo(ctx, db, e, texts); err != nil {
		return 0, 0, err
	}
	if err := e.Start(ctx); err != nil {
		return 0, 0, err
	}
	defer e.Stop()
	if _, err := peakSince(true); err != nil {
		return 0, 0, err
	}
	if err := os.Rename(file, filepath.Join(in, "readings.tide")); err != nil {
		return 0, 0, err
	}
	for {
		runs, err := store.Runs(ctx, db, store.RunFilter{Scope: app.Demo, Flow: "gauge-readings", Most: 1})
		if err != nil {
			return 0, 0, err
		}
		if len(runs) == 1 && runs[0].Ended() {
			if runs[0].State != store.Done {
				return 0, 0, fmt.Errorf("the run ended as %s", runs[0].State)
			}
			peak, err = peakSince(false)
			return runs[0].EndedAt.Sub(*runs[0].StartedAt), peak, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

const handUpsert = `insert into tide_level as t (station_id, gauge_code, taken_at, level_cm, above_datum_cm, is_surge, trend, station_name, unit, source_file)
select * from unnest($1::int[], $2::text[], $3::timestamptz[], $4::numeric[], $5::numeric[], $6::bool[], $7::text[], $8::text[], $9::text[], $10::text[])
on conflict (gauge_code, taken_at) do update set level_cm = excluded.level_cm, above_datum_cm = excluded.above_datum_cm, is_surge = excluded.is_surge, trend = excluded.trend
where (t.level_cm, t.above_datum_cm, t.is_surge, t.trend) is distinct from (excluded.level_cm, excluded.above_datum_cm, excluded.is_surge, excluded.trend)`

type station struct {
	id    int
	name  string
	datum int
}

func handDurable(ctx context.Context, url, file string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	stations := map[string]station{}
	rows, err := conn.Query(ctx, "select gauge_code, id, name, (datum_cm * 10)::int from station")
	if err != nil {
		return err
	}
	var code string
	var st station
	if _, err := pgx.ForEachRow(rows, []any{&code, &st.id, &st.name, &st.datum}, func() error {
		stations[code] = st
		return nil
	}); err != nil {
		return err
	}
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	s := bufio.NewScanner(f)
	var b handBatch
	for n := 1; s.Scan(); n++ {
		if err := b.add(s.Text(), stations); err != nil {
			return err
		}
		if n%500 == 0 {
			if err := b.write(ctx, conn); err != nil {
				return err
			}
		}
	}
	return b.write(ctx, conn)
}

type handBatch struct {
	ids                                     []int
	codes, at, levels, above, trends, names []string
	surges                                  []bool
	units, files                            []string
}

func (b *handBatch) add(l string, stations map[string]station) error {
	level, err := strconv.Atoi(l[18:23])
	if err != nil {
		return err
	}
	surge, err := strconv.Atoi(l[23:27])
	if err != nil {
		return err
	}
	if l[31] != 'R' || level <= 0 {
		return nil
	}
	st := stations[l[:4]]
	tenths := func(n int) string { return fmt.Sprintf("%d.%d", n/10, n%10) }
	b.ids = append(b.ids, st.id)
	b.codes = append(b.codes, l[:4])
	b.at = append(b.at, l[4:8]+"-"+l[8:10]+"-"+l[10:12]+"T"+l[12:14]+":"+l[14:16]+":"+l[16:18]+"Z")
	b.levels = append(b.levels, tenths(level))
	b.above = append(b.above, tenths(level-st.datum))
	b.surges = append(b.surges, level >= surge*10)
	b.trends = append(b.trends, l[31:32])
	b.names = append(b.names, strings.ToUpper(strings.TrimSpace(st.name)))
	b.units = append(b.units, "cm")
	b.files = append(b.files, "readings.tide")
	return nil
}

func (b *handBatch) write(ctx context.Context, conn *pgx.Conn) error {
	if len(b.ids) > 0 {
		if _, err := conn.Exec(ctx, handUpsert, b.ids, b.codes, b.at, b.levels, b.above, b.surges, b.trends, b.names, b.units, b.files); err != nil {
			return err
		}
	}
	*b = handBatch{}
	return nil
}
