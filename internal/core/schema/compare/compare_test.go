package compare

import (
	"testing"

	"github.com/stretchr/testify/require"

	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

func parse(t *testing.T, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: json\nfields:\n"+text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	return s
}

func TestEveryDifferenceIsSaidAndWhomItBreaks(t *testing.T) {
	const a = "  - {name: a, type: integer}\n"
	for _, c := range []struct {
		name, old, now string
		want           []Change
	}{
		{"nothing", a, a, nil},
		{"added, required", a, a + "  - {name: b, type: text}\n", []Change{{Path: "b", Kind: Added, What: "text", Writers: true}}},
		{"added, optional", a, a + "  - {name: b, type: text, occurs: 0..1}\n", []Change{{Path: "b", Kind: Added, What: "text 0..1"}}},
		{"removed", a + "  - {name: zz, type: text}\n", a, []Change{{Path: "zz", Kind: Removed, What: "text", Readers: true, Writers: true}}},
		{
			"renamed", "  - {name: order_number, type: text}\n", "  - {name: orderNumber, type: text}\n",
			[]Change{{Path: "orderNumber", Kind: Renamed, Was: "order_number", What: "order_number → orderNumber", Readers: true, Writers: true}},
		},
		{
			"a record renamed and changed", "  - {name: x, type: record, fields: [{name: p, type: text}, {name: q, type: integer}, {name: r, type: text}]}\n",
			"  - {name: party, type: record, fields: [{name: p, type: text}, {name: q, type: decimal}, {name: r, type: text}]}\n",
			[]Change{{Path: "party", Kind: Renamed, Was: "x", What: "x → party", Readers: true, Writers: true}, {Path: "party/q", Kind: Widened, What: "type integer → decimal", Readers: true}},
		},
		{"type wider", a, "  - {name: a, type: decimal}\n", []Change{{Path: "a", Kind: Widened, What: "type integer → decimal", Readers: true}}},
		{"type narrower", "  - {name: a, type: text}\n", "  - {name: a, type: date}\n", []Change{{Path: "a", Kind: Narrowed, What: "type text → date", Writers: true}}},
		{"a number is no text where it stands without quotes", a, "  - {name: a, type: text}\n", []Change{{Path: "a", Kind: Changed, What: "type integer → text", Readers: true, Writers: true}}},
		{"another type", "  - {name: a, type: date}\n", a, []Change{{Path: "a", Kind: Changed, What: "type date → integer", Readers: true, Writers: true}}},
		{"optional now", a, "  - {name: a, type: integer, occurs: 0..1}\n", []Change{{Path: "a", Kind: Widened, What: "occurs 1 → 0..1", Readers: true}}},
		{"a list now", a, "  - {name: a, type: integer, occurs: 1..n}\n", []Change{{Path: "a", Kind: Changed, What: "occurs 1 → 1..n", Readers: true, Writers: true}}},
		{"more often", "  - {name: a, type: integer, occurs: 1..3}\n", "  - {name: a, type: integer, occurs: 1..n}\n", []Change{{Path: "a", Kind: Widened, What: "occurs 1..3 → 1..n", Readers: true}}},
		{"null", a, "  - {name: a, type: integer, nullable: true}\n", []Change{{Path: "a", Kind: Widened, What: "null allowed no → yes", Readers: true}}},
		{
			"bounds", "  - {name: a, type: integer, constraints: {minimum: 1, maximum: 9}}\n", "  - {name: a, type: integer, constraints: {minimum: 0, maximum: 5}}\n",
			[]Change{{Path: "a", Kind: Widened, What: "minimum 1 → 0", Readers: true}, {Path: "a", Kind: Narrowed, What: "maximum 9 → 5", Writers: true}},
		},
		{"bounds gone", "  - {name: a, type: integer, constraints: {minimum: 1}}\n", a, []Change{{Path: "a", Kind: Widened, What: "minimum 1 → any", Readers: true}}},
		{
			"lengths", "  - {name: a, type: text, constraints: {max length: 9}}\n", "  - {name: a, type: text, constraints: {min length: 2, max length: 12}}\n",
			[]Change{{Path: "a", Kind: Narrowed, What: "min length any → 2", Writers: true}, {Path: "a", Kind: Widened, What: "max length 9 → 12", Readers: true}},
		},
		{"places", "  - {name: a, type: decimal}\n", "  - {name: a, type: decimal, constraints: {fraction digits: 0}}\n", []Change{{Path: "a", Kind: Narrowed, What: "decimal places any → 0", Writers: true}}},
		{
			"pattern", "  - {name: a, type: text, constraints: {pattern: a}}\n", "  - {name: a, type: text, constraints: {pattern: b}}\n",
			[]Change{{Path: "a", Kind: Changed, What: "pattern a → b", Readers: true, Writers: true}},
		},
		{
			"codes", "  - {name: a, type: text, constraints: {codes: {R: r, F: f}}}\n", "  - {name: a, type: text, constraints: {codes: {R: r, S: s}}}\n",
			[]Change{{Path: "a", Kind: Widened, What: "codes added: S", Readers: true}, {Path: "a", Kind: Narrowed, What: "codes removed: F", Writers: true}},
		},
		{
			"date pattern", "  - {name: a, type: date}\n", "  - {name: a, type: date, pattern: yyyyMMdd}\n",
			[]Change{{Path: "a", Kind: Moved, What: "written plainly → yyyyMMdd", Readers: true, Writers: true, Notation: true}},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.want, Schemas(parse(t, c.old), parse(t, c.now)))
		})
	}
}

// TestTheWayBackIsTheOpposite: what is wider one way is narrower the other, and who is broken changes sides.
func TestTheWayBackIsTheOpposite(t *testing.T) {
	old := parse(t, "  - {name: a, type: integer, occurs: 0..1, constraints: {minimum: 1}}\n  - {name: b, type: text, constraints: {codes: {A: a, B: b}}}\n")
	now := parse(t, "  - {name: a, type: decimal, occurs: 0..1}\n  - {name: b, type: text, constraints: {codes: {A: a, B: b, C: c}}}\n")
	there, back := Schemas(old, now), Schemas(now, old)
	require.Len(t, there, 3)
	require.Len(t, back, 3)
	for i := range there {
		require.Equal(t, Widened, there[i].Kind)
		require.Equal(t, Narrowed, back[i].Kind)
		require.Equal(t, there[i].Readers, back[i].Writers)
		require.Equal(t, there[i].Writers, back[i].Readers)
	}
}

// TestInTextsANumberIsAText: where values have no types of their own, a text can be anything.
func TestInTextsANumberIsAText(t *testing.T) {
	for _, notation := range []string{"csv", "xml"} {
		of := func(kind string) *schema.Schema {
			d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: "+notation+"\nfields:\n  - {name: a, type: "+kind+"}\n"))
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults)
			return s
		}
		require.Equal(t, []Change{{Path: "a", Kind: Widened, What: "type boolean → text", Readers: true}}, Schemas(of("boolean"), of("text")))
		require.Equal(t, []Change{{Path: "a", Kind: Narrowed, What: "type text → decimal", Writers: true}}, Schemas(of("text"), of("decimal")))
	}
}
