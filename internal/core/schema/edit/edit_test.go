package edit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/schema"
)

func parse(t testing.TB, text string) *schema.Schema {
	t.Helper()
	d := doc.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults, text)
	return s
}

// outline shows the tree as name, type and columns, indented.
func outline(s *schema.Schema) string {
	var b strings.Builder
	s.Root.Walk(func(path []string, f *schema.Field) {
		if len(path) > 0 {
			fmt.Fprintln(&b, strings.TrimSpace(strings.Repeat(".", len(path)-1)+f.Name+" "+f.Written.Columns()))
		}
	})
	return b.String()
}

const tree = `schema: X
notation: json
fields:
  - {name: a, type: integer}
  - name: b # a record
    type: record
    fields:
      - {name: c, type: text}
      - {name: d, type: text}
  - {name: e, type: text, must: {most length: 3}}
`

func TestTheTreeIsChanged(t *testing.T) {
	for _, c := range []struct{ change, at, want, selected string }{
		{"after", "0", "a\nfield\nb\n.c\n.d\ne\n", "1"},
		{"after", "1.0", "a\nb\n.c\n.field\n.d\ne\n", "1.1"},
		{"inside", "1", "a\nb\n.c\n.d\n.field\ne\n", "1.2"},
		{"inside", "2", "a\nb\n.c\n.d\ne\n.field\n", "2.0"},
		{"copy", "1", "a\nb\n.c\n.d\nb_copy\n.c\n.d\ne\n", "2"},
		{"remove", "1", "a\ne\n", "1"},
		{"remove", "2", "a\nb\n.c\n.d\n", "1"},
		{"up", "2", "a\ne\nb\n.c\n.d\n", "1"},
		{"down", "1.0", "a\nb\n.d\n.c\ne\n", "1.1"},
		{"in", "2", "a\nb\n.c\n.d\n.e\n", "1.2"},
		{"out", "1.0", "a\nb\n.d\nc\ne\n", "2"},
	} {
		t.Run(c.change+" "+c.at, func(t *testing.T) {
			at, ok := ParsePath(c.at)
			require.True(t, ok)
			r, err := Changes[c.change]([]byte(tree), parse(t, tree), at)
			require.NoError(t, err)
			s := parse(t, string(r.Text))
			require.Equal(t, c.want, outline(s))
			require.Equal(t, c.selected, r.Selected.String())
			require.NotNil(t, Field(s, r.Selected))
		})
	}
}

func TestWhatCannotBeDoneIsRefused(t *testing.T) {
	for _, c := range []struct{ change, at string }{{"up", "0"}, {"down", "2"}, {"in", "0"}, {"in", "1"}, {"out", "0"}} {
		at, _ := ParsePath(c.at)
		_, err := Changes[c.change]([]byte(tree), parse(t, tree), at)
		require.Error(t, err, c)
	}
	one := "schema: X\nnotation: json\nfields:\n  - {name: a, type: text}\n"
	_, err := Changes["remove"]([]byte(one), parse(t, one), Path{0})
	require.ErrorContains(t, err, "at least one field")
	for _, s := range []string{"", "x", "-1", "1..2"} {
		_, ok := ParsePath(s)
		require.False(t, ok, s)
	}
}

func TestSettingsAreWrittenAndRead(t *testing.T) {
	s := parse(t, tree)
	out, err := Write([]byte(tree), s, Path{0}, Settings{"name": "no", "occurs": "0..1", "least": "5", "notes": "the number"})
	require.NoError(t, err)
	f := Field(parse(t, string(out)), Path{0})
	require.Equal(t, Settings{"name": "no", "type": "integer", "occurs": "0..1", "least": "5", "notes": "the number", "codes": ""}, Read(f))

	out, err = Write([]byte(tree), s, Path{2}, Settings{"most length": "", "codes": "R rising\nF\n\n S  still there "})
	require.NoError(t, err)
	f = Field(parse(t, string(out)), Path{2})
	require.Equal(t, "R rising\nF\nS still there", Read(f)["codes"])
	require.Empty(t, Read(f)["most length"])
	require.Contains(t, string(out), "# a record", "comments stay")

	same, err := Write([]byte(tree), s, Path{2}, Read(Field(s, Path{2})))
	require.NoError(t, err)
	require.Equal(t, tree, string(same), "nothing is written when nothing changed")
	_, err = Write([]byte(tree), s, Path{9}, nil)
	require.Error(t, err)
}

func TestTheSchemasOwnSettingsAreWritten(t *testing.T) {
	const csv = "schema: X\nnotation: csv\nfields:\n  - {name: a, type: text}\n"
	s := parse(t, csv)
	same, err := WriteSchema([]byte(csv), s, ReadSchema(s))
	require.NoError(t, err)
	require.Equal(t, csv, string(same), "nothing is written when nothing changed")
	out, err := WriteSchema([]byte(csv), s, Settings{"title": "Y", "delimiter": "tab", "header": "false", "encoding": "windows-1252"})
	require.NoError(t, err)
	now := parse(t, string(out))
	require.Equal(t, "Y", now.Title)
	require.Equal(t, schema.Settings{Encoding: "windows-1252", LineEnd: "any", Delimiter: "\t", Quote: `"`}, now.Settings)
}

const ruler = `schema: X
notation: fixedwidth
fields:
  - {name: a, type: text, columns: 1-4}
  - {name: day, type: date, columns: 5-12, pattern: yyyyMMdd}
  - {name: c, type: text, columns: "13"}
`

func TestTheRulerIsCut(t *testing.T) {
	for _, c := range []struct {
		column   int
		want     string
		selected string
	}{
		{3, "a 1-2\nfield_3 3-4\nday 5-12\nc 13\n", "1"},
		{5, "a 1-12\nc 13\n", "0"},
		{13, "a 1-4\nday 5-13\n", "1"},
		{20, "a 1-4\nday 5-12\nc 13\nfield_14 14-19\n", "3"},
	} {
		r, err := Cut([]byte(ruler), parse(t, ruler), c.column)
		require.NoError(t, err)
		require.Equal(t, c.want, outline(parse(t, string(r.Text))), c.column)
		require.Equal(t, c.selected, r.Selected.String())
	}
	for _, column := range []int{0, -3, 1, 14, 1 << 20} {
		_, err := Cut([]byte(ruler), parse(t, ruler), column)
		require.Error(t, err, column)
	}
	_, err := Cut([]byte(tree), parse(t, tree), 3)
	require.ErrorContains(t, err, "only fixed width")
}

// TestACutTwiceIsNoCut: a second click on the same place takes the first away.
func TestACutTwiceIsNoCut(t *testing.T) {
	for column := 2; column <= 13; column++ {
		if column == 5 || column == 13 {
			continue // cuts that are there: taking them away forgets the right field
		}
		once, err := Cut([]byte(ruler), parse(t, ruler), column)
		require.NoError(t, err)
		twice, err := Cut(once.Text, parse(t, string(once.Text)), column)
		require.NoError(t, err)
		require.Equal(t, outline(parse(t, ruler)), outline(parse(t, string(twice.Text))), column)
	}
}

func TestCutsAreNudged(t *testing.T) {
	r, err := Nudge([]byte(ruler), parse(t, ruler), 5, -1)
	require.NoError(t, err)
	require.Equal(t, "a 1-3\nday 4-12\nc 13\n", outline(parse(t, string(r.Text))))
	require.Equal(t, "1", r.Selected.String())
	for _, c := range [][2]int{{5, -4}, {5, 8}, {13, 1}, {7, 1}} {
		_, err := Nudge([]byte(ruler), parse(t, ruler), c[0], c[1])
		require.Error(t, err, c)
	}
}
