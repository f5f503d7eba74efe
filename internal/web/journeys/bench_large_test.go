package journeys

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// manyFares is a flow over messages whose map and list have 100,000 entries.
const manyFares = `flow: Many fares
trigger: {kind: file, connection: gauge-drop, glob: "*.fares", interval: 1}
steps:
  - {step: read, id: read, schema: fares, as: fares}
  - {step: each, id: each, of: fares, steps: [{step: map, id: map, mapping: fares-to-fares, as: copy}, {step: reference, id: known, is: 'copy.no'}]}
`

// largeParts are schemas of messages with 100,000 entries and with 10,000 fields, and mappings between them.
func largeParts() map[string]string {
	entries, items, fields, values := make([]string, 100_000), make([]string, 100_000), make([]string, 10_000), make([]string, 10_000)
	for i := range entries {
		entries[i], items[i] = fmt.Sprintf(`"K%06d":{"adult":%d.50}`, i, i), fmt.Sprintf(`"tag %d"`, i)
	}
	for i := range fields {
		fields[i], values[i] = fmt.Sprintf("  - {name: field_%d, type: text}\n", i), fmt.Sprintf(`"field_%d":"value %d"`, i, i)
	}
	return map[string]string{
		"samples/fares.json":           `[{"no":"1","prices":{` + strings.Join(entries, ",") + `},"tags":[` + strings.Join(items, ",") + `]}]`,
		"samples/wide.json":            "[{" + strings.Join(values, ",") + "}]",
		"schemas/wide.yaml":            "schema: Wide\nnotation: json\nsamples: [wide.json]\nfields:\n" + strings.Join(fields, ""),
		"schemas/fares.yaml":           "schema: Fares\nnotation: json\nsamples: [fares.json]\nfields:\n  - {name: 'no', type: text}\n  - {name: prices, type: map, fields: [{name: price, type: record, fields: [{name: adult, type: decimal}]}]}\n  - {name: tags, type: text, occurs: 0..n}\n",
		"mappings/fares-to-fares.yaml": "mapping: Fares\nfrom: [{name: fares, schema: fares}]\nto: fares\nrules:\n  - {field: 'no', formula: 'fares.no'}\n  - {field: prices, formula: fares.prices}\n  - {field: tags, formula: fares.tags}\n",
		"mappings/wide-to-wide.yaml":   "mapping: Wide\nfrom: [{name: wide, schema: wide}]\nto: wide\nrules:\n  - {field: field_1, formula: 'wide.field_1'}\n",
	}
}

// TestLargeMessagesAndSchemasStayUsable: every page stays small, and what is not drawn is found by name, chosen and mapped.
func TestLargeMessagesAndSchemasStayUsable(t *testing.T) {
	w := newWorld(t)
	parts := largeParts()
	w.parts(parts)
	w.Release("many-fares", manyFares)
	w.Drop("one.fares", parts["samples/fares.json"])
	run := w.Ended("one.fares")
	require.Equal(t, store.Done, run.State)
	traffic := "/traffic/runs/" + run.ID.String()
	for _, path := range []string{
		traffic, traffic + "?step=read", traffic + "?step=map", "/bench/flows/many-fares?step=map", "/bench/schemas/fares", "/bench/schemas/fares?field=1", "/bench/schemas/fares/convert",
		"/bench/mappings/fares-to-fares?field=prices", "/bench/mappings/fares-to-fares/specification", "/bench/schemas/wide", "/bench/schemas/wide?field=5000", "/bench/schemas/wide/convert",
		"/bench/schemas/wide/compare", "/bench/mappings/wide-to-wide", "/bench/mappings/wide-to-wide?field=field_9000",
	} {
		require.Less(t, len(w.Body(path)), 300_000, path)
	}
	tb := w.tab()
	tb.open("/bench/mappings/wide-to-wide")
	tb.sees("#targets", "9,800 more fields are not drawn")
	tb.pick("[name=find-target]", "field_987")
	tb.sees("[data-target='field_9871']", "field_9871")
	tb.click("[data-target='field_9871']")
	tb.sees("[data-target='field_9871'][aria-current]", "field_9871")
	tb.pick("[name=find-source]", "field_987")
	tb.sees("[data-source='wide.field_9871']", "value 9871")
	tb.fill("#formula", "wide.field_9871")
	tb.sees("#verdict", "value 9871")
	w.Keeps("mappings/wide-to-wide.yaml", "wide.field_9871")
	tb.sees("[data-target='field_9872']", "field_9872")
}
