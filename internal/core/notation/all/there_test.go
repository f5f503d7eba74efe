package all

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// way is a notation with settings, and what its texts may hold.
type way struct {
	notation, written string
	letters           string
	flat              bool // single fields only
	width             int  // of a field; 0: as long as it is
	blank             bool // an empty text is as none
}

var ways = map[string]way{
	"json":                 {notation: "json", letters: "ab\"\\/\n\r\t\x00\u2028 æ世🜁{}[],:"},
	"ndjson":               {notation: "ndjson", letters: "ab\"\\\n\r \u2029æ"},
	"xml":                  {notation: "xml", written: "root: rs, record: r", letters: "ab<>&\"' ]]>æ世🜁\n", blank: true},
	"xml, in attributes":   {notation: "xml", written: "root: rs, record: r, values as: attributes", letters: "ab<>&\"'æ\t\n", blank: true},
	"csv":                  {notation: "csv", letters: "ab\",;\n\r 'æ#", flat: true, blank: true},
	"csv, escaped":         {notation: "csv", written: `delimiter: ";", quote: "'", escape: "\\"`, letters: "ab'\\;,\n ", flat: true, blank: true},
	"csv, bare":            {notation: "csv", written: "header: false, line end: LF", letters: "ab\", ", flat: true, blank: true},
	"csv, Latin 1":         {notation: "csv", written: "encoding: ISO-8859-1", letters: "abæøåÿ\", ", flat: true, blank: true},
	"fixed width":          {notation: "fixedwidth", letters: "ab-.,x", flat: true, width: 12, blank: true},
	"fixed, by characters": {notation: "fixedwidth", written: "count: characters", letters: "abæ世", flat: true, width: 12, blank: true},
}

// schemaOf makes a schema of fields of every type.
func (w way) schemaOf(t *testing.T, r *rand.Rand) *schema.Schema {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "schema: S\nnotation: %s\nnotation settings: {%s}\nfields:\n", w.notation, w.written)
	column := 1
	add := func(indent, name, kind string, more ...string) {
		if w.width > 0 {
			more = append(more, fmt.Sprintf("columns: %d-%d", column, column+w.width-1))
			column += w.width
		}
		fmt.Fprintf(&b, "%s- {name: %s, type: %s%s}\n", indent, name, kind, strings.Join(append([]string{""}, more...), ", "))
	}
	kinds := []string{"text", "integer", "decimal", "boolean", "date", "text"}
	for i, kind := range kinds {
		more := []string{}
		if r.IntN(2) == 0 {
			more = append(more, "occurs: 0..1")
		}
		add("  ", "f"+string(rune('a'+i)), kind, more...)
	}
	if !w.flat {
		add("  ", "list", "text", "occurs: 0..n")
		b.WriteString("  - name: inner\n    type: record\n    occurs: 0..n\n    fields:\n")
		add("      ", "x", "text")
		add("      ", "y", "integer", "occurs: 0..1")
	}
	d := partfile.Parse("s.yaml", []byte(b.String()))
	s := schema.Parse("s", d)
	require.Empty(t, d.Faults, b.String())
	return s
}

func (w way) text(r *rand.Rand) string {
	letters := []rune(w.letters)
	n := r.IntN(10)
	if w.width > 0 {
		n = 1 + r.IntN(4)
	}
	var b strings.Builder
	for range n {
		b.WriteRune(letters[r.IntN(len(letters))])
	}
	return b.String()
}

// valueOf makes a value of a field.
func (w way) valueOf(r *rand.Rand, f *schema.Field) value.Value {
	if f.List() {
		var items []value.Value
		one := *f
		one.Min, one.Max = 1, 1
		for range r.IntN(4) {
			if f.Kind == value.RecordKind {
				items = append(items, w.recordOf(r, f))
			} else if v := w.valueOf(r, &one); v.Text() != "" { // an empty entry has no place in every notation
				items = append(items, v)
			}
		}
		return value.ListOf(items...)
	}
	if !f.Required() && r.IntN(3) == 0 {
		return value.Value{}
	}
	switch f.Kind {
	case value.Integer:
		return value.Int(int64(r.IntN(2_000_000) - 1_000_000))
	case value.Decimal:
		return value.NewDecimal(int64(r.IntN(2_000_000)-1_000_000), int32(-r.IntN(5)))
	case value.Boolean:
		return value.Bool(r.IntN(2) == 0)
	case value.Date:
		at := time.Date(1900+r.IntN(200), 1, 1+r.IntN(365), 0, 0, 0, 0, time.UTC)
		return value.DateOf(at.Year(), int(at.Month()), at.Day())
	}
	return value.NewText(w.text(r))
}

func (w way) recordOf(r *rand.Rand, of *schema.Field) value.Value {
	fields := make([]value.Value, len(of.Fields))
	for i, f := range of.Fields {
		fields[i] = w.valueOf(r, f)
	}
	return value.NewRecord(of.Layout(), fields)
}

// plainly is a value as it comes back from a notation in which an empty text, or an empty list, is as none.
func (w way) plainly(v value.Value) value.Value {
	switch {
	case v.Kind() == value.RecordKind:
		fields := make([]value.Value, len(v.Record().Fields))
		for i, f := range v.Record().Fields {
			fields[i] = w.plainly(f)
		}
		return value.NewRecord(v.Record().Layout, fields)
	case v.Kind() == value.ListKind && len(v.Items()) == 0, w.blank && v.Kind() == value.Text && v.Text() == "":
		return value.Value{}
	case v.Kind() == value.ListKind:
		items := make([]value.Value, len(v.Items()))
		for i, item := range v.Items() {
			items[i] = w.plainly(item)
		}
		return value.ListOf(items...)
	}
	return v
}

// TestWhatIsWrittenIsReadAgain: values of every type and texts with everything that a notation treats specially come back as
// they were, one record and many, in every notation.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	for name, w := range ways {
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(21, 22))
			n, err := Named(w.notation)
			require.NoError(t, err)
			for range 400 {
				s := w.schemaOf(t, r)
				var records []value.Value
				for range 1 + r.IntN(4) {
					records = append(records, w.recordOf(r, s.Root))
				}
				var out bytes.Buffer
				writer, err := n.NewWriter(&out, notation.Options{Schema: s, Many: len(records) > 1})
				require.NoError(t, err)
				for _, v := range records {
					require.NoError(t, writer.Write(v))
				}
				require.NoError(t, writer.Close())
				reader, err := n.NewReader(bytes.NewReader(out.Bytes()), notation.Options{Schema: s, Check: true})
				require.NoError(t, err)
				for i, want := range records {
					got, err := reader.Next()
					require.NoError(t, err, "record %d of\n%s", i, out.String())
					require.True(t, value.Equal(w.plainly(want), w.plainly(got)), "record %d of\n%q\nis\n%s\nand was\n%s", i, out.String(), told(got), told(want))
				}
				_, err = reader.Next()
				require.ErrorIs(t, err, io.EOF, out.String())
			}
		})
	}
}

// told writes a value for a person who looks for a difference.
func told(v value.Value) string {
	switch v.Kind() {
	case value.RecordKind:
		var parts []string
		for i, f := range v.Record().Fields {
			parts = append(parts, v.Record().Layout.Names[i]+"="+told(f))
		}
		return "{" + strings.Join(parts, " ") + "}"
	case value.ListKind:
		var parts []string
		for _, item := range v.Items() {
			parts = append(parts, told(item))
		}
		return "[" + strings.Join(parts, " ") + "]"
	}
	return fmt.Sprintf("%s %q", v.Kind(), v.String())
}
