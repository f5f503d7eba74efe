package engine

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

// TestABadRowThatIsReadAgainIsOneEntry: what a system gives again and that fails again is counted, with whose it is; what was
// mended meanwhile is not, and a message that comes twice stays two.
func TestABadRowThatIsReadAgainIsOneEntry(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(Options{})
	w.add("stations", map[string]string{"flows/stations.yaml": `
flow: Stations
trigger: {kind: person}
steps:
  - {step: read, id: read, connection: harbour-ledger, operation: all-stations, as: station}
  - step: each
    id: each
    of: station
    steps:
      - {step: check, id: check, value: 'station.name == "Havra quay" ? nil : station', schema: station}
`, "connections/harbour-ledger.yaml": w.part("connections/harbour-ledger.yaml") + `  - operation: all-stations
    name: All stations
    kind: query
    response: station
    statement: select id, gauge_code, name, datum_cm from station order by id
`})
	open := func() []store.WorkItem {
		works, err := store.WorkItems(t.Context(), w.db, store.WorkFilter{Scope: testkit.Skerry, Flow: "stations", Most: 50})
		require.NoError(t, err)
		return works
	}
	w.begun("stations", nil)
	first := open()
	require.NotEmpty(t, first)
	_, err := store.Assign(t.Context(), w.db, testkit.Skerry, []int64{first[0].Aside}, nil, "mo")
	require.NoError(t, err)
	w.begun("stations", nil)
	r := w.begun("stations", nil)
	again := open()
	require.Len(t, again, len(first), "each row is one entry")
	for _, one := range again {
		require.Equal(t, 3, one.Times)
		require.Equal(t, r.ID, one.Run, "the newest")
		if one.Line == first[0].Line && one.Record == first[0].Record {
			require.Equal(t, "mo", *one.Owner)
		}
	}
	past, err := store.Asides(t.Context(), w.db, first[0].Run, 10)
	require.NoError(t, err)
	require.Equal(t, "repeated", past[0].State)
	require.NotNil(t, past[0].Rerun)

	for _, name := range []string{"one.tide", "two.tide"} {
		w.drop(name, tide(reading("XX99", 1, 4125, "R")))
		w.ended(name)
	}
	works, err := store.WorkItems(t.Context(), w.db, store.WorkFilter{Scope: testkit.Skerry, Flow: flowID, Most: 50})
	require.NoError(t, err)
	require.Len(t, works, 2, "two files are two messages")
}
