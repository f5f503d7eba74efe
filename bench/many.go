package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"hollowreed/internal/app"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web/inbound"
	"hollowreed/internal/web/page"
)

// How many APIs there are, of how many operations each, and how many releases are made under load.
const (
	manyAPIs       = 1000
	manyOperations = 20
	manyReleases   = 100
)

// manyContract is a contract of several operations.
func manyContract() string {
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: {title: Many, version: '1'}\npaths:\n")
	for i := range manyOperations {
		fmt.Fprintf(&b, "  /things%d/{id}:\n    get:\n      operationId: thing%d\n      parameters: [{name: id, in: path, required: true, schema: {type: integer}}]\n"+
			"      responses: {'200': {description: x, content: {application/json: {schema: {type: object, properties: {id: {type: integer}, name: {type: string}}}, example: {id: 1, name: a}}}}}\n", i, i)
	}
	return b.String()
}

// many says how long it takes until the first of many published APIs answers after a start, and what callers meet while one of them
// is released again and again.
func many(dir string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, filepath.Join(dir, "pg-many"), localpg.Options{Durable: true})
	if err != nil {
		return err
	}
	defer server.Stop()
	at, err := server.Create(ctx, "many")
	if err != nil {
		return err
	}
	db, err := store.Open(ctx, at)
	if err != nil {
		return err
	}
	defer db.Close()
	scope := store.Scope{Project: "many", Environment: store.Environments[0]}
	if err := publishMany(ctx, db, scope); err != nil {
		return err
	}
	app.CollectSeldom()
	began := time.Now()
	outside := connector.Same[store.Scope](connector.StaticSettings{}, connector.Rules{})
	defer outside.Close()
	e, err := engine.New(db, outside, engine.Options{})
	if err != nil {
		return err
	}
	if err := e.Start(ctx); err != nil {
		return err
	}
	defer e.Stop()
	sites := &page.Sites{Shared: page.Shared{DB: db, Engine: e, Pools: outside, Vault: &vault.Vault{DB: db}, Log: slog.New(slog.DiscardHandler), Environment: scope.Environment}}
	address, stop, err := served(inbound.Handler(sites))
	if err != nil {
		return err
	}
	defer stop()
	if err := askMany(address, 17); err != nil {
		return err
	}
	fmt.Printf("%d APIs of %d operations\n  from the start to the first response        %8.2f s\n", manyAPIs, manyOperations, time.Since(began).Seconds())
	return releaseUnderLoad(ctx, e, scope, address)
}

func publishMany(ctx context.Context, db *pgxpool.Pool, scope store.Scope) error {
	if err := store.AddPerson(ctx, db, store.Person{ID: "bench", Name: "Bench", Initials: "B"}); err != nil {
		return err
	}
	contract := manyContract()
	return pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		api := "api: Many\ncontract: many.yaml\noperations:\n"
		for i := range manyOperations {
			api += fmt.Sprintf("  - {operation: thing%d, answered by: examples}\n", i)
		}
		texts := map[string]string{"project.yaml": "project: Many\n", "contracts/many.yaml": contract, "apis/api0.yaml": api}
		if _, err := store.AddProject(ctx, tx, scope.Project, "Many", texts, "bench"); err != nil {
			return err
		}
		for i := range manyAPIs {
			id := project.ReleaseID(project.APIs, fmt.Sprintf("api%d", i))
			files := map[string]string{"project.yaml": texts["project.yaml"], "contracts/many.yaml": contract, fmt.Sprintf("apis/api%d.yaml", i): api}
			n, err := store.AddRelease(ctx, tx, store.Release{Project: scope.Project, Flow: id, Title: "Many", MadeBy: "bench"}, files)
			if err != nil {
				return err
			}
			if err := store.Deploy(ctx, tx, scope, id, n, "bench"); err != nil {
				return err
			}
		}
		return nil
	})
}

func askMany(address string, n int) error {
	res, err := http.Get(fmt.Sprintf("%s/in/api%d/things%d/1", address, n%manyAPIs, n%manyOperations))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		return fmt.Errorf("%d %s %w", res.StatusCode, text, err)
	}
	return nil
}

// releaseUnderLoad releases an API again and again while callers call.
func releaseUnderLoad(ctx context.Context, e *engine.Engine, scope store.Scope, address string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var calls, failed atomic.Int64
	var longest atomic.Int64
	var callers sync.WaitGroup
	for i := range 8 {
		callers.Go(func() {
			for n := i; ctx.Err() == nil; n += 8 {
				began := time.Now()
				if err := askMany(address, n); err != nil {
					failed.Add(1)
					fmt.Println(" ", err)
				}
				calls.Add(1)
				for took := int64(time.Since(began)); ; {
					if was := longest.Load(); took <= was || longest.CompareAndSwap(was, took) {
						break
					}
				}
			}
		})
	}
	began := time.Now()
	for range manyReleases {
		if _, err := e.CreateRelease(ctx, scope, project.ReleaseID(project.APIs, "api0"), "", "bench"); err != nil {
			return err
		}
	}
	took := time.Since(began)
	cancel()
	callers.Wait()
	fmt.Printf("  %d releases in %.1f s under %d calls        %8d failed, the longest took %.0f ms\n", manyReleases, took.Seconds(), calls.Load(), failed.Load(), time.Duration(longest.Load()).Seconds()*1000)
	if failed.Load() > 0 {
		return fmt.Errorf("calls failed while releases were made")
	}
	return nil
}
