package engine

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
)

// TestAnExcerptIsReadAsTheRecordItWasTakenFrom: also where lines around the records are passed over,
// and where a record has several lines.
func TestAnExcerptIsReadAsTheRecordItWasTakenFrom(t *testing.T) {
	for _, c := range []struct{ schema, text string }{
		{"notation: fixedwidth\nwritten: {skip first: 2, skip last: 1, line end: LF}\nfields: [{name: a, type: text, columns: 1-3}]\n", "abc"},
		{"notation: csv\nwritten: {skip first: 1, header: false}\nfields: [{name: a, type: text}, {name: b, type: text}]\n", "x,\"two\r\nlines\""},
		{"notation: fixedwidth\nwritten: {begins: H, line end: CRLF}\nfields:\n  - {name: a, type: text, columns: 2}\n  - {name: d, type: record, occurs: 0..n, begins: D, fields: [{name: b, type: text, columns: 2}]}\n", "H1\nD2\nD3"},
	} {
		d := doc.Parse("x.yaml", []byte("schema: X\n"+c.schema))
		s := schema.Parse("x", d)
		require.Empty(t, d.Faults)
		content, before := excerpt(s, c.text)
		n, err := all.Named(s.Notation)
		require.NoError(t, err)
		r, err := n.NewReader(bytes.NewReader(content), notation.Options{Source: "in", Schema: s, Check: true})
		require.NoError(t, err)
		_, err = r.Next()
		require.NoError(t, err, c.text)
		require.Equal(t, before+1, r.Place().Line)
		_, err = r.Next()
		require.ErrorIs(t, err, io.EOF)
	}
}
