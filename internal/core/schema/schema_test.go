package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

func parse(t testing.TB, text string) (*Schema, fault.List) {
	t.Helper()
	d := partfile.Parse("s.yaml", []byte(text))
	return Parse("s", d), d.Faults
}

func single(t testing.TB, field string) *Field {
	t.Helper()
	s, faults := parse(t, "schema: S\nnotation: json\nfields:\n  - {name: f, "+field+"}\n")
	require.Empty(t, faults, field)
	return s.Root.Fields[0]
}

func dec(s string) value.Value {
	v, _ := value.ParseDecimal(s)
	return v
}

func TestEveryConstraintIsChecked(t *testing.T) {
	for _, c := range []struct {
		field string
		v     value.Value
		want  string // empty: no fault
	}{
		{"type: text", value.NewText(""), ""},
		{"type: text", value.Value{}, "f: expected a value, found absent"},
		{"type: text", value.NullValue, "f: expected a value, found null"},
		{"type: text, occurs: 0..1", value.Value{}, ""},
		{"type: text, occurs: 0..1", value.NullValue, "f: expected text or nothing, found null"},
		{"type: text, nullable: true", value.NullValue, ""},
		{"type: text", value.Int(1), "f: expected text, found integer 1"},
		{"type: decimal", value.Int(1), ""},
		{"type: integer", dec("1.5"), "f: expected integer, found decimal 1.5"},
		{"type: integer, constraints: {minimum: 3}", value.Int(2), "f: expected at least 3, found 2"},
		{"type: integer, constraints: {maximum: 3}", value.Int(4), "f: expected at most 3, found 4"},
		{"type: decimal, constraints: {minimum: -0.5, maximum: 0.5}", dec("-0.50"), ""},
		{"type: date, constraints: {minimum: 2031-01-01}", value.DateOf(2030, 12, 31), "f: expected at least 2031-01-01, found 2030-12-31"},
		{"type: text, constraints: {min length: 2}", value.NewText("æ"), "f: expected at least 2 characters, found 1"},
		{"type: text, constraints: {max length: 2}", value.NewText("æøå"), "f: expected at most 2 characters, found 3"},
		{"type: text, constraints: {max length: 3}", value.NewText("æøå"), ""},
		{"type: text, constraints: {pattern: 'a|b'}", value.NewText("ab"), `f: expected text like a|b, found "ab"`},
		{"type: text, constraints: {codes: {R: rising, F: falling}}", value.NewText("R"), ""},
		{"type: text, constraints: {codes: {R: rising, F: falling}}", value.NewText("r"), `f: expected R rising · F falling, found "r"`},
		{"type: decimal, constraints: {total digits: 3}", dec("12.34"), "f: expected at most 3 digits, found 12.34"},
		{"type: decimal, constraints: {fraction digits: 1}", dec("1.25"), "f: expected at most 1 decimal place, found 1.25"},
		{"type: decimal, constraints: {fraction digits: 0}", value.Int(7), ""},
		{"type: integer, occurs: 0..n", value.ListOf(value.Int(1), value.Int(2)), ""},
		{"type: integer, occurs: 0..n", value.Int(1), "f: expected a list, found integer 1"},
		{"type: integer, occurs: 2..3", value.ListOf(value.Int(1)), "f: expected 2 to 3 occurrences, found 1 time"},
		{"type: integer, occurs: 1..n", value.ListOf(value.Int(1), value.NewText("x")), `/1: f: expected integer, found the text "x"`},
		{"type: boolean", value.Bool(true), ""},
	} {
		var told []string
		single(t, c.field).CheckField(c.v, func(f *fault.Fault) { told = append(told, f.Error()) })
		if c.want == "" {
			require.Empty(t, told, c.field)
			continue
		}
		require.Equal(t, []string{c.want}, told, c.field)
	}
}

func TestAllFaultsOfAMessageAtOnce(t *testing.T) {
	s, faults := parse(t, `
schema: S
notation: json
fields:
  - {name: a/b, type: integer}
  - name: inner
    type: record
    fields:
      - {name: x, type: text, constraints: {max length: 1}}
      - name: list
        type: record
        occurs: 0..n
        fields:
          - {name: y, type: integer}
`)
	require.Empty(t, faults)
	inner := s.Root.Field("inner")
	list := inner.Field("list")
	item := func(v value.Value) value.Value { return value.NewRecord(list.Layout(), []value.Value{v}) }
	v := value.NewRecord(s.Root.Layout(), []value.Value{
		value.NewText("no"),
		value.NewRecord(inner.Layout(), []value.Value{value.NewText("xx"), value.ListOf(item(value.Int(1)), item(value.Value{}), value.NewText("z"))}),
	})
	var told []string
	s.Check(v, func(f *fault.Fault) { told = append(told, f.Place.Path) })
	require.Equal(t, []string{"/a~1b", "/inner/x", "/inner/list/1/y", "/inner/list/2"}, told)

	s.Settings.Others = FaultOthers
	s.Settle()
	foreign := value.NewRecord(value.NewLayout("inner", "more"), []value.Value{{}, value.Int(1)})
	told = nil
	s.Check(foreign, func(f *fault.Fault) { told = append(told, f.Error()) })
	require.Equal(t, []string{
		"/a~1b: a/b: expected a value, found absent", "/inner: inner: expected a value, found absent",
		`/more: s: expected one of a/b, inner, found "more"`,
	}, told)
}

func TestPartsWithFaults(t *testing.T) {
	for text, want := range map[string]string{
		"schema: S\nfields:\n  - {name: a, type: text, occurs: 2..1}\n":                 `s.yaml:3:35: occurs: expected how often, as 1, 0..1, 1..n or 2..5, found "2..1"`,
		"schema: S\nfields:\n  - {name: a, type: text, constraints: {pattern: '('}}\n":  "a: the pattern cannot be read",
		"schema: S\nfields:\n  - {name: a, type: integer, constraints: {minimum: x}}\n": `minimum: expected integer, found "x"`,
		"schema: S\nfields:\n  - {name: a, type: text}\n  - {name: a, type: text}\n":    `the field "a" is there twice`,
		"schema: S\nfields: []\n": "the schema has no fields",
		"schema: S\nnotation: fixedwidth\nfields:\n  - {name: a, type: text}\n":                              `a: "columns" is missing`,
		"schema: S\nnotation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 9-3}\n":                `expected columns, as 5-12, found "9-3"`,
		"schema: S\nnotation: csv\nnotation settings: {delimiter: ab}\nfields:\n  - {name: a, type: text}\n": `delimiter: expected one ASCII character or tab, found "ab"`,
		"schema: S\nnotation: pdf\nfields:\n  - {name: a, type: text}\n":                                     `notation: expected one of`,
		"schema: S\nfields:\n  - {name: a, type: text, columns: 1-2}\n":                                      `"notation" is missing; it is one of fixedwidth, csv, json, ndjson, xml, rows`,
		"notation: json\nfields:\n  - {name: a, type: text}\n":                                               `"schema" is missing`,
		"schema: S\nfields:\n  - {name: a, type: text, lenght: 3}\n":                                         `unknown setting "lenght"`,
	} {
		_, faults := parse(t, text)
		require.Contains(t, faults.Error(), want, text)
	}
}

func TestPatternsReadAndWrite(t *testing.T) {
	for _, c := range []struct {
		kind                value.Kind
		pattern, text, want string
	}{
		{value.Date, "yyyyMMdd", "20310309", "2031-03-09"},
		{value.Date, "dd.MM.yyyy", "09.03.2031", "2031-03-09"},
		{value.Time, "HHmmss", "061200", "06:12:00"},
		{value.Time, "HH:mm", "06:12", "06:12:00"},
		{value.Timestamp, "yyyy-MM-ddTHH:mm:ssZ", "2031-03-09T06:12:00Z", "2031-03-09T06:12:00Z"},
	} {
		v, ok, _ := ReadPattern(c.kind, c.pattern, c.text)
		require.True(t, ok, c.text)
		require.Equal(t, c.want, v.String())
		back, f := FormatPattern(c.pattern, v)
		require.Nil(t, f)
		require.Equal(t, c.text, back)
	}
	for text, pattern := range map[string]string{"20310229": "yyyyMMdd", "2031030": "yyyyMMdd", "203103090": "yyyyMMdd", "2031030x": "yyyyMMdd", "09-03-2031": "dd.MM.yyyy"} {
		_, ok, _ := ReadPattern(value.Date, pattern, text)
		require.False(t, ok, text)
	}
	_, ok, _ := ReadPattern(value.Time, "HHmmss", "246000")
	require.False(t, ok)
	_, f := FormatPattern("yy", value.DateOf(2031, 1, 1))
	require.NotNil(t, f)
}

func TestImpliedPlaces(t *testing.T) {
	s, faults := parse(t, "schema: S\nnotation: fixedwidth\nfields:\n  - {name: f, type: decimal, columns: 1-5, implied decimals: 2}\n")
	require.Empty(t, faults)
	f := s.Root.Fields[0]
	v, ok := f.Read("-00125")
	require.True(t, ok)
	require.Equal(t, "-1.25", v.String())
	b, ft := f.AppendWire(nil, dec("1.5"))
	require.Nil(t, ft)
	require.Equal(t, "150", string(b))
	_, ft = f.AppendWire(nil, dec("1.505"))
	require.Equal(t, "f: expected at most 2 decimal places, found 1.505", ft.What())
	_, ok = f.Read("1.25")
	require.False(t, ok)
}

func TestAnotherNotationIsWrittenInStandardForm(t *testing.T) {
	s, _ := parse(t, "schema: S\nnotation: fixedwidth\nfields:\n  - {name: f, type: date, columns: 1-8, pattern: yyyyMMdd}\n")
	require.Same(t, s, s.As(fixedWidth))
	plain := s.As(cells)
	require.Equal(t, "a date as YYYY-MM-DD", plain.Root.Fields[0].DescribeWireFormat())
	require.Equal(t, "a date as yyyyMMdd", s.Root.Fields[0].DescribeWireFormat())
	require.Same(t, s.Root.Layout(), plain.Root.Layout())
}

func TestScalarsThereAndBack(t *testing.T) {
	for kind, text := range map[value.Kind]string{
		value.Text: "x", value.Integer: "12345678901234567890", value.Decimal: "1.50", value.Boolean: "true", value.Date: "2031-03-09",
		value.Time: "06:12:00", value.Timestamp: "2031-03-09T06:12:00Z", value.Binary: "AP8=",
	} {
		v, ok := ParseScalar(kind, text)
		require.True(t, ok, kind)
		require.Equal(t, text, ScalarText(v))
	}
	for kind, text := range map[value.Kind]string{value.Integer: "1.0", value.Boolean: "yes", value.Binary: "?", value.RecordKind: "x"} {
		_, ok := ParseScalar(kind, text)
		require.False(t, ok, kind)
	}
}
