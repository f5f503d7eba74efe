package validate

import (
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func parse(t *testing.T, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	return s
}

const order = `fields:
  - {name: no, type: integer, constraints: {minimum: 10}}
  - {name: state, type: text, constraints: {codes: {open: "", void: ""}}}
  - {name: tag, type: text, occurs: 0..2, constraints: {max length: 3}}
  - name: line
    type: record
    occurs: 1..n
    fields:
      - {name: sku, type: text, constraints: {pattern: "[A-Z]+"}}
      - {name: qty, type: integer, occurs: 0..1}
`

func found(t *testing.T, schemaText, in string) ([]string, Summary) {
	t.Helper()
	var got []string
	s := parse(t, schemaText)
	tally, err := File(s, "x.yaml", all.Of(s), "in", strings.NewReader(in), func(f *fault.Fault) bool {
		at := f.Error()
		if f.Rule.Line > 0 {
			at += fmt.Sprintf(" [%s:%d]", f.Rule.Source, f.Rule.Line)
		}
		got = append(got, at)
		return true
	})
	require.NoError(t, err)
	return got, tally
}

// TestEveryNotationHasTheSameList: every fault at once, with line, column, path and the rule.
func TestEveryNotationHasTheSameList(t *testing.T) {
	for _, c := range []struct {
		name, schema, in string
		want             []string
	}{
		{"json", "schema: X\nnotation: json\n" + order + "other fields: fault\n", "[\n {\"no\":9,\"state\":\"lost\",\"tag\":[\"a\",\"long\",\"c\"],\"line\":[{\"sku\":\"a\",\"qty\":null}]},\n {\"no\":\"x\",\"line\":[],\"extra\":1}\n]", []string{
			"in:2:8 /0/no: no: expected at least 10, found 9 [x.yaml:4]",
			`in:2:18 /0/state: state: expected open · void, found "lost" [x.yaml:5]`,
			"in:2:36 /0/tag/1: tag: expected at most 3 characters, found 4 [x.yaml:6]",
			"in:2:31 /0/tag: tag: expected 0 to 2 occurrences, found 3 times [x.yaml:6]",
			`in:2:63 /0/line/0/sku: sku: expected text like [A-Z]+, found "a" [x.yaml:11]`,
			"in:2:73 /0/line/0/qty: qty: expected integer or nothing, found null [x.yaml:12]",
			`in:3:8 /1/no: no: expected a whole number, found the string "x" [x.yaml:4]`,
			"in:3:19 /1/line: line: expected at least 1 occurrences, found 0 times [x.yaml:7]",
			`in:3:22 /1/extra: expected one of no, state, tag, line, found "extra" [x.yaml:1]`,
			"in:3:2 /1: state: expected a value, found absent [x.yaml:5]",
		}},
		{"ndjson", "schema: X\nnotation: ndjson\n" + order, "{\"no\":10,\"state\":\"open\",\"line\":[{\"sku\":\"A\"}]}\n{\"no\":9,\"state\":\"open\",\"line\":[{}]}\nnonsense\n", []string{
			"in:2:7 /no: no: expected at least 10, found 9 [x.yaml:4]",
			"in:2:32 /line/0: sku: expected a value, found absent [x.yaml:11]",
			"in:3:2: this is not JSON: invalid character 'o' in literal null (expecting 'u')",
		}},
		{"xml", "schema: X\nnotation: xml\nnotation settings: {root: orders, record: order}\n" + order, "<orders>\n <order><no>9</no><state>open</state>\n  <line><sku>a</sku></line><line/></order>\n <order><no>x</no></order>\n</orders>", []string{
			"in:2:13 /orders/order/no: no: expected at least 10, found 9 [x.yaml:5]",
			`in:3:14 /orders/order/line/sku: sku: expected text like [A-Z]+, found "a" [x.yaml:12]`,
			"in:3:28 /orders/order/line: sku: expected a value, found absent [x.yaml:12]",
			`in:4:13 /orders/order/no: no: expected a whole number, found "x" [x.yaml:5]`,
			"in:4:2 /orders/order: state: expected a value, found absent [x.yaml:6]",
			"in:4:2 /orders/order: line: expected a value, found absent [x.yaml:8]",
		}},
		{"csv", "schema: X\nnotation: csv\nfields:\n  - {name: a, type: integer, constraints: {minimum: 10}}\n  - {name: b, type: text, constraints: {max length: 2}}\n", "a,b\n9,\"x\"\n12,long\nx,y,z\n", []string{
			"in:2:1 /a: a: expected at least 10, found 9 [x.yaml:4]",
			"in:3:4 /b: b: expected at most 2 characters, found 4 [x.yaml:5]",
			"in:4:1: expected 2 fields, found 3 fields [x.yaml:1]",
		}},
		{"fixed width", "schema: X\nnotation: fixedwidth\nfields:\n  - {name: a, type: integer, columns: 1-2, constraints: {minimum: 10}}\n  - {name: b, type: text, columns: 3-5, constraints: {codes: {abc: \"\"}}}\n", "09abc\n12abd\nxxabc\n12ab\n", []string{
			"in:1:1 /a: a: expected at least 10, found 9 [x.yaml:4]",
			`in:2:3 /b: b: expected abc, found "abd" [x.yaml:5]`,
			`in:3:1: a: expected a whole number, found "xx" [x.yaml:4]`,
			"in:4:5: b: expected 5 columns, found a line of 4 [x.yaml:5]",
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, tally := found(t, c.schema, c.in)
			require.Equal(t, strings.Join(c.want, "\n"), strings.Join(got, "\n"))
			require.Equal(t, len(c.want), tally.Faults)
			require.False(t, tally.OK())
		})
	}
}

// TestLinesThatAreNoRecordsArePassedOver: headings, trailers, comments and lines of other kinds; the
// places of the others stay those of the file.
func TestLinesThatAreNoRecordsArePassedOver(t *testing.T) {
	const fixed = "schema: X\nnotation: fixedwidth\nnotation settings: {skip first: 1, skip last: 2, comment: '#', starts with: D}\nfields:\n  - {name: kind, type: text, columns: 1-1}\n  - {name: a, type: integer, columns: 2-3, constraints: {minimum: 10}}\n"
	got, tally := found(t, fixed, "HEAD of it\n# a comment\nD12\nH: another kind\nD09\nD11\nD01\nEND\n")
	require.Equal(t, []string{"in:5:2 /a: a: expected at least 10, found 9 [x.yaml:6]"}, got)
	require.Equal(t, 3, tally.Records, "the last two lines are no records")

	const csv = "schema: X\nnotation: csv\nnotation settings: {skip first: 2, comment: '#'}\nfields:\n  - {name: a, type: integer}\n  - {name: b, type: text}\n"
	got, tally = found(t, csv, "made today\n\n#x\na,b\n1,x\n# not \"this\ny,z\n2,\"two\nlines\"\n# end")
	require.Equal(t, []string{`in:7:1: a: expected a whole number, found "y" [x.yaml:5]`}, got)
	require.Equal(t, 3, tally.Records)

	for _, wrong := range []string{"notation: json\nnotation settings: {comment: '#'}", "notation: csv\nnotation settings: {skip last: 1}", "notation: xml\nnotation settings: {starts with: D}", "notation: fixedwidth\nnotation settings: {skip last: 5000}"} {
		d := partfile.Parse("x.yaml", []byte("schema: X\n"+wrong+"\nfields:\n  - {name: a, type: text, columns: 1-2}\n"))
		schema.Parse("x", d)
		require.NotEmpty(t, d.Faults, wrong)
	}
}

func TestWhatCannotBeReadOnIsAFaultOfTheMessage(t *testing.T) {
	got, tally := found(t, "schema: X\nnotation: json\n"+order, `[{"no":10,`)
	require.Len(t, got, 1)
	require.Contains(t, got[0], "the document ends too early")
	require.Equal(t, 1, tally.Bad)
	got, _ = found(t, "schema: X\nnotation: ndjson\n"+order, "")
	require.Equal(t, []string{"in:1: expected at least one record, found none"}, got)
}

func TestReportingCanEnd(t *testing.T) {
	n := 0
	s := parse(t, "schema: X\nnotation: csv\nfields: [{name: a, type: integer}]\n")
	tally, err := File(s, "x", all.Of(s), "in", strings.NewReader("a\n"+strings.Repeat("x\n", 1000)), func(*fault.Fault) bool {
		n++
		return n < 5
	})
	require.NoError(t, err)
	require.Equal(t, 5, tally.Faults)
}

// endless gives lines of a file of any size.
type endless struct {
	left int
	line string
}

func (e *endless) Read(p []byte) (int, error) {
	if e.left <= 0 {
		return 0, io.EOF
	}
	n := 0
	for n+len(e.line) <= len(p) && e.left > 0 {
		n += copy(p[n:], e.line)
		e.left -= len(e.line)
	}
	return n, nil
}

func TestMemoryDoesNotGrowWithTheFile(t *testing.T) {
	s := parse(t, "schema: X\nnotation: ndjson\n"+order)
	line := "{\"no\":10,\"state\":\"open\",\"line\":[{\"sku\":\"A\"}]}\n"
	var most uint64
	var m runtime.MemStats
	report := func(*fault.Fault) bool { return true }
	for _, size := range []int{1 << 20, 32 << 20} {
		tally, err := File(s, "x", all.Of(s), "in", &endless{left: size, line: line}, report)
		require.NoError(t, err)
		require.True(t, tally.OK())
		require.Greater(t, tally.Records, size/len(line)-1)
		runtime.GC()
		runtime.ReadMemStats(&m)
		if most == 0 {
			most = m.HeapAlloc
		}
	}
	require.Less(t, m.HeapAlloc, most+8<<20)
}

// TestNullIsNotEmpty: absent, null and empty stay three things in XML and back.
func TestNullIsNotEmpty(t *testing.T) {
	s := parse(t, "schema: X\nnotation: xml\nnotation settings: {root: r}\nfields:\n  - {name: a, type: text, occurs: 0..1, nullable: true}\n  - {name: b, type: text, occurs: 0..1, nullable: true}\n  - {name: c, type: text, occurs: 0..1}\n  - {name: d, type: integer, occurs: 0..n, nullable: true}\n")
	n, err := all.Named("xml")
	require.NoError(t, err)
	in := "<r><a/><b xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance' xsi:nil='true'/><d>1</d><d>2</d></r>"
	r, err := n.NewReader(strings.NewReader(in), notation.Options{Schema: s, Check: true})
	require.NoError(t, err)
	v, err := r.Next()
	require.NoError(t, err)
	require.Equal(t, []value.Kind{value.Text, value.Null, value.Absent}, []value.Kind{v.Field("a").Kind(), v.Field("b").Kind(), v.Field("c").Kind()})
	var b strings.Builder
	w, err := n.NewWriter(&b, notation.Options{Schema: s})
	require.NoError(t, err)
	require.NoError(t, w.Write(v))
	require.NoError(t, w.Close())
	require.Contains(t, b.String(), `xsi:nil="true"/>`)
	r, err = n.NewReader(strings.NewReader(b.String()), notation.Options{Schema: s})
	require.NoError(t, err)
	back, err := r.Next()
	require.NoError(t, err)
	require.True(t, value.Equal(v, back), b.String())
	got, _ := found(t, "schema: X\nnotation: xml\nfields: [{name: a, type: text}]\n", "<r><a xsi:nil='true'/></r>")
	require.Len(t, got, 1, "null where none is allowed")
}
