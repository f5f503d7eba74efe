package engine

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// counter is an outside that answers the number of the call and breaks off at one of them.
type counter struct {
	running.Systems
	calls  int
	breaks int
}

func (c *counter) Call(_ context.Context, call running.Call, requests []value.Value) ([]running.Response, error) {
	done := make([]running.Response, len(requests))
	for i, r := range requests {
		if c.calls == c.breaks {
			c.breaks = -1
			return nil, errors.New("gone")
		}
		c.calls++
		done[i].Answer = value.NewRecord(call.Op.Response.Root.Layout(), []value.Value{value.Int(int64(c.calls)), r})
		if r.Text() == "refused" {
			done[i] = running.Response{Fault: fault.New(fault.Outside, "no")}
		}
		if err := call.Done(i, done[i:i+1]); err != nil {
			return nil, err
		}
	}
	return done, nil
}

// TestAnEffectIsNotRepeated: what was answered before an outage is not asked again, record by record, though all
// records stand on one line; what was refused is.
func TestAnEffectIsNotRepeated(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	e := w.start(Options{})
	releases, err := store.NewestReleases(t.Context(), w.db, "skerry")
	require.NoError(t, err)
	run := store.Run{ID: uuid.New(), Scope: testkit.Skerry, Flow: flowID, Release: releases[0].Number, File: "x", Reference: "x", StartedBy: "mo"}
	require.NoError(t, pgx.BeginFunc(t.Context(), w.db, func(tx pgx.Tx) error { return store.AddRun(t.Context(), tx, run, spool.Of([]byte("x"))) }))
	out := &counter{breaks: 2}
	op := &connection.Operation{Kind: &connection.OperationKind{Effect: true}, Response: &schema.Schema{ID: "answer", Notation: json.Kind.Notation, Root: schema.Record("answer", schema.Scalar("n", value.Integer), schema.Scalar("of", value.Text))}}
	var items []*running.Item
	var requests []value.Value
	for i, text := range []string{"a", "refused", "c", "d"} {
		items = append(items, &running.Item{Record: i, Place: fault.Place{Line: 1}})
		requests = append(requests, value.NewText(text))
	}
	call := running.Call{Op: op, Step: "post", Items: items}
	run.ClaimVersion = 1
	_, err = (&effectGuard{Systems: out, db: e.db, run: &run}).Call(t.Context(), call, requests)
	require.ErrorContains(t, err, "gone")
	run.ClaimVersion = 2
	done, err := (&effectGuard{Systems: out, db: e.db, run: &run}).Call(t.Context(), call, requests)
	require.NoError(t, err)
	require.Equal(t, "1", done[0].Answer.Field("n").String(), "the answer from before the outage")
	require.Equal(t, "a", done[0].Answer.Field("of").String())
	require.NotNil(t, done[1].Fault)
	require.Equal(t, "c", done[2].Answer.Field("of").String())
	require.Equal(t, 5, out.calls, "two before the outage, three after it")
	run.ClaimVersion = 3
	_, err = (&effectGuard{Systems: out, db: e.db, run: &run}).Call(t.Context(), call, requests)
	require.NoError(t, err)
	require.Equal(t, 6, out.calls, "only what was refused is asked again")
}

// TestReadingIsCalledAnywhere: two queries in a row for each record of a flow that reads its message already; one record, the
// first or all; what gives more than one where one is wanted sets its record aside.
func TestReadingIsCalledAnywhere(t *testing.T) {
	t.Parallel()
	w, _, _ := crated(t)
	w.settings["second"] = w.settings["harbour-ledger"]
	_, err := w.ledger.Exec(t.Context(), "create table berth (port text, name text, depth int); insert into berth values ('LC', 'North', 7), ('LC', 'South', 5), ('OR', 'Main', 6)")
	require.NoError(t, err)
	w.add("berths", map[string]string{
		"connections/second.yaml": "connection: Second\nkind: sql\noperations:\n  - {operation: berths, name: Berths, kind: query, request: port, response: berth, statement: \"select name, depth from berth where port = :port order by depth desc\"}\n",
		"schemas/port.yaml":       "schema: Port\nnotation: json\nfields:\n  - {name: port, type: text}\n",
		"schemas/berth.yaml":      "schema: Berth\nnotation: rows\nfields:\n  - {name: name, type: text}\n  - {name: depth, type: integer}\n",
		"schemas/load.yaml":       "schema: Load\nnotation: json\nfields:\n  - {name: crates, type: record, of: crate, occurs: 0..n}\n",
		"flows/berths.yaml": `flow: Berths
trigger: {kind: person, input: load}
steps:
  - step: each
    id: each
    of: input.crates
    as: crate
    steps:
      - {step: call, id: first, connection: second, operation: berths, with: {port: crate.to}, as: deepest, records: the first record, none: go on}
      - {step: call, id: all, connection: second, operation: berths, with: {port: crate.to}, as: berths, records: "all, as a list"}
      - {step: note, id: n, text: 'coalesce(deepest.name, "none") + " " + join(map(berths, .name), ",")'}
      - {step: call, id: one, connection: second, operation: berths, with: {port: crate.to}, as: only, none: go on}
`,
	})
	r := w.begun("berths", []byte(`{"crates": [{"n": 1, "to": "LC", "what": "a"}, {"n": 2, "to": "OR", "what": "b"}, {"n": 3, "to": "HV", "what": "c"}]}`))
	require.Equal(t, store.SetAside, r.State, "%v", r.Fault)
	entry, err := journal.Of(t.Context(), w.engine.db, r.ID, running.WholeRun)
	require.NoError(t, err)
	require.Equal(t, "North North,South", entry.Inner[0].Notes[0].Message)
	require.Equal(t, "Main Main", entry.Inner[1].Notes[0].Message)
	require.Equal(t, "none ", entry.Inner[2].Notes[0].Message)
	require.Equal(t, "expected one record of Berths, found several. Choose the first record, or all as a list", strings.TrimPrefix(entry.Inner[0].Faults[0].What(), "Call an operation: "))
	require.Empty(t, entry.Inner[1].Faults)
	require.Zero(t, r.Counts["first"].Called, "reading changes nothing")
}

// TestOddValuesOfADatabaseAreTheirRecordsFault: what a type cannot hold sets its record aside with column and value, and the
// run goes on; null is no fault of a column that may have it.
func TestOddValuesOfADatabaseAreTheirRecordsFault(t *testing.T) {
	t.Parallel()
	w, _, _ := crated(t)
	w.settings["second"] = w.settings["harbour-ledger"]
	_, err := w.ledger.Exec(t.Context(), `create table odd (id int primary key, amount numeric, until date, at timestamptz, span int4range, list int[], wait interval, f float8);
		insert into odd values (1, 1.5, '2031-01-01', now(), '[1,3)', '{1,2}', '1 day', 2), (2, 'NaN', '2031-01-01', now(), null, null, null, null),
			(3, 1, 'infinity', now(), null, null, null, null), (4, 1, '0044-03-15 BC', '-infinity', null, null, null, null), (5, null, null, null, null, null, null, 'Infinity'), (6, 2, null, null, null, null, null, null)`)
	require.NoError(t, err)
	tables, err := w.engine.outside.Of(testkit.Skerry).Tables(t.Context(), "second")
	require.NoError(t, err)
	s, _, err := tables.Describe(t.Context(), "odd", "odd", 10)
	require.NoError(t, err)
	w.add("odd", map[string]string{
		"connections/second.yaml": "connection: Second\nkind: sql\noperations:\n  - {operation: all, name: All, kind: query, response: odd, statement: \"select * from odd order by id\"}\n",
		"schemas/odd.yaml":        string(schema.Write(s)),
		"flows/odd.yaml":          "flow: Odd\ntrigger: {kind: person}\nsteps:\n  - {step: read, id: read, connection: second, operation: all, as: odd}\n  - step: each\n    id: each\n    of: odd\n    steps:\n      - {step: note, id: n, text: 'coalesce(odd.span, \"none\")'}\n",
	})
	r := w.begun("odd", nil)
	require.Equal(t, store.SetAside, r.State, "%v", r.Fault)
	require.Equal(t, 6, r.RecordsRead)
	told := map[int][]string{}
	for _, a := range w.openAsides(r.ID) {
		for _, f := range a.Faults {
			told[a.Record+1] = append(told[a.Record+1], f.What())
		}
	}
	require.Len(t, told, 4, "%v", told)
	for record, want := range map[int][]string{2: {"amount", `"NaN"`}, 3: {"until", `"infinity"`}, 4: {"until", "outside of the years"}, 5: {"f:", `"Infinity"`}} {
		for _, text := range append(want, "convert it in the operation") {
			require.Contains(t, strings.Join(told[record], " | "), text)
		}
	}
}
