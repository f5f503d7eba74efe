package project

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// passed runs the demo's flow dry on its sample, with a mapping that was changed.
func passed(t *testing.T, change *strings.Replacer) (*running.Plan, []*running.Item, *running.Batch) {
	t.Helper()
	p := loadDemo(t, func(texts map[string]string) {
		const path = "mappings/reading-to-tide-level.yaml"
		texts[path] = change.Replace(texts[path])
	})
	require.Empty(t, p.Faults)
	plan := p.Flow("gauge-readings")
	r, err := p.OpenSample(plan.Source, plan.Source.Samples[0], false)
	require.NoError(t, err)
	items, err := running.NewSource(plan, r, running.Facts{ID: "1", File: "sk_0309.tide", Reference: "SK 9 March"}).Batch(100)
	require.NoError(t, err)
	b := &running.Batch{Plan: plan, Systems: &trial.Dry{Rows: func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, 100) }}}
	require.NoError(t, b.Run(t.Context(), items))
	return plan, items, b
}

// TestAMapStepLeavesOutAndNotes: records that do not meet the mapping's condition are left out with its
// reason; what a rule's fault leaves out is noted, and the record goes on.
func TestAMapStepLeavesOutAndNotes(t *testing.T) {
	_, all, _ := passed(t, strings.NewReplacer())
	_, items, b := passed(t, strings.NewReplacer("rules:\n", "conditions:\n  - {when: level_cm > 373, reason: too low to matter}\nrules:\n"))
	require.Len(t, items, len(all))
	low, high := 0, 0
	for _, it := range items {
		switch it.State {
		case running.Skipped:
			if it.Step == "map" {
				low++
				require.Equal(t, "too low to matter", it.Reason)
			}
		case running.Done:
			high++
		}
	}
	require.Positive(t, low)
	require.Positive(t, high)
	require.Equal(t, low, b.Counts["map"].Skipped)
	require.Equal(t, b.Counts["map"].In, low+b.Counts["map"].Out+b.Counts["map"].SetAside)

	const broken = "quotient(level_cm, level_cm - level_cm)"
	_, items, b = passed(t, strings.NewReplacer("rules:\n", "on fault: omit field\nrules:\n", "    formula: trend\n", "    formula: text("+broken+")\n"))
	noted := 0
	for _, it := range items {
		if it.State == running.Done {
			require.Len(t, it.Notes, 1)
			require.Equal(t, "map", it.Notes[0].Place.Step)
			require.Equal(t, "/trend", it.Notes[0].Place.Path)
			noted++
		}
	}
	require.Positive(t, noted)
	require.Zero(t, b.Counts["map"].SetAside)

	_, items, b = passed(t, strings.NewReplacer("    formula: trend\n", "    formula: text("+broken+")\n"))
	require.Equal(t, noted, b.Counts["map"].SetAside)
	for _, it := range items {
		require.Empty(t, it.Notes)
	}
}

func TestTheRunsFactsReachTheMapping(t *testing.T) {
	plan, items, _ := passed(t, strings.NewReplacer("    formula: run.file\n", `    formula: run.file + " line " + text(run.line) + " of " + run.reference`+"\n"))
	slot := plan.Planned("map").Result.Slot
	for _, it := range items {
		if it.State == running.Done {
			require.Equal(t, "sk_0309.tide line "+value.Int(int64(it.Place.Line)).String()+" of SK 9 March", it.Frame.Slots[slot].Field("source_file").String())
		}
	}
}

func TestTheCasesOfAFlow(t *testing.T) {
	p := loadDemo(t, nil)
	require.Len(t, p.FlowCases("gauge-readings"), 1)
	require.True(t, p.FlowCases("gauge-readings")[0].OK())
	p = loadDemo(t, func(texts map[string]string) {
		const path = "mappings/reading-to-tide-level.yaml"
		texts[path] = strings.Replace(texts[path], "constant: cm", "constant: mm", 1)
	})
	require.Equal(t, `/unit: expected "cm", found "mm"`, p.FlowCases("gauge-readings")[0].Differences[0].String())
	require.Empty(t, p.FlowCases("nothing"))
}
