package sample

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func parse(t testing.TB, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	return s
}

const nested = `
fields:
  - {name: id, type: integer, constraints: {minimum: 10, maximum: 99}}
  - {name: price, type: decimal, constraints: {minimum: 0.05, fraction digits: 2, total digits: 5}}
  - {name: below, type: decimal, constraints: {maximum: -3}}
  - {name: sku, type: text, constraints: {pattern: "[A-Z]{2}[0-9]{3,5}(-[a-f]+)?"}}
  - {name: country, type: text, constraints: {min length: 2, max length: 2}}
  - {name: status, type: text, constraints: {codes: {open: "", void: "", paid: ""}}}
  - {name: made, type: date, constraints: {minimum: 2030-01-01, maximum: 2030-01-31}}
  - {name: at, type: timestamp}
  - {name: clock, type: time, occurs: 0..1}
  - {name: ok, type: boolean}
  - {name: raw, type: binary, occurs: 0..1}
  - {name: tags, type: text, occurs: 0..3}
  - name: line
    type: record
    occurs: 2..n
    fields:
      - {name: text, type: text, occurs: 0..1, constraints: {max length: 5}}
      - {name: qty, type: integer}
  - name: party
    type: record
    occurs: 0..1
    fields:
      - {name: mail, type: text}
`

var schemas = map[string]string{
	"json":   "schema: X\nnotation: json" + nested,
	"ndjson": "schema: X\nnotation: ndjson" + nested,
	"xml":    "schema: X\nnotation: xml\nnotation settings: {root: orders}" + nested,
	"begins": `schema: X
notation: fixedwidth
notation settings: {starts with: HD1, line end: LF}
fields:
  - {name: kind, type: text, columns: 1-2}
  - {name: no, type: text, columns: 3-6}
  - name: line
    type: record
    occurs: 1..n
    fields:
      - {name: kind, type: text, columns: 1, discriminator: L}
      - {name: qty, type: integer, columns: 2-4}
`,
	"lists": `schema: X
notation: csv
notation settings: {starts with: "H;0", header: false, delimiter: ;}
fields:
  - {name: kind, type: text}
  - {name: no, type: text}
  - name: line
    type: record
    occurs: 0..n
    starts with: L;
    fields: [{name: kind, type: text}, {name: qty, type: integer}]
`,
	"fixedwidth": `schema: X
notation: fixedwidth
notation settings: {line end: CRLF}
fields:
  - {name: code, type: text, columns: 1-4, constraints: {pattern: "[A-Z]{2}[0-9]{2}"}}
  - {name: day, type: date, columns: 5-12, pattern: yyyyMMdd}
  - {name: time, type: time, columns: 13-18, pattern: HHmmss}
  - {name: level, type: decimal, columns: 19-23, implied decimals: 1, constraints: {minimum: -500, maximum: 900}}
  - {name: surge, type: integer, columns: 24-27}
  - {name: note, type: text, columns: 28-40, occurs: 0..1}
  - {name: price, type: decimal, columns: 41-47}
`,
	"csv": `schema: X
notation: csv
notation settings: {delimiter: ";"}
fields:
  - {name: id, type: integer}
  - {name: made, type: date, pattern: dd.MM.yyyy}
  - {name: name, type: text, constraints: {min length: 3, max length: 12}}
  - {name: price, type: decimal, occurs: 0..1, constraints: {fraction digits: 3}}
`,
}

// TestASampleFitsItsSchema: whatever is made passes the check, and is the same after it was
// written in its notation and read again.
func TestASampleFitsItsSchema(t *testing.T) {
	for name, text := range schemas {
		s := parse(t, text)
		for _, kind := range Kinds {
			t.Run(fmt.Sprint(name, " ", kind), func(t *testing.T) {
				for seed := range uint64(60) {
					v, ft := Make(s, kind, seed)
					require.Nil(t, ft)
					s.Check(v, func(f *fault.Fault) { t.Fatalf("seed %d: %s", seed, f) })
					again, _ := Make(s, kind, seed)
					require.True(t, value.Equal(v, again), "one seed, one message")
					back := roundtrip(t, s, v)
					require.True(t, value.Equal(v, back), "seed %d: %s", seed, shown(t, s, v))
				}
			})
		}
	}
}

func roundtrip(t *testing.T, s *schema.Schema, v value.Value) value.Value {
	t.Helper()
	r, err := all.Of(s).NewReader(strings.NewReader(shown(t, s, v)), notation.Options{Source: "sample", Schema: s})
	require.NoError(t, err)
	back, err := r.Next()
	require.NoError(t, err, shown(t, s, v))
	return back
}

func shown(t *testing.T, s *schema.Schema, v value.Value) string {
	t.Helper()
	var b bytes.Buffer
	w, err := all.Of(s).NewWriter(&b, notation.Options{Schema: s})
	require.NoError(t, err)
	require.NoError(t, w.Write(v))
	require.NoError(t, w.Close())
	return b.String()
}

func TestTheKindsDiffer(t *testing.T) {
	s := parse(t, schemas["json"])
	least, _ := Make(s, Minimal, 1)
	typical, _ := Make(s, Typical, 1)
	full, _ := Make(s, Maximal, 1)
	require.Equal(t, value.Absent, least.Field("party").Kind())
	require.Len(t, least.Field("line").Items(), 2)
	require.NotEqual(t, value.Absent, typical.Field("party").Kind())
	require.Len(t, full.Field("line").Items(), fullOccurs)
	require.Len(t, full.Field("tags").Items(), 3)
	require.Equal(t, "99", full.Field("id").String())
	require.Equal(t, "10", least.Field("id").String())
	require.Contains(t, typical.Field("party").Field("mail").Text(), "@skerry.example")
	other, _ := Make(s, Typical, 2)
	require.False(t, value.Equal(typical, other), "another seed, another message")
}

func TestWhatCannotBeMadeIsSaid(t *testing.T) {
	for text, want := range map[string]string{
		"{name: a, type: integer, constraints: {minimum: 5, maximum: 4}}":          "/a",
		"{name: a, type: text, constraints: {pattern: '[0-9]', min length: 3}}":    "/a",
		"{name: a, type: text, occurs: 1000..n}":                                   "1000 times",
		"{name: a, type: record, fields: [{name: b, type: text, occurs: 101..n}]}": "/a/b",
	} {
		_, ft := Make(parse(t, "schema: X\nnotation: json\nfields:\n  - "+text), Typical, 1)
		require.NotNil(t, ft, text)
		require.Contains(t, ft.Error(), want)
	}
}

// TestKeysHoldInSamples: entries differ where a key asks for it, and refer to entries that are there.
func TestKeysHoldInSamples(t *testing.T) {
	s := parse(t, `schema: Crew list
notation: json
keys:
  berth: piers/berth by code
  rank: crew by rank, ship if present
  moored: crew by berth among piers/berth by code
fields:
  - name: piers
    type: record
    occurs: 1..n
    fields: [{name: berth, type: record, occurs: 1..n, fields: [{name: code, type: integer, constraints: {minimum: 1, maximum: 40}}]}]
  - name: crew
    type: record
    occurs: 2..n
    fields:
      - {name: rank, type: text, constraints: {codes: {mate: "", master: "", bosun: ""}}}
      - {name: ship, type: integer, occurs: 0..1}
      - {name: berth, type: integer, occurs: 0..1}
`)
	for _, kind := range Kinds {
		for seed := range uint64(20) {
			v, ft := Make(s, kind, seed)
			require.Nil(t, ft, "%s %d", kind, seed)
			s.Check(v, func(f *fault.Fault) { t.Errorf("%s %d: %s", kind, seed, f) })
		}
	}
	none := parse(t, `schema: X
notation: json
keys: {a: a by b}
fields: [{name: a, type: record, occurs: 3..n, fields: [{name: b, type: boolean}]}]
`)
	_, ft := Make(none, Minimal, 1)
	require.NotNil(t, ft)
	require.Contains(t, ft.Error(), "values of a that differ")
}
