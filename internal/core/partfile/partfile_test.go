package partfile

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
	for _, s := range []string{
		"true", "null", "~", "1.50", "- x", "a: b", "{x", "[x", "'q'", `"q"`, "*a", "&a", "!x", "%x", "@x", "multi\nline", "trailing ", "æøå", "0x10", "2031-03-09",
		"\t\n\n\n", " a\nb", "\n  a\nb", "a\n\t\nb", "a\n   \nb", "a\n\n", "\n", "\n\n a", "a\n b\n", "a \nb", "a\tb\n", "# x\ny", "---\na", "a\r\nb", "\u2028\n", "\ufeffa\nb",
	} {
		got, err := Set([]byte("a: 1\nb: 2\n"), []any{"a"}, s)
		require.NoError(t, err)
		d := Parse("x", got)
		require.Empty(t, d.Faults, s)
		require.Equal(t, s, d.Root().Text("a").Value, string(got))
	}
}

func TestMisspeltSettingsAreFaults(t *testing.T) {
	d := Parse("x.yaml", []byte("name: a\nnmae: b\nlist: {x: 1}\nnumber: many\nyes: maybe\nword: blue\nname: c\n"))
	n := d.Root()
	n.Required("name")
	n.List("list")
	n.Int("number", 1)
	n.Bool("yes", false)
	n.Choice("word", "red", "green")
	n.Required("missing")
	n.RejectUnknown()
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

func TestItemsAreInsertedAndMoved(t *testing.T) {
	const text = `fields:
  - name: a # the first
  - name: b
    fields:
      - name: c
`
	path := func(steps ...any) []any { return steps }
	for _, c := range []struct {
		name string
		edit func() ([]byte, error)
		want string
	}{
		{
			"insert between", func() ([]byte, error) { return Insert([]byte(text), path("fields"), 1, Ordered{{"name", "x"}}) },
			"fields:\n  - name: a # the first\n  - name: x\n  - name: b\n    fields:\n      - name: c\n",
		},
		{
			"insert into a list that is not there yet", func() ([]byte, error) {
				return Insert([]byte(text), path("fields", 0, "fields"), -1, Ordered{{"name", "x"}})
			},
			"fields:\n  - name: a # the first\n    fields:\n      - name: x\n  - name: b\n    fields:\n      - name: c\n",
		},
		{
			"move down", func() ([]byte, error) { return Move([]byte(text), path("fields"), 0, path("fields"), 1) },
			"fields:\n  - name: b\n    fields:\n      - name: c\n  - name: a # the first\n",
		},
		{
			"move into another", func() ([]byte, error) { return Move([]byte(text), path("fields"), 0, path("fields", 0, "fields"), 0) },
			"fields:\n  - name: b\n    fields:\n      - name: a # the first\n      - name: c\n",
		},
		{
			"set below what is not there", func() ([]byte, error) {
				return Set([]byte(text), path("fields", 0, "constraints", "codes"), Ordered{{"R", Text{Value: "rising"}}})
			},
			"fields:\n  - name: a # the first\n    constraints:\n      codes:\n        R: rising\n  - name: b\n    fields:\n      - name: c\n",
		},
		{"remove what is not there", func() ([]byte, error) { return Set([]byte(text), path("fields", 0, "constraints", "codes"), "") }, text},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := c.edit()
			require.NoError(t, err)
			require.Equal(t, c.want, string(got))
		})
	}
	with, err := Set([]byte(text), path("fields", 0, "constraints", "minimum"), "5")
	require.NoError(t, err)
	without, err := Set(with, path("fields", 0, "constraints", "minimum"), "")
	require.NoError(t, err)
	require.Equal(t, text, string(without), "what became empty is gone")
	for _, wrong := range []func() ([]byte, error){
		func() ([]byte, error) { return Insert([]byte(text), path("fields"), 9, Ordered{{"name", "x"}}) },
		func() ([]byte, error) { return Insert([]byte(text), path("none", "fields"), 0, Ordered{{"name", "x"}}) },
		func() ([]byte, error) { return Move([]byte(text), path("fields"), 7, path("fields"), 0) },
		func() ([]byte, error) { return Set([]byte(text), path("fields", 7, "name"), "x") },
		func() ([]byte, error) { return Set(nil, path("fields"), "x") },
	} {
		_, err := wrong()
		require.Error(t, err)
	}
}

// TestADocumentIsReadAgain: without being parsed again, and with the faults of its text alone.
func TestADocumentIsReadAgain(t *testing.T) {
	d := Parse("x.yaml", []byte("a: 1\nb: 2\n"))
	n := d.Root()
	n.Text("a")
	n.RejectUnknown()
	require.Len(t, d.Faults, 1)
	again := d.Again()
	require.Empty(t, again.Faults)
	require.Same(t, d.root, again.root)
	again.Root().RejectUnknown()
	require.Len(t, again.Faults, 2)
	require.Len(t, d.Faults, 1)
	broken := Parse("x.yaml", []byte("a: [\n"))
	require.Equal(t, broken.Faults, broken.Again().Faults)
	require.NotEmpty(t, broken.Again().Again().Faults)
}
