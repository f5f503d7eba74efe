// Package ledger is the stand-in for the Harbour ledger: a PostgreSQL database with the company's
// stations and tide levels. Its page shows the newest rows and can take the database down.
package ledger

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/standin"
)

//go:embed seed.sql
var seed string

// Seed creates the ledger's tables and stations where they are missing. Seeding twice changes nothing.
func Seed(ctx context.Context, url string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return fmt.Errorf("the ledger cannot be reached: %w", err)
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, seed)
	return err
}

// Standin is the ledger in a database that is there already. admin is the address of another database of the same
// server, name that of the ledger's.
func Standin(url, admin, name string) standin.Standin {
	return standin.Standin{
		Name: "harbour-ledger", About: "a PostgreSQL database with stations, accounts, invoices and vessels",
		Start: func(ctx context.Context, _ string) (*standin.Running, error) {
			if err := Seed(ctx, url); err != nil && !strings.Contains(err.Error(), "not currently accepting") {
				return nil, err
			}
			page, err := standin.Serve(ctx, Page(url, admin, name))
			if err != nil {
				return nil, err
			}
			return &standin.Running{Page: page, Reach: map[string]standin.Reach{
				"harbour-ledger": {Kind: "sql", Values: map[string]string{"by": "address", "address": url}},
			}}, nil
		},
	}
}

// Page shows the newest tide levels and can take the database down and up again. admin is the
// address of another database of the same server, name that of the ledger's.
func Page(url, admin, name string) func(ctx context.Context) (standin.Page, error) {
	set := func(ctx context.Context, up bool) error {
		conn, err := pgx.Connect(ctx, admin)
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		if _, err := conn.Exec(ctx, fmt.Sprintf("alter database %s allow_connections %t", pgx.Identifier{name}.Sanitize(), up)); err != nil || up {
			return err
		}
		_, err = conn.Exec(ctx, "select pg_terminate_backend(pid) from pg_stat_activity where datname = $1", name)
		return err
	}
	page := standin.Page{Title: "Harbour ledger", About: "The company's accounts and operations database."}
	page.Actions = []standin.Action{
		{Name: "down", Label: "Go down", About: "Refuse every connection", Do: func(ctx context.Context) (string, error) { return "Down.", set(ctx, false) }},
		{Name: "up", Label: "Come back", About: "Accept connections again", Do: func(ctx context.Context) (string, error) { return "Up.", set(ctx, true) }},
	}
	return func(ctx context.Context) (standin.Page, error) {
		p := page
		rows, err := newest(ctx, url)
		invoices, ierr := invoiced(ctx, url)
		err = errors.Join(err, ierr)
		p.Tables = []standin.Table{{
			Title: "Newest invoices", Head: []string{"number", "booking", "customer", "issued", "net", "vat", "lines"}, Rows: invoices,
		}, {
			Title: "Newest tide levels", Head: []string{"taken at", "gauge", "station", "level cm", "above datum", "surge", "file"}, Rows: rows,
		}}
		return p, err
	}
}

func invoiced(ctx context.Context, url string) ([][]string, error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, _ := conn.Query(ctx, `select array[number::text, booking, customer, issued::text, net::text, i.vat::text, (select count(*)::text from invoice_line l where l.invoice = i.number)]
		from invoice i order by number desc limit 40`)
	return pgx.CollectRows(rows, pgx.RowTo[[]string])
}

func newest(ctx context.Context, url string) ([][]string, error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, _ := conn.Query(ctx, `select array[taken_at::text, gauge_code, station_name, level_cm::text, above_datum_cm::text, is_surge::text, source_file]
		from tide_level order by taken_at desc, gauge_code limit 60`)
	return pgx.CollectRows(rows, pgx.RowTo[[]string])
}
