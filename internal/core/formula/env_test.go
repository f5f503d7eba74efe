package formula

import (
	"testing"

	"github.com/stretchr/testify/require"

	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/script"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

// exampleEnv is what the examples of the catalogue can use.
func exampleEnv(t testing.TB) Env {
	t.Helper()
	d := partfile.Parse("islands.yaml", []byte("table: Islands\ncolumns:\n  - {name: code, key: true}\n  - {name: name}\n  - {name: zone, type: integer}\nnone: default\ndefault: [elsewhere, 9]\nrows:\n  - [OR, Orma, 1]\n  - [LI, Ling, 2]\n"))
	islands := table.Parse("islands", d)
	require.Empty(t, d.Faults)
	twice, ft := script.New("return x * 2", []string{"x"}, nil)
	require.Nil(t, ft)
	text, number := []value.Kind{value.Text}, []value.Kind{value.Decimal}
	return Env{Tables: map[string]*table.Table{"islands": islands}, Libraries: map[string]*Library{
		"freight": {ID: "freight", Functions: []*Custom{
			{Name: "plate", About: "A plate.", Params: []Param{{Name: "raw", Kinds: text}}, Result: value.Text, Formula: `upper(replace(raw, " ", ""))`},
			{Name: "island", Params: []Param{{Name: "code"}}, Formula: `table("islands", code).name`},
			{Name: "fare", Params: []Param{{Name: "base", Kinds: number}, {Name: "zone", Kinds: number}}, Result: value.Decimal, Formula: `round(base * zone / (zone - 9), 2)`},
			{Name: "both", Params: []Param{{Name: "a"}, {Name: "b"}}, Formula: `freight.plate(a) + freight.plate(b)`},
			{Name: "round1", Params: []Param{{Name: "a"}}, Formula: `freight.round2(a)`},
			{Name: "round2", Params: []Param{{Name: "a"}}, Formula: `freight.round1(a)`},
			{Name: "twice", Params: []Param{{Name: "x", Kinds: number}}, Result: value.Decimal, Script: twice},
			{Name: "broken", Formula: `1 +`},
			{Name: "wrong", Result: value.Integer, Formula: `"a"`},
		}},
	}}
}

func TestTablesAndLibraries(t *testing.T) {
	env := exampleEnv(t)
	for source, want := range map[string]string{
		`table("islands", "LI").zone + 1`:                                "3",
		`inTable("islands", "XX") ? 1 : 0`:                               "0",
		`freight.plate("sk 401 17")`:                                     "SK40117",
		`join(map(["a b", "c d"], freight.plate(#)), "-")`:               "AB-CD",
		`freight.both(freight.both("a", "b"), freight.plate("c d"))`:     "ABCD",
		`freight.island("OR") + freight.island("??")`:                    "Ormaelsewhere",
		`freight.fare(12, 3)`:                                            "-6.00",
		`text(freight.twice(4.25)) + freight.plate("x")`:                 "8.5X",
		`isMissing(freight.plate(nil))`:                                  "true",
		`let a = freight.plate("a b"); a + freight.plate("c") + a`:       "ABCAB",
		`sum(map([1, 2], freight.twice(#)), # + freight.fare(# * 0, 1))`: "6.00",
	} {
		p, faults := Compile(source, env.Scope())
		require.Empty(t, faults, source)
		got, f := p.Eval(&Frame{})
		require.Nil(t, f, source)
		require.Equal(t, want, got.String(), source)
	}
	p, _ := Compile(`freight.island("OR") + freight.both("a", "b")`, env.Scope())
	require.Equal(t, []string{"islands"}, p.Tables)
	require.Equal(t, []string{"freight.island", "freight.both", "freight.plate", "freight.plate"}, p.Libraries)
	require.Empty(t, p.Reads)
	sc := env.Scope()
	sc.Define("code", Type{Kind: value.Text})
	p, _ = Compile(`table("islands", code).name`, sc)
	require.Equal(t, [][]string{{"code"}}, p.Reads)
}

func TestFaultsOfTablesAndLibraries(t *testing.T) {
	env := exampleEnv(t)
	for source, want := range map[string]string{
		`table("island", "OR")`:                 `there is no table "island". Did you mean islands?`,
		`table(upper("a"), "OR")`:               "the table's name must be a constant text",
		`table("islands", "OR", "a")`:           "expected 1 key for the table islands, found 2 keys",
		`table("islands", 4)`:                   "expected text as code, found integer",
		`table("islands", "OR").size`:           `row has no field "size"`,
		`fright.plate("a")`:                     `there is no library "fright". Did you mean freight?`,
		`freight.pate("a")`:                     `the library freight has no function "pate". It has plate, island`,
		`freight.plate(4)`:                      "freight.plate: expected text as raw, found integer",
		`freight.plate("a", "b")`:               "expected freight.plate(raw), found 2 arguments",
		`freight.round1(1)`:                     "circle: freight.round1 → freight.round2 → freight.round1",
		`freight.broken()`:                      "freight.broken cannot be read",
		`freight.wrong()`:                       "expected integer from freight.wrong, found text",
		`1 + freight.fare(1, 9)`:                "freight.fare: division by zero",
		`freight.twice(0.12345678901234567891)`: "cannot be held exactly",
	} {
		p, faults := Compile(source, env.Scope())
		if faults == nil {
			_, f := p.Eval(&Frame{})
			require.NotNil(t, f, source)
			require.Positive(t, f.Place.Column)
			require.Contains(t, f.Error(), want, source)
			continue
		}
		require.Contains(t, faults.Error(), want, source)
	}
}

func TestCompletionKnowsTablesAndLibraries(t *testing.T) {
	sc := exampleEnv(t).Scope()
	require.Equal(t, `lookup("islands", )`, Complete("islan", 5, sc).Suggestions[0].Insert)
	require.Equal(t, "freight.", Complete("fr", 2, sc).Suggestions[0].Insert)
	require.Equal(t, "plate()", Complete("freight.pl", 10, sc).Suggestions[0].Insert)
	h := Complete(`freight.fare(1, `, 16, sc)
	require.Equal(t, "freight.fare", h.Function.Name)
	require.Equal(t, 1, h.Argument)
}

// TestAJoinByKeyIsThatOfASearch: the index gives what going through the list does.
func TestAJoinByKeyIsThatOfASearch(t *testing.T) {
	sc := NewScope()
	sc.Define("list", Type{})
	sc.Define("key", Type{})
	var items []value.Value
	for i := range 40 {
		items = append(items, value.NewRecord(value.NewLayout("id", "n"), []value.Value{value.NewDecimal(int64(i%10)*10, -1), value.Int(int64(i))}))
	}
	items = append(items, value.NewRecord(value.NewLayout("id", "n"), []value.Value{value.NewText("x"), value.Int(99)}))
	keyed, faults := Compile(`[find(list, .id == key)?.n, length(filter(list, key == .id))]`, sc)
	require.Empty(t, faults)
	plain, faults := Compile(`[find(list, .id == key and true)?.n, length(filter(list, key == .id and true))]`, sc)
	require.Empty(t, faults)
	for _, list := range []value.Value{value.ListOf(items[:40]...), value.ListOf(items...), value.ListOf(items[:3]...)} {
		fr := &Frame{Slots: []value.Value{list, {}}}
		for _, key := range []value.Value{value.Int(3), value.NewDecimal(30, -1), value.Int(77), value.NewText("x"), {}, value.NullValue, value.Int(3)} {
			fr.Slots[1] = key
			want, wf := plain.Eval(fr)
			got, gf := keyed.Eval(fr)
			require.Equal(t, wf == nil, gf == nil, "%s", key)
			require.True(t, value.Equal(want, got), "%s: %s, %s", key, want, got)
		}
	}
}
