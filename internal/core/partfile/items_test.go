package partfile

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

const steps = `flow: A
steps:
  - step: keep # the filter
    id: one
  - step: each
    id: two
    steps:
      - {step: note, id: three}
      - {step: note, id: four}
  - step: map
    id: five
`

// ids are the ids of a flow, with brackets around those that stand inside another.
func ids(t *testing.T, text []byte) string {
	t.Helper()
	d := Parse("x", text)
	require.Empty(t, d.Faults, string(text))
	var walk func(n Node) string
	walk = func(n Node) string {
		var out []string
		for _, s := range n.List("steps") {
			id := s.Text("id").Value
			if inner := walk(s); inner != "" {
				id += "(" + inner + ")"
			}
			out = append(out, id)
		}
		return strings.Join(out, " ")
	}
	return walk(d.Root())
}

// TestItemsAreTakenPutAndWrapped: whole runs of items, in and out of each other; comments go with them.
func TestItemsAreTakenPutAndWrapped(t *testing.T) {
	top, inner := []any{"steps"}, []any{"steps", 1, "steps"}
	around := Ordered{{"step", "attempt"}, {"id", "new"}}
	for name, c := range map[string]struct {
		edit func() ([]byte, error)
		want string
	}{
		"as they were":          {func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 1, top, 0) }, "one two(three four) five"},
		"to the end":            {func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 2, top, 3) }, "five one two(three four)"},
		"to the front":          {func() ([]byte, error) { return MoveItems([]byte(steps), top, 1, 2, top, 0) }, "two(three four) five one"},
		"within themselves":     {func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 2, top, 1) }, "one two(three four) five"},
		"into another":          {func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 1, inner, 1) }, "two(three one four) five"},
		"out of it":             {func() ([]byte, error) { return MoveItems([]byte(steps), inner, 0, 2, top, 1) }, "one three four two five"},
		"into what has no list": {func() ([]byte, error) { return MoveItems([]byte(steps), top, 2, 1, []any{"steps", 0, "steps"}, 0) }, "one(five) two(three four)"},
		"wrapped":               {func() ([]byte, error) { return Wrap([]byte(steps), top, 0, 2, around, []any{"steps"}) }, "new(one two(three four)) five"},
		"wrapped inside":        {func() ([]byte, error) { return Wrap([]byte(steps), inner, 1, 1, around, []any{"steps"}) }, "one two(three new(four)) five"},
		"unwrapped":             {func() ([]byte, error) { return Unwrap([]byte(steps), top, 1, []any{"steps"}) }, "one three four five"},
		"unwrapped, empty":      {func() ([]byte, error) { return Unwrap([]byte(steps), top, 0, []any{"steps"}) }, "two(three four) five"},
		"removed":               {func() ([]byte, error) { return Remove([]byte(steps), inner, 0) }, "one two(four) five"},
	} {
		got, err := c.edit()
		require.NoError(t, err, name)
		require.Equal(t, c.want, ids(t, got), name)
		if strings.Contains(c.want, "one") {
			require.Contains(t, string(got), "# the filter", name)
		}
	}
	for name, edit := range map[string]func() ([]byte, error){
		"into themselves":     func() ([]byte, error) { return MoveItems([]byte(steps), top, 1, 1, inner, 0) },
		"more than there are": func() ([]byte, error) { return MoveItems([]byte(steps), top, 2, 2, top, 0) },
		"far too many":        func() ([]byte, error) { return MoveItems([]byte(steps), top, 1, math.MaxInt, top, 0) },
		"none":                func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 0, top, 0) },
		"from nowhere":        func() ([]byte, error) { return MoveItems([]byte(steps), top, -1, 1, top, 0) },
		"to nowhere":          func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 1, top, 9) },
		"no list":             func() ([]byte, error) { return MoveItems([]byte(steps), []any{"flow"}, 0, 1, top, 0) },
		"no such list":        func() ([]byte, error) { return MoveItems([]byte(steps), top, 0, 1, []any{"steps", 9, "steps"}, 0) },
		"wrap too many":       func() ([]byte, error) { return Wrap([]byte(steps), top, 0, 4, around, []any{"steps"}) },
		"wrap in what is no list": func() ([]byte, error) {
			return Wrap([]byte(steps), top, 0, 1, Ordered{{"steps", "text"}}, []any{"steps"})
		},
		"unwrap none": func() ([]byte, error) { return Unwrap([]byte(steps), top, 3, []any{"steps"}) },
	} {
		_, err := edit()
		require.Error(t, err, name)
	}
}

// TestItemsAreCopiedAsText: they are a list of their own, and pasted with other names, outer before inner.
func TestItemsAreCopiedAsText(t *testing.T) {
	items, err := Items([]byte(steps), []any{"steps"}, 0, 2)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(items), "- step: keep # the filter\n"), string(items))
	var order []string
	got, err := Paste([]byte(steps), []any{"steps"}, 1, items, func(s Settings) {
		order = append(order, s.Get("id"))
		s.Set("id", s.Get("id")+"-2")
		s.Set("absent", "nothing comes of it")
	})
	require.NoError(t, err)
	require.Equal(t, []string{"one", "two", "three", "four"}, order)
	require.Equal(t, "one one-2 two-2(three-2 four-2) two(three four) five", ids(t, got))
	require.NotContains(t, string(got), "absent")

	deep := strings.Repeat("- a:\n", 0) + strings.Repeat("[", 300) + strings.Repeat("]", 300)
	for name, bad := range map[string]string{"no list": "a: b", "nothing": "", "no YAML": "[1", "too long": "- " + strings.Repeat("x", MaxBytes)} {
		_, err := Paste([]byte(steps), []any{"steps"}, 0, []byte(bad), func(Settings) {})
		require.Error(t, err, name)
	}
	seen := 0
	_, err = Paste([]byte(steps), []any{"steps"}, 0, []byte(deep), func(Settings) { seen++ })
	require.NoError(t, err)
	require.Zero(t, seen, "what is deeper than anything is not gone into")
	_, err = Paste([]byte(steps), []any{"steps"}, 4, items, func(Settings) {})
	require.Error(t, err, "there is no such place")
	_, err = Items([]byte(steps), []any{"steps"}, 2, 2)
	require.Error(t, err)
	_, err = Items([]byte("["), []any{"steps"}, 0, 1)
	require.Error(t, err)
}

// TestTextsAndListsAreSet: single texts, items in their places, whole lists, and what cannot be set.
func TestTextsAndListsAreSet(t *testing.T) {
	got, err := InsertText([]byte("keys: [a, c]\n"), []any{"keys"}, 1, "b: c")
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b: c", "c"}, texts(Parse("x", got).Root().Map("keys").Texts()))
	got, err = InsertText([]byte("name: x\n"), []any{"keys"}, -1, "true")
	require.NoError(t, err)
	require.Equal(t, "name: x\nkeys:\n  - true\n", string(got))
	got, err = Set([]byte("keys:\n  - a\n  - b\n"), []any{"keys", 1}, "z")
	require.NoError(t, err)
	require.Equal(t, "keys:\n  - a\n  - z\n", string(got))
	for name, path := range map[string][]any{"below a text": {"name", "x"}, "a place in a mapping": {0}, "a place that is not there": {"keys", 5}, "a name in a list": {"keys", "x"}} {
		_, err := Set([]byte("name: a\nkeys: [a]\n"), path, "v")
		require.Error(t, err, name)
	}
	_, err = InsertText([]byte("name: a\n"), []any{"name"}, 0, "x")
	require.Error(t, err)
	_, err = Set([]byte("a: [1"), []any{"a"}, "x")
	require.Error(t, err)
}

func texts(list []Text) (out []string) {
	for _, t := range list {
		out = append(out, t.Value)
	}
	return out
}

// TestWhatIsReadIsWhatStandsThere: values of every kind with their defaults and places, and a fault for what is something
// else. What is not there is not present, and has none of anything.
func TestWhatIsReadIsWhatStandsThere(t *testing.T) {
	d := Parse("x.yaml", []byte("n: 7\non: true\noff: false\nword: green\nmap: {a: 1, b: two}\nlist: [{x: 1}, {x: 2}]\ntexts: [a, ~, b]\nempty: ~\n"))
	n := d.Root()
	require.Equal(t, 7, n.Int("n", 1))
	require.Equal(t, 5, n.Int("none", 5))
	require.True(t, n.Bool("on", false))
	require.False(t, n.Bool("off", true))
	require.True(t, n.Bool("none", true))
	require.Equal(t, "green", n.Choice("word", "red", "green"))
	require.Equal(t, "red", n.Choice("none", "red", "green"))
	keys, values := n.Map("map").Pairs()
	require.Equal(t, []string{"a", "b"}, texts(keys))
	require.Equal(t, []string{"1", "two"}, texts(values))
	require.Len(t, n.List("list"), 2)
	require.Equal(t, 6, n.List("list")[1].At().Line)
	require.Equal(t, []string{"a", "", "b"}, texts(n.Map("texts").Texts()), "what has no value has an empty one")
	require.Empty(t, n.List("empty"))
	require.False(t, n.Map("none").Present())
	require.True(t, n.Map("map").Present())
	none := n.Map("none")
	keys, _ = none.Pairs()
	require.Empty(t, keys)
	require.Empty(t, none.Texts())
	require.Empty(t, none.Text("x").Value)
	require.Same(t, d, n.Doc())
	none.RejectUnknown()
	require.Empty(t, d.Faults)
	at := n.Text("word")
	d.Fault(at, fault.New(fault.Range, "not that one"))
	n.Map("map").Fault(fault.Setting, "of the whole")
	require.Equal(t, "x.yaml:4:7: not that one\nx.yaml:5:6: of the whole", d.Faults.Error())

	for text, want := range map[string]string{
		"a: {x: 1}":   "a: expected a text, found settings",
		"a: [1, 2]":   "a: expected a text, found a list",
		"a: *b":       "unknown anchor",
		"&b a: *b":    "a: expected a text, found an alias",
		"- a":         "expected settings (name: value), found a list",
		"just a text": `expected settings (name: value), found the text "just a text"`,
	} {
		d := Parse("y", []byte(text))
		if r := d.Root(); d.Faults == nil {
			r.Text("a")
			r.Text("b")
		}
		require.Contains(t, d.Faults.Error(), want, text)
		require.Len(t, d.Faults, 1, text)
	}
	d = Parse("y", []byte("a: b\nl: [{x: 1}]\n"))
	require.Nil(t, d.Root().Map("a").Texts())
	require.Contains(t, d.Faults.Error(), `expected a list of values, found the text "b"`)
	d.Root().Map("l").Texts()
	require.Contains(t, d.Faults.Error(), "expected a single value, found settings")
	require.Contains(t, Parse("y", []byte(strings.Repeat("x", MaxBytes+1))).Faults.Error(), "larger than")
}
