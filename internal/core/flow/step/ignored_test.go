package step

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
)

// TestFieldsThatTheSchemaLacksAreCountedOnce: batch by batch, by where they stand, and not again of records that were dealt with
// before a run was taken on anew.
func TestFieldsThatTheSchemaLacksAreCountedOnce(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, "- {step: note, id: n, text: booking.number}\n", "")
	lines := strings.Repeat(`{"number":"B","pax":1,"cabin":2,"cars":{"n":1}}`+"\n", 5)
	n, err := all.Named("ndjson")
	require.NoError(t, err)
	var ignored notation.Ignored
	r, err := n.NewReader(strings.NewReader(lines), notation.Options{Schema: plan.Source, Ignored: &ignored})
	require.NoError(t, err)
	src := running.NewSource(plan, r, running.Facts{}).Ignoring(&ignored)
	require.NoError(t, src.Skip(2))
	total := &running.Counts{}
	for range 2 {
		_, err := src.Batch(2)
		require.NoError(t, err)
		b := &running.Batch{Plan: plan}
		src.CountIgnored(b)
		total.Add(b.Counts["read"])
	}
	require.Equal(t, map[string]int{"cabin": 3, "cars": 3}, total.Ignored)
}
