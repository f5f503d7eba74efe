package sql

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/testdb"
)

func TestTheContractOfDatabases(t *testing.T) {
	address := testdb.New(t)
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), `create table crane (id int primary key, name varchar(60) not null check (name <> 'ghost'), lift_t numeric(10, 2), built date, seen timestamptz);
		create function twice(n bigint) returns bigint language sql as 'select 2 * n'`)
	require.NoError(t, err)
	s, err := OpenSystem(contract.Env("sql", map[string]string{"by": "address", "address": address, "timeout": "10"}))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	contract.SQL(t, s)
	_, err = conn.Exec(t.Context(), "create table berth (id int primary key, name text default 'unnamed', until date default '2030-01-01')")
	require.NoError(t, err)
	contract.Absent(t, s)
}

// TestManyRowsAreCopied: what goes by way of a temporary table comes out as what goes as parameters.
func TestManyRowsAreCopied(t *testing.T) {
	address := testdb.New(t)
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), `create table parcel (id int primary key, note text check (note <> 'ghost'), raw bytea, at timestamptz, weight numeric(9, 3), paid boolean)`)
	require.NoError(t, err)
	db, err := Open(address)
	require.NoError(t, err)
	t.Cleanup(db.Close)
	s := contract.Schema(t, "parcel", "schema: Parcel\nnotation: rows\nfields:\n  - {name: id, type: integer}\n  - {name: note, type: text, occurs: 0..1, nullable: true}\n  - {name: raw, type: binary, occurs: 0..1}\n  - {name: at, type: timestamp, occurs: 0..1}\n  - {name: weight, type: decimal, occurs: 0..1}\n  - {name: paid, type: boolean, occurs: 0..1}\n")
	notes := []string{"plain", "tab\tline\nreturn\rback\\slash", `\N`, `\.`, "", "æøå ✓"}
	rows := make([]value.Value, copyFrom+len(notes))
	for i := range rows {
		note := value.NewText(notes[i%len(notes)])
		if i%7 == 0 {
			note = value.NullValue
		}
		rows[i] = value.NewRecord(s.Root.Layout(), []value.Value{value.Int(int64(i)), note, value.Bytes("\x00\\x\n"), value.Instant(time.Unix(int64(i), 0).UTC()), value.NewDecimal(int64(i), -3), value.Bool(i%2 == 0)})
	}
	u := running.Upsert{Table: "parcel", Key: []string{"id"}, Row: s}
	done, err := db.Upsert(t.Context(), u, rows)
	require.NoError(t, err)
	for i := range done {
		require.Equal(t, running.Inserted, done[i].Effect)
	}
	keys := make([][]value.Value, len(rows))
	for i := range keys {
		keys[i] = []value.Value{value.Int(int64(i))}
	}
	found, err := db.Lookup(t.Context(), running.Lookup{Table: "parcel", Columns: []string{"id"}, Row: s}, keys)
	require.NoError(t, err)
	for i := range rows {
		require.True(t, value.Equal(rows[i], found[i]), "%s and %s", json.Text(rows[i]), json.Text(found[i]))
	}
	rows[3].Record().Fields[1] = value.NewText("changed")
	rows[5].Record().Fields[1] = value.NewText("ghost")
	done, err = db.Upsert(t.Context(), u, rows)
	require.NoError(t, err)
	require.Equal(t, running.Updated, done[3].Effect)
	require.Equal(t, running.Unchanged, done[4].Effect)
	require.NotNil(t, done[5].Fault, "one that is refused is told apart")
}
