package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"hollowreed/internal/connector/sql"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/localpg"
)

const (
	rowsRead     = 1_000_000
	rowsUpserted = 100_000
	upsertBatch  = 20_000
	sqlRounds    = 5
)

const freightSchema = `
schema: Freight
notation: rows
fields:
  - {name: id, type: integer}
  - {name: plate, type: text}
  - {name: customer, type: text}
  - {name: price, type: decimal}
  - {name: booked, type: timestamp}
  - {name: paid, type: boolean}
`

const freightTable = "(id bigint primary key, plate text not null, customer text not null, price numeric(10, 2) not null, booked timestamptz not null, paid boolean not null)"

const freightRows = `select i, 'SK ' || (10000 + mod(i, 80000)), 'customer ' || mod(i, 5000), mod(i, 400000)::numeric / 100, timestamptz '2031-01-01' + i * interval '1 second', mod(i, 3) = 0 from generate_series(1, %d) i`

// sqlBench compares reading and upserting through the SQL connection with bare pgx.
func sqlBench(dir string) error {
	ctx := context.Background()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "sql"), localpg.Options{})
	if err != nil {
		return err
	}
	defer server.Stop()
	address := server.URL("postgres")
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	db, err := sql.Open(address)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := conn.Exec(ctx, "create table freight "+freightTable+"; insert into freight "+fmt.Sprintf(freightRows, rowsRead)+"; analyze freight"); err != nil {
		return err
	}
	d := partfile.Parse("freight", []byte(freightSchema))
	s := schema.Parse("freight", d)
	if err := besideBare("read by SQL", rowsRead, 1.5, nothing, func() error { return bareRead(ctx, conn) }, func() error { return ourRead(ctx, db, s) }); err != nil {
		return err
	}
	return besideBare("upsert by SQL", rowsUpserted, 1.3, func() error { return fresh(ctx, conn) }, func() error { return bareUpsert(ctx, conn, s) }, func() error { return ourUpsert(ctx, db, s) })
}

// besideBare runs two ways of doing the same by turns and shows the medians and their ratio.
func besideBare(what string, n int, aim float64, before, bare, ours func() error) error {
	var a, b []time.Duration
	for range sqlRounds {
		for _, one := range []struct {
			run  func() error
			took *[]time.Duration
		}{{bare, &a}, {ours, &b}} {
			if err := before(); err != nil {
				return err
			}
			began := time.Now()
			if err := one.run(); err != nil {
				return err
			}
			*one.took = append(*one.took, time.Since(began))
		}
	}
	slices.Sort(a)
	slices.Sort(b)
	x, y := a[len(a)/2], b[len(b)/2]
	rate := func(d time.Duration) float64 { return float64(n) / d.Seconds() }
	fmt.Printf("%-34s %10.0f\n%-34s %10.0f   %.2f× the time (aim ≤ %.1f×)\n", what+", bare pgx", rate(x), what+", Hollow Reed", rate(y), y.Seconds()/x.Seconds(), aim)
	return nil
}

func nothing() error { return nil }

// bareRead reads every row into variables of Go.
func bareRead(ctx context.Context, conn *pgx.Conn) error {
	rows, err := conn.Query(ctx, "select id, plate, customer, price, booked, paid from freight")
	if err != nil {
		return err
	}
	var id int64
	var plate, customer string
	var price pgtype.Numeric
	var booked time.Time
	var paid bool
	n := 0
	_, err = pgx.ForEachRow(rows, []any{&id, &plate, &customer, &price, &booked, &paid}, func() error { n++; return nil })
	if err == nil && n != rowsRead {
		err = fmt.Errorf("%d rows", n)
	}
	return err
}

func operation(text string, s *schema.Schema) (*connection.Operation, error) {
	d := partfile.Parse("bench", []byte(text))
	c := connection.Parse("bench", d)
	c.Resolve(func(string) *schema.Schema { return s }, formula.Env{})
	if len(d.Faults) > 0 {
		return nil, d.Faults
	}
	return c.Operations[0], nil
}

func ourRead(ctx context.Context, db *sql.DB, s *schema.Schema) error {
	op, err := operation("connection: B\nkind: sql\noperations:\n  - {operation: all, kind: query, response: freight, statement: \"select id, plate, customer, price, booked, paid from freight\"}\n", s)
	if err != nil {
		return err
	}
	n := 0
	for _, err := range db.Read(ctx, system.Request{Op: op}) {
		if err != nil {
			return err
		}
		n++
	}
	if n != rowsRead {
		return fmt.Errorf("%d rows", n)
	}
	return nil
}

// records are rows half of which are there already.
func records(s *schema.Schema) []value.Value {
	booked := value.Instant(time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC))
	list := make([]value.Value, rowsUpserted)
	for i := range list {
		list[i] = value.NewRecord(s.Root.Layout(), []value.Value{
			value.Int(int64(rowsUpserted/2 + i)), value.NewText(fmt.Sprintf("OR %d", i)), value.NewText(fmt.Sprintf("customer %d", i%700)), value.NewDecimal(int64(i), -2), booked, value.Bool(i%2 == 0),
		})
	}
	return list
}

func fresh(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, "drop table if exists target; create table target "+freightTable+"; insert into target "+fmt.Sprintf(freightRows, rowsUpserted)+"; vacuum analyze target")
	if err != nil {
		_, err = conn.Exec(ctx, "drop table if exists target; create table target "+freightTable+"; insert into target "+fmt.Sprintf(freightRows, rowsUpserted))
	}
	return err
}

// bareUpsert copies the rows into a staging table and takes them over with one statement.
func bareUpsert(ctx context.Context, conn *pgx.Conn, s *schema.Schema) error {
	list := records(s)
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "create temp table staging "+freightTable+" on commit drop"); err != nil {
			return err
		}
		names := s.Root.Layout().Names
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"staging"}, names, pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
			r := list[i].Record().Fields
			id, _ := r[0].Int64()
			var price pgtype.Numeric
			err := price.Scan(r[3].String())
			return []any{id, r[1].Text(), r[2].Text(), price, r[4].GoTime(), r[5].IsTrue()}, err
		}))
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `insert into target as t select * from staging on conflict (id) do update set plate = excluded.plate, customer = excluded.customer, price = excluded.price,
			booked = excluded.booked, paid = excluded.paid where (t.plate, t.customer, t.price, t.booked, t.paid) is distinct from (excluded.plate, excluded.customer, excluded.price, excluded.booked, excluded.paid)`)
		return err
	})
}

func ourUpsert(ctx context.Context, db *sql.DB, s *schema.Schema) error {
	list := records(s)
	u := running.Upsert{Table: "target", Key: []string{"id"}, Row: s}
	for from := 0; from < len(list); from += upsertBatch {
		if _, err := db.Upsert(ctx, u, list[from:min(from+upsertBatch, len(list))]); err != nil {
			return err
		}
	}
	return nil
}
