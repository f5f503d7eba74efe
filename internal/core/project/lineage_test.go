package project

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// drawn is a lineage as lines, indented.
func drawn(l *Lineage, depth int) string {
	name := l.Source
	if name == "" {
		name = l.Field
	}
	s := strings.Repeat(" ", depth) + l.Mapping + ":" + name
	for _, extra := range append(append([]string{}, l.Tables...), l.Functions...) {
		s += " <" + extra + ">"
	}
	s += "\n"
	for _, n := range l.Next {
		s += drawn(n, depth+1)
	}
	return s
}

// twoMappings is the demo with a second mapping that reads what the first makes.
func twoMappings(t testing.TB) *Project {
	return loadDemo(t, func(texts map[string]string) {
		texts["schemas/post.yaml"] = "schema: Post\nnotation: rows\nfields:\n  - {name: title, type: text}\n  - {name: level, type: decimal}\n"
		texts["mappings/to-post.yaml"] = "mapping: To post\nfrom:\n  - {name: row, schema: tide-level}\nto: post\nvariables:\n  - {name: both, formula: 'station_name + \" \" + coalesce(table(\"islands\", gauge_code).name, \"\")'}\nrules:\n  - {field: title, formula: freight.plate(both)}\n  - {field: level, formula: above_datum_cm}\n"
		flow := texts["flows/gauge-readings.yaml"]
		at := strings.Index(flow, "      - step: upsert")
		texts["flows/gauge-readings.yaml"] = flow[:at] + "      - step: map\n        id: post\n        mapping: to-post\n        as: post\n" + flow[at:]
	})
}

func TestOriginsAreFollowedThroughFlows(t *testing.T) {
	p := twoMappings(t)
	require.Empty(t, p.Faults)
	require.Equal(t, `to-post:title <islands> <freight.plate>
 to-post:row.station_name
  reading-to-tide-level:station_name
   reading-to-tide-level:station.name
 to-post:row.gauge_code
  reading-to-tide-level:gauge_code
   reading-to-tide-level:reading.gauge
`, drawn(p.Upstream("to-post", "title"), 0))
	require.Contains(t, drawn(p.Upstream("to-post", "level"), 0), "reading-to-tide-level:station.datum_cm")
	require.Contains(t, drawn(p.Upstream("booking-to-invoice", "line"), 0), "booking-to-invoice:line <cargo-articles> <freight.plate>\n booking-to-invoice:booking.line\n booking-to-invoice:booking.line.price\n")
	require.Nil(t, p.Upstream("to-post", "nothing"))
	require.Nil(t, p.Upstream("nothing", "title"))
}

func TestWhatASourceFieldReaches(t *testing.T) {
	p := twoMappings(t)
	require.Equal(t, `reading-to-tide-level:reading.level_cm
 reading-to-tide-level:level_cm
 reading-to-tide-level:above_datum_cm
  to-post:row.above_datum_cm
   to-post:level
 reading-to-tide-level:is_surge
`, drawn(p.Downstream("reading-to-tide-level", "reading.level_cm"), 0))
	require.Contains(t, drawn(p.Downstream("reading-to-tide-level", "station.name"), 0), "to-post:title <islands> <freight.plate>")
	require.Empty(t, p.Downstream("booking-to-invoice", "booking.sailing").Next)
	require.Nil(t, p.Downstream("nothing", "a"))
}
