package edit

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// together parses parts that take fields from one another, and gives the first.
func together(t testing.TB, parts map[string]string, id string) *schema.Schema {
	t.Helper()
	docs := map[string]*partfile.Doc{}
	for name, text := range parts {
		docs[name] = partfile.Parse(name, []byte(text))
	}
	s := schema.NewLoader(func(id string) *partfile.Doc { return docs[id] }).Schema(id)
	for _, d := range docs {
		require.Empty(t, d.Faults)
	}
	return s
}

// TestFieldsAreShared: a record's fields become a schema of their own, which others can take; they
// are changed there only; and a record can have fields of its own again.
func TestFieldsAreShared(t *testing.T) {
	s := parse(t, tree)
	changed, shared, err := Share([]byte(tree), s, Path{1}, "pair", "A pair")
	require.NoError(t, err)
	require.Equal(t, "schema: A pair\nnotation: json\nfields:\n  - name: c\n    type: text\n  - name: d\n    type: text\n", string(shared))
	parts := map[string]string{"x": string(changed), "pair": string(shared)}
	now := together(t, parts, "x")
	require.Equal(t, outline(s), outline(now))
	require.Equal(t, "pair", Read(Field(now, Path{1}))["of"])

	for _, op := range []string{"after", "copy", "remove", "up", "down", "out"} {
		_, err := Apply(op, changed, now, Path{1, 0})
		require.ErrorContains(t, err, `described by the schema "pair"`, op)
	}
	_, err = Apply("inside", changed, now, Path{1})
	require.ErrorContains(t, err, "pair")
	_, err = Apply("in", changed, now, Path{2})
	require.ErrorContains(t, err, "pair")
	_, err = Write(changed, now, Path{1, 0}, Settings{"name": "q"})
	require.ErrorContains(t, err, "pair")
	_, _, err = Share(changed, now, Path{1}, "again", "Again")
	require.ErrorContains(t, err, "pair")
	_, _, err = Share([]byte(tree), s, Path{0}, "x", "X")
	require.ErrorContains(t, err, "only a record")
	_, _, err = Share([]byte(sailing), parse(t, sailing), Path{1}, "x", "X")
	require.ErrorContains(t, err, "columns of their own")

	r, err := Apply("copy", changed, now, Path{1})
	require.NoError(t, err)
	parts["x"] = string(r.Text)
	require.Contains(t, outline(together(t, parts, "x")), "b_copy\n.c\n.d\n")

	own, err := Write(changed, now, Path{1}, Settings{"of": ""})
	require.NoError(t, err)
	require.Equal(t, outline(s), outline(parse(t, string(own))))
	taken, err := Write(own, parse(t, string(own)), Path{1}, Settings{"of": "pair"})
	require.NoError(t, err)
	parts["x"] = string(taken)
	require.Equal(t, []string{"pair"}, together(t, parts, "x").Includes())
}
