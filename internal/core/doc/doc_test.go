package doc

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const text = `# what it is for
flow: A
list:
  - step: keep # the filter
    where: a > 1
  - step: map
odd: "x: y"
`

func TestEditsKeepWhatTheyDoNotTouch(t *testing.T) {
	for name, c := range map[string]struct {
		path []any
		to   string
		want string
	}{
		"change":        {[]any{"list", 0, "where"}, `a == "R" and b > 0`, "# what it is for\nflow: A\nlist:\n  - step: keep # the filter\n    where: a == \"R\" and b > 0\n  - step: map\nodd: \"x: y\"\n"},
		"add":           {[]any{"list", 1, "as"}, "row", "# what it is for\nflow: A\nlist:\n  - step: keep # the filter\n    where: a > 1\n  - step: map\n    as: row\nodd: \"x: y\"\n"},
		"remove":        {[]any{"list", 0, "where"}, "", "# what it is for\nflow: A\nlist:\n  - step: keep # the filter\n  - step: map\nodd: \"x: y\"\n"},
		"a number":      {[]any{"flow"}, "12", "# what it is for\nflow: 12\nlist:\n  - step: keep # the filter\n    where: a > 1\n  - step: map\nodd: \"x: y\"\n"},
		"needs quoting": {[]any{"flow"}, "# no: comment", "# what it is for\nflow: '# no: comment'\nlist:\n  - step: keep # the filter\n    where: a > 1\n  - step: map\nodd: \"x: y\"\n"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Set([]byte(text), c.path, c.to)
			require.NoError(t, err)
			require.Equal(t, c.want, string(got))
		})
	}
	_, err := Set([]byte(text), []any{"list", 7, "where"}, "x")
	require.Error(t, err)
	got, err := Append([]byte(text), []any{"list"}, "step", "find")
	require.NoError(t, err)
	require.Contains(t, string(got), "  - step: map\n  - step: find\n")
	got, err = Remove([]byte(text), []any{"list"}, 0)
	require.NoError(t, err)
	require.NotContains(t, string(got), "keep")
	_, err = Remove([]byte(text), []any{"list"}, 5)
	require.Error(t, err)
}

// TestAnyTextSurvivesAnEdit puts awkward texts in and reads them back.
func TestAnyTextSurvivesAnEdit(t *testing.T) {
	for _, s := range []string{"true", "null", "~", "1.50", "- x", "a: b", "{x", "[x", "'q'", `"q"`, "*a", "&a", "!x", "%x", "@x", "multi\nline", "trailing ", "æøå", "0x10", "2031-03-09"} {
		got, err := Set([]byte("a: 1\nb: 2\n"), []any{"a"}, s)
		require.NoError(t, err)
		d := Parse("x", got)
		require.Empty(t, d.Faults, s)
		require.Equal(t, s, d.Root().Text("a").Value)
	}
}

func TestMisspeltSettingsAreFaults(t *testing.T) {
	d := Parse("x.yaml", []byte("name: a\nnmae: b\nlist: {x: 1}\nnumber: many\nyes: maybe\nword: blue\nname: c\n"))
	n := d.Root()
	n.Need("name")
	n.List("list")
	n.Int("number", 1)
	n.Bool("yes", false)
	n.Choice("word", "red", "green")
	n.Need("missing")
	n.Done()
	require.Equal(t, `x.yaml:3:7: list: expected a list, found settings
x.yaml:4:9: number: expected a whole number, found "many"
x.yaml:5:6: yes: expected true or false, found "maybe"
x.yaml:6:7: word: expected one of red, green, found "blue"
x.yaml:1:1: "missing" is missing
x.yaml:2:1: unknown setting "nmae"; known here: list, missing, name, number, word, yes
x.yaml:7:1: "name" is set twice`, d.Faults.Error())
	require.Contains(t, Parse("y", []byte("a: [1\nb")).Faults.Error(), "y:2")
	require.Contains(t, Parse("y", nil).Faults.Error(), "the part is empty")
}
