package infer

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// fields shows the fields of a part as one line each: name type occurs and what else is set.
func fields(r *Result) string {
	var b strings.Builder
	r.Schema.Root.Walk(func(path []string, f *schema.Field) {
		if len(path) == 0 {
			return
		}
		fmt.Fprintf(&b, "%s%s %s", strings.Repeat("  ", len(path)-1), f.Name, f.Kind)
		for _, more := range []string{f.Occurs(), f.WireFormat.Columns(), f.WireFormat.Pattern, f.Constraints.CodeText()} {
			if more != "" && more != "1" {
				b.WriteString(" " + more)
			}
		}
		for name, is := range map[string]bool{"nullable": f.Nullable, "attribute": f.WireFormat.Attribute, "content": f.WireFormat.Content} {
			if is {
				b.WriteString(" " + name)
			}
		}
		b.WriteString("\n")
	})
	return b.String()
}

// kindNamed is a notation of the list.
func kindNamed(name string) *notation.Kind {
	k, err := all.Named(name)
	if err != nil {
		panic(err)
	}
	return k
}

func from(t *testing.T, notation string, contents ...string) *Result {
	t.Helper()
	var samples []Sample
	for i, c := range contents {
		samples = append(samples, Sample{Name: fmt.Sprintf("s%d", i), Content: []byte(c)})
	}
	r, err := From("x", "X", kindNamed(notation), samples...)
	require.NoError(t, err)
	d := partfile.Parse("x.yaml", schema.Write(r.Schema))
	schema.Parse("x", d)
	require.Empty(t, d.Faults, "an inferred schema is a good part")
	return r
}

func TestTypesAreWidenedOverAllRecords(t *testing.T) {
	for _, c := range []struct{ name, notation, in, want string }{
		{"integers and decimals", "ndjson", "{\"a\":1}\n{\"a\":2.50}", "a decimal\n"},
		{"optional and null", "ndjson", "{\"a\":1,\"b\":null}\n{\"b\":\"x\"}", "a integer 0..1\nb text nullable\n"},
		{"numbers and text", "json", `[{"a":1},{"a":"x"}]`, "a variant\n  number integer\n  text text\n"},
		{"a map by its names", "json", `{"rates":{"EUR":1,"SEK":11.5,"NOK":11}}`, "rates map\n  value decimal\n"},
		{"a map of records", "json", `[{"2031-01-01":{"high":1},"2031-01-02":{"high":2,"low":1},"2031-01-03":{"high":2}}]`, "value record\n  high integer\n  low integer 0..1\n"},
		{"a map of sparse names", "ndjson", sparse(), "tides map\n  value integer\n"},
		{"names of few records", "ndjson", "{\"a\":1,\"b\":2,\"c\":3}", "a integer\nb integer\nc integer\n"},
		{"shapes that a field tells", "json", `[{"pay":{"kind":"card","no":"41"}},{"pay":{"kind":"bank","iban":"NO1"}},{"pay":{"kind":"bank","iban":"NO2"}}]`, "pay variant\n  card record\n    kind text card\n    no text\n  bank record\n    kind text bank\n    iban text\n"},
		{"one field more is no other shape", "json", `[{"state":"open","no":1},{"state":"shut","no":2,"at":3}]`, "state text\nno integer\nat integer 0..1\n"},
		{"a record or a text", "ndjson", "{\"a\":{\"b\":1}}\n{\"a\":\"x\"}", "a variant\n  record record\n    b integer\n  text text\n"},
		{"lists of lists", "json", `{"at":[[1,2],[3.5]]}`, "at list 1..n\n  item decimal 0..n\n"},
		{"null in a list", "json", `{"at":[1,null]}`, "at variant 1..n\n  number integer\n  null null\n"},
		{"only null", "json", `{"at":null}`, "at any nullable\n"},
		{"texts as messages", "json", `["a","b"]`, ""},
		{"text of digits stays text", "ndjson", "{\"a\":\"1\"}", "a text\n"},
		{"leading zeros stay text", "csv", "zip,qty\n01234,12\n99999,7\n", "zip text\nqty integer\n"},
		{"lists", "json", `{"a":[1,2],"b":[]}`, "a integer 1..n\nb any 0..n\n"},
		{"records in lists", "json", `[{"l":[{"q":1},{"q":2,"t":"x"}]},{"l":[]}]`, "l record 0..n\n  q integer\n  t text 0..1\n"},
		{
			"dates", "csv", "a,b,c,d,e\n2031-03-01,20310301,01.03.2031,2031-03-01T10:00:00Z,10:15:00\n2031-12-31,20311231,31.12.2031,2031-12-31T10:00:00+01:00,23:59:59\n",
			"a date\nb date yyyyMMdd\nc date dd.MM.yyyy\nd timestamp\ne time\n",
		},
		{"the day tells the order", "csv", "a,b\n01/13/2031,13/01/2031\n02/03/2031,03/02/2031\n", "a date MM/dd/yyyy\nb date dd/MM/yyyy\n"},
		{"empty is optional in delimited", "csv", "a,b\n1,\n2,x\n", "a integer\nb text 0..1\n"},
		{"eight digits that are no date", "csv", "a\n20319999\n10000000\n", "a integer\n"},
		{"booleans", "ndjson", "{\"a\":true,\"b\":\"true\"}\n{\"a\":false,\"b\":\"false\"}", "a boolean\nb text\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.want, fields(from(t, c.notation, c.in)))
		})
	}
}

// sparse are records that each have two of many names.
func sparse() string {
	var b strings.Builder
	for i := range 10 {
		fmt.Fprintf(&b, "{\"tides\":{\"pier%c\":%d,\"pier%c\":%d}}\n", 'a'+i*2, i, 'b'+i*2, i)
	}
	return b.String()
}

func TestSeveralSamplesMakeOneSchema(t *testing.T) {
	r := from(t, "json", `{"a":1,"b":{"c":"x"}}`, `{"a":2.5}`)
	require.Equal(t, "a decimal\nb record 0..1\n  c text\n", fields(r))
	require.Equal(t, "seen in 2 of 2, 1 to 2.5", r.Fields[0].Evidence.Said())
	require.Equal(t, "seen in 1 of 2", r.Fields[1].Evidence.Said())
}

func TestCodeListsAreProposed(t *testing.T) {
	var b strings.Builder
	b.WriteString("no,state,note\n")
	for i := range 48 {
		fmt.Fprintf(&b, "%d,%s,%s\n", i, []string{"open", "void", "paid"}[i%3], strings.Repeat("n", i%31+1))
	}
	r := from(t, "csv", b.String())
	require.Equal(t, "no integer\nstate text\nnote text\n", fields(r), "a code list is a proposal")
	require.Equal(t, "seen in 48 of 48, longest 4, perhaps a code list: open · paid · void", r.Fields[1].Evidence.Said())
	require.Nil(t, r.Fields[2].Evidence.Proposed())
	require.Equal(t, "seen in 48 of 48, longest 31", r.Fields[2].Evidence.Said())
}

func TestXMLKeepsAttributesAndText(t *testing.T) {
	r := from(t, "xml", `<orders><order id="7"><line qty="2">kelp</line></order><order id="8"><line qty="1">salt</line><line qty="3">oil</line><note/></order></orders>`)
	require.Equal(t, "orders", r.Schema.Settings.RootName)
	require.Equal(t, "order", r.Schema.Settings.RecordName)
	require.Equal(t, "id integer attribute\nline record 1..n\n  qty integer attribute\n  text text content\nnote text 0..1\n", fields(r))
}

func TestDelimitersAreDetected(t *testing.T) {
	for _, c := range []struct {
		name, in string
		want     schema.Settings
	}{
		{"comma", "name,qty\nkelp,2\n", schema.Settings{Encoding: "UTF-8", LineEnd: "LF", Delimiter: ",", Quote: `"`, Header: true}},
		{"semicolon with commas inside", "name;price\r\nkelp;1,50\r\nsalt;2,00\r\n", schema.Settings{Encoding: "UTF-8", LineEnd: "CRLF", Delimiter: ";", Quote: `"`, Header: true}},
		{"tab without names", "1\t2031-01-01\n2\t2031-01-02\n", schema.Settings{Encoding: "UTF-8", LineEnd: "LF", Delimiter: "\t", Quote: `"`}},
		{"quoted delimiters", "a|b\n\"x|y\"|2\n", schema.Settings{Encoding: "UTF-8", LineEnd: "LF", Delimiter: "|", Quote: `"`, Header: true}},
		{"windows bytes", "name,mark\nkelp,\x93x\x94\n", schema.Settings{Encoding: "windows-1252", LineEnd: "LF", Delimiter: ",", Quote: `"`, Header: true}},
		{"latin bytes", "name,place\nkelp,\xc5rhus\n", schema.Settings{Encoding: "ISO-8859-1", LineEnd: "LF", Delimiter: ",", Quote: `"`, Header: true}},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, "csv", Notation([]byte(c.in)).Name)
			require.Equal(t, c.want, Settings([]byte(c.in), kindNamed("csv").Notation))
			from(t, "csv", c.in)
		})
	}
}

func TestNotationsAreTold(t *testing.T) {
	for in, want := range map[string]string{
		"\ufeff <a/>": "xml", "[1]": "json", "{\"a\":\n1}": "json", "{\"a\":1}\n{\"a\":2}\n": "ndjson", "a,b\n1,2": "csv",
		"AB0120310301\nAB0220310302\n": "fixedwidth", "": "csv",
	} {
		require.Equal(t, want, Notation([]byte(in)).Name, in)
	}
}

func TestColumnsAreProposedWhereTheLinesChangeCharacter(t *testing.T) {
	r := from(t, "fixedwidth", "LS01  kelp bale 20310302R\nLS02  salt      20310303F\nSK04  net rope  20310304S\n")
	require.Equal(t, "field_1 text 1-2\nfield_2 text 3-6\nfield_3 text 7-16\nfield_4 date 17-24 yyyyMMdd\nfield_5 text 25\n", fields(r))
	require.Equal(t, [][2]int{{0, 3}, {3, 5}}, Columns([]string{"ab 12", "cd 34", "the odd line out"}))
	require.Empty(t, Columns(nil))
}

func TestWhatCannotBeReadIsSaid(t *testing.T) {
	_, err := From("x", "X", kindNamed("json"), Sample{"a.json", []byte(`{"a":1`)})
	require.ErrorContains(t, err, "a.json:1")
	_, err = From("x", "X", kindNamed("csv"), Sample{"a.csv", nil})
	require.ErrorContains(t, err, "at least one record")
	_, err = From("x", "X", kindNamed("fixedwidth"), Sample{"a.txt", nil})
	require.ErrorContains(t, err, "at least one record")
	_, err = From("x", "X", kindNamed("ndjson"), Sample{"a", nil})
	require.ErrorContains(t, err, "at least one record")
}

func FuzzFrom(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", `{"a":[{"b":1}]}`, "<a><b c='1'>x</b></a>", "AB01\nCD02\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		r, err := From("x", "X", Notation(in), Sample{"in", in})
		if err == nil {
			d := partfile.Parse("x.yaml", schema.Write(r.Schema))
			require.NotNil(t, schema.Parse("x", d))
		}
	})
}

// TestColumnsAreBytesWhereLinesAreEquallyLongInThem: and characters otherwise.
func TestColumnsAreBytesWhereLinesAreEquallyLongInThem(t *testing.T) {
	for text, characters := range map[string]bool{
		"01 Þóra  7\r\n02 Jon     9\r\n03 Ada     5\r\n": false, // twelve bytes each
		"01 Þóra 7\r\n02 Jon  9\r\n03 Ada  5\r\n":        true,
		"01 Þóra 7\r\n02 Jo 9\r\n":                       true,
	} {
		r, err := From("s", "S", kindNamed("fixedwidth"), Sample{Name: "a.txt", Content: []byte(text)})
		require.NoError(t, err)
		require.Equal(t, characters, r.Schema.Settings.Characters, text)
	}
	r, err := From("s", "S", kindNamed("fixedwidth"), Sample{Name: "a.txt", Content: []byte("01 Þóra  7\r\n02 Jon     9\r\n03 Ada     5\r\n")})
	require.NoError(t, err)
	require.Equal(t, 12, r.Schema.Root.Fields[len(r.Schema.Root.Fields)-1].WireFormat.To)
	require.Equal(t, []string{"0", "1", " ", "Þ", "", "ó", "", "r"}, r.Schema.Cells("01 Þór"))
}

// TestNamespacesAreNoFields: a declaration is no attribute, whatever its prefix, and the element that repeats is found beside
// it; what was inferred reads its own sample.
func TestNamespacesAreNoFields(t *testing.T) {
	for text, want := range map[string]string{
		`<crew xmlns="urn:crew"><member id="1"><name>Tove</name></member><member id="2"><name>Ada</name></member></crew>`:                                                                                                                  "id integer attribute\nname text\n",
		`<c:crew xmlns:c="urn:crew" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><c:member><c:name>Tove</c:name><c:left xsi:nil="true"/></c:member><c:member><c:name>Ada</c:name><c:left>2031-01-01</c:left></c:member></c:crew>`: "c:name text\nc:left date nullable\n",
		`<crew><m:note xmlns:m="urn:m">x</m:note></crew>`: "m:note text\n",
	} {
		r := from(t, "xml", text)
		got := fields(r)
		require.Equal(t, want, got, text)
		n, err := all.Named("xml")
		require.NoError(t, err)
		reader, err := n.NewReader(strings.NewReader(text), notation.Options{Source: "in", Schema: r.Schema, Check: true})
		require.NoError(t, err)
		for {
			_, err := reader.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err, text)
		}
	}
}

// TestOneBadLineIsNoOtherType: the type that nearly all texts fit is proposed, and the record that does not is named.
func TestOneBadLineIsNoOtherType(t *testing.T) {
	lines := func(column string, bad string) string {
		var b strings.Builder
		b.WriteString("id;value\n")
		for i := range 29 {
			v := fmt.Sprintf(column, i%9+1)
			if i == 11 && bad != "" {
				v = bad
			}
			fmt.Fprintf(&b, "%d;%s\n", i+1, v)
		}
		return b.String()
	}
	for _, c := range []struct{ column, bad, want, said string }{
		{"0%d.03.2031", "tomorrow", "date dd.MM.yyyy", "28 of 29 fit, record 12 does not"},
		{"0%d.03.2031", "31.02.2031", "date dd.MM.yyyy", "28 of 29 fit, record 12 does not"},
		{"1%d:30", "", "time HH:mm", ""},
		{"12%d,50", "", "decimal", ""},
		{"1.23%d,50", "n/a", "decimal", "28 of 29 fit, record 12 does not"},
		{"4%d", "n/a", "integer", "28 of 29 fit, record 12 does not"},
		{"0%d23", "", "text", ""},
		{"1234567890123456789%d", "", "text", ""},
		{"0%d.03.2031 12:30", "", "timestamp dd.MM.yyyy HH:mm", ""},
	} {
		r := from(t, "csv", lines(c.column, c.bad))
		require.Equal(t, "id integer\nvalue "+c.want+"\n", fields(r), c.column)
		if c.said != "" {
			require.Contains(t, r.Fields[1].Evidence.Said(), c.said)
		}
	}
	r := from(t, "csv", lines("1.23%d,50", ""))
	require.Equal(t, ",", r.Schema.Root.Fields[1].WireFormat.Mark)
	require.Equal(t, ".", r.Schema.Root.Fields[1].WireFormat.Grouping)
	few := from(t, "csv", "id;value\n1;2031-01-01\n2;tomorrow\n3;2031-01-01\n")
	require.Equal(t, "id integer\nvalue text\n", fields(few), "one of three is no exception")
}

// TestALongLineIsGoneThroughOnce: a megabyte without an end of line is told what it is at once.
func TestALongLineIsGoneThroughOnce(t *testing.T) {
	text := []byte(strings.Repeat("x", 1<<20))
	_, err := From("long", "Long", Notation(text), Sample{Name: "a", Content: text})
	require.ErrorContains(t, err, "at least one record")
}
