package store

import (
	"io/fs"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/testdb"
)

// before makes a database as it was before a migration.
func before(t *testing.T, migration string) *pgxpool.Pool {
	t.Helper()
	db, err := pgxpool.New(t.Context(), testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(db.Close)
	river, err := rivermigrate.New(riverpgxv5.New(db), nil)
	require.NoError(t, err)
	_, err = river.Migrate(t.Context(), rivermigrate.DirectionUp, nil)
	require.NoError(t, err)
	_, err = db.Exec(t.Context(), "create table migration (name text primary key, applied_at timestamptz not null default now())")
	require.NoError(t, err)
	names, err := fs.Glob(migrations, "migrations/*.up.sql")
	require.NoError(t, err)
	slices.Sort(names)
	for _, name := range names {
		if strings.HasPrefix(name, "migrations/"+migration) {
			return db
		}
		text, err := migrations.ReadFile(name)
		require.NoError(t, err)
		in(t, db, func(tx pgx.Tx) error { return apply(t.Context(), tx, name, string(text)) })
	}
	t.Fatalf("there is no migration %s", migration)
	return nil
}

// TestADatabaseOfOneEnvironmentGetsScopes: what was kept is of the environment that the database was for, which runs the newest
// release of each flow, and its waiting runs stand in that environment's queue.
func TestADatabaseOfOneEnvironmentGetsScopes(t *testing.T) {
	db := before(t, "019_scope")
	run := uuid.New()
	in(t, db, func(tx pgx.Tx) error {
		_, err := tx.Exec(t.Context(), strings.ReplaceAll(`
			insert into person values ('mo', 'Mira Orrin', 'MO');
			insert into project (id, title) values ('p', 'P');
			insert into serves (project, environment) values ('p', 'Live');
			insert into release (project, flow, number, title, made_by) values ('p', 'f', 1, 'F', 'mo'), ('p', 'f', 2, 'F', 'mo'), ('p', 'g', 1, 'G', 'mo');
			insert into run (id, project, flow, release, release_flow, reference, file, started_by) values ('RUN', 'p', 'f', 1, 'f', 'REF-1', 'a.csv', 'mo');
			insert into pickup (project, flow, path, identity, run) values ('p', 'f', '/in/a.csv', '1', 'RUN');
			insert into reference (run, project, record, text) values ('RUN', 'p', 0, 'B-7');
			insert into event (project, flow, run, step, record, text) values ('p', 'f', 'RUN', 'n', 0, 'told');
			insert into seen (project, flow, step, key, run, record, path) values ('p', 'f', 'once', 'k', 'RUN', 0, '');
			insert into kept (project, space, key, content) values ('p', 'space', 'k', 'v');
			insert into trigger_state (project, flow, rising) values ('p', 'f', '17');
			insert into figure (project, kind, name, minute, done, failed, took) values ('p', 'flow', 'f', now(), 3, 0, array_fill(0, array[24]));
			insert into alarm (project, alert, cause, text) values ('p', 'late', 'c', 'it is late');
			insert into deed (project, person, what, run) values ('p', 'mo', 'ran it again', 'RUN');
			insert into letter (project, kind, reference, content, run, step, record, path) values ('p', 'payment', 'B-7', '{}', 'RUN', 's', 0, '');
			insert into river_job (state, kind, args, max_attempts, queue) values ('available', 'run', '{"run": "RUN"}', 25, 'default'), ('available', 'other', '{}', 25, 'mine')`, "RUN", run.String()))
		return err
	})
	require.NoError(t, migrate(t.Context(), db))
	live := Scope{"p", "Live"}
	ctx := t.Context()
	runs, err := Runs(ctx, db, RunFilter{Scope: live, Reference: "b-7", Most: 5})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Equal(t, run, runs[0].ID)
	require.Equal(t, live, runs[0].Scope)
	was, err := PickupRun(ctx, db, live, "f", "/in/a.csv", "1")
	require.NoError(t, err)
	require.Equal(t, run, was.ID)
	trigger, err := TriggerOf(ctx, db, live, "f")
	require.NoError(t, err)
	require.Equal(t, "17", trigger.Rising)
	known, err := GetState(ctx, db, live, "space", []string{"k"})
	require.NoError(t, err)
	require.Equal(t, "v", known["k"])
	deployed, err := Deployments(ctx, db, live)
	require.NoError(t, err)
	numbers := map[string]int{}
	for _, d := range deployed {
		numbers[d.Flow] = d.Number
	}
	require.Equal(t, map[string]int{"f": 2, "g": 1}, numbers)
	alarms, err := OpenAlertStates(ctx, db, live, "late")
	require.NoError(t, err)
	require.Len(t, alarms, 1)
	deeds, err := AuditEntries(ctx, db, live, nil, 5)
	require.NoError(t, err)
	require.Len(t, deeds, 1)
	for _, other := range []Scope{{"p", Environments[0]}, {"p", "Trial"}} {
		runs, err := Runs(ctx, db, RunFilter{Scope: other, Most: 5})
		require.NoError(t, err)
		require.Empty(t, runs)
	}
	rows, err := db.Query(ctx, "select kind, queue from river_job order by kind")
	require.NoError(t, err)
	queues, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ Kind, Queue string }])
	require.NoError(t, err)
	require.Equal(t, []struct{ Kind, Queue string }{{"other", "mine"}, {"run", Queue("Live")}}, queues)
	_, err = db.Exec(ctx, "insert into flow_state (project, namespace, key, content) values ('p', 'space', 'new', 'v')")
	require.Error(t, err, "nothing is kept any more without its environment")
}

// TestMigrationsCanBeTakenBack: the newest ones, each of which leaves what it finds, and can be made up again.
func TestMigrationsCanBeTakenBack(t *testing.T) {
	db := open(t)
	require.NoError(t, PutState(t.Context(), db, scope, "space", []running.StateEntry{{Key: "k", Text: "v"}}))
	for _, file := range []string{"023_fewer_indexes.down", "022_columns.down", "021_names.down", "020_calls.down", "019_scope.down", "019_scope.up", "020_calls.up", "021_names.up", "022_columns.up", "023_fewer_indexes.up"} {
		text, err := os.ReadFile("migrations/" + file + ".sql")
		require.NoError(t, err)
		in(t, db, func(tx pgx.Tx) error {
			_, err := tx.Exec(t.Context(), string(text))
			return err
		})
	}
	known, err := GetState(t.Context(), db, scope, "space", []string{"k"})
	require.NoError(t, err)
	require.Equal(t, "v", known["k"])
}
