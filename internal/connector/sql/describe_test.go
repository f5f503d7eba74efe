package sql

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

func TestATableIsDescribedByTheDatabase(t *testing.T) {
	db, conn, _ := open(t)
	_, err := conn.Exec(t.Context(), `insert into "Odd Table" values (1, 'a', 1.50, true, '2031-03-09', '06:12', '2031-03-09 06:12:00+01', '\x00ff', null), (2, 'b', 2, null, null, null, null, null, 'x')`)
	require.NoError(t, err)
	s, rows, err := db.Describe(t.Context(), "row", "Odd Table", 10)
	require.NoError(t, err)
	require.Equal(t, `schema: row
notation: rows
fields:
  - name: id
    type: integer
  - name: code
    type: text
  - name: amount
    type: decimal
  - name: flag
    type: boolean
    occurs: 0..1
    nullable: true
  - name: day
    type: date
    occurs: 0..1
    nullable: true
  - name: clock
    type: time
    occurs: 0..1
    nullable: true
  - name: at
    type: timestamp
    occurs: 0..1
    nullable: true
  - name: raw
    type: binary
    occurs: 0..1
    nullable: true
  - name: odd " name
    type: text
    occurs: 0..1
    nullable: true
`, string(schema.Write(s)))
	require.Len(t, rows, 2)
	require.Equal(t, "2031-03-09T05:12:00Z", rows[0].Field("at").String())
	for _, r := range rows {
		s.Check(r, func(f *fault.Fault) { t.Errorf("%s", f) })
	}
}

func TestAQueryIsDescribedWithoutBeingRun(t *testing.T) {
	db, _, _ := open(t)
	s, rows, err := db.Describe(t.Context(), "q", "select code, sum(amount)::numeric(9,2) as total, 'x'::varchar(7) as unit, now()::timestamp as at from \"Odd Table\" group by code;\n", 10)
	require.NoError(t, err)
	require.Empty(t, rows)
	text := string(schema.Write(s))
	require.Contains(t, text, "digits: 9\n      fraction digits: 2")
	require.Contains(t, text, "max length: 7")
	require.Contains(t, text, "type: local timestamp")
	for query, want := range map[string]string{
		"select 1 as a, 2 as a":              "two columns are called a",
		"select nothing from nowhere":        `relation "nowhere" does not exist`,
		"none":                               `relation "none" does not exist`,
		"":                                   "name a table",
		"select 1; drop table \"Odd Table\"": "cannot insert multiple commands",
		"with x as (delete from \"Odd Table\" returning id) select id from x": "data-modifying statement",
	} {
		_, _, err := db.Describe(t.Context(), "q", query, 10)
		require.Error(t, err, query)
		require.Contains(t, err.Error(), want)
	}
}

// TestWhatIsDescribedOwnsItsData: the schema that a table or a query gives reads its rows, with null wherever it can come; and
// what is made of it is taken by the database and read back.
func TestWhatIsDescribedOwnsItsData(t *testing.T) {
	db, conn, _ := open(t)
	_, err := conn.Exec(t.Context(), `insert into "Odd Table" (id, code, amount, flag, day) values (1, 'a', 1.50, true, '2031-03-09'), (2, 'b', 2, null, null)`)
	require.NoError(t, err)
	for _, source := range []string{"Odd Table", `select id, code, amount, flag, day, clock, at, raw from "Odd Table" order by id`} {
		s, rows, err := db.Describe(t.Context(), "row", source, 10)
		require.NoError(t, err)
		for _, r := range rows {
			s.Check(r, func(f *fault.Fault) { t.Errorf("%s: %s", source, f) })
		}
	}
	s, _, err := db.Describe(t.Context(), "row", "Odd Table", 0)
	require.NoError(t, err)
	for seed := range uint64(8) {
		for _, kind := range []sample.Kind{sample.Typical, sample.Minimal, sample.Maximal} {
			made, ft := sample.Make(s, kind, seed)
			require.Nil(t, ft)
			s.Check(made, func(f *fault.Fault) { t.Errorf("%s", f) })
			done, err := db.Upsert(t.Context(), running.Upsert{Table: "Odd Table", Key: []string{"id"}, Row: s}, []value.Value{made})
			require.NoError(t, err)
			require.Nil(t, done[0].Fault, "%v %s", made, kind)
		}
	}
	_, rows, err := db.Describe(t.Context(), "row", "Odd Table", 100)
	require.NoError(t, err)
	require.Greater(t, len(rows), 5)
	for _, r := range rows {
		s.Check(r, func(f *fault.Fault) { t.Errorf("%s", f) })
	}
}
