package edit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

func parse(t testing.TB, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults, text)
	return s
}

// outline shows the tree as name, type and columns, indented.
func outline(s *schema.Schema) string {
	var b strings.Builder
	s.Root.Walk(func(path []string, f *schema.Field) {
		if len(path) > 0 {
			fmt.Fprintln(&b, strings.TrimSpace(strings.Repeat(".", len(path)-1)+f.Name+" "+f.WireFormat.Columns()))
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
  - {name: e, type: text, constraints: {max length: 3}}
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
			r, err := Apply(c.change, []byte(tree), parse(t, tree), at)
			require.NoError(t, err)
			s := parse(t, string(r.Text))
			require.Equal(t, c.want, outline(s))
			require.Equal(t, c.selected, r.Selected.String())
			require.NotNil(t, Field(s, r.Selected))
		})
	}
}

// TestAFieldIsFoundWhereItHasMovedTo: by its name, where its place holds another now and no second one is called so.
func TestAFieldIsFoundWhereItHasMovedTo(t *testing.T) {
	s := &schema.Schema{Root: &schema.Field{Fields: []*schema.Field{{Name: "a"}, {Name: "b", Fields: []*schema.Field{{Name: "c"}, {Name: "a"}}}}}}
	for _, c := range []struct {
		at   Path
		name string
		want Path
	}{{Path{0}, "a", Path{0}}, {Path{1, 1}, "a", Path{1, 1}}, {Path{0}, "c", Path{1, 0}}, {Path{7}, "b", Path{1}}, {Path{1}, "a", nil}, {Path{0}, "d", nil}} {
		found, ok := Named(s, c.at, c.name)
		require.Equal(t, c.want, found)
		require.Equal(t, c.want != nil, ok)
	}
}

func TestWhatCannotBeDoneIsRefused(t *testing.T) {
	for _, c := range []struct{ change, at string }{{"up", "0"}, {"down", "2"}, {"in", "0"}, {"in", "1"}, {"out", "0"}} {
		at, _ := ParsePath(c.at)
		_, err := Apply(c.change, []byte(tree), parse(t, tree), at)
		require.Error(t, err, c)
	}
	one := "schema: X\nnotation: json\nfields:\n  - {name: a, type: text}\n"
	_, err := Apply("remove", []byte(one), parse(t, one), Path{0})
	require.ErrorContains(t, err, "at least one field")
	for _, s := range []string{"", "x", "-1", "1..2"} {
		_, ok := ParsePath(s)
		require.False(t, ok, s)
	}
}

func TestSettingsAreWrittenAndRead(t *testing.T) {
	s := parse(t, tree)
	out, err := Write([]byte(tree), s, Path{0}, Settings{"name": "no", "occurs": "0..1", "minimum": "5", "notes": "the number"})
	require.NoError(t, err)
	f := Field(parse(t, string(out)), Path{0})
	require.Equal(t, Settings{"name": "no", "type": "integer", "occurs": "0..1", "minimum": "5", "notes": "the number", "codes": ""}, Read(f))

	out, err = Write([]byte(tree), s, Path{2}, Settings{"max length": "", "codes": "R rising\nF\n\n S  still there "})
	require.NoError(t, err)
	f = Field(parse(t, string(out)), Path{2})
	require.Equal(t, "R rising\nF\nS still there", Read(f)["codes"])
	require.Empty(t, Read(f)["max length"])
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
	require.Equal(t, schema.Settings{
		Encoding: "windows-1252", LineEnd: "any", Delimiter: "\t", Quote: `"`, Missing: schema.Missing{Null: "null", Empty: "empty", Absent: "omitted"},
	}, now.Settings)
}

// TestEveryChoiceOfASchemaIsShownAsItWasMade, in every notation: a form that shows another would set it when it is sent.
func TestEveryChoiceOfASchemaIsShownAsItWasMade(t *testing.T) {
	tried := 0
	for _, k := range all.Kinds {
		part := "schema: X\nnotation: " + k.Name + "\nfields:\n  - {name: a, type: text, columns: 1-4}\n"
		if !k.Columns {
			part = strings.Replace(part, ", columns: 1-4", "", 1)
		}
		s := parse(t, part)
		for _, set := range k.Settings {
			choices := set.Choices
			if set.Type == setting.Flag {
				choices = []string{"true", "false"}
			}
			for _, choice := range choices {
				out, err := WriteSchema([]byte(part), s, Settings{set.Name: choice})
				require.NoError(t, err)
				require.Equal(t, choice, ReadSchema(parse(t, string(out)))[set.Name], "%s: %s", k.Name, set.Name)
				tried++
			}
		}
	}
	require.Greater(t, tried, 40)
}

func TestNamespacesAreWrittenOneALine(t *testing.T) {
	const part = "schema: X\nnotation: xml\nnotation settings: {root: r}\nfields:\n  - {name: a, type: text}\n"
	out, err := WriteSchema([]byte(part), parse(t, part), Settings{"namespaces": "urn:a\n b  urn:b\n\n", "null as": "omitted", "values as": "attributes"})
	require.NoError(t, err)
	s := parse(t, string(out))
	require.Equal(t, []schema.Namespace{{URI: "urn:a"}, {Prefix: "b", URI: "urn:b"}}, s.Settings.Namespaces)
	require.Equal(t, "omitted", s.Settings.Missing.Null)
	require.True(t, s.Settings.Attributes)
	require.Equal(t, "urn:a\nb urn:b", ReadSchema(s)["namespaces"])
	out, err = WriteSchema(out, s, Settings{"namespaces": ""})
	require.NoError(t, err)
	require.Empty(t, parse(t, string(out)).Settings.Namespaces)
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
		r, err := Cut([]byte(ruler), parse(t, ruler), nil, c.column)
		require.NoError(t, err)
		require.Equal(t, c.want, outline(parse(t, string(r.Text))), c.column)
		require.Equal(t, c.selected, r.Selected.String())
	}
	for _, column := range []int{0, -3, 1, 14, 1 << 20} {
		_, err := Cut([]byte(ruler), parse(t, ruler), nil, column)
		require.Error(t, err, column)
	}
	_, err := Cut([]byte(tree), parse(t, tree), nil, 3)
	require.ErrorContains(t, err, "only fixed width")
}

// TestACutTwiceIsNoCut: a second click on the same place takes the first away.
func TestACutTwiceIsNoCut(t *testing.T) {
	for column := 2; column <= 13; column++ {
		if column == 5 || column == 13 {
			continue // cuts that are there: taking them away forgets the right field
		}
		once, err := Cut([]byte(ruler), parse(t, ruler), nil, column)
		require.NoError(t, err)
		twice, err := Cut(once.Text, parse(t, string(once.Text)), nil, column)
		require.NoError(t, err)
		require.Equal(t, outline(parse(t, ruler)), outline(parse(t, string(twice.Text))), column)
	}
}

func TestCutsAreNudged(t *testing.T) {
	r, err := Nudge([]byte(ruler), parse(t, ruler), nil, 5, -1)
	require.NoError(t, err)
	require.Equal(t, "a 1-3\nday 4-12\nc 13\n", outline(parse(t, string(r.Text))))
	require.Equal(t, "1", r.Selected.String())
	for _, c := range [][2]int{{5, -4}, {5, 8}, {13, 1}, {7, 1}} {
		_, err := Nudge([]byte(ruler), parse(t, ruler), nil, c[0], c[1])
		require.Error(t, err, c)
	}
}

const sailing = `schema: X
notation: fixedwidth
notation settings:
  starts with: S
fields:
  - {name: no, type: text, columns: 2-4}
  - name: vehicle
    type: record
    occurs: 0..n
    fields:
      - {name: kind, type: text, columns: 1-2, discriminator: V}
      - {name: plate, type: text, columns: 3-6}
  - {name: late, type: text, columns: 9-10}
`

// TestLinesInsideAreCut: each type of line has its own cuts; records between fields have none.
func TestLinesInsideAreCut(t *testing.T) {
	s := parse(t, sailing)
	require.Equal(t, Path{1}, Record(s, Path{1, 0}))
	require.Equal(t, Path{1}, Record(s, Path{1}))
	require.Equal(t, Path{}, Record(s, Path{0}))
	for _, c := range []struct {
		record Path
		column int
		want   string
	}{
		{Path{1}, 5, "no 2-4\nvehicle\n.kind 1-2\n.plate 3-4\n.field_5 5-6\nlate 9-10\n"},
		{Path{1}, 3, "no 2-4\nvehicle\n.kind 1-6\nlate 9-10\n"},
		{nil, 9, "no 2-10\nvehicle\n.kind 1-2\n.plate 3-6\n"},
		{nil, 7, "no 2-4\nfield_5 5-6\nvehicle\n.kind 1-2\n.plate 3-6\nlate 9-10\n"},
		{Path{1}, 9, "no 2-4\nvehicle\n.kind 1-2\n.plate 3-6\n.field_7 7-8\nlate 9-10\n"},
	} {
		r, err := Cut([]byte(sailing), s, c.record, c.column)
		require.NoError(t, err)
		require.Equal(t, c.want, outline(parse(t, string(r.Text))), "%v %d", c.record, c.column)
	}
	_, err := Cut([]byte(sailing), s, nil, 2)
	require.ErrorContains(t, err, "begins at column 2 already")
	_, err = Cut([]byte(sailing), s, Path{7}, 2)
	require.Error(t, err)
	r, err := Nudge([]byte(sailing), s, Path{1}, 3, -1)
	require.NoError(t, err)
	require.Contains(t, outline(parse(t, string(r.Text))), ".kind 1\n.plate 2-6\n")
	require.Equal(t, Path{1, 1}, r.Selected)
}

func TestLinesAreToldApart(t *testing.T) {
	s := parse(t, sailing)
	for text, want := range map[string]string{"S204": "", "V ABCD": "1", "VXABCD": "no", "": "no", "x": "no"} {
		at, ok := LineOf(s, text)
		if want == "no" {
			require.False(t, ok, text)
			continue
		}
		require.True(t, ok, text)
		require.Equal(t, want, at.String(), text)
	}
	_, ok := LineOf(parse(t, ruler), "anything")
	require.True(t, ok, "the only type of line needs no telling")
}

func TestALineThatNothingDescribesIsAdded(t *testing.T) {
	s := parse(t, sailing)
	r, err := AddLine([]byte(sailing), s, Path{1}, "C0020", "S204")
	require.NoError(t, err)
	now := parse(t, string(r.Text))
	require.Equal(t, "no 2-4\nvehicle\n.kind 1-2\n.plate 3-6\n.lines_c\n..field_2 2-5\nlate 9-10\n", outline(now))
	require.Equal(t, Path{1, 2, 0}, r.Selected)
	at, ok := LineOf(now, "C9999")
	require.True(t, ok)
	require.Equal(t, Path{1, 2}, at)

	flat := "schema: X\nnotation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1-8}\n"
	r, err = AddLine([]byte(flat), parse(t, flat), nil, "TRL0001", "HDR20310309")
	require.NoError(t, err)
	now = parse(t, string(r.Text))
	require.Equal(t, "HDR", now.Settings.Lines.StartsWith)
	require.Equal(t, "TRL", now.Root.Field("lines_trl").WireFormat.StartsWith)
	for _, c := range []struct {
		text, like string
		at         Path
	}{{sailing, "", nil}, {sailing, "x", Path{0}}, {sailing, "x", Path{9}}, {tree, "x", nil}} {
		_, err := AddLine([]byte(c.text), parse(t, c.text), c.at, c.like, "")
		require.Error(t, err, c.like)
	}
}
