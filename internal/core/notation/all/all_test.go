package all

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

func parse(t testing.TB, id, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse(id, []byte(text))
	s := schema.Parse(id, d)
	require.Empty(t, d.Faults)
	return s
}

const gauge = `
schema: Gauge
notation: fixedwidth
notation settings: {line end: CRLF}
fields:
  - {name: code, type: text, columns: 1-4}
  - {name: day, type: date, columns: 5-12, pattern: yyyyMMdd}
  - {name: level, type: decimal, columns: 13-17, implied decimals: 1}
  - {name: count, type: integer, columns: 18-20, occurs: 0..1}
`

// convert gives the output and the first error of a conversion.
func convert(t testing.TB, from, to string, s *schema.Schema, in string) (string, error) {
	t.Helper()
	source, err := Named(from)
	require.NoError(t, err)
	target, err := Named(to)
	require.NoError(t, err)
	r, err := source.NewReader(strings.NewReader(in), notation.Options{Source: "in", Schema: s})
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	var refused []error
	_, err = notation.Copy(r, func(many bool) (notation.Writer, error) {
		return target.NewWriter(&out, notation.Options{Schema: s, Many: many})
	}, nil, func(err error) {
		var faults fault.List
		if errors.As(err, &faults) {
			err = faults[0]
		}
		refused = append(refused, err)
	})
	if err == nil && len(refused) > 0 {
		err = refused[0]
	}
	return out.String(), err
}

func TestConversionsWithoutASchema(t *testing.T) {
	for _, c := range []struct{ name, from, to, in, want string }{
		{"numbers keep their text", "json", "json", `{"a":1.0,"b":1E+2,"c":12345678901234567890123,"d":-0}`, `{"a":1.0,"b":1E+2,"c":12345678901234567890123,"d":-0}` + "\n"},
		{"null, empty and nested", "json", "ndjson", `[{"a":null,"b":"","c":[],"d":{}},7,"x",[1,[2]]]`, `{"a":null,"b":"","c":[],"d":{}}` + "\n7\n\"x\"\n[1,[2]]\n"},
		{"an empty list stays one", "json", "json", ` [ ] `, "[]\n"},
		{"escapes and Unicode", "json", "json", `"\u00e6\n\"\\\u2028\ud83d\ude00"`, `"æ\n\"\\` + "\u2028\U0001F600\"\n"},
		{"lines", "ndjson", "json", "{\"a\":1}\n\n{\"a\":2}\n", "[\n{\"a\":1},\n{\"a\":2}\n]\n"},
		{"no lines", "ndjson", "json", "", "[]\n"},
		{"csv values are text", "csv", "json", "a,b\r\n1,\"x, \"\"y\"\"\r\nz\"\r\n,\r\n", "[\n{\"a\":\"1\",\"b\":\"x, \\\"y\\\"\\r\\nz\"},\n{\"a\":\"\",\"b\":\"\"}\n]\n"},
		{"csv with LF and no final line end", "csv", "ndjson", "a\nx", "{\"a\":\"x\"}\n"},
		{"csv with a byte order mark", "csv", "ndjson", "\ufeffa\nx\n", "{\"a\":\"x\"}\n"},
		{"csv with names only", "csv", "json", "a,b\n", "[]\n"},
		{"csv quotes what it must", "ndjson", "csv", `{"a":"x","b":"y, z"}` + "\n" + `{"a":"\"","b":"1\r\n2"}`, "a,b\r\nx,\"y, z\"\r\n\"\"\"\",\"1\r\n2\"\r\n"},
		{"csv keeps the order of names", "ndjson", "csv", `{"b":1,"a":2}` + "\n" + `{"a":3,"b":4}`, "b,a\r\n1,2\r\n4,3\r\n"},
		{
			"xml attributes, text and lists", "xml", "json",
			`<?xml version="1.0"?><o:r xmlns:o="urn:o" id="1">t<a>1</a><b/><a x="2">3</a></o:r>`,
			`{"o:r":{"@xmlns:o":"urn:o","@id":"1","a":["1",{"@x":"2","#text":"3"}],"b":"","#text":"t"}}` + "\n",
		},
		{"json to xml", "json", "xml", `{"r":{"@id":"1","a":["1","<&>"],"b":null,"c":{"d":2.50}}}`, `<?xml version="1.0" encoding="UTF-8"?>` + "\n<r id=\"1\">\n  <a>1</a>\n  <a>&lt;&amp;&gt;</a>\n  <b/>\n  <c>\n    <d>2.50</d>\n  </c>\n</r>\n"},
		{"xml entities and cdata", "xml", "ndjson", `<r>&lt;&#x41;<![CDATA[<b>]]></r>`, `{"r":"<A<b>"}` + "\n"},
		{"a list to xml", "json", "xml", `[{"a":1}]`, `<?xml version="1.0" encoding="UTF-8"?>` + "\n<records>\n  <record>\n    <a>1</a>\n  </record>\n</records>\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := convert(t, c.from, c.to, nil, c.in)
			require.NoError(t, err)
			require.Equal(t, c.want, got)
		})
	}
}

func TestXMLThereAndBack(t *testing.T) {
	in := `<?xml version="1.0" encoding="UTF-8"?>` + "\n<p:r xmlns:p=\"urn:p\" a=\"1 &#34;2\">\n  <b>x</b>\n  <b>y</b>\n  <c/>\n</p:r>\n"
	middle, err := convert(t, "xml", "json", nil, in)
	require.NoError(t, err)
	out, err := convert(t, "json", "xml", nil, middle)
	require.NoError(t, err)
	require.Equal(t, strings.Replace(in, "<c/>", "<c></c>", 1), out)

	// A prefix that nothing declares is refused, wherever it stands; one that an element around declares is known.
	for _, undeclared := range []string{`{"p:r":{"a":1}}`, `{"r":{"p:a":1}}`, `{"r":{"@p:a":"1"}}`, `{"r":{"b":{"@xmlns:p":"urn:p"},"p:a":1}}`} {
		_, err = convert(t, "json", "xml", nil, undeclared)
		require.ErrorContains(t, err, "expected a prefix that a namespace is declared for, found \"p\"", undeclared)
	}
	out, err = convert(t, "json", "xml", nil, `[{"r":{"@xmlns:p":"urn:p","b":{"p:a":1,"@xml:lang":"nn"}}},{"p:a":1},{"b":2}]`)
	require.ErrorContains(t, err, "p:a: expected a prefix")
	require.Contains(t, out, "<p:a>1</p:a>")
	require.Contains(t, out, "  <record>\n    <b>2</b>\n  </record>\n</records>\n", "nothing of the record at fault is written")
}

// TestFaults checks the whole text of each fault: its place, what was expected and what was found.
func TestFaults(t *testing.T) {
	fixed := parse(t, "gauge", gauge)
	for _, c := range []struct {
		name, from, in, want string
		schema               *schema.Schema
	}{
		{name: "empty json", from: "json", in: "", want: `in:1:1: expected a JSON value, found an empty file`},
		{name: "cut json", from: "json", in: `{"a":`, want: `in:1:6: this is not JSON: the document ends too early`},
		{name: "json twice", from: "json", in: "{\"a\":1,\n \"a\":2}", want: `in:2:2: this is not JSON: the name "a" stands twice in one object`},
		{name: "two documents", from: "json", in: "1 2", want: `in:1:4: expected the end of the document, found another value`},
		{name: "bad line", from: "ndjson", in: "{\"a\":1}\n{\"a\":}\n", want: `in:2:6: this is not JSON: missing value after object name`},
		{name: "bare quote", from: "csv", in: "a,b\r\n1,x\"y\r\n", want: `in:2:4: expected a quote only around a whole field, found one inside`},
		{name: "after quote", from: "csv", in: "a,b\r\n\"1\"x,2\r\n", want: `in:2:4: expected a delimiter or the end of the record behind the closing quote, found "x"`},
		{name: "open quote", from: "csv", in: "a,b\r\n1,\"x\r\n", want: `in:2:3: expected a closing quote, found the end of the file`},
		{name: "too few", from: "csv", in: "a,b\r\n1\r\n", want: `in:2:1: expected 2 fields, found 1 field`},
		{name: "same names", from: "csv", in: "a,a\r\n", want: `in:1: the name "a" stands in fields 1 and 2 of the header`},
		{name: "empty csv", from: "csv", in: "", want: `in:1:1: expected a first record with the names, found an empty file`},
		{name: "csv bytes", from: "csv", in: "a\n\xff\n", want: `in:2:1: expected UTF-8 text, found the byte FF`},
		{name: "unbalanced", from: "xml", in: "<a><b></a>", want: `in:1:7: expected </b>, found </a>`},
		{name: "cut xml", from: "xml", in: "<a><b>", want: `in:1:7: this is not XML: the document ends inside <a><b>`},
		{name: "dtd", from: "xml", in: "<!DOCTYPE a [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><a>&x;</a>", want: `in:1:58: the entity &x; stands in another file, and nothing is fetched`},
		{name: "entity", from: "xml", in: "<a>&x;</a>", want: `in:1:4: this is not XML: the entity &x; is not known`},
		{name: "trailing", from: "xml", in: "<a/>b", want: `in:1:5: something stands behind the root element`},
		{name: "empty xml", from: "xml", in: "", want: `in:1:1: expected a root element, found the end of the file`},
		{name: "no schema", from: "fixedwidth", in: "x", want: `fixed width cannot be read without a schema. Name one that says which columns each field has`},
		{name: "short line", from: "fixedwidth", in: "SK042031\r\n", schema: fixed, want: `in:1:9: day: expected 20 columns, found a line of 8`},
		{name: "long line", from: "fixedwidth", in: "SK042031030941250001x\r\n", schema: fixed, want: `in:1:21: expected the line to end after column 20, found "x"`},
		{name: "bad date", from: "fixedwidth", in: "SK042031139941250001\r\n", schema: fixed, want: `in:1:5: day: expected a date as yyyyMMdd, found "20311399"`},
		{name: "bad byte", from: "fixedwidth", in: "S\xff042031030941250001\r\n", schema: fixed, want: `in:1:2: code: expected UTF-8 text, found the byte FF. If the sender writes another encoding, set "encoding" of the schema`},
		{name: "line feed", from: "fixedwidth", in: "SK042031030941250001\n", schema: fixed, want: `in:1:21: expected CR LF after the record, found LF. If the sender means it, set "line end" of the schema to any`},
		{name: "no line end", from: "fixedwidth", in: "SK042031030941250001", schema: fixed, want: `in:1:21: expected CR LF after the record, found the end of the file. The file may have been cut short`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := convert(t, c.from, "ndjson", c.schema, c.in)
			require.EqualError(t, err, c.want)
		})
	}
}

func TestFixedWidthThereAndBack(t *testing.T) {
	s := parse(t, "gauge", gauge)
	in := "SK042031030941250007\r\nLC  2031030900015   \r\n"
	middle, err := convert(t, "fixedwidth", "ndjson", s, in)
	require.NoError(t, err)
	require.Equal(t, `{"code":"SK04","day":"2031-03-09","level":4125.0,"count":7}`+"\n"+`{"code":"LC","day":"2031-03-09","level":1.5}`+"\n", middle)
	out, err := convert(t, "ndjson", "fixedwidth", s, middle)
	require.NoError(t, err)
	require.Equal(t, in, out)
	_, err = convert(t, "ndjson", "fixedwidth", s, `{"code":"SK04X","day":"2031-03-09","level":1.5}`)
	require.EqualError(t, err, `1: code: expected at most 4 columns, found "SK04X"`)
	_, err = convert(t, "ndjson", "fixedwidth", s, `{"code":"SK04","day":"2031-03-09","level":1.55}`)
	require.ErrorContains(t, err, `expected at most 1 decimal place, found 1.55`)
}

func TestCharactersAndEncodings(t *testing.T) {
	text := strings.Replace(gauge, "line end: CRLF", "line end: any, count: characters", 1)
	s := parse(t, "gauge", text)
	got, err := convert(t, "fixedwidth", "ndjson", s, "ÆØ042031030941250007\n")
	require.NoError(t, err)
	require.Contains(t, got, `"code":"ÆØ04"`)
	latin := parse(t, "gauge", strings.Replace(gauge, "line end: CRLF", "line end: any, encoding: ISO-8859-1", 1))
	got, err = convert(t, "fixedwidth", "ndjson", latin, "\xc6\xd8042031030941250007\n")
	require.NoError(t, err)
	require.Contains(t, got, `"code":"ÆØ04"`)
	back, err := convert(t, "ndjson", "fixedwidth", latin, got)
	require.NoError(t, err)
	require.Equal(t, "\xc6\xd8042031030941250007\r\n", back)
}

func TestReadingGoesOnBehindABadRecord(t *testing.T) {
	s := parse(t, "gauge", gauge)
	for from, in := range map[string]string{
		"fixedwidth": "SK042031030941250001\r\nbad\r\nSK042031030941250002\r\n",
		"csv":        "code,day,level\r\nA,2031-03-09,1.5\r\n\"B\"x,2031-03-09,2\r\nC,2031-03-09,3\r\n",
		"ndjson":     "{\"code\":\"A\",\"day\":\"2031-03-09\",\"level\":1}\n{\"code\":}\n{\"code\":\"B\",\"day\":\"2031-03-09\",\"level\":1}\n",
		"json":       `[{"code":"A","day":"2031-03-09","level":1},{"code":7},{"code":"B","day":"2031-03-09","level":1}]`,
	} {
		n, _ := Named(from)
		r, err := n.NewReader(strings.NewReader(in), notation.Options{Source: "in", Schema: s})
		require.NoError(t, err, from)
		good, bad := 0, 0
		for {
			_, err := r.Next()
			if err == io.EOF {
				break
			}
			var faults fault.List
			if errors.As(err, &faults) {
				bad++
				continue
			}
			require.NoError(t, err, from)
			good++
		}
		require.Equal(t, [2]int{2, 1}, [2]int{good, bad}, from)
	}
}

// endless is a line of one character that never ends before its size.
type endless struct{ left int }

func (e *endless) Read(p []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n := min(len(p), e.left)
	for i := range p[:n] {
		p[i] = 'x'
	}
	e.left -= n
	return n, nil
}

func TestAVeryLongLineIsPassedOver(t *testing.T) {
	size := 64 << 20
	if os.Getenv("LONG_LINE") != "" {
		fmt.Sscan(os.Getenv("LONG_LINE"), &size)
	}
	s := parse(t, "gauge", gauge)
	in := io.MultiReader(&endless{left: size}, strings.NewReader("\r\nSK042031030941250001\r\n"))
	n, _ := Named("fixedwidth")
	r, err := n.NewReader(in, notation.Options{Source: "in", Schema: s})
	require.NoError(t, err)
	_, err = r.Next()
	require.ErrorContains(t, err, fmt.Sprintf("found a line of %d bytes", size+2))
	v, err := r.Next()
	require.NoError(t, err)
	require.Equal(t, "SK04", v.Field("code").String())
}

func TestDepthAndSizeAreBounded(t *testing.T) {
	_, err := convert(t, "json", "json", nil, strings.Repeat("[", 100_000))
	require.Error(t, err)
	_, err = convert(t, "xml", "json", nil, strings.Repeat("<a>", 100_000))
	require.ErrorContains(t, err, "nest deeper than 512")
	csv, _ := Named("csv")
	r, err := csv.NewReader(io.MultiReader(strings.NewReader("a\n\""), &endless{left: 1 << 20}), notation.Options{Source: "in", MaxRecord: 1 << 16})
	require.NoError(t, err)
	_, err = r.Next()
	require.ErrorContains(t, err, "a record is longer than 65536 bytes")
}

// FuzzReaders feeds foreign bytes to every reader: no panic, no endless loop, and what was read is
// written and read again to the same values.
func FuzzReaders(f *testing.F) {
	for i := range Kinds {
		f.Add(i, "{\"a\":[1,2.50,\"x\"],\"b\":null}")
		f.Add(i, "a,b\r\n1,\"x\"\"y\"\r\n")
		f.Add(i, "<a b=\"1\">t<c/>u</a>")
		f.Add(i, "SK042031030941250001\r\nx")
	}
	s := parse(f, "gauge", gauge)
	f.Fuzz(func(t *testing.T, which int, in string) {
		n := Kinds[uint(which)%uint(len(Kinds))]
		o := notation.Options{Source: "in", MaxRecord: 1 << 16}
		if n.Name == "fixedwidth" {
			o.Schema = s
		}
		r, err := n.NewReader(strings.NewReader(in), o)
		for k := 0; err == nil && k <= len(in)+2; k++ {
			_, err = r.Next()
			var faults fault.List
			if errors.As(err, &faults) {
				for _, ft := range faults {
					require.NotEmpty(t, ft.What())
				}
				err = nil
			}
			require.LessOrEqual(t, k, len(in)+1, "more records than bytes")
		}
		text, err := convert(t, n.Name, "ndjson", o.Schema, in)
		if err != nil {
			return
		}
		again, err := convert(t, "ndjson", "ndjson", nil, text)
		require.NoError(t, err, text)
		require.Equal(t, text, again)
	})
}
