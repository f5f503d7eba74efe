package compiled

import (
	"context"
	"fmt"
	"os"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

const schemaText = "schema: %s\nnotation: json\nfields:\n  - {name: code, type: text}\n"

func opened(t *testing.T) *pgxpool.Pool {
	texts := map[string]string{"project.yaml": "project: Quay\n", "schemas/a.yaml": fmt.Sprintf(schemaText, "A"), "schemas/b.yaml": fmt.Sprintf(schemaText, "B")}
	return testkit.Project(t, "quay", "Quay", texts)
}

// TestADraftIsAsItIsDraftedNow: for all who ask, and what did not change is the same as before.
func TestADraftIsAsItIsDraftedNow(t *testing.T) {
	db, c := opened(t), New()
	before, err := c.Draft(t.Context(), db, "quay")
	require.NoError(t, err)
	again, err := c.Draft(t.Context(), db, "quay")
	require.NoError(t, err)
	require.Same(t, before, again)
	require.NoError(t, pgx.BeginFunc(t.Context(), db, func(tx pgx.Tx) error {
		return store.SavePart(t.Context(), tx, "quay", "schemas/a.yaml", fmt.Sprintf(schemaText, "Another"), 1, "mo")
	}))
	var all sync.WaitGroup
	seen := make([]*project.Project, 20)
	for i := range seen {
		all.Go(func() {
			p, err := c.Draft(context.Background(), db, "quay")
			if err != nil {
				t.Error(err)
			}
			seen[i] = p
		})
	}
	all.Wait()
	for _, p := range seen {
		require.Same(t, seen[0], p, "it is compiled once")
	}
	require.Equal(t, "Another", seen[0].Schema("a").Title)
	require.Same(t, before.Schema("b"), seen[0].Schema("b"))
	require.Equal(t, "A", before.Schema("a").Title, "who works with the one before is not disturbed")
	_, err = c.Draft(t.Context(), db, "none")
	require.ErrorIs(t, err, store.ErrNotFound)
}

// TestAReleaseDoesNotFollowTheDraft: it is compiled of its own files, once.
func TestAReleaseDoesNotFollowTheDraft(t *testing.T) {
	db, c := opened(t), New()
	require.NoError(t, pgx.BeginFunc(t.Context(), db, func(tx pgx.Tx) error {
		_, err := store.AddRelease(t.Context(), tx, store.Release{Project: "quay", Flow: "f", Title: "F", MadeBy: "mo"}, map[string]string{"project.yaml": "project: Quay\n", "schemas/a.yaml": fmt.Sprintf(schemaText, "Then")})
		return err
	}))
	one, err := c.Release(t.Context(), db, "quay", "f", 1)
	require.NoError(t, err)
	require.Equal(t, "Then", one.Schema("a").Title)
	two, err := c.Release(t.Context(), db, "quay", "f", 1)
	require.NoError(t, err)
	require.Same(t, one, two)
	_, err = c.Release(t.Context(), db, "quay", "f", 2)
	require.Error(t, err)
}
