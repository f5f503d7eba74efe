package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/value"
)

const voyage = `schema: Voyage
notation: fixedwidth
fields:
  - {name: kind, type: text, columns: 1-2, discriminator: H1}
  - {name: ship, type: text, columns: 3-12}
  - name: stop
    type: record
    occurs: 0..n
    starts with: S
    fields:
      - {name: tag, type: text, columns: 1-1}
      - {name: port, type: text, columns: 2-4}
      - {name: at, type: text, columns: 5-9}
`

// TestLinesOfSeveralTypesAreTold: by what they begin with or a value that marks them; how wide they are and what stands at
// their beginning is known.
func TestLinesOfSeveralTypesAreTold(t *testing.T) {
	s, faults := parse(t, voyage)
	require.Empty(t, faults)
	require.True(t, s.Nested())
	stop := s.Root.Field("stop")
	require.True(t, s.Root.OwnLine() && s.Root.HasDiscriminator())
	require.True(t, stop.OwnLine() && stop.HasDiscriminator())
	require.Equal(t, 9, stop.Width())
	require.Equal(t, 12, s.Root.Width())
	require.Equal(t, 12, s.Width())
	for _, c := range []struct {
		record *Field
		field  string
		text   string
		whole  bool
	}{{s.Root, "kind", "H1", true}, {s.Root, "ship", "", false}, {stop, "tag", "S", true}, {stop, "port", "", false}} {
		text, whole := s.Discriminator(c.record, c.record.Field(c.field))
		require.Equal(t, c.text, text, c.field)
		require.Equal(t, c.whole, whole, c.field)
	}
	flat, faults := parse(t, "schema: A\nnotation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1-2}\n")
	require.Empty(t, faults)
	require.False(t, flat.Nested() || flat.Root.HasDiscriminator())

	cells, faults := parse(t, `schema: Cells
notation: csv
notation settings: {header: false}
fields:
  - {name: kind, type: text, discriminator: H}
  - name: line
    type: record
    occurs: 0..n
    starts with: "L,7"
    fields:
      - {name: tag, type: text}
      - {name: of, type: text}
      - name: deep
        type: record
        occurs: 0..n
        starts with: D
        fields: [{name: x, type: text}]
      - {name: rest, type: text}
`)
	require.Empty(t, faults)
	line := cells.Root.Field("line")
	for field, want := range map[string]string{"tag": "L", "of": "7", "deep": "", "rest": ""} {
		text, whole := cells.Discriminator(line, line.Field(field))
		require.Equal(t, want, text, field)
		require.Equal(t, field == "tag", whole, field)
	}
}

// TestLinesThatCannotBeToldAreFaults: each says what would tell them.
func TestLinesThatCannotBeToldAreFaults(t *testing.T) {
	for text, want := range map[string]string{
		"schema: A\nnotation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1-2}\n  - {name: r, type: record, occurs: 0..n, starts with: R, fields: [{name: b, type: text, columns: 1-2}]}\n": "nothing tells the lines of",
		"schema: A\nnotation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1-2, occurs: 0..3}\n":                                                                                             "a line holds single fields and records",
		"schema: A\nnotation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1-4}\n  - {name: b, type: text, columns: 3-6}\n":                                                                  "column 3 belongs to the field before, too",
		"schema: A\nnotation: fixedwidth\nfields:\n  - {name: a, type: text}\n":                                                                                                                         `"columns" is missing`,
		"schema: A\nnotation: csv\nfields:\n  - {name: a, type: text, discriminator: A}\n  - {name: r, type: record, occurs: 0..n, starts with: R, fields: [{name: b, type: text}]}\n":                  "lines of several types cannot share one header",
	} {
		_, faults := parse(t, text)
		require.Contains(t, faults.Error(), want, text)
	}
}

// TestWhatHasNoValueIsWrittenAsIsSaid: null, an empty text and what is not there, each as one of the others; in records and
// lists, too, and not where a list or a record is not there.
func TestWhatHasNoValueIsWrittenAsIsSaid(t *testing.T) {
	s, faults := parse(t, "schema: S\nnotation: json\nfields:\n  - {name: a, type: text, occurs: 0..1, nullable: true}\n  - {name: l, type: text, occurs: 0..n, nullable: true}\n  - {name: r, type: record, occurs: 0..1, fields: [{name: b, type: text, occurs: 0..1, nullable: true}]}\n")
	require.Empty(t, faults)
	inner := s.Root.Field("r")
	rec := func(a value.Value, list []value.Value, b ...value.Value) value.Value {
		fields := []value.Value{a, value.ListOf(list...), {}}
		if b != nil {
			fields[2] = value.NewRecord(inner.Layout(), b)
		}
		return value.NewRecord(s.Root.Layout(), fields)
	}
	absent, null, empty, x := value.Value{}, value.NullValue, value.NewText(""), value.NewText("x")
	for _, c := range []struct {
		as       Missing
		in, want value.Value
	}{
		{Missing{Null: Omitted}, rec(null, []value.Value{null, x, empty}, null), rec(absent, []value.Value{x, empty}, absent)},
		{Missing{Null: AsEmpty}, rec(null, []value.Value{null}, x), rec(empty, []value.Value{empty}, x)},
		{Missing{Empty: AsNull}, rec(empty, []value.Value{empty, x}, empty), rec(null, []value.Value{null, x}, null)},
		{Missing{Empty: Omitted}, rec(empty, []value.Value{empty, x}), rec(absent, []value.Value{x})},
		{Missing{Absent: AsNull}, rec(absent, nil, absent), rec(null, nil, null)},
		{Missing{Absent: AsNull}, rec(absent, nil), rec(null, nil)},
		{Missing{}, rec(null, []value.Value{empty}, absent), rec(null, []value.Value{empty}, absent)},
	} {
		got := c.as.Express(s.Root, c.in)
		require.True(t, value.Equal(c.want, got), "%+v makes %v", c.as, got.Field("a").Kind())
		require.Equal(t, c.want.Field("a").Kind(), got.Field("a").Kind(), "%+v", c.as)
		require.Equal(t, c.as == Missing{}, c.as.IsDefault())
	}
	require.True(t, Missing{Null: AsNull, Empty: AsEmpty, Absent: Omitted}.IsDefault())
	require.Equal(t, value.Absent, Missing{Null: Omitted}.Express(s.Root.Field("a"), null).Kind())
}

// TestOneValueIsCheckedByItself: of its type, within its bounds, as often as it may occur.
func TestOneValueIsCheckedByItself(t *testing.T) {
	f := single(t, "type: integer, constraints: {minimum: 1, maximum: 9}")
	for v, want := range map[*value.Value]string{at(value.Int(5)): "", at(value.Value{}): "", at(value.Int(10)): "expected at most 9, found 10", at(value.NewText("x")): `expected integer, found`} {
		ft := f.CheckOne(*v)
		if want == "" {
			require.Nil(t, ft)
			continue
		}
		require.Contains(t, ft.What(), want)
	}
	require.Nil(t, single(t, "type: decimal").CheckOne(value.Int(1)), "a whole number is a decimal")
	list := single(t, "type: text, occurs: 1..2")
	x := value.NewText("x")
	require.Nil(t, list.CheckOccurs(value.ListOf(x)))
	require.Contains(t, list.CheckOccurs(value.ListOf(x, x, x)).What(), "found 3 times")
	require.NotNil(t, list.CheckOccurs(value.Value{}))
	require.Nil(t, single(t, "type: text, occurs: 0..1").CheckOccurs(value.Value{}))
	require.Contains(t, single(t, "type: text, occurs: 2..n").CheckOccurs(value.ListOf(x)).What(), "at least 2")

	for field, want := range map[string]string{
		"type: integer, constraints: {minimum: 1, maximum: 9}":            "1 … 9",
		"type: integer, constraints: {minimum: 1}":                        "≥ 1",
		"type: decimal, constraints: {maximum: 2.5, fraction digits: 1}":  "≤ 2.5, at most 1 place",
		"type: text, constraints: {min length: 2, max length: 4}":         "2 … 4 characters",
		"type: text, constraints: {pattern: '[A-Z]+'}":                    "[A-Z]+",
		"type: text, constraints: {codes: {A: first, B: second}}":         "A first",
		"type: text, constraints: {max length: 9, pattern: 'x.*'}":        "0 … 9 characters",
		"type: text, constraints: {min length: 1, codes: {A: '', B: ''}}": "A",
		"type: boolean": "",
	} {
		got := single(t, field).Constraints.Text()
		if want == "" {
			require.Empty(t, got, field)
			continue
		}
		require.Contains(t, got, want, field)
	}
	require.Equal(t, "line/plate", PlainPath("/line/3/plate"))
	require.Empty(t, PlainPath("/0"))
}

func at(v value.Value) *value.Value { return &v }

// TestNamespacesHaveOnePrefixEach.
func TestNamespacesHaveOnePrefixEach(t *testing.T) {
	s, faults := parse(t, "schema: S\nnotation: xml\nnotation settings: {namespace: urn:a, namespaces: {b: urn:b, c: urn:c}}\nfields: [{name: x, type: text}]\n")
	require.Empty(t, faults)
	require.Equal(t, []Namespace{{"", "urn:a"}, {"b", "urn:b"}, {"c", "urn:c"}}, s.Settings.Namespaces)
	for pair, want := range map[string]string{
		"{xmlx: urn:b}":        "expected a prefix",
		`{"a:b": urn:b}`:       "expected a prefix",
		"{b: urn:a}":           "a namespace that has no prefix yet",
		"{b: urn:b, c: urn:b}": "a namespace that has no prefix yet",
		`{b: ""}`:              "a namespace that has no prefix yet",
	} {
		_, faults := parse(t, "schema: S\nnotation: xml\nnotation settings: {namespace: urn:a, namespaces: "+pair+"}\nfields: [{name: x, type: text}]\n")
		require.Contains(t, faults.Error(), want, pair)
	}
}
