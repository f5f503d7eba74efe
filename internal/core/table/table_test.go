package table

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

const fares = `table: Fares
columns:
  - {name: class, key: true}
  - {name: island, key: true}
  - {name: fare, type: decimal}
  - {name: note}
none: default
default: [99, other]
rows:
  - [CAR, OR, 12.50, null]
  - [CAR, LI, 14, by night]
`

func parse(text string) (*Table, *partfile.Doc) {
	d := partfile.Parse("fares.yaml", []byte(text))
	return Parse("fares", d), d
}

func keys(texts ...string) []value.Value {
	out := make([]value.Value, len(texts))
	for i, s := range texts {
		out[i] = value.NewText(s)
	}
	return out
}

func TestARowIsFoundByItsKeys(t *testing.T) {
	tb, d := parse(fares)
	require.Empty(t, d.Faults)
	row, f := tb.Find(keys("CAR", "OR"))
	require.Nil(t, f)
	require.Equal(t, "12.50", row.Field("fare").String())
	require.Equal(t, value.Absent, row.Field("note").Kind())
	row, f = tb.Find(keys("VAN", "OR"))
	require.Nil(t, f)
	require.Equal(t, "99", row.Field("fare").String())
	require.False(t, tb.Has(keys("CAROR", "")))
	tb.None = Absent
	row, f = tb.Find(keys("VAN", "OR"))
	require.Nil(t, f)
	require.Equal(t, value.Absent, row.Kind())
	tb.None = Fault
	_, f = tb.Find(keys("VAN", "OR"))
	require.ErrorContains(t, f, `a row of the table fares, found none with class "VAN" and island "OR"`)
}

func TestFaultsOfTablesHaveLines(t *testing.T) {
	for text, want := range map[string]string{
		"table: T\ncolumns: [{name: a}]\nrows: []\n":                                                           "no key column",
		"table: T\ncolumns: [{name: a, key: true}]\nrows:\n  - [x]\n  - [x]\n":                                 `T.yaml:5`,
		"table: T\ncolumns: [{name: a, key: true}, {name: b, type: integer}]\nrows: [[x, y]]":                  `b: expected integer, found "y"`,
		"table: T\ncolumns: [{name: a, key: true}, {name: b, type: integer}]\nrows: [[x]]":                     "expected 2 values, one for each column, found 1",
		"table: T\ncolumns: [{name: a, key: true}]\nnone: default\nrows: []":                                   "has none",
		"table: T\ncolumns: [{name: a, key: true}, {name: a}]\nrows: []":                                       "a name that no other has",
		"table: T\ncolumns: [{name: a, key: true}]\nrows: [{a: 1}]":                                            "expected a list of values",
		"table: T\ncolumns: [{name: a, key: true}]\nrows: [[[x]]]":                                             "expected a single value",
		"table: T\ncolumns: [{name: a, key: true, type: record}]\nrows: []":                                    "expected one of text",
		"table: T\ncolumns: [{name: a, key: true}, {name: b, type: integer, key: true}]\nrows:\n  - [x, null]": `b: expected integer`,
	} {
		d := partfile.Parse("T.yaml", []byte(text))
		Parse("T", d)
		require.NotEmpty(t, d.Faults, text)
		require.Contains(t, d.Faults.Error(), want, text)
	}
}

func TestRowsComeAndGoAsCSV(t *testing.T) {
	tb, _ := parse(fares)
	var b strings.Builder
	require.NoError(t, tb.WriteCSV(&b))
	require.Equal(t, "class,island,fare,note\r\nCAR,OR,12.50,\r\nCAR,LI,14,by night\r\n", b.String())
	rows, added, replaced, err := tb.Merge("fare,island,class\n13,OR,CAR\n20,\"O,R\",VAN\n")
	require.NoError(t, err)
	require.Equal(t, []partfile.Row{{"CAR", "OR", "13", ""}, {"CAR", "LI", "14", "by night"}, {"VAN", "O,R", "20", ""}}, rows)
	require.Equal(t, [2]int{1, 1}, [2]int{added, replaced})
	rows, _, _, err = tb.Merge("BUS,OR,1")
	require.NoError(t, err)
	require.Equal(t, partfile.Row{"BUS", "OR", "1", ""}, rows[2])
	for text, want := range map[string]string{
		"class,price\na,1":  `has no column "price"`,
		"a,b,c,d,e":         "5 values for 4 columns",
		"a,\"b\nc,d,e\nf,g": "the pasted rows:",
	} {
		_, _, _, err := tb.Merge(text)
		require.ErrorContains(t, err, want, text)
	}
}

// TestKeysAreToldFromTheirText: as many as there are, whatever stands in them; a text that is none tells nothing wrong.
func TestKeysAreToldFromTheirText(t *testing.T) {
	for _, keys := range [][]value.Value{
		{value.NewText("NO")},
		{value.NewText(""), value.NewText("3:x"), value.NewText("a:b\n")},
		{value.Int(-12), value.NewText("æ"), value.DateOf(2031, 3, 9), value.Bool(true)},
	} {
		got := KeyTexts(Key(keys))
		require.Len(t, got, len(keys))
		for i, k := range keys {
			require.Equal(t, k.String(), got[i])
		}
	}
	require.Empty(t, KeyTexts(""))
	for _, bad := range []string{"x", "5:ab", "-1:a", "0:", "99999999999999999999:a", "2:ax9:y"} {
		require.LessOrEqual(t, len(KeyTexts(bad)), 1, bad)
	}
}
