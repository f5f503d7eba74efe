package schema

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// load parses schemas by id; the faults are those of all parts.
func load(parts map[string]string, id string) (*Schema, string) {
	docs := map[string]*partfile.Doc{}
	for name, text := range parts {
		docs[name] = partfile.Parse(name+".yaml", []byte(text))
	}
	s := NewLoader(func(id string) *partfile.Doc { return docs[id] }).Schema(id)
	var faults []string
	for _, name := range []string{"party", "order", "a", "b"} {
		if d := docs[name]; d != nil && len(d.Faults) > 0 {
			faults = append(faults, d.Faults.Error())
		}
	}
	return s, strings.Join(faults, "\n")
}

const party = "schema: Party\nnotation: json\nfields:\n  - {name: name, type: text, constraints: {min length: 2}}\n  - name: address\n    type: record\n    occurs: 0..1\n    fields:\n      - {name: city, type: text}\n"

const order = "schema: Order\nnotation: json\nfields:\n  - {name: no, type: integer}\n  - {name: buyer, type: record, of: party}\n  - {name: seller, type: record, occurs: 0..n, of: party}\n"

// TestARecordHasTheFieldsOfAnotherSchema: with shapes of their own, and with faults that name the
// part in which the rule stands.
func TestARecordHasTheFieldsOfAnotherSchema(t *testing.T) {
	s, faults := load(map[string]string{"party": party, "order": order}, "order")
	require.Empty(t, faults)
	require.Equal(t, []string{"party"}, s.Includes())
	require.Equal(t, "party.yaml", s.Root.Find("buyer", "address", "city").Source)
	require.Empty(t, s.Root.Find("buyer").Source)
	require.NotSame(t, s.Root.Find("buyer", "name"), s.Root.Find("seller", "name"))

	buyer := s.Root.Field("buyer")
	v := value.NewRecord(s.Root.Layout(), []value.Value{value.Int(1), value.NewRecord(buyer.Layout(), []value.Value{value.NewText("x"), {}}), {}})
	var found []string
	s.Check(v, func(f *fault.Fault) {
		found = append(found, fmt.Sprintf("%s %s:%d", f.Place.Path, f.Rule.Source, f.Rule.Line))
	})
	require.Equal(t, []string{"/buyer/name party.yaml:4"}, found)

	again, faults := load(map[string]string{"party": party, "order": string(Write(s))}, "order")
	require.Empty(t, faults)
	require.Equal(t, string(Write(s)), string(Write(again)))
	require.Contains(t, string(Write(s)), "of: party")
	require.NotContains(t, string(Write(s)), "city")
}

func TestSharedFieldsThatCannotBeAreRefused(t *testing.T) {
	of := func(name string) string {
		return "schema: X\nnotation: json\nfields:\n  - {name: f, type: record, of: " + name + "}\n"
	}
	for _, c := range []struct {
		parts map[string]string
		want  string
	}{
		{map[string]string{"a": of("b")}, `expected the name of a schema, found "b"`},
		{map[string]string{"a": of("a")}, `the schema "a" is inside of itself`},
		{map[string]string{"a": of("b"), "b": of("a")}, `the schema "a" is inside of itself`},
		{map[string]string{"a": "schema: X\nnotation: json\nfields:\n  - {name: f, type: text, of: b}\n", "b": party}, "only a record is of another schema"},
		{map[string]string{"a": "schema: X\nnotation: json\nfields:\n  - {name: f, type: record, of: b, fields: [{name: g, type: text}]}\n", "b": party}, "fields of its own and those of"},
	} {
		s, faults := load(c.parts, "a")
		require.Contains(t, faults, c.want)
		require.NotNil(t, s.Root.Layout(), "it is usable all the same")
	}
}

// TestSharedFieldsDoNotMultiplyWithoutEnd: each schema takes the one before ten times.
func TestSharedFieldsDoNotMultiplyWithoutEnd(t *testing.T) {
	parts := map[string]string{"s0": "schema: X\nnotation: json\nfields:\n  - {name: f, type: text}\n"}
	for i := 1; i < 9; i++ {
		var b strings.Builder
		b.WriteString("schema: X\nnotation: json\nfields:\n")
		for j := range 10 {
			fmt.Fprintf(&b, "  - {name: f%d, type: record, of: s%d}\n", j, i-1)
		}
		parts[fmt.Sprintf("s%d", i)] = b.String()
	}
	docs := map[string]*partfile.Doc{}
	for id, text := range parts {
		docs[id] = partfile.Parse(id, []byte(text))
	}
	NewLoader(func(id string) *partfile.Doc { return docs[id] }).Schema("s8")
	require.NotEmpty(t, docs["s5"].Faults)
	require.Contains(t, docs["s5"].Faults.Error(), "more than 100000 fields")
}
