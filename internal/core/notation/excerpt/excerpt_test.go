package excerpt

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const (
	fields = "fields:\n  - {name: id, type: integer}\n  - {name: who, type: text}\n"
	xmlOf  = "notation: xml\nnotation settings: {root: crew, record: member, namespaces: {c: 'urn:crew'}}\nfields:\n  - {name: id, type: integer, attribute: true}\n  - {name: who, type: text}\n"
)

// TestARecordIsTakenOutAndReadByItself: each record of a message, in every notation, is taken out with its text, and read by
// itself as it was read in its place; also those that cannot be read, so that they can be mended.
func TestARecordIsTakenOutAndReadByItself(t *testing.T) {
	for name, c := range map[string]struct {
		schema, message string
		before          int // lines before the record, of its own message
	}{
		"csv with a header":        {"notation: csv\nnotation settings: {delimiter: ';'}\n" + fields, "who;id\r\nÞóra;1\r\n\"two\r\nlines\";2\r\nbad;x\r\n", 1},
		"csv behind other lines":   {"notation: csv\nnotation settings: {delimiter: ';', skip first: 1}\n" + fields, "made by hand\r\nwho;id\r\nTove;1\r\nbad;x\r\n", 2},
		"csv without":              {"notation: csv\nnotation settings: {header: false}\n" + fields, "1,Tove\nx,bad\n", 0},
		"fixed width":              {"notation: fixedwidth\nfields:\n  - {name: id, type: integer, columns: 1-2}\n  - {name: who, type: text, columns: 3-8}\n", "01Tove  \r\nxxbad   \r\n", 0},
		"a JSON list":              {"notation: json\n" + fields, `[ {"id": 1, "who": "Tove"} , {"id": "x", "who": "bad"},{"id":2,"who":"Ada"}]`, 0},
		"a JSON object":            {"notation: json\n" + fields, `  {"id": 1, "who": "Tove"} `, 0},
		"lines of JSON":            {"notation: ndjson\n" + fields, "{\"id\": 1, \"who\": \"Tove\"}\n{\"id\": \"x\", \"who\": \"bad\"}\n", 0},
		"an XML list":              {xmlOf, `<?xml version="1.0"?><!-- c --><crew at="1"><member id="1"><who>Tove</who></member>` + "\n" + `  <member id="x"><who>bad</who></member><member id="2"><who>A&amp;B</who></member></crew>`, 0},
		"an XML document":          {"notation: xml\nnotation settings: {root: member}\nfields:\n  - {name: id, type: integer, attribute: true}\n  - {name: who, type: text}\n", `<member id="1"><who>Tove</who></member>`, 0},
		"windows-1252 with header": {"notation: csv\nnotation settings: {encoding: windows-1252}\n" + fields, "id,who\n1,T\xf8ve\nx,b\xe5d\n", 1},
	} {
		t.Run(name, func(t *testing.T) {
			d := partfile.Parse("x.yaml", []byte("schema: X\n"+c.schema))
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults)
			f, err := FrameOf(s, strings.NewReader(c.message))
			require.NoError(t, err)
			r := read(t, s, s.Notation, c.message)
			for n := 0; ; n++ {
				v, err := r.Next()
				if errors.Is(err, io.EOF) {
					require.Positive(t, n)
					return
				}
				text := all.Decode(s, []byte(r.Raw()))
				if !Kept(s) {
					text, err = Text(s, strings.NewReader(c.message), r.Place().Byte)
					require.NoError(t, err)
				}
				content, as, before, merr := Message(s, f, text)
				require.NoError(t, merr)
				require.Equal(t, c.before, before)
				one := read(t, s.InText(), as, string(content))
				got, gerr := one.Next()
				var faults fault.List
				if v.Kind() == value.Absent {
					require.ErrorAs(t, gerr, &faults, "what cannot be read there cannot be read here: %s", content)
					require.Contains(t, faults[0].What(), "x")
				} else {
					require.NoError(t, gerr, string(content))
					require.Equal(t, asJSON(v), asJSON(got))
				}
				require.Equal(t, before+1, one.Place().Line)
				_, err = one.Next()
				require.ErrorIs(t, err, io.EOF)
			}
		})
	}
}

func read(t *testing.T, s *schema.Schema, as *schema.Notation, message string) notation.Reader {
	t.Helper()
	n, err := all.Named(as.Name)
	require.NoError(t, err)
	r, err := n.NewReader(bytes.NewReader([]byte(message)), notation.Options{Source: "in", Schema: s, Check: true})
	require.NoError(t, err)
	return r
}

func asJSON(v value.Value) string { return string((&json.Appender{}).Append(nil, v)) }
