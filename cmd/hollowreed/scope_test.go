package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/app"
	"hollowreed/internal/child"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/testdb"
	"hollowreed/internal/testkit"
)

// scopedProject does with an order all that is kept beside its run: keys that were seen, references, rows of a table, and a
// message for a run that waits for it. Two projects have the same parts, and get orders of the same ids in all environments.
var scopedProject = map[string]string{
	"project.yaml":             "project: Scoped\n",
	"connections/drop.yaml":    "connection: Drop\nkind: file\n",
	"connections/out.yaml":     "connection: Out\nkind: file\n",
	"schemas/order.yaml":       "schema: Order\nnotation: ndjson\nfields:\n  - {name: id, type: text}\n  - {name: scope, type: text}\n",
	"schemas/payment.yaml":     "schema: Payment\nnotation: json\nfields:\n  - {name: id, type: text}\n  - {name: scope, type: text}\n",
	"schemas/line.yaml":        "schema: Line\nnotation: csv\nfields:\n  - {name: id, type: text}\n  - {name: scope, type: text}\n  - {name: kept, type: text}\n",
	"mappings/to-line.yaml":    "mapping: To line\nfrom:\n  - {name: order, schema: order}\nto: line\nrules:\n  - {field: id, formula: order.id}\n  - {field: scope, formula: order.scope}\n  - {field: kept, formula: '\"\"'}\n",
	"mappings/to-payment.yaml": "mapping: To payment\nfrom:\n  - {name: order, schema: order}\nto: payment\nrules:\n  - {field: id, formula: order.id}\n  - {field: scope, formula: order.scope}\n",
	"mappings/paid.yaml":       "mapping: Paid\nfrom:\n  - {name: order, schema: payment}\n  - {name: paid, schema: payment}\n  - {name: all, schema: payment, list: true}\nto: line\nrules:\n  - {field: id, formula: order.id}\n  - {field: scope, formula: paid.scope}\n  - {field: kept, formula: \"all[0].scope\"}\n",
	"tables/known.yaml":        "table: Known\ncolumns:\n  - {name: id, key: true}\n  - {name: scope}\nrows: []\n",
	"flows/orders.yaml": `flow: Orders
trigger: {kind: file, connection: drop, mask: "*.orders", every: 1}
steps:
  - {step: set, id: begin, values: {from: run.file}}
  - {step: read, id: read, schema: order, as: order}
  - step: each
    id: each
    of: order
    steps:
      - {step: deduplicate, id: once, key: order.id}
      - {step: reference, id: reference, is: order.id}
      - step: choose
        id: choose
        when:
          - {if: 'order.id == "bad"', steps: [{step: stop, id: stop, text: '"a bad order"'}]}
      - {step: update table, id: change, table: known, row: {id: order.id, scope: order.scope}}
      - {step: run flow, id: expect, flow: expect, wait: "no", with: {id: order.id, scope: order.scope}}
      - {step: map, id: payment, mapping: to-payment, as: paid}
      - {step: send message, id: deliver, kind: payment, reference: order.id, from: paid}
      - {step: map, id: line, mapping: to-line, as: line}
      - {step: write, id: write, connection: out, schema: line, from: line, file name: from + ".csv"}
`,
	"flows/expect.yaml": `flow: Expect
trigger: {kind: called, input: payment, as: order}
reference: order.id
steps:
  - {step: receive message, id: await, kind: payment, reference: order.id, schema: payment, within: 600, as: paid}
  - {step: aggregate, id: gather, bring: paid, key: order.id, count: 1, as: all}
  - {step: map, id: map, mapping: paid, as: line}
  - {step: write, id: write, connection: out, schema: line, from: line, file name: order.id + ".paid"}
`,
}

// scoped are two projects in three environments, with workers of each environment.
type scoped struct {
	t       *testing.T
	binary  string
	address string
	dir     string
	db      *pgxpool.Pool
	scopes  []store.Scope
	workers []*child.Process // two of each environment
	started map[int]string   // the environment of every process that ever was, by its id
}

func newScoped(t *testing.T) *scoped {
	t.Helper()
	ctx := t.Context()
	s := &scoped{t: t, dir: t.TempDir(), address: testdb.New(t), started: map[int]string{}}
	s.binary = filepath.Join(s.dir, "hollowreed")
	build(t, s.binary)
	var err error
	s.db, err = store.Open(ctx, s.address)
	require.NoError(t, err)
	t.Cleanup(s.db.Close)
	require.NoError(t, store.AddPerson(ctx, s.db, app.DemoPerson))
	pools := connector.Same[store.Scope](connector.StaticSettings{}, connector.Rules{})
	t.Cleanup(pools.Close)
	loader, err := engine.New(s.db, pools, engine.Options{})
	require.NoError(t, err)
	for _, id := range []string{"north", "south"} {
		require.NoError(t, pgx.BeginFunc(ctx, s.db, func(tx pgx.Tx) error {
			_, err := store.AddProject(ctx, tx, id, id, scopedProject, app.DemoPerson.ID)
			return err
		}))
		first := store.Scope{Project: id, Environment: store.Environments[0]}
		_, err := loader.CreateRelease(ctx, first, "orders", "", app.DemoPerson.ID)
		require.NoError(t, err)
		for _, environment := range store.Environments {
			of := first.In(environment)
			require.NoError(t, store.Deploy(ctx, s.db, of, "orders", 1, app.DemoPerson.ID))
			s.reach(of)
			s.scopes = append(s.scopes, of)
		}
	}
	return s
}

// reach sets the connections of a scope, to folders of its own.
func (s *scoped) reach(of store.Scope) {
	s.t.Helper()
	for _, folder := range []string{"in", "done", "out"} {
		require.NoError(s.t, os.MkdirAll(s.folder(of, folder), 0o755))
	}
	for id, values := range map[string]map[string]string{
		"drop": {"folder": s.folder(of, "in"), "done": s.folder(of, "done")}, "out": {"folder": s.folder(of, "out")},
	} {
		require.NoError(s.t, store.SaveSetting(s.t.Context(), s.db, of, store.Setting{Connection: id, Kind: "file", Chosen: values}, -1, app.DemoPerson.ID))
	}
}

func (s *scoped) folder(of store.Scope, name string) string {
	return filepath.Join(s.dir, of.Project, of.Environment, name)
}

// work starts a worker of an environment.
func (s *scoped) work(environment string) *child.Process {
	s.t.Helper()
	cmd := exec.Command(s.binary, "worker", "--database", s.address, "--environment", environment, "--roots", s.dir, "--data", s.dir, "--key-file", filepath.Join(s.dir, "key"),
		"--batch", "5", "--beat", "50ms", "--silence", "500ms", "--rest", "50ms")
	cmd.Stderr = os.Stderr
	p, err := child.Start(cmd, syscall.SIGKILL)
	require.NoError(s.t, err)
	s.started[p.Process.Pid] = environment
	s.t.Cleanup(func() {
		p.Process.Kill()
		p.Wait()
	})
	return p
}

// drop drops the same file of orders into the folder of every scope; only the scope that the orders carry differs.
func (s *scoped) drop(n, orders int) {
	s.t.Helper()
	for _, of := range s.scopes {
		var b strings.Builder
		for i := range orders {
			fmt.Fprintf(&b, "{\"id\": \"%d-%d\", \"scope\": %q}\n", n, i, of)
		}
		if n == 0 {
			fmt.Fprintf(&b, "{\"id\": \"bad\", \"scope\": %q}\n", of)
		}
		name := filepath.Join(s.folder(of, "in"), fmt.Sprintf("f%d.orders", n))
		require.NoError(s.t, os.WriteFile(name+".part", []byte(b.String()), 0o644))
		require.NoError(s.t, os.Rename(name+".part", name))
	}
}

// count asks the product's database for a number.
func (s *scoped) count(sql string, args ...any) (n int) {
	s.t.Helper()
	require.NoError(s.t, s.db.QueryRow(s.t.Context(), sql, args...).Scan(&n))
	return n
}

// TestNothingCrossesScopes: two projects in three environments run the same flows on orders of the same ids, with load in all and
// workers killed at random. Nothing is claimed, seen or counted across, and nothing is lost.
func TestNothingCrossesScopes(t *testing.T) {
	const files, orders, kills = 4, 8, 18
	s := newScoped(t)
	for _, environment := range store.Environments {
		s.workers = append(s.workers, s.work(environment), s.work(environment))
	}
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 12))
	for n := range kills {
		if n < files {
			s.drop(n, orders)
		}
		time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond) // the random point
		i := random.IntN(len(s.workers))
		s.workers[i].Process.Kill()
		s.workers[i].Wait()
		s.workers[i] = s.work(store.Environments[i/2])
	}
	runs := len(s.scopes) * files * (1 + orders)
	testkit.Until(t, "all runs to end", func() (string, bool) {
		ended := s.count("select count(*) from run where state in ('done', 'set aside', 'stopped')")
		return fmt.Sprintf("%d of %d", ended, runs), ended == runs
	})
	require.Equal(t, runs, s.count("select count(*) from run"))
	s.claimedByTheirOwn()
	for _, of := range s.scopes {
		s.whole(of, files, orders)
	}
}

// claimedByTheirOwn: whoever took a run on, and holds its journal, is a worker of the run's environment.
func (s *scoped) claimedByTheirOwn() {
	s.t.Helper()
	rows, err := s.db.Query(s.t.Context(), `select r.environment, a.by from run r
		join river_job j on j.args @> jsonb_build_object('run', r.id), unnest(j.attempted_by || array[coalesce(r.worker, '')]) as a(by) where a.by <> ''`)
	require.NoError(s.t, err)
	var environment, worker string
	claims := 0
	_, err = pgx.ForEachRow(rows, []any{&environment, &worker}, func() error {
		parts := strings.Split(worker, "-") // host, process, random
		pid, err := strconv.Atoi(parts[len(parts)-2])
		require.NoError(s.t, err, worker)
		require.Equal(s.t, environment, s.started[pid], "worker %s", worker)
		claims++
		return nil
	})
	require.NoError(s.t, err)
	require.Greater(s.t, claims, len(s.scopes)*4)
}

// whole: a scope has its own orders, each once, and all that was kept with them is its own.
func (s *scoped) whole(of store.Scope, files, orders int) {
	s.t.Helper()
	ctx := s.t.Context()
	var want []string
	for n := range files {
		for i := range orders {
			want = append(want, fmt.Sprintf("%d-%d", n, i))
		}
	}
	sort.Strings(want)
	require.Equal(s.t, lines(want, of, ""), s.written(of, "*.csv"), "%s: what was written", of)
	require.Equal(s.t, lines(want, of, of.String()), s.written(of, "*.paid"), "%s: what was waited for, and gathered", of)

	rows, err := store.ListState(ctx, s.db, of, running.TableSpace("known"), 1000)
	require.NoError(s.t, err)
	require.Len(s.t, rows, len(want), "%s: rows of the table", of)
	for _, row := range rows {
		require.Contains(s.t, row.Content, of.String())
	}
	tally := map[string]int{}
	tallies, err := store.Tallies(ctx, s.db, of, time.Now().Add(-time.Hour))
	require.NoError(s.t, err)
	for _, n := range tallies {
		tally[n.Flow] += n.Runs
	}
	require.Equal(s.t, map[string]int{"orders": files, "expect": len(want)}, tally, "%s", of)
	figures, err := store.Metrics(ctx, s.db, of, time.Now().Add(-time.Hour), 600)
	require.NoError(s.t, err)
	for _, f := range figures {
		if f.Kind == "flow" { // a worker that is killed takes some with it
			require.LessOrEqual(s.t, f.Count, tally[f.Name], "%s: %s", of, f.Name)
		}
	}
	open, err := store.OpenWork(ctx, s.db, of)
	require.NoError(s.t, err)
	require.Equal(s.t, 1, open, "%s: the bad order", of)

	found, err := store.Runs(ctx, s.db, store.RunFilter{Scope: of, Reference: "2-3", Most: 10})
	require.NoError(s.t, err)
	require.Len(s.t, found, 2, "%s: the run of the file, and the one that waited", of)
	for _, r := range found {
		require.Equal(s.t, of, r.Scope)
		for _, other := range s.scopes {
			_, err := store.RunOf(ctx, s.db, other, r.ID)
			require.Equal(s.t, other == of, err == nil, "%s as seen by %s", of, other)
		}
	}
}

// lines are what is written of orders.
func lines(ids []string, of store.Scope, kept string) (list []string) {
	for _, id := range ids {
		list = append(list, id+","+of.String()+","+kept)
	}
	return list
}

// written are the lines of the files that a scope has written, without their heads.
func (s *scoped) written(of store.Scope, mask string) (list []string) {
	s.t.Helper()
	paths, err := filepath.Glob(filepath.Join(s.folder(of, "out"), mask))
	require.NoError(s.t, err)
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(s.t, err)
		list = append(list, strings.Split(strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n")), "\n")[1:]...)
	}
	sort.Strings(list)
	return list
}
