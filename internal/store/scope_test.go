package store

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
)

// TestEveryQueryOfWhatRunsHasAScope: a statement that chooses by project among what runs, or is kept with runs, chooses by
// environment, too; and one that adds to it says of which environment it is.
func TestEveryQueryOfWhatRunsHasAScope(t *testing.T) {
	db := open(t)
	rows, err := db.Query(t.Context(), `select table_name from information_schema.columns a where column_name = 'environment' and table_schema = 'public' and table_name not in ('serves', 'worker')
		and exists (select from information_schema.columns b where b.table_name = a.table_name and b.column_name = 'project')`)
	require.NoError(t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.Greater(t, len(tables), 15)
	chooses := regexp.MustCompile(`\b(?:from|join|update|into)\s+(?:` + strings.Join(tables, "|") + `)\b`)
	paths, err := filepath.Glob("*.go")
	require.NoError(t, err)
	looked := 0
	for _, path := range paths {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		file, err := parser.ParseFile(token.NewFileSet(), path, text, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			lit, is := n.(*ast.BasicLit)
			if !is || lit.Kind != token.STRING || !chooses.MatchString(lit.Value) {
				return true
			}
			if strings.Contains(lit.Value, "project = $") || strings.Contains(lit.Value, "insert into") && strings.Contains(lit.Value, "(project") {
				looked++
				require.Contains(t, lit.Value, "environment", "%s: %s", path, lit.Value)
			}
			return true
		})
	}
	require.Greater(t, looked, 50)
}

// TestScopesShareNothingThatIsKept: the same flow, keys and texts in two environments of a project, and in another project.
func TestScopesShareNothingThatIsKept(t *testing.T) {
	db := open(t)
	ctx := t.Context()
	in(t, db, func(tx pgx.Tx) error {
		_, err := AddProject(ctx, tx, "other", "Other", map[string]string{path: "one"}, "mo")
		return err
	})
	scopes := []Scope{scope, scope.In("Trial"), scope.In("Live"), {"other", scope.Environment}}
	for _, s := range scopes {
		r := Run{ID: uuid.Must(uuid.NewV7()), Scope: s, Flow: "f", Release: 1, Reference: "the same", StartedBy: "mo"}
		require.NoError(t, AddRun(ctx, db, r, nil))
		fresh, err := AddPickup(ctx, db, s, "f", "/in/a.txt", "1", r.ID)
		require.NoError(t, err)
		require.True(t, fresh, "%s: the same file", s)
		fresh, err = AddCall(ctx, db, s, "f", "key", "digest", r.ID)
		require.NoError(t, err)
		require.True(t, fresh, "%s: the same key of a call", s)
		seen, err := MarkSeen(ctx, db, r, "once", []EffectKey{{}}, []string{"k"}, 0)
		require.NoError(t, err)
		require.Empty(t, seen, "%s: the same key of a record", s)
		known, err := GetState(ctx, db, s, "space", []string{"k"})
		require.NoError(t, err)
		require.Empty(t, known, "%s", s)
		require.NoError(t, PutState(ctx, db, s, "space", []running.StateEntry{{Key: "k", Text: s.String()}}))
		require.NoError(t, AddReferences(ctx, db, r, []running.Reference{{Text: "ref"}}))
		require.NoError(t, AddEvents(ctx, db, r, []running.Event{{Step: "n", Text: s.String()}}))
		require.NoError(t, AddMetrics(ctx, db, s, []Metric{{Kind: "flow", Name: "f", Count: 1, Durations: make([]int32, Spans)}}))
		require.NoError(t, RecordFirst(ctx, db, s, "late", Incident{Cause: "c", Text: s.String()}, r.ID))
		require.NoError(t, AddAuditEntry(ctx, db, s, "mo", "looked at", nil, s.String()))
	}
	require.NoError(t, Pause(ctx, db, scope.In("Live"), "f", "mo", "for a while"))
	for _, s := range scopes {
		known, err := GetState(ctx, db, s, "space", []string{"k"})
		require.NoError(t, err)
		require.Equal(t, map[string]string{"k": s.String()}, known)
		runs, err := Runs(ctx, db, RunFilter{Scope: s, Reference: "ref", Most: 9})
		require.NoError(t, err)
		require.Len(t, runs, 1)
		require.Equal(t, s, runs[0].Scope)
		before, err := PickupRun(ctx, db, s, "f", "/in/a.txt", "1")
		require.NoError(t, err)
		require.Equal(t, runs[0].ID, before.ID)
		events, err := Events(ctx, db, s, 9)
		require.NoError(t, err)
		require.Len(t, events, 1)
		require.Equal(t, s.String(), events[0].Text)
		figures, err := Metrics(ctx, db, s, before.CreatedAt.AddDate(0, 0, -1), 60)
		require.NoError(t, err)
		require.Len(t, figures, 1)
		require.Equal(t, 1, figures[0].Count)
		alarms, err := AlertStates(ctx, db, s, 9)
		require.NoError(t, err)
		require.Len(t, alarms, 1)
		require.Equal(t, s.String(), alarms[0].Text)
		deeds, err := AuditEntries(ctx, db, s, nil, 9)
		require.NoError(t, err)
		require.Len(t, deeds, 1)
		require.Equal(t, s.String(), deeds[0].Subject)
		trigger, err := TriggerOf(ctx, db, s, "f")
		require.NoError(t, err)
		require.Equal(t, s.Environment == "Live", trigger.PausedBy != nil, "%s", s)
		waiting, err := Backlog(ctx, db, s)
		require.NoError(t, err)
		require.Equal(t, map[string]int{"f": 1}, waiting)
	}
}

// TestWhatAnEnvironmentRunsIsARowOfItsOwn: a release runs where it is deployed, and another one there takes its place.
func TestWhatAnEnvironmentRunsIsARowOfItsOwn(t *testing.T) {
	db := open(t)
	ctx := t.Context()
	for range 2 {
		in(t, db, func(tx pgx.Tx) error {
			_, err := AddRelease(ctx, tx, Release{Project: projectID, Flow: "f", Title: "F", MadeBy: "mo"}, map[string]string{path: "one"})
			return err
		})
	}
	_, err := DeploymentOf(ctx, db, scope, "f")
	require.ErrorIs(t, err, ErrNotFound, "a release is not deployed by itself")
	require.NoError(t, Deploy(ctx, db, scope, "f", 1, "mo"))
	require.NoError(t, Deploy(ctx, db, scope, "f", 2, "mo"))
	require.NoError(t, Deploy(ctx, db, scope.In("Live"), "f", 1, "mo"))
	require.Error(t, Deploy(ctx, db, scope, "f", 3, "mo"), "there is no such release")
	for environment, want := range map[string]int{scope.Environment: 2, "Live": 1} {
		d, err := DeploymentOf(ctx, db, scope.In(environment), "f")
		require.NoError(t, err)
		require.Equal(t, want, d.Number)
		all, err := AllDeployments(ctx, db, environment)
		require.NoError(t, err)
		require.Equal(t, []Deployment{d}, all)
	}
	none, err := Deployments(ctx, db, scope.In("Trial"))
	require.NoError(t, err)
	require.Empty(t, none)
}
