package main

import (
	"crypto/rand"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"hollowreed/internal/app"
	"hollowreed/internal/child"
	"hollowreed/internal/connector"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/openpgp"
	"hollowreed/internal/engine"
	"hollowreed/internal/localpg"
	"hollowreed/internal/store"
)

// loadProject has every kind of step. An order is checked, priced, packed, sealed and shipped; a run of its own waits for
// its payment, which is handed over by the order's run, and five payments of a group are booked together.
var loadProject = map[string]string{
	"project.yaml":              "project: Load\n",
	"connections/drop.yaml":     "connection: Drop\nkind: file\n",
	"connections/out.yaml":      "connection: Out\nkind: file\n",
	"connections/db.yaml":       "connection: Database\nkind: sql\noperations:\n  - {operation: log, name: Log, kind: upsert, request: entry, table: logged, key: id}\n  - {operation: unlog, name: Take the entry back, kind: upsert, request: entry, table: unlogged, key: id}\n",
	"schemas/order.yaml":        "schema: Order\nnotation: ndjson\nfields:\n  - {name: id, type: text}\n  - {name: group, type: text}\n  - {name: station, type: text}\n  - {name: note, type: text}\n  - {name: lines, type: integer, occurs: 0..n}\n",
	"schemas/note.yaml":         "schema: Note\nnotation: json\nfields:\n  - {name: weight, type: integer}\n",
	"schemas/station.yaml":      "schema: Station\nnotation: rows\nfields:\n  - {name: code, type: text}\n  - {name: name, type: text}\n",
	"schemas/shipment.yaml":     "schema: Shipment\nnotation: rows\nfields:\n  - {name: id, type: text}\n  - {name: station, type: text}\n  - {name: total, type: integer}\n  - {name: label, type: text}\n",
	"schemas/payment.yaml":      "schema: Payment\nnotation: json\nfields:\n  - {name: id, type: text}\n  - {name: group, type: text}\n",
	"schemas/entry.yaml":        "schema: Entry\nnotation: json\nfields:\n  - {name: id, type: text}\n",
	"schemas/booked.yaml":       "schema: Booked\nnotation: rows\nfields:\n  - {name: first, type: text}\n  - {name: payments, type: integer}\n",
	"schemas/line.yaml":         "schema: Line\nnotation: csv\nfields:\n  - {name: id, type: text}\n",
	"mappings/to-shipment.yaml": "mapping: To shipment\nfrom:\n  - {name: order, schema: order}\n  - {name: place, schema: station}\nto: shipment\nrules:\n  - {field: id, formula: order.id}\n  - {field: station, formula: place.name}\n  - {field: total, formula: count(order.lines)}\n  - {field: label, formula: 'order.id + \"/\" + order.group'}\n",
	"mappings/to-line.yaml":     "mapping: To line\nfrom:\n  - {name: order, schema: order}\nto: line\nrules:\n  - {field: id, formula: order.id}\n",
	"tables/rates.yaml":         "table: Rates\ncolumns:\n  - {name: station, key: true}\n  - {name: rate}\nrows:\n  - [A, low]\n  - [B, high]\n",
	"flows/orders.yaml": `flow: Orders
trigger: {kind: file, connection: drop, mask: "*.orders", every: 1}
steps:
  - {step: set, id: begin, values: {from: run.file}}
  - {step: read, id: read, schema: order, as: order}
  - step: each
    id: each
    of: order
    steps:
      - {step: filter, id: keep, where: 'order.note != "drop"'}
      - {step: deduplicate, id: once, key: order.id}
      - {step: accumulate, id: tally, as: seen, becomes: seen + 1}
      - {step: reference, id: reference, is: order.id}
      - {step: look up row, id: find, connection: db, table: station, schema: station, match: {code: order.station}, as: place}
      - {step: map, id: map, mapping: to-shipment, as: shipment}
      - step: cache
        id: cached
        key: order.station
        keep: rate.rate
        for: 2
        as: rate
        steps: [{step: look up, id: rate, table: rates, match: {station: order.station}, as: rate}]
      - {step: update table, id: change, table: rates, row: {station: order.id, rate: rate}}
      - {step: template, id: template, text: '{"weight": ${shipment.total}}', as: text}
      - {step: encode, id: pack, value: text, do: gzip (RFC 1952), as: packed}
      - {step: encode, id: unpack, value: packed, do: ungzip, as: unpacked}
      - {step: validate, id: check, value: unpacked, schema: note}
      - {step: parse, id: parse, text: unpacked, schema: note, as: parsed}
      - {step: serialize, id: format, value: parsed, schema: note, as: formatted}
      - {step: encrypt, id: seal, value: formatted.text, for: 'PUBLIC', signed by: key, as: sealed}
      - {step: decrypt, id: open, value: sealed, with: key, as: opened}
      - step: choose
        id: choose
        when:
          - {if: 'order.note == "stop"', steps: [{step: stop, id: stop, text: '"no more"'}]}
      - step: try
        id: attempt
        steps:
          - step: call
            id: log
            connection: db
            operation: log
            with: {id: order.id}
            undo: [{step: call, id: unlog, connection: db, operation: unlog, with: {id: order.id}, as: unlogged}]
          - {step: validate, id: fails, value: order.note, schema: note, faults: stop at the first}
        on fault: [{step: log, id: noted, text: fault.text}]
      - step: parallel
        id: branches
        branches:
          - {name: inner, steps: [{step: each, id: lines, of: order.lines, as: line, at once: 2, collect: line * 2, collected as: doubled, steps: [{step: set, id: line, values: {twice: line * 2}, as: two}]}]}
          - {name: child, steps: [{step: run flow, id: expect, flow: expect, wait: "no", with: {id: order.id, group: order.group}}, {step: run flow, id: greet, flow: greet, with: {id: order.id, group: order.group}, as: greeted}]}
      - {step: send message, id: deliver, kind: payment, reference: order.id, from: greeted}
      - {step: publish, id: told, channel: paid, from: greeted}
      - {step: upsert, id: upsert, connection: db, table: shipped, from: shipment, key: id}
      - {step: map, id: line2, mapping: to-line, as: written}
      - {step: write, id: write, connection: out, schema: line, from: written, file name: from + ".csv"}
  - {step: wait, id: wait, seconds: "0.05"}
  - {step: log, id: end, text: text(seen)}
`,
	"channels/paid.yaml": "channel: Paid\nkind: topic\nschema: payment\nkey: id\norder: by key\n",
	"flows/hear.yaml":    "flow: Hear\ntrigger: {kind: message, channel: paid, from: beginning, as: payment}\nreference: payment.id\nsteps:\n  - {step: log, id: heard, text: payment.id}\n",
	"flows/greet.yaml":   "flow: Greet\ntrigger: {kind: called, input: payment, output: payment, as: order}\nreference: order.id\nsteps:\n  - {step: respond, id: a, with: {id: order.id, group: order.group}}\n",
	"flows/expect.yaml": `flow: Expect
trigger: {kind: called, input: payment, as: order}
reference: order.id
steps:
  - {step: receive message, id: await, kind: payment, reference: order.id, schema: payment, within: 600, as: paid}
  - {step: aggregate, id: gather, bring: paid, key: paid.group, count: 5, as: payments}
  - {step: map, id: map, mapping: to-booked, as: booked}
  - {step: upsert, id: upsert, connection: db, table: booked, from: booked, key: first}
`,
	"mappings/to-booked.yaml": "mapping: To booked\nfrom:\n  - {name: payments, schema: payment, list: true}\nto: booked\nrules:\n  - {field: first, formula: \"payments[0].id\"}\n  - {field: payments, formula: count(payments)}\n",
}

// crash is a server with the load's project and tables, and workers to kill.
type crash struct {
	world
	server *localpg.Server
	out    string
	loader *engine.Engine
}

func newCrash(t *testing.T) *crash {
	t.Helper()
	ctx := t.Context()
	dir, err := os.MkdirTemp("/tmp", "hollowreed-crash-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	c := &crash{world: world{t: t, binary: filepath.Join(dir, "hollowreed"), folder: t.TempDir(), done: t.TempDir(), settings: filepath.Join(dir, "settings.yaml")}, out: t.TempDir()}
	build(t, c.binary)
	c.server, err = localpg.Start(ctx, filepath.Join(dir, "pg"), localpg.Options{Durable: true})
	require.NoError(t, err)
	t.Cleanup(c.server.Stop)
	c.url, err = c.server.Create(ctx, "hollowreed")
	require.NoError(t, err)
	target, err := c.server.Create(ctx, "target")
	require.NoError(t, err)
	c.db, err = store.Open(ctx, c.url)
	require.NoError(t, err)
	t.Cleanup(c.db.Close)
	c.ledger, err = pgxpool.New(ctx, target)
	require.NoError(t, err)
	t.Cleanup(c.ledger.Close)
	_, err = c.ledger.Exec(ctx, `create table station (code text primary key, name text); insert into station values ('A', 'Alpha'), ('B', 'Beta');
		create table shipped (id text primary key, station text, total int, label text); create table logged (id text primary key); create table unlogged (id text primary key);
		create table booked (first text primary key, payments int)`)
	require.NoError(t, err)
	key, public, err := openpgp.NewKey(openpgp.World{Random: rand.Reader, Now: time.Now().Add(-time.Hour)}, "Skerry Line", "line@skerry.example")
	require.NoError(t, err)
	settings, err := yaml.Marshal(map[string]map[string]string{
		"drop": {"kind": "file", "folder": c.folder, "done": c.done}, "out": {"kind": "file", "folder": c.out}, "db": {"kind": "sql", "by": "address", "address": target}, "secrets": {"key": key},
	})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(c.settings, settings, 0o600))
	c.load(public)
	return c
}

// load puts the project into the database, sealing for the owner of a key, and releases its flows.
func (c *crash) load(public string) {
	ctx := c.t.Context()
	fixed, err := connector.ReadStaticSettings(c.settings)
	require.NoError(c.t, err)
	pool := connector.Same[store.Scope](fixed, connector.Rules{})
	c.t.Cleanup(pool.Close)
	c.loader, err = engine.New(c.db, pool, engine.Options{})
	require.NoError(c.t, err)
	texts := map[string]string{}
	for path, text := range loadProject {
		texts[path] = strings.ReplaceAll(text, "PUBLIC", strconv.Quote(public))
	}
	require.NoError(c.t, app.LoadDemo(ctx, c.db, c.loader, texts))
}

// orders writes a file of orders; it notes what must become of each.
type orders struct {
	shipped, aside, left map[string]bool
	n                    int
}

func (o *orders) file(random *mathrand.Rand) string {
	var b strings.Builder
	for range 20 {
		id := fmt.Sprintf("o%05d", o.n)
		o.n++
		station, note := string("AB"[o.n%2]), ""
		switch random.IntN(12) {
		case 0:
			note = "drop"
			o.left[id] = true
		case 1:
			station = "X"
			o.aside[id] = true
		case 2:
			note = "stop"
			o.aside[id] = true
		default:
			o.shipped[id] = true
		}
		line := fmt.Sprintf(`{"id": %q, "group": "g%d", "station": %q, "note": %q, "lines": [1, %d]}`+"\n", id, o.n%3, station, note, o.n)
		b.WriteString(line)
		if random.IntN(10) == 0 && note == "" && station != "X" {
			b.WriteString(line) // it is left out as a repeat
		}
	}
	return b.String()
}

// TestNothingIsLostWithEveryKindOfStep: three workers do flows with every kind of step while they are killed at random
// points, connections are dropped and the database is restarted. Every message in equals those that are done and set aside;
// every table holds the truth; nothing is stuck. HOLLOWREED_CRASH says for how long, as 5m.
func TestNothingIsLostWithEveryKindOfStep(t *testing.T) {
	c := newCrash(t)
	kinds := map[string]bool{}
	for _, k := range flow.KindNames() {
		kinds[k] = true
	}
	for _, text := range loadProject {
		for k := range kinds {
			if strings.Contains(text, "step: "+k+",") || strings.Contains(text, "step: "+k+"\n") {
				delete(kinds, k)
			}
		}
	}
	require.Empty(t, kinds, "kinds of step that the load has not")

	args := []string{"--beat", "100ms", "--silence", "1s", "--rest", "50ms", "--batch", "7"}
	workers := make([]*child.Process, 3)
	for i := range workers {
		workers[i] = c.worker(args...)
	}
	random := mathrand.New(mathrand.NewPCG(uint64(time.Now().UnixNano()), 13))
	o := &orders{shipped: map[string]bool{}, aside: map[string]bool{}, left: map[string]bool{}}
	kills, drops, restarts, files := 0, 0, 0, 0
	long := crashing(t)
	for end := time.Now().Add(long); time.Now().Before(end); {
		if files < int(long.Seconds())+4 && files < 120 {
			temp := filepath.Join(c.folder, fmt.Sprintf("f%03d.tmp", files))
			require.NoError(t, os.WriteFile(temp, []byte(o.file(random)), 0o644))
			require.NoError(t, os.Rename(temp, strings.TrimSuffix(temp, ".tmp")+".orders"))
			files++
		}
		time.Sleep(time.Duration(200+random.IntN(900)) * time.Millisecond) // the random point
		switch n := random.IntN(10); {
		case n < 6:
			c.kill(workers, random.IntN(len(workers)), args...)
			kills++
		case n < 8:
			c.db.Exec(t.Context(), "select pg_terminate_backend(pid) from pg_stat_activity where datname is not null and pid <> pg_backend_pid()")
			drops++
		default:
			away := time.Duration(random.IntN(1500)) * time.Millisecond
			if restarts == 3 && long > time.Minute {
				away = time.Minute
			}
			require.NoError(t, c.server.Restart(t.Context(), away))
			restarts++
		}
		c.revive(workers, args...)
	}
	require.Positive(t, kills)
	c.settle(o, files, func() { c.revive(workers, args...) })
	t.Logf("%s: %d files with %d orders; %d workers killed, connections dropped %d times, the database restarted %d times", long, files, o.n, kills, drops, restarts)
}

// resumed lets runs go on that chance has hit so often that they were set aside, as a person does who has looked why the server
// ended at them.
func (c *crash) resumed() {
	runs, err := store.Runs(c.t.Context(), c.db, store.RunFilter{Scope: app.Demo, State: store.SetAside, Most: 500})
	if err != nil {
		return
	}
	for _, r := range runs {
		if r.Fault != nil && strings.Contains(r.Fault.What(), "the server ended") {
			c.t.Logf("%s %s is resumed: %s", r.Of, r.File, r.Fault)
			require.NoError(c.t, c.loader.Resume(c.t.Context(), r.ID))
		}
	}
}

// settle waits until all is over, and compares what there is with the truth.
func (c *crash) settle(o *orders, files int, revive func()) {
	t, ctx := c.t, c.t.Context()
	count := func(db *pgxpool.Pool, sql string) (n int) {
		if err := db.QueryRow(ctx, sql).Scan(&n); err != nil {
			return -1
		}
		return n
	}
	for end := time.Now().Add(150 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		revive()
		c.resumed()
		if count(c.db, "select count(*) from run where flow = 'orders'") == files && count(c.db, "select count(*) from run where state in ('waiting', 'running', 'retrying')") == 0 {
			break
		}
		require.True(t, time.Now().Before(end), "runs are stuck: %d of %d files are runs\n%s", count(c.db, "select count(*) from run where flow = 'orders'"), files, c.stuck())
	}
	runs, err := store.Runs(ctx, c.db, store.RunFilter{Scope: app.Demo, Flow: "orders", Most: 500})
	require.NoError(t, err)
	aside, told := map[string]bool{}, map[string]int{}
	for _, r := range runs {
		require.Contains(t, []store.State{store.Done, store.SetAside}, r.State, "%s: %v", r.File, r.Fault)
		list, err := store.Asides(ctx, c.db, r.ID, 1000)
		require.NoError(t, err)
		for _, a := range list {
			aside[strings.Split(string(a.Raw), `"`)[3]] = true
			told[a.Faults[0].What()]++
		}
	}
	require.Equal(t, o.aside, aside, "set aside: %v", told)
	shipped := c.keys(c.ledger, "select id from shipped where label like id || '/g%' and station in ('Alpha', 'Beta')")
	require.Equal(t, o.shipped, shipped, "shipped")
	require.Equal(t, o.shipped, c.keys(c.ledger, "select id from logged where id in (select id from shipped)"))
	require.Equal(t, len(o.shipped), count(c.db, "select count(*) from run where flow = 'expect' and state = 'done'"), "one run waits for each payment")
	require.Equal(t, len(o.shipped), count(c.db, "select count(*) from run where flow = 'expect'"))
	require.Equal(t, len(o.shipped), count(c.db, "select count(*) from run where flow = 'greet' and state = 'done'"))
	require.Equal(t, len(o.shipped), count(c.db, "select count(*) from correlated_message where received_by_run is not null"), "each payment was handed over once")
	require.Zero(t, count(c.db, "select count(*) from correlated_message where received_by_run is null"))
	require.Equal(t, len(o.shipped), count(c.db, "select count(distinct key) from channel_message"), "each payment is published")
	require.Equal(t, len(o.shipped), count(c.db, "select count(*) from channel_message"), "and no payment twice")
	for end := time.Now().Add(60 * time.Second); count(c.db, "select count(*) from run where flow = 'hear' and state = 'done'") < len(o.shipped); time.Sleep(200 * time.Millisecond) {
		revive()
		require.True(t, time.Now().Before(end), "messages start no runs: %d of %d", count(c.db, "select count(*) from run where flow = 'hear' and state = 'done'"), len(o.shipped))
	}
	require.Equal(t, len(o.shipped), count(c.db, "select count(distinct reference) from run where flow = 'hear'"))
	require.Equal(t, len(o.shipped), count(c.db, "select count(*) from run where flow = 'hear'"), "each message starts one run")
	booked := count(c.ledger, "select coalesce(sum(payments), 0) from booked")
	open := count(c.db, "select count(*) from aggregate_item where completed_by_run is null")
	require.Equal(t, len(o.shipped), booked+open, "each payment is in one group or waits for one")
	require.Zero(t, count(c.ledger, "select count(*) from booked where payments <> 5"))
	require.Less(t, open, 15)
	c.written(o)
}

// stuck tells of the runs that are not over, and of their jobs.
func (c *crash) stuck() string {
	rows, _ := c.db.Query(c.t.Context(), `select format('%s %s %s: claim_version %s by %s, attempt %s, next %s, fault %s; job %s, due %s, attempted %s by %s', r.flow, r.reference, r.state, r.claim_version, r.worker, r.attempt, r.next_attempt_at, r.fault->>'message',
			j.state, j.scheduled_at, j.attempted_at, j.attempted_by[array_upper(j.attempted_by, 1)])
		from run r left join river_job j on j.args->>'run' = r.id::text where r.state in ('waiting', 'running', 'retrying') order by r.created_at limit 20`)
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return strings.Join(list, "\n") + fmt.Sprint(err) + "\nnow " + time.Now().Format(time.RFC3339)
}

// written compares the files that were written with what was shipped.
func (c *crash) written(o *orders) {
	t := c.t
	got := map[string]bool{}
	paths, err := filepath.Glob(filepath.Join(c.out, "*.csv"))
	require.NoError(t, err)
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, line := range strings.Fields(string(text)) {
			require.False(t, got[line] && line != "id", "%s stands in two files, or twice", line)
			got[line] = true
		}
	}
	delete(got, "id")
	require.Equal(t, o.shipped, got)
}

// keys are the texts that a query gives.
func (c *crash) keys(db *pgxpool.Pool, sql string) map[string]bool {
	rows, err := db.Query(c.t.Context(), sql)
	require.NoError(c.t, err)
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(c.t, err)
	keys := map[string]bool{}
	for _, k := range list {
		keys[k] = true
	}
	return keys
}
