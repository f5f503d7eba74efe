package source

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

func parse(t testing.TB, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults, text)
	return s
}

const order = `schema: Order # the newest
notation: json
samples:
  - a.json
fields:
  - name: no
    type: integer
    notes: as in the ledger
  # by whom
  - name: made
    type: date
    pattern: dd.MM.yyyy
  - name: state
    type: text
    constraints:
      codes:
        o: open
        p: paid
  - name: line
    type: record
    occurs: 0..n
    fields:
      - name: sku
        type: text
        constraints:
          max length: 8
`

// TestTextThatIsNotChangedChangesNothing: in every language, for all schemas of the demo.
func TestTextThatIsNotChangedChangesNothing(t *testing.T) {
	paths, err := filepath.Glob("../../../../demo/schemas/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		part, err := os.ReadFile(path)
		require.NoError(t, err)
		s := parse(t, string(part))
		for _, l := range Languages {
			text := l.Write(s, part)
			got, err := l.Read(s, part, text)
			require.NoError(t, err, "%s %s", path, l.Name)
			require.Equal(t, string(part), string(got))
			got, err = l.Read(s, part, append(text, '\n'))
			require.NoError(t, err, "%s %s", path, l.Name)
			require.Equal(t, string(schema.Write(s)), string(schema.Write(parse(t, string(got)))), "%s %s", path, l.Name)
		}
	}
}

// TestOnlyWhatChangedInTheTextIsChanged: how fields are written, the meanings of codes and notes stay.
func TestOnlyWhatChangedInTheTextIsChanged(t *testing.T) {
	s := parse(t, order)
	for _, c := range []struct{ language, old, now, gone, come string }{
		{"jsonschema", `"maxLength": 8`, `"maxLength": 12`, "max length: 8", "max length: 12"},
		{"jsonschema", `"sku": {`, `"qty": {"type": "number"},` + "\n" + `"sku": {`, "", "name: qty"},
		{"xsd", `<xs:element name="no"`, `<xs:element name="number"`, "as in the ledger", "name: number"},
		{"xsd", `value="8"`, `value="9"`, "max length: 8", "max length: 9"},
		{"part", "Order #", "Orders #", "Order #", "Orders #"},
	} {
		l := Named(c.language)
		text := string(l.Write(s, []byte(order)))
		require.Contains(t, text, c.old, c.language)
		got, err := l.Read(s, []byte(order), []byte(strings.Replace(text, c.old, c.now, 1)))
		require.NoError(t, err)
		parse(t, string(got))
		require.Contains(t, string(got), c.come)
		if c.gone != "" {
			require.NotContains(t, string(got), c.gone)
		}
		for _, kept := range []string{"# the newest", "a.json", "pattern: dd.MM.yyyy", "o: open", "p: paid"} {
			require.Contains(t, string(got), kept, "%s: %s", c.language, c.old)
		}
	}
}

func TestTextThatCannotBeReadIsRefusedWithItsPlace(t *testing.T) {
	s := parse(t, order)
	for language, want := range map[string]string{"part": "1", "jsonschema": "2", "xsd": "2"} {
		l := Named(language)
		text := map[string]string{"part": "schema: [", "jsonschema": "{\n,}", "xsd": "<xs:schema xmlns:xs=\"http://www.w3.org/2001/XMLSchema\">\n</oops>"}[language]
		_, err := l.Read(s, []byte(order), []byte(text))
		require.Error(t, err, language)
		require.Contains(t, err.Error(), want, language)
	}
}

// TestWhatTheTextLeavesOutIsSaid: a change that a part cannot hold is noted in the part.
func TestWhatTheTextLeavesOutIsSaid(t *testing.T) {
	s := parse(t, order)
	l := Named("jsonschema")
	text := strings.Replace(string(l.Write(s, []byte(order))), `"maxLength": 8`, `"maxLength": 8, "not": {"const": "x"}`, 1)
	got, err := l.Read(s, []byte(order), []byte(text))
	require.NoError(t, err)
	require.Contains(t, strings.Join(parse(t, string(got)).NotImported, "\n"), "not: it is not checked")
}

func TestSharedFieldsAreNotChangedInTheText(t *testing.T) {
	docs := map[string]*partfile.Doc{
		"x":    partfile.Parse("x", []byte("schema: X\nnotation: json\nfields:\n  - {name: a, type: text}\n  - {name: p, type: record, of: pair}\n")),
		"pair": partfile.Parse("pair", []byte("schema: P\nnotation: json\nfields:\n  - {name: c, type: text}\n")),
	}
	part := []byte("schema: X\nnotation: json\nfields:\n  - {name: a, type: text}\n  - {name: p, type: record, of: pair}\n")
	s := schema.NewLoader(func(id string) *partfile.Doc { return docs[id] }).Schema("x")
	l := Named("jsonschema")
	text := string(l.Write(s, part))
	_, err := l.Read(s, part, []byte(strings.Replace(text, `"c"`, `"d"`, 2)))
	require.ErrorContains(t, err, `described by the schema "pair"`)
	got, err := l.Read(s, part, []byte(strings.Replace(text, `"a"`, `"b"`, 2)))
	require.NoError(t, err)
	require.Contains(t, string(got), "of: pair")
	require.Contains(t, string(got), "name: b")
}
