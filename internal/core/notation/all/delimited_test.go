package all

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
)

const two = "schema: X\nnotation: csv\nfields:\n  - {name: a, type: integer}\n  - {name: b, type: text, occurs: 0..1}\n"

// TestDelimitedFilesAsTheyCome: blank lines, a lone CR, quotes inside of fields and names that the schema lacks, each as the
// settings say.
func TestDelimitedFilesAsTheyCome(t *testing.T) {
	with := func(settings string) string { return two + "notation settings: {" + settings + "}\n" }
	for _, c := range []struct{ name, schema, in, want, fault string }{
		{"blank lines", two, "\r\na,b\r\n\r\n1,x\n  \n\n2,y\n\n", "1 x|2 y", ""},
		{"blank lines as faults", with("blank lines: faults"), "a,b\n1,x\n\n2,y\n", "1 x|2 y", "in:3:1: expected 2 fields, found 1 field"},
		{"a blank line of one field", "schema: X\nnotation: csv\nfields:\n  - {name: a, type: text}\n", "a\nx\n\ny\n", "x||y", ""},
		{"a line of delimiters is none", with("delimiter: ' '"), "a b\n1 x\n \n", "1 x", "in:3:1: a: expected a whole number, found \"\""},
		{"lone CR", two, "a,b\r1,x\r\r2,\"y\rz\"\r", "1 x|2 y\rz", ""},
		{"lone CR, as the schema says", with("line end: CR"), "a,b\r1,x\r2,\"y\n\"\r3,w", "1 x|2 y\n|3 w", ""},
		{"a fault behind lone CR", two, "a,b\r1,x\rz,y\r", "1 x", "in:3:1: a: expected a whole number, found \"z\""},
		{"quotes kept", with("stray quotes: kept"), "a,b\n1,5\" pipe\n2,\"6\" pipe\n3,\"quoted, \"\"whole\"\"\"\n4,\"\"x\n", "1 5\" pipe|2 \"6\" pipe|3 quoted, \"whole\"|4 \"\"x", ""},
		{"quotes refused", two, "a,b\n1,5\" pipe\n2,y\n", "2 y", "in:2:4: expected a quote only around a whole field, found one inside"},
		{"names that the schema lacks", two, "x,a,y,b\n9,1,8,p\n7,2,6,q\n", "1 p|2 q", ""},
		{"names that the schema refuses", with("other fields: fault"), "x,a,b\n9,1,p\n", "", "in:1: expected names of the schema (a, b), found \"x\""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := parse(t, "x", c.schema)
			got, faults := rows(t, s, c.in, nil)
			require.Equal(t, c.want, got)
			require.Equal(t, c.fault, faults)
			alike(t, "csv", s, c.in)
		})
	}
	var seen notation.Ignored
	_, _ = rows(t, parse(t, "x", two), "x,a,y\n\n1,2,3\n\n", &seen)
	require.Equal(t, []string{"/x", "/y"}, seen.Paths())
	require.Equal(t, 2, seen.Blank)
	cr := parse(t, "x", with("line end: CR"))
	out, err := convert(t, "ndjson", "csv", cr, `{"a":1,"b":"x"}`)
	require.NoError(t, err)
	require.Equal(t, "a,b\r1,x\r", out)
}

// rows reads a delimited text: the records that are good, and the first fault.
func rows(t *testing.T, s *schema.Schema, in string, ignored *notation.Ignored) (list, faults string) {
	t.Helper()
	k, err := Named("csv")
	require.NoError(t, err)
	r, err := k.NewReader(strings.NewReader(in), notation.Options{Source: "in", Schema: s, Check: true, Ignored: ignored})
	if err != nil {
		return "", err.Error()
	}
	var out []string
	for {
		v, err := r.Next()
		if err == io.EOF {
			return strings.Join(out, "|"), faults
		}
		if err != nil {
			faults = err.Error()
			continue
		}
		var cells []string
		for _, f := range v.Record().Fields {
			cells = append(cells, f.String())
		}
		out = append(out, strings.Join(cells, " "))
	}
}
