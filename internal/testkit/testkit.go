// Package testkit is what the tests of several packages stand on: databases with projects in them, and waiting for what runs.
package testkit

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
)

// Mo is somebody who has made a project.
var Mo = store.Person{ID: "mo", Name: "Mira Orrin", Initials: "MO"}

// Fill brings a database up to date and a person and a project into it.
func Fill(ctx context.Context, url string, by store.Person, id, title string, texts map[string]string) error {
	db, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer db.Close()
	return pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
		if err := store.AddPerson(ctx, tx, by); err != nil {
			return err
		}
		_, err := store.AddProject(ctx, tx, id, title, texts, by.ID)
		return err
	})
}

// Demo fills a database with the demo's project, as skerry.
func Demo(by store.Person) func(url string) error {
	return func(url string) error {
		texts, err := project.Read(demo.Files)
		if err != nil {
			return err
		}
		return Fill(context.Background(), url, by, "skerry", "Skerry Line", texts)
	}
}

// Project gives a database of its own with a project of Mo's.
func Project(t testing.TB, id, title string, texts map[string]string) *pgxpool.Pool {
	t.Helper()
	url := testdb.Like(t, "migrated", migrate)
	require.NoError(t, Fill(t.Context(), url, Mo, id, title, texts))
	db, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(db.Close)
	return db
}

// migrate brings a database up to date.
func migrate(url string) error {
	db, err := store.Open(context.Background(), url)
	if err == nil {
		db.Close()
	}
	return err
}

// patience is how long something may take on a busy machine.
const patience = 40 * time.Second

// Skerry is the demo project as the tests run it.
var Skerry = store.Scope{Project: "skerry", Environment: store.Environments[0]}

// Until waits for what get gives to be so.
func Until[T any](t testing.TB, what string, get func() (T, bool)) T {
	t.Helper()
	deadline := time.Now().Add(patience)
	for {
		v, ok := get()
		if ok {
			return v
		}
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain for %s; last seen: %+v", what, v)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Ended waits for the newest run of a file to end.
func Ended(t testing.TB, db store.DB, s store.Scope, file string) store.Run {
	t.Helper()
	return Until(t, file+" to end", func() (store.Run, bool) {
		runs, err := store.Runs(t.Context(), db, store.RunFilter{Scope: s, Reference: file, Most: 1})
		require.NoError(t, err)
		if len(runs) == 0 {
			return store.Run{}, false
		}
		return runs[0], runs[0].Ended()
	})
}
