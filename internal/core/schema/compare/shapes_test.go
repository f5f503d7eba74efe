package compare

import (
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// part reads a part without its title.
func part(t *testing.T, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte("schema: X\n"+text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults, text)
	return s
}

// said is what a comparison says, a line each.
func said(old, now *schema.Schema) string {
	var lines []string
	for _, c := range Schemas(old, now) {
		lines = append(lines, strings.TrimLeft(c.Path+" "+string(c.Kind)+": "+c.What+c.Breaks(), " "))
	}
	return strings.Join(lines, "\n")
}

// TestMessagesOfEveryShapeAreCompared: both ways.
func TestMessagesOfEveryShapeAreCompared(t *testing.T) {
	of := func(field string) string { return "notation: json\nfields:\n  - {name: a, " + field + "}\n" }
	const branches = "{name: n, type: integer}, {name: t, type: text}"
	for _, c := range []struct{ name, old, now, there, back string }{
		{
			"what a map holds", of("type: map, fields: [{name: v, type: integer}]"), of("type: map, fields: [{name: v, type: decimal}], constraints: {min entries: 1, max entries: 5}"),
			"a narrowed: min entries any → 1 (breaks writers)\na narrowed: max entries any → 5 (breaks writers)\na/v widened: type integer → decimal (breaks readers)",
			"a widened: min entries 1 → any (breaks readers)\na widened: max entries 5 → any (breaks readers)\na/v narrowed: type decimal → integer (breaks writers)",
		},
		{
			"items of inner lists", of("type: list, occurs: 0..n, fields: [{name: v, type: integer, occurs: 0..n}]"), of("type: list, occurs: 0..n, fields: [{name: v, type: decimal, occurs: 0..n}]"),
			"a/v widened: type integer → decimal (breaks readers)", "a/v narrowed: type decimal → integer (breaks writers)",
		},
		{
			"a branch more", of("type: variant, fields: [" + branches + "]"), of("type: variant, fields: [" + branches + ", {name: yes, type: boolean}]"),
			"a/yes added: branch boolean (breaks readers)", "a/yes removed: branch boolean (breaks writers)",
		},
		{
			"branches in another order", of("type: variant, fields: [" + branches + "]"), of("type: variant, fields: [{name: t, type: text}, {name: n, type: integer}]"),
			"a changed: order of branches n, t → t, n", "a changed: order of branches t, n → n, t",
		},
		{
			"how branches are told", of("type: variant, told by: k, fields: [{name: x, type: record, fields: [{name: k, type: text, constraints: {codes: {X: x}}}, {name: l, type: text}]}, {name: y, type: record, fields: [{name: k, type: text, constraints: {codes: {Y: y}}}, {name: l, type: text}]}]"),
			of("type: variant, fields: [{name: x, type: record, fields: [{name: k, type: text, constraints: {codes: {X: x}}}, {name: l, type: text}]}, {name: y, type: record, fields: [{name: k, type: text, constraints: {codes: {Y: y}}}, {name: l, type: text}]}]"),
			"a changed: told by k → any (breaks readers and writers)", "a changed: told by any → k (breaks readers and writers)",
		},
		{
			"one of several types", of("type: integer, constraints: {minimum: 1}"), of("type: variant, fields: [" + branches + "]"),
			"a widened: type integer → variant (breaks readers)\na widened: minimum 1 → any (breaks readers)", "a narrowed: type variant → integer (breaks writers)\na narrowed: minimum any → 1 (breaks writers)",
		},
		{
			"none of several types", of("type: boolean"), of("type: variant, fields: [" + branches + "]"),
			"a changed: type boolean → variant (breaks readers and writers)", "a changed: type variant → boolean (breaks readers and writers)",
		},
		{
			"any", of("type: record, fields: [{name: b, type: text}]"), of("type: any"),
			"a widened: type record → any (breaks readers)", "a narrowed: type any → record (breaks writers)",
		},
		{
			"a record without the fields that it lacks", of("type: record, fields: [{name: b, type: text}]"), of("type: record, other fields: fault, fields: [{name: b, type: text}]"),
			"a narrowed: fields that it lacks are faults no → yes (breaks writers)", "a widened: fields that it lacks are faults yes → no (breaks readers)",
		},
		{
			"a field more in such a record", of("type: record, other fields: fault, fields: [{name: b, type: text}]"), of("type: record, other fields: fault, fields: [{name: b, type: text}, {name: c, type: text, occurs: 0..1}]"),
			"a/c added: text 0..1 (breaks readers)", "a/c removed: text 0..1 (breaks writers)",
		},
		{
			"other fields kept, whatever they are", of("type: record, fields: [{name: b, type: text}]"), of("type: record, fields: [{name: b, type: text}, {name: o, type: map, occurs: 0..1, others: true, fields: [{name: v, type: any}]}]"),
			"a/o added: map 0..1", "a/o removed: map 0..1 (breaks writers)",
		},
		{
			"other fields kept, if they are texts", of("type: record, fields: [{name: b, type: text}]"), of("type: record, fields: [{name: b, type: text}, {name: o, type: map, occurs: 0..1, others: true, fields: [{name: v, type: text}]}]"),
			"a/o added: map 0..1 (breaks writers)", "a/o removed: map 0..1 (breaks writers)",
		},
		{
			"times and lists", of("type: duration, occurs: 0..n, constraints: {unique items: true}"), of("type: text, occurs: 0..n, present: true"),
			"a widened: type duration → text (breaks readers)\na narrowed: must be there, though it may be empty no → yes (breaks writers)\na widened: unique items yes → no (breaks readers)",
			"a narrowed: type text → duration (breaks writers)\na widened: must be there, though it may be empty yes → no (breaks readers)\na narrowed: unique items no → yes (breaks writers)",
		},
		{
			"numbers", of("type: decimal, constraints: {exclusive minimum: 0, multiple of: 0.5}"), of("type: decimal, constraints: {exclusive minimum: 1, exclusive maximum: 9, multiple of: 2}"),
			"a narrowed: exclusive minimum 0 → 1 (breaks writers)\na narrowed: exclusive maximum any → 9 (breaks writers)\na changed: multiple of 0.5 → 2 (breaks readers and writers)",
			"a widened: exclusive minimum 1 → 0 (breaks readers)\na widened: exclusive maximum 9 → any (breaks readers)\na changed: multiple of 2 → 0.5 (breaks readers and writers)",
		},
		{
			"formats", of("type: text"), of("type: text, constraints: {format: uuid}"), "a narrowed: format any → uuid (breaks writers)", "a widened: format uuid → any (breaks readers)",
		},
		{
			"the message as a list", of("type: text"), "occurs: 0..n\n" + of("type: text"),
			"narrowed: the message is a list any → yes (breaks writers)", "widened: the message is a list yes → any (breaks readers)",
		},
		{
			"content model", "notation: xml\ncontent model: a, b?\nfields:\n- {name: a, type: text}\n- {name: b, type: text, occurs: 0..1}\n", "notation: xml\ncontent model: b?, a\nfields:\n- {name: a, type: text}\n- {name: b, type: text, occurs: 0..1}\n",
			"changed: content model a, b? → b?, a (breaks readers and writers)", "changed: content model b?, a → a, b? (breaks readers and writers)",
		},
		{
			"how XML is written", "notation: xml\nnotation settings: {root: m, element order: as listed}\nfields:\n- {name: a, type: text}\n", "notation: xml\nnotation settings: {root: n, namespaces: {n: 'urn:n'}, document type: refused}\nfields:\n- {name: a, type: text, white space: collapse}\n",
			"moved: root m → n (breaks readers and writers)\nnarrowed: document type accepted → refused (breaks writers)\nmoved: namespaces none → n urn:n (breaks readers and writers)\nwidened: content model a → any (breaks readers)\na moved: written plainly → white space collapse (breaks readers and writers)",
			"",
		},
		{
			"how lines are written", "notation: csv\nfields:\n- {name: a, type: text}\n", "notation: csv\nnotation settings: {delimiter: ;, blank lines: faults}\nfields:\n- {name: a, type: text}\n",
			"moved: delimiter , → ; (breaks readers and writers)\nnarrowed: blank lines skipped → faults (breaks writers)", "moved: delimiter ; → , (breaks readers and writers)\nwidened: blank lines faults → skipped (breaks readers)",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			old, now := part(t, c.old), part(t, c.now)
			require.Empty(t, said(old, part(t, c.old)))
			require.Empty(t, said(now, part(t, c.now)))
			require.Equal(t, c.there, said(old, now))
			if c.back != "" {
				require.Equal(t, c.back, said(now, old))
			}
		})
	}
}

// TestNoConstraintIsForgotten: whatever can be said of a field's values is compared.
func TestNoConstraintIsForgotten(t *testing.T) {
	old := part(t, "notation: json\nfields:\n- {name: a, type: integer}\n")
	now := part(t, "notation: json\nfields:\n- {name: a, type: integer, constraints: {minimum: 1}}\n")
	text := part(t, "notation: json\nfields:\n- {name: a, type: text, constraints: {pattern: x, also pattern: [y], codes: {A: a}}}\n")
	for i := range reflect.TypeFor[schema.Constraints]().NumField() {
		name := reflect.TypeFor[schema.Constraints]().Field(i).Name
		f := *now.Root.Fields[0]
		f.Constraints = old.Root.Fields[0].Constraints
		switch at := reflect.ValueOf(&f.Constraints).Elem().Field(i); at.Kind() {
		case reflect.Int:
			at.SetInt(3)
		case reflect.Bool:
			at.SetBool(true)
		case reflect.String:
			at.SetString("x")
		case reflect.Struct:
			at.Set(reflect.ValueOf(now.Root.Fields[0].Constraints.Minimum))
		default:
			at.Set(reflect.ValueOf(text.Root.Fields[0].Constraints).Field(i))
		}
		c := &comparer{}
		c.field([]string{"a"}, old.Root.Fields[0], &f)
		require.Len(t, c.changes, 1, name)
		require.NotEmpty(t, c.changes[0].Breaks(), name)
	}
}
