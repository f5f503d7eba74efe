package contract

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const database = `
connection: Ledger
kind: sql
operations:
  - {operation: above, kind: query, request: ask, response: crane, statement: "select * from crane where lift_t >= :least and (:name is null or name <> ':name') and name <> coalesce(:name, '') order by id"}
  - {operation: add, kind: insert, request: crane, table: crane}
  - {operation: change, kind: update, request: crane, table: crane, key: id}
  - {operation: keep, kind: upsert, request: crane, table: crane, key: id}
  - {operation: remove, kind: delete, request: ask-id, table: crane, key: id}
  - {operation: paint, kind: run, request: ask-id, statement: "update crane set name = concat(name, ' (red)') where id = :id"}
  - {operation: twice, kind: call, request: ask-id, response: answer, function: twice, parameters: id}
  - {operation: wrong, kind: query, request: ask-id, response: crane, statement: "select * from crane where id = :other"}
`

const crane = `
schema: Crane
notation: rows
fields:
  - {name: id, type: integer}
  - {name: name, type: text}
  - {name: lift_t, type: decimal, occurs: 0..1, nullable: true}
  - {name: built, type: date, occurs: 0..1, nullable: true}
  - {name: seen, type: timestamp, occurs: 0..1, nullable: true}
`

// SQL is what every engine of databases must keep. The database has a table crane(id primary key, name not null
// with a check that it is not 'ghost', lift_t, built, seen), which is empty, and a function twice(id).
func SQL(t *testing.T, s system.System) {
	one := func(id, text string) *schema.Schema { return Schema(t, id, text) }
	c := Part(t, database, one("crane", crane), one("ask", "schema: Ask\nnotation: json\nfields:\n  - {name: least, type: decimal}\n  - {name: name, type: text, occurs: 0..1}\n"),
		one("ask-id", "schema: Id\nnotation: json\nfields:\n  - {name: id, type: integer}\n"), one("answer", "schema: Answer\nnotation: json\nfields:\n  - {name: answer, type: integer}\n"))
	caller, reader, tables, batcher := s.(system.Caller), s.(system.Reader), s.(system.Tables), s.(system.Batcher)
	call := func(op, asked string) (string, error) {
		v, err := caller.Call(t.Context(), Request(t, c, op, asked))
		return json.Text(v), err
	}
	well, told := Probe(t, s)
	require.True(t, well, told)
	require.NoError(t, s.Check(t.Context()))

	evil := `{"id": 1, "name": "O'Neil; drop table crane; -- :id", "lift_t": 12.50, "built": "1998-02-28", "seen": "2031-03-09T07:30:00.25Z"}`
	got, err := call("add", evil)
	require.NoError(t, err)
	require.JSONEq(t, `{"rows": 1}`, got)
	for _, row := range []string{`{"id": 2, "name": "two", "lift_t": 0.10}`, `{"id": 3, "name": "three", "lift_t": 99999999.99}`, `{"id": 4, "name": "four"}`} {
		_, err := call("add", row)
		require.NoError(t, err)
	}
	list := All(t, reader, Request(t, c, "above", `{"least": 0.10}`))
	require.Len(t, list, 3)
	require.JSONEq(t, evil, json.Text(list[0]), "every value is as it was, and texts are no statements")
	require.Equal(t, "99999999.99", list[2].Field("lift_t").String())
	require.Len(t, All(t, reader, Request(t, c, "above", `{"least": 0, "name": "two"}`)), 2)

	var f *fault.Fault
	_, err = call("add", `{"id": 1, "name": "again"}`)
	require.ErrorAs(t, err, &f)
	require.Equal(t, fault.Outside, f.Code)
	got, err = call("change", `{"id": 2, "name": "deux", "lift_t": 0.10}`)
	require.NoError(t, err)
	require.JSONEq(t, `{"rows": 1}`, got)
	got, err = call("keep", `{"id": 2, "name": "deux", "lift_t": 0.10}`)
	require.NoError(t, err)
	require.JSONEq(t, `{"rows": 0}`, got, "a row that is as it should be is not touched")
	got, err = call("paint", `{"id": 2}`)
	require.NoError(t, err)
	require.JSONEq(t, `{"rows": 1}`, got)
	got, err = call("twice", `{"id": 21}`)
	require.NoError(t, err)
	require.JSONEq(t, `{"answer": 42}`, got)
	got, err = call("remove", `{"id": 4}`)
	require.NoError(t, err)
	require.JSONEq(t, `{"rows": 1}`, got)
	_, err = Some(reader, t, Request(t, c, "wrong", `{"id": 1}`))
	require.ErrorContains(t, err, "the request has no such field")

	together(t, batcher, c)
	lookups(t, tables, c.Operation("add"))
	shape, rows, err := tables.Describe(t.Context(), "found", "crane", 2)
	require.NoError(t, err)
	require.Equal(t, []string{"id", "name", "lift_t", "built"}, shape.Root.Layout().Names[:4])
	require.Equal(t, value.Decimal, shape.Root.Field("lift_t").Kind)
	require.Equal(t, 2, shape.Root.Field("lift_t").Constraints.FractionDigits)
	require.Len(t, rows, 2)
	shape, _, err = tables.Describe(t.Context(), "found", "select id, name from crane where id > :id", 0)
	require.NoError(t, err)
	require.Len(t, shape.Root.Fields, 2)
	_, _, err = tables.Describe(t.Context(), "found", "select nonsense from nowhere", 0)
	require.ErrorAs(t, err, &f)
	u := running.Upsert{Table: "crane", Key: []string{"id"}, Row: c.Operation("add").Request}
	faults, err := tables.CheckUpsert(t.Context(), u)
	require.NoError(t, err)
	require.Empty(t, faults)
	u.Row = &schema.Schema{Root: schema.Record("crane", schema.Scalar("id", value.Integer), schema.Scalar("colour", value.Text))}
	faults, err = tables.CheckUpsert(t.Context(), u)
	require.NoError(t, err)
	require.ErrorContains(t, faults, `the table crane has no column "colour". It has id, name`)
	u.Table = "nowhere"
	faults, err = tables.CheckUpsert(t.Context(), u)
	require.NoError(t, err)
	require.Len(t, faults, 1)
	offers, err := s.(system.CatalogueReader).Catalogue(t.Context(), "cra")
	require.NoError(t, err)
	require.Len(t, offers, 1)
	require.Equal(t, "table", offers[0].Kind)
}

// together: many requests in one transaction; one that is refused harms no other.
func together(t *testing.T, b system.Batcher, c *connection.Connection) {
	t.Helper()
	var requests []system.Request
	for _, row := range []string{`{"id": 11, "name": "a"}`, `{"id": 12, "name": "ghost"}`, `{"id": 13, "name": "c"}`} {
		requests = append(requests, Request(t, c, "add", row))
	}
	done, ok, err := b.CallAll(t.Context(), requests)
	require.NoError(t, err)
	require.True(t, ok)
	require.Nil(t, done[0].Fault)
	require.NotNil(t, done[1].Fault)
	require.Nil(t, done[2].Fault)
	require.JSONEq(t, `{"rows": 1}`, json.Text(done[2].Answer))
}

func lookups(t *testing.T, tables system.Tables, add *connection.Operation) {
	t.Helper()
	row := func(id int64, name string) value.Value {
		return value.NewRecord(add.Request.Root.Layout(), []value.Value{value.Int(id), value.NewText(name), value.NullValue, value.NullValue, value.NullValue})
	}
	u := running.Upsert{Table: "crane", Key: []string{"id"}, Row: add.Request}
	done, err := tables.Upsert(t.Context(), u, []value.Value{row(13, "c"), row(13, "cc"), row(14, "d"), row(15, "ghost")})
	require.NoError(t, err)
	require.Equal(t, []running.Effect{running.Unchanged, running.Updated, running.Inserted}, []running.Effect{done[0].Effect, done[1].Effect, done[2].Effect})
	require.NotNil(t, done[3].Fault)
	found, err := tables.Lookup(t.Context(), running.Lookup{Table: "crane", Columns: []string{"name"}, Row: add.Request}, [][]value.Value{{value.NewText("cc")}, {value.NewText("nobody")}, {value.NewText("cc")}})
	require.NoError(t, err)
	require.Equal(t, "13", found[0].Field("id").String())
	require.Equal(t, value.Absent, found[1].Kind())
	require.Equal(t, "13", found[2].Field("id").String())
}

const berths = `
connection: Ledger
kind: sql
operations:
  - {operation: add, kind: insert, request: berth, table: berth}
  - {operation: change, kind: update, request: berth, table: berth, key: id}
  - {operation: keep, kind: upsert, request: berth, table: berth, key: id}
  - {operation: all, kind: query, response: berth, statement: "select * from berth order by id"}
`

const berth = `
schema: Berth
notation: rows
fields:
  - {name: id, type: integer}
  - {name: name, type: text, occurs: 0..1, nullable: true}
  - {name: until, type: date, occurs: 0..1, nullable: true}
`

// Absent is what every engine of databases must keep of what is absent: an insert leaves it to the default, an update lets it
// be, and null is written as null. The database has an empty table berth(id primary key, name default 'unnamed', until default
// '2030-01-01').
func Absent(t *testing.T, s system.System) {
	c := Part(t, berths, Schema(t, "berth", berth))
	call := func(op, json string) {
		t.Helper()
		_, err := s.(system.Caller).Call(t.Context(), Request(t, c, op, json))
		require.NoError(t, err)
	}
	all := func() (rows []string) {
		t.Helper()
		for v, err := range s.(system.Reader).Read(t.Context(), system.Request{Op: c.Operation("all")}) {
			require.NoError(t, err)
			rows = append(rows, json.Text(v))
		}
		return rows
	}
	call("add", `{"id": 1}`)
	call("keep", `{"id": 2}`)
	call("add", `{"id": 3, "name": null, "until": "2031-05-05"}`)
	require.Equal(t, []string{`{"id":1,"name":"unnamed","until":"2030-01-01"}`, `{"id":2,"name":"unnamed","until":"2030-01-01"}`, `{"id":3,"name":null,"until":"2031-05-05"}`}, all())
	call("keep", `{"id": 2, "name": "North"}`)
	call("change", `{"id": 1, "until": null}`)
	require.Equal(t, []string{`{"id":1,"name":"unnamed","until":null}`, `{"id":2,"name":"North","until":"2030-01-01"}`, `{"id":3,"name":null,"until":"2031-05-05"}`}, all())
	_, err := s.(system.Caller).Call(t.Context(), Request(t, c, "change", `{"id": 1}`))
	require.ErrorContains(t, err, "nothing is to be changed")

	shape := c.Operation("keep").Request.Root.Layout()
	row := func(id int64, name, until value.Value) value.Value {
		return value.NewRecord(shape, []value.Value{value.Int(id), name, until})
	}
	rows := []value.Value{
		row(1, value.NewText("one"), value.Value{}), row(2, value.Value{}, value.NullValue), row(4, value.Value{}, value.Value{}), row(1, value.Value{}, value.DateOf(2032, 1, 1)),
		value.NewRecord(shape, []value.Value{{}, value.NewText("nobody"), {}}), row(3, value.Value{}, value.Value{}),
	}
	done, err := s.(system.Tables).Upsert(t.Context(), running.Upsert{Table: "berth", Key: []string{"id"}, Row: c.Operation("keep").Request}, rows)
	require.NoError(t, err)
	require.Equal(t, "expected a value for the key column id, found absent. Give it a rule that always yields a value", done[4].Fault.What())
	effects := []running.Effect{}
	for _, d := range done {
		effects = append(effects, d.Effect)
	}
	require.Equal(t, []running.Effect{running.Updated, running.Updated, running.Inserted, running.Updated, "", running.Unchanged}, effects)
	require.Equal(t, []string{`{"id":1,"name":"one","until":"2032-01-01"}`, `{"id":2,"name":"North","until":null}`, `{"id":3,"name":null,"until":"2031-05-05"}`, `{"id":4,"name":"unnamed","until":"2030-01-01"}`}, all())
}
