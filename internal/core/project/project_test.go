package project

import (
	"context"
	"encoding/json"
	"flag"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/demo"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/validate"
	"hollowreed/internal/core/value"
)

var update = flag.Bool("update", false, "write the golden files anew")

func demoTexts(t testing.TB) map[string]string {
	t.Helper()
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	return texts
}

func TestTheDemoProjectHasNoFaults(t *testing.T) {
	p := Load("skerry", demoTexts(t))
	require.Empty(t, p.Faults)
	require.Equal(t, "Skerry Line", p.Title)
	require.Equal(t, []string{
		"connections/gauge-drop.yaml", "connections/harbour-ledger.yaml", "flows/gauge-readings.yaml",
		"mappings/reading-to-tide-level.yaml", "project.yaml", "samples/sk_0309.tide", "samples/stations.csv",
		"schemas/gauge-reading.yaml", "schemas/station.yaml", "schemas/tide-level.yaml",
	}, p.Uses("gauge-readings"))
	require.Len(t, p.UsedBy("schemas/station.yaml"), 2)
}

// TestAPartThatIsSavedUnchangedStaysTheSame makes sure that an edit of a demo part changes only
// what was edited: the files stand in the form in which they are written.
func TestAPartThatIsSavedUnchangedStaysTheSame(t *testing.T) {
	for path, text := range demoTexts(t) {
		if kind, _, ok := Kind(path); !ok || kindOf(kind).files {
			continue
		}
		once, err := partfile.Set([]byte(text), []any{"added"}, "x")
		require.NoError(t, err)
		back, err := partfile.Set(once, []any{"added"}, "")
		require.NoError(t, err)
		require.Equal(t, text, string(back), path)
	}
}

// TestFaultsAcrossParts breaks one part at a time and expects the fault where it shows.
func TestFaultsAcrossParts(t *testing.T) {
	const flowFile = "flows/gauge-readings.yaml"
	for name, c := range map[string]struct{ path, old, new, want string }{
		"unknown schema":      {flowFile, "schema: gauge-reading", "schema: gauge", `flows/gauge-readings.yaml:13:13: there is no schema "gauge"`},
		"unknown mapping":     {flowFile, "mapping: reading-to-tide-level", "mapping: other", `flows/gauge-readings.yaml:36:18: there is no mapping "other"`},
		"unknown connection":  {flowFile, "connection: gauge-drop", "connection: drop", `flows/gauge-readings.yaml:5:15: there is no connection "drop"`},
		"connection kind":     {flowFile, "connection: gauge-drop", "connection: harbour-ledger", `flows/gauge-readings.yaml:5:15: expected a connection to a folder, found sql`},
		"a filter of no type": {flowFile, `trend == "R" and level_cm > 0`, "level_cm", `flows/gauge-readings.yaml:23:16: expected true or false, found decimal`},
		"a filter's column":   {flowFile, `trend == "R" and level_cm > 0`, `trend == "R" and levels > 0`, `flows/gauge-readings.yaml:23:33: there is no "levels" here`},
		"no such key":         {flowFile, "key: gauge_code, taken_at", "key: gauge_code, at", `flows/gauge-readings.yaml:44:14: row has no field "at". It has station_id, gauge_code, taken_at, level_cm, above_datum_cm, is_surge, trend, station_name, unit, source_file`},
		"match type":          {flowFile, "gauge_code: reading.gauge", "gauge_code: reading.level_cm", `flows/gauge-readings.yaml:31:23: expected text to compare with gauge_code, found decimal`},
		"missing setting":     {flowFile, "        table: station\n", "", `flows/gauge-readings.yaml:24:9: "table" is missing`},
		"unknown step":        {flowFile, "step: filter", "step: sieve", `flows/gauge-readings.yaml:20:15: expected a kind of step (read, each, choose, parallel, try, filter, deduplicate, aggregate, cache, map, set, accumulate, validate, parse, serialize, template, encode, encrypt, decrypt, look up, update table, look up row, upsert, call, write, run flow, respond, wait, send message, publish, receive message, log, reference, stop), found "sieve"`},
		"id twice":            {flowFile, "id: find", "id: keep", `flows/gauge-readings.yaml:24:9: the step id "keep" is there twice`},
		"used too early":      {flowFile, "of: reading", "of: row", `flows/gauge-readings.yaml:18:9: there is no "row" here`},
		"source missing":      {flowFile, "as: station", "as: pier", `flows/gauge-readings.yaml:36:18: the mapping needs "station"; no step before yields it`},
		"overlap":             {"schemas/gauge-reading.yaml", "columns: 5-12", "columns: 4-12", `schemas/gauge-reading.yaml:15:5: day: column 4 belongs to the field before, too`},
		"no sample":           {"schemas/gauge-reading.yaml", "sk_0309.tide", "none.tide", `schemas/gauge-reading.yaml:1:1: there is no sample "none.tide"`},
		"type":                {"schemas/station.yaml", "type: decimal", "type: number", `schemas/station.yaml:13:11: datum_cm: expected a type (text, integer, decimal, boolean, date, time, timestamp, local timestamp, zoned time, year-month, duration, binary, record, map, list, variant, any, null), found "number"`},
		"pattern":             {"schemas/gauge-reading.yaml", "pattern: yyyyMMdd", "pattern: ddmmYYYY", `schemas/gauge-reading.yaml:18:14: day: expected yyyy, MM, dd, HH, mm, ss and punctuation, found "YYYY"`},
		"syntax":              {"schemas/station.yaml", "notation: rows", "notation: [rows", `schemas/station.yaml:`},
		"rule of the mapping": {"mappings/reading-to-tide-level.yaml", "level_cm - station.datum_cm", "level_cm - station.datum", `mappings/reading-to-tide-level.yaml:18:33: above_datum_cm: station has no field "datum". Did you mean datum_cm?`},
	} {
		t.Run(name, func(t *testing.T) {
			texts := demoTexts(t)
			broken := strings.Replace(texts[c.path], c.old, c.new, 1)
			require.NotEqual(t, texts[c.path], broken, "nothing was broken")
			texts[c.path] = broken
			p := Load("skerry", texts)
			require.Contains(t, p.Faults.Error(), c.want)
			tryIt(t, p)
		})
	}
}

// tryIt lays a draft out and runs it dry, whatever its faults: the designer does so while one types.
func tryIt(t *testing.T, p *Project) {
	t.Helper()
	plan := p.Flow("gauge-readings")
	require.NotEmpty(t, layout.Of(plan, p, nil).Lanes)
	if plan.Source == nil || plan.ReadStep == nil || len(plan.Source.Samples) == 0 {
		return
	}
	r, err := p.OpenSample(plan.Source, plan.Source.Samples[0], false)
	if err != nil {
		return
	}
	items, err := running.NewSource(plan, r, running.Facts{ID: "1", File: "x"}).Batch(100)
	if err != nil {
		return
	}
	b := &running.Batch{Plan: plan, Systems: &trial.Dry{Rows: func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, 100) }}}
	require.NoError(t, b.Run(context.Background(), items))
}

func TestReadRefusesWhatIsNoProject(t *testing.T) {
	_, err := Read(os.DirFS(t.TempDir()))
	require.ErrorContains(t, err, "expected a project folder with a project.yaml, found none")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, File), []byte("project: X\n"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "flows"), 0o755))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "flows", "x.yaml")))
	_, err = Read(os.DirFS(dir))
	require.ErrorContains(t, err, "flows/x.yaml is not a regular file")
}

// TestLayout holds the geometry of the demo flow against its golden file.
func TestLayout(t *testing.T) {
	p := Load("skerry", demoTexts(t))
	got, err := json.MarshalIndent(layout.Of(p.Flow("gauge-readings"), p, nil), "", "  ")
	require.NoError(t, err)
	golden := filepath.Join("testdata", "gauge-readings.layout.json")
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(golden, append(got, '\n'), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	require.Equal(t, string(want), string(got)+"\n", "run with -update, then look at the picture")
}

func TestLayoutNeverOverlaps(t *testing.T) {
	texts := demoTexts(t)
	text := texts["flows/gauge-readings.yaml"]
	at := strings.Index(text, "      - step: look up row")
	var many strings.Builder
	for i := range 150 {
		many.WriteString(strings.ReplaceAll("      - step: filter\n        id: kN\n        where: level_cm > 0\n", "N", string(rune('a'+i%26))+strings.Repeat("x", i/26)))
	}
	texts["flows/gauge-readings.yaml"] = text[:at] + many.String() + text[at:]
	p := Load("skerry", texts)
	require.Empty(t, p.Faults)
	g := layout.Of(p.Flow("gauge-readings"), p, nil)
	require.Len(t, g.Nodes, 156)
	for i, a := range g.Nodes {
		require.LessOrEqual(t, a.X+a.W, g.Width)
		for _, b := range g.Nodes[i+1:] {
			require.True(t, a.X+a.W <= b.X || b.X+b.W <= a.X || a.Y+a.H <= b.Y || b.Y+b.H <= a.Y, "%s and %s", a.ID, b.ID)
		}
	}
}

// TestTheFlowRunsDry passes the sample through every step without any outside system.
func TestTheFlowRunsDry(t *testing.T) {
	p := Load("skerry", demoTexts(t))
	plan := p.Flow("gauge-readings")
	r, err := p.OpenSample(plan.Source, "sk_0309.tide", false)
	require.NoError(t, err)
	items, err := running.NewSource(plan, r, running.Facts{ID: "1", File: "sk_0309.tide"}).Batch(100)
	require.NoError(t, err)
	told := 0
	b := &running.Batch{Plan: plan, Systems: &trial.Dry{
		Rows:     func(s *schema.Schema) ([]value.Value, error) { return p.SampleRecords(s, 100) },
		OnUpsert: func(running.Upsert, value.Value) { told++ },
	}}
	require.NoError(t, b.Run(context.Background(), items))
	require.Equal(t, &running.Counts{In: 48, Out: 17, Skipped: 31}, b.Counts["keep"])
	require.Equal(t, 17, told)
	require.Equal(t, "331.0", items[0].Frame.Slots[plan.Planned("map").Result.Slot].Field("above_datum_cm").String())
	for _, it := range items {
		if it.State == running.Skipped {
			require.Equal(t, `not trend == "R" and level_cm > 0`, it.Reason)
		}
	}
}

// TestTheDemosSamplesFit: every sample of every schema passes the check.
func TestTheDemosSamplesFit(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	p := Load("demo", texts)
	seen := 0
	for _, part := range p.Parts(Schemas) {
		s := p.Schema(part.ID)
		for _, name := range s.Samples {
			as, err := all.OfFile(name, s)
			require.NoError(t, err)
			tally, err := validate.File(s, part.Path, as, name, strings.NewReader(p.Texts[Path(Samples, name)]), func(f *fault.Fault) bool {
				t.Errorf("%s", f)
				return true
			})
			require.NoError(t, err)
			require.Positive(t, tally.Records, name)
			seen++
		}
	}
	require.GreaterOrEqual(t, seen, 5, "samples in all notations")
}

// TestTheNextProjectIsTheSame: what has not changed is not parsed again, and comes to the same faults and parts as if it were.
func TestTheNextProjectIsTheSame(t *testing.T) {
	texts, err := Read(demo.Files)
	require.NoError(t, err)
	var p *Project
	same := func(what string) {
		t.Helper()
		p = Next(p, "skerry", maps.Clone(texts))
		fresh := Load("skerry", texts)
		require.Equal(t, fresh.Faults, p.Faults, what)
		require.Equal(t, fresh.Parts(""), p.Parts(""), what)
		for _, part := range fresh.Parts(Schemas) {
			require.Equal(t, string(schema.Write(fresh.Schema(part.ID))), string(schema.Write(p.Schema(part.ID))), what)
		}
	}
	same("at first")
	same("nothing changed")
	texts[Path(Schemas, "booking")] = "schema: Booking\nnotation: [json\n"
	same("one cannot be read")
	same("and still cannot")
	require.NotEmpty(t, p.Faults)
	texts[Path(Schemas, "booking")] = "schema: Booking\nnotation: json\nfields:\n  - {name: a, type: text, misspelt: x}\n"
	same("it is another one")
	delete(texts, Path(Schemas, "booking"))
	same("it is gone")
}
