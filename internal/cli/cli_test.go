package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const demoFolder = "../../demo"

// call runs a command line and gives its exit code and what it wrote.
func call(t testing.TB, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	code = Run(args, strings.NewReader(in), &o, &e)
	return code, o.String(), e.String()
}

func file(t testing.TB, name, content string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	return path
}

func TestCheck(t *testing.T) {
	code, out, errs := call(t, "", "check", demoFolder)
	require.Equal(t, exitDone, code, out+errs)
	require.Empty(t, out)

	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(demoFolder)))
	path := filepath.Join(dir, "flows", "gauge-readings.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, bytes.Replace(text, []byte("level_cm > 0"), []byte("level_cm > x"), 1), 0o644))
	code, out, _ = call(t, "", "check", dir)
	require.Equal(t, exitFaults, code)
	require.Equal(t, "flows/gauge-readings.yaml:23:44: there is no \"x\" here\n", out)

	require.NoError(t, os.WriteFile(path, text, 0o644))
	quiet := "flow: Quiet\ntrigger: {kind: called, input: booking, output: invoice-note}\nsteps:\n  - {step: note, id: n, text: input.number}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "flows", "quiet.yaml"), []byte(quiet), 0o644))
	code, out, _ = call(t, "", "check", dir)
	require.Equal(t, exitDone, code, "what is pointed out is no fault")
	require.Contains(t, out, "note: flows/quiet.yaml:2:10: whoever calls the flow is promised Note of an invoice, and no step answers")

	code, _, errs = call(t, "", "check", filepath.Join(dir, "none"))
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "no such file or directory")
	code, _, errs = call(t, "", "check", t.TempDir())
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "expected a project folder with a project.yaml")
}

func TestMap(t *testing.T) {
	code, out, errs := call(t, "", "map", demoFolder, "reading-to-tide-level", "--input", demoFolder+"/samples/sk_0309.tide", "--to", "ndjson")
	require.Equal(t, exitDone, code, errs)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 48)
	require.Equal(t, `{"station_id":11,"gauge_code":"SK04","taken_at":"2031-03-09T06:12:00Z","level_cm":300.0,"above_datum_cm":312.5,"is_surge":false,"trend":"R","station_name":"LING CASTLE PIER","unit":"cm","source_file":"sk_0309.tide"}`, lines[0])
	require.Equal(t, "station is the first record of the sample stations.csv\n", errs)

	station := file(t, "s.csv", "id,gauge_code,name,datum_cm\n1,AA01,x,1.0\n")
	code, out, errs = call(t, "", "map", demoFolder, "reading-to-tide-level", "--input", demoFolder+"/samples/sk_0309.tide", "--to", "csv", "--with", "station="+station)
	require.Equal(t, exitDone, code, errs)
	require.True(t, strings.HasPrefix(out, "station_id,gauge_code,taken_at,"), out)
	require.Contains(t, out, "1,SK04,2031-03-09T06:12:00Z,300.0,299.0,false,R,X,cm,sk_0309.tide\r\n")

	good, err := os.ReadFile(demoFolder + "/samples/sk_0309.tide")
	require.NoError(t, err)
	code, out, errs = call(t, "short\r\n"+string(good), "map", demoFolder, "reading-to-tide-level", "--input", "-", "--to", "ndjson")
	require.Equal(t, exitFaults, code)
	require.Contains(t, errs, "-:1:6: day: expected 32 columns, found a line of 5")
	require.Contains(t, errs, "48 of 49 records are written, 1 are at fault")
	require.Len(t, strings.Split(strings.TrimSpace(out), "\n"), 48, "what is good is kept")
	code, _, errs = call(t, "", "map", demoFolder, "nothing", "--input", "-")
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, `the project has no mapping "nothing"; it has booking-to-invoice, crew-to-roster, invoice-to-posting, reading-to-tide-level`)
}

// folder makes a project's folder.
func folder(t *testing.T, parts map[string]string) (dir string) {
	t.Helper()
	dir = t.TempDir()
	for path, text := range parts {
		at := filepath.Join(dir, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	return dir
}

func TestRunTouchesNothing(t *testing.T) {
	code, out, errs := call(t, "", "run", demoFolder, "gauge-readings", "--input", demoFolder+"/samples/sk_0309.tide")
	require.Equal(t, exitDone, code, errs)
	require.Len(t, strings.Split(strings.TrimSpace(out), "\n"), 17)
	require.Contains(t, errs, "Keep rising              48 in     17 out, 31 skipped")

	bad := file(t, "bad.tide", "SK042031030906120003000038036\r\nZZ99203103090612000300003803610R\r\n")
	code, _, errs = call(t, "", "run", demoFolder, "gauge-readings", "--input", bad)
	require.Equal(t, exitFaults, code)
	require.Contains(t, errs, bad+":1:30: battery_mv: expected 32 columns, found a line of 29")
	require.Contains(t, errs, `no row of station with gauge_code "ZZ99"`)

	code, _, errs = call(t, "", "run", demoFolder, "gauge-readings", "--input", file(t, "e.tide", ""))
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "found an empty file")
	code, _, errs = call(t, "", "run", demoFolder, "gauge-readings", "--input", bad, "--really")
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "--really needs --settings FILE")
}

// TestNothingRunsOnAFaultySchema: nor on one with a setting that nobody knows.
func TestNothingRunsOnAFaultySchema(t *testing.T) {
	dir := folder(t, map[string]string{
		"project.yaml":        "project: Crates\n",
		"connections/in.yaml": "connection: In\nkind: file\n",
		"schemas/crate.yaml":  "schema: Crate\nnotation: csv\nfields:\n  - {name: code, type: text, colour: red}\n",
		"flows/crates.yaml":   "flow: Crates\ntrigger: {kind: file, connection: in, glob: '*'}\nsteps:\n  - {step: read, id: read, schema: crate, as: crate}\n",
		"mappings/same.yaml":  "mapping: Same\nfrom: [{name: crate, schema: crate}]\nto: crate\nrules:\n  - {field: code, formula: code}\n",
	})
	for _, command := range [][]string{{"run", dir, "crates"}, {"map", dir, "same"}} {
		code, out, errs := call(t, "code\r\nA\r\n", append(command, "--input", "-")...)
		require.Equal(t, exitInput, code)
		require.Empty(t, out)
		require.Contains(t, errs, `schemas/crate.yaml:4:30: unknown setting "colour"`)
	}
}

// TestEveryFlowRunsFromTheCommandLine, over the samples of what it reads; what it would do is shown.
func TestEveryFlowRunsFromTheCommandLine(t *testing.T) {
	flows, err := filepath.Glob(demoFolder + "/flows/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, flows)
	shows := map[string]string{
		"booking-to-invoice":  `{"step":"post","request":{"booking":"B-20417"`,
		"crew-notice":         `{"step":"post","request":{"board":"crew"`,
		"crew-roster":         `{"step":"write","file":"roster.xml","records":3,`,
		"gate-scans-to-log":   `{"step":"publish","channel":"sailing-log","key":"LS204","message":"{`,
		"incident-intake":     `{"answer":{"noted":true}}`,
		"letters-to-the-desk": `{"step":"put","request":{"name":"papers/`,
		"safety-notices":      `{"step":"send","request":{"to":["bridge@skerry.example"]`,
		"vessel-list":         `"content":"id,name,home,length_m,cars,built\r\n`,
	}
	for _, flow := range flows {
		id := strings.TrimSuffix(filepath.Base(flow), ".yaml")
		code, out, errs := call(t, "", "run", demoFolder, id)
		require.Equal(t, exitDone, code, "%s: %s", id, errs)
		require.NotEmpty(t, out, "%s shows nothing that it would do", id)
		require.Contains(t, out, shows[id], id)
		require.Equal(t, id == "scanned-papers", strings.Contains(errs, "made up"), "%s: the bytes of a fetched paper are, and nothing else: %s", id, errs)
	}
	code, out, errs := call(t, "", "run", demoFolder, "crew-notice", "--input", demoFolder+"/samples/crew-on-watch.json")
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, "Crew 506 on Tern")
}

// TestAFormerProjectRunsUnchanged: the demo as it was written before, in the words of that time, has no fault, passes its cases,
// and all its flows do what the demo's do now.
func TestAFormerProjectRunsUnchanged(t *testing.T) {
	const former = "testdata/former"
	code, out, errs := call(t, "", "check", former)
	require.Equal(t, exitDone, code, out+errs)
	code, out, errs = call(t, "", "test", former)
	require.Equal(t, exitDone, code, out+errs)
	require.Contains(t, out, "7 cases, 0 failed")
	flows, err := filepath.Glob(former + "/flows/*.yaml")
	require.NoError(t, err)
	require.Len(t, flows, 13)
	for _, flow := range flows {
		id := strings.TrimSuffix(filepath.Base(flow), ".yaml")
		code, was, errs := call(t, "", "run", former, id)
		require.Equal(t, exitDone, code, "%s: %s", id, errs)
		_, now, _ := call(t, "", "run", demoFolder, id)
		require.Equal(t, now, was, id)
	}
}

// TestRunReallyWritesFiles: those of a flow that is called, too, at their place.
func TestRunReallyWritesFiles(t *testing.T) {
	to := t.TempDir()
	dir := folder(t, map[string]string{
		"project.yaml":         "project: Crates\n",
		"connections/out.yaml": "connection: Out\nkind: file\n",
		"schemas/crate.yaml":   "schema: Crate\nnotation: csv\nfields:\n  - {name: code, type: text}\nsamples: [crates.csv]\n",
		"samples/crates.csv":   "code\r\nA1\r\nB2\r\n",
		"flows/outer.yaml":     "flow: Outer\ntrigger: {kind: person, input: crate, as: crate}\nsteps:\n  - {step: flow, id: go, flow: inner, with: {code: crate.code}}\n",
		"flows/inner.yaml":     "flow: Inner\ntrigger: {kind: called, input: crate, as: crate}\nsteps:\n  - {step: write, id: put, connection: out, schema: crate, from: crate, file name: '\"one.csv\"'}\n",
	})
	code, out, errs := call(t, "", "run", dir, "outer")
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, out, `{"step":"put","file":"one.csv","records":1,"bytes":10,"content":"code\r\nA1\r\n"}`)
	settings := file(t, "settings.yaml", "out: {kind: file, folder: "+to+"}\n")
	code, _, errs = call(t, "", "run", dir, "outer", "--really", "--settings", settings)
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, errs, "one.csv is written, 1 records, 10 bytes")
	text, err := os.ReadFile(filepath.Join(to, "one.csv"))
	require.NoError(t, err)
	require.Equal(t, "code\r\nA1\r\n", string(text))
}

// TestRecordsAreAsTheyCameWhenTheirMemoryIsUsedAgain: with fields that are absent, records that are skipped and ones set aside
// among thousands, in every notation that reads into memory that is used again, and with a step that keeps what it has seen.
func TestRecordsAreAsTheyCameWhenTheirMemoryIsUsedAgain(t *testing.T) {
	flow := "flow: Crates\ntrigger: {connection: in, glob: '*'}\nsteps:\n  - {step: read, id: read, schema: %s, as: crate}\n" +
		"  - step: each\n    id: each\n    of: crate\n    steps:\n      - {step: filter, id: keep, where: 'kind != \"skip\"'}\n%s" +
		"      - {step: set, id: set, values: {longer: 'upper(kind)'}}\n      - {step: map, id: map, mapping: line, as: line}\n" +
		"      - {step: upsert, id: upsert, connection: out, table: line, from: line, key: code}\n"
	fields := "fields:\n  - {name: code, type: integer%s}\n  - {name: kind, type: text%s}\n  - {name: note, type: text, occurs: 0..1%s}\n"
	keeps := "      - {step: deduplicate, id: once, key: 'text(code)'}\n"
	wide := []any{", columns: 1-6", ", columns: 7-12", ", columns: 13-20"}
	const mapping = "mapping: Line\nfrom: [{name: crate, schema: %s}]\nto: line\nrules:\n  - {field: code, formula: code}\n  - {field: word, formula: lower(kind) + text(code)}\n  - {field: note, formula: note}\n"
	dir := folder(t, map[string]string{
		"project.yaml":         "project: Crates\n",
		"connections/in.yaml":  "connection: In\nkind: file\n",
		"connections/out.yaml": "connection: Out\nkind: sql\n",
		"schemas/csv.yaml":     "schema: CSV\nnotation: csv\n" + fmt.Sprintf(fields, "", "", ""),
		"schemas/wide.yaml":    "schema: Wide\nnotation: fixedwidth\n" + fmt.Sprintf(fields, wide...),
		"schemas/line.yaml":    "schema: Line\nnotation: rows\nfields:\n  - {name: code, type: integer}\n  - {name: word, type: text}\n  - {name: note, type: text, occurs: 0..1}\n",
		"mappings/line.yaml":   fmt.Sprintf(mapping, "csv"),
		"mappings/wide.yaml":   fmt.Sprintf(mapping, "wide"),
		"flows/csv.yaml":       fmt.Sprintf(flow, "csv", ""),
		"flows/keeps.yaml":     fmt.Sprintf(flow, "csv", keeps),
		"flows/wide.yaml":      strings.Replace(fmt.Sprintf(flow, "wide", ""), "mapping: line", "mapping: wide", 1),
	})
	var csv, fixed, want strings.Builder
	csv.WriteString("code,kind,note\r\n")
	aside := 0
	for i := range 7 * runBatch {
		kind, note := [3]string{"BOX", "skip", "Bag"}[i%3], ""
		if i%5 == 0 {
			note = fmt.Sprintf("n%d", i)
		}
		code := fmt.Sprint(i)
		if i > 4*runBatch && i%997 == 0 {
			code, aside = "x", aside+1
		}
		fmt.Fprintf(&csv, "%s,%s,%s\r\n", code, kind, note)
		fmt.Fprintf(&fixed, "%-6s%-6s%-8s\r\n", code, kind, note)
		if kind == "skip" || code == "x" {
			continue
		}
		if note != "" {
			note = `,"note":"` + note + `"`
		}
		fmt.Fprintf(&want, `{"code":%d,"word":"%s%d"%s}`+"\n", i, strings.ToLower(kind), i, note)
	}
	require.Positive(t, aside)
	for _, c := range []struct{ flow, input string }{{"csv", csv.String()}, {"keeps", csv.String()}, {"wide", fixed.String()}} {
		code, out, errs := call(t, "", "run", dir, c.flow, "--input", file(t, c.flow+".txt", c.input))
		require.Equal(t, exitFaults, code, errs)
		require.Equal(t, aside, strings.Count(errs, "set aside: "), errs)
		require.Equal(t, want.String(), out, c.flow)
	}
}

// TestWhatIsPassedOverIsTold by every command that reads by a schema.
func TestWhatIsPassedOverIsTold(t *testing.T) {
	in := file(t, "more.csv", "code,deck,kind\r\n1,3,BOX\r\n\r\n2,3,BAG\r\n")
	part := file(t, "crate.yaml", "schema: Crate\nnotation: csv\nfields:\n  - {name: code, type: text}\n  - {name: kind, type: text}\n")
	const told = "blank lines skipped: 1\n1 field that the schema lacks was passed over: deck (2 times)\n"
	code, out, errs := call(t, "", "convert", "--from", "csv", "--to", "ndjson", "--schema", part, in)
	require.Equal(t, exitDone, code)
	require.Equal(t, `{"code":"1","kind":"BOX"}`+"\n"+`{"code":"2","kind":"BAG"}`+"\n", out)
	require.Equal(t, told, errs)
	code, _, errs = call(t, "", "validate", "--schema", part, in)
	require.Equal(t, exitDone, code)
	require.Equal(t, in+": 2 records, valid\n"+in+": blank lines skipped: 1\n"+in+": 1 field that the schema lacks was passed over: deck (2 times)\n", errs)

	text, err := os.ReadFile(demoFolder + "/samples/bookings.json")
	require.NoError(t, err)
	more := file(t, "bookings.json", strings.ReplaceAll(string(text), `"length_m"`, `"axles": 2, "length_m"`))
	one := file(t, "vehicle.json", `{"sailing": "LS204", "plate": "VC 7", "class": "CAR", "length_m": 4.25, "dangerous": false, "axles": 2}`)
	code, _, errs = call(t, "", "run", demoFolder, "vehicle", "--input", one)
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, errs, "1 field that the schema lacks was passed over: axles (once)\n")
	for _, command := range []string{"map", "run"} {
		code, _, errs = call(t, "", command, demoFolder, "booking-to-invoice", "--input", more)
		require.Equal(t, exitDone, code, errs)
		require.Contains(t, errs, "1 field that the schema lacks was passed over: line/axles (3 times)\n", command)
	}
}

func TestConvert(t *testing.T) {
	code, out, _ := call(t, "a,b\r\n1,2\r\n", "convert", "--from", "csv", "--to", "ndjson", "-")
	require.Equal(t, exitDone, code)
	require.Equal(t, "{\"a\":\"1\",\"b\":\"2\"}\n", out)

	code, out, _ = call(t, "", "convert", "--from", "fixedwidth", "--to", "csv", "--schema", demoFolder+"/schemas/gauge-reading.yaml", demoFolder+"/samples/sk_0309.tide")
	require.Equal(t, exitDone, code)
	require.True(t, strings.HasPrefix(out, "gauge,day,time,level_cm,surge_cm,battery_mv,trend\r\nSK04,2031-03-09,06:12:00,300.0,380,3610,R\r\n"), out[:120])

	code, out, errs := call(t, "a,b\r\n1\r\n2,3\r\n", "convert", "--from", "csv", "--to", "json", "-")
	require.Equal(t, exitFaults, code)
	require.Equal(t, "-:2:1: expected 2 fields, found 1 field\n1 of 2 records are written, 1 are at fault\n", errs)
	require.Equal(t, "[\n{\"a\":\"2\",\"b\":\"3\"}\n]\n", out)
	code, _, errs = call(t, "a,b\r\n1,2\r\n3,\"4", "convert", "--from", "csv", "--to", "json", "-")
	require.Equal(t, exitFaults, code)
	require.Equal(t, "-:3:3: expected a closing quote, found the end of the file\n1 of 2 records are written, 1 are at fault\n", errs)
	code, out, errs = call(t, `{"p:r":1}`, "convert", "--from", "json", "--to", "xml", "-")
	require.Equal(t, exitFaults, code)
	require.Empty(t, out)
	require.Contains(t, errs, "Declare it with @xmlns:p")
	for _, args := range [][]string{
		{"convert", "--from", "csv", "--to", "pdf", "-"},
		{"convert", "--from", "csv", "-"},
		{"convert", "--from", "csv", "--to", "json", "/none"},
		{"convert", "--from", "csv", "--to", "json", "/tmp"},
		{"convert"},
		{"nothing"},
		{"convert", "--from", "fixedwidth", "--to", "json", "-"},
		{"convert", "--from", "json", "--to", "fixedwidth", "-"},
	} {
		code, _, errs := call(t, "{}", args...)
		require.Equal(t, exitInput, code, args)
		require.Equal(t, 1, strings.Count(errs, "\n"), errs)
	}
}

// TestAListInXMLIsTheSameWhicheverWayItIsRead holds the reading element by element, which needs a
// file, against the reading of the whole document.
func TestAListInXMLIsTheSameWhicheverWayItIsRead(t *testing.T) {
	for name, text := range map[string]string{
		"list":       `<r a="1" b="&lt;"><x>1</x><x k="2"><y/>t</x> <x/></r>`,
		"two names":  `<r><x>1</x><y/><x>2</x></r>`,
		"one":        `<r><x>1</x></r>`,
		"text":       `<r><x>1</x>t<x>2</x></r>`,
		"no list":    `<r>t</r>`,
		"prefixes":   `<p:r xmlns:p="urn:p"><p:x/><p:x/></p:r>`,
		"with notes": "<?xml version=\"1.0\"?><!-- a --><r><!-- b --><x>1</x><!-- c --><x>2</x></r><!-- d -->",
	} {
		for _, to := range []string{"json", "xml", "ndjson"} {
			path := file(t, "in.xml", text)
			code, whole, errs := call(t, text, "convert", "--from", "xml", "--to", to, "-")
			require.Equal(t, exitDone, code, errs)
			code, listed, errs := call(t, "", "convert", "--from", "xml", "--to", to, path)
			require.Equal(t, exitDone, code, errs)
			require.Equal(t, whole, listed, name+" to "+to)
		}
	}
	path := file(t, "in.xml", "<r><x>1</x><x>2</x><x></r>")
	code, _, errs := call(t, "", "convert", "--from", "xml", "--to", "json", path)
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "expected </x>, found </r>")
}

func TestAJSONDocumentIsPassedOnAsItStands(t *testing.T) {
	for in, want := range map[string]string{
		` {"b" : 1.0, "a":[1E+2, -0, 12345678901234567890123, {"x":null}], "c":"\u00e6\n\\" } `: `{"b":1.0,"a":[1E+2,-0,12345678901234567890123,{"x":null}],"c":"æ\n\\"}` + "\n",
		"7":        "7\n",
		` "x" `:    "\"x\"\n",
		"\n [ 1 ]": "[\n1\n]\n",
	} {
		code, out, errs := call(t, in, "convert", "--from", "json", "--to", "json", "-")
		require.Equal(t, exitDone, code, errs)
		require.Equal(t, want, out)
	}
	for in, want := range map[string]string{
		"":                                    "-:1:1: expected a JSON value, found an empty file",
		"  ":                                  "-:1:1: expected a JSON value, found an empty file",
		"{\"a\":1} x":                         "-:1:9: this is not JSON",
		"{\"a\":1} {}":                        "expected the end of the document, found another value",
		"{\"a\":1,\n\"a\":2}":                 `the name "a" stands twice in one object`,
		"{\n\"a\":\n\"b\"":                    "this is not JSON: the document ends too early",
		"{\"a\":" + strings.Repeat("[", 2000): "nested too deep",
	} {
		code, _, errs := call(t, in, "convert", "--from", "json", "--to", "json", "-")
		require.Equal(t, exitInput, code, in)
		require.Contains(t, errs, want)
		require.Equal(t, 1, strings.Count(errs, "\n"))
	}
}

func TestHelpSpeaksToANewcomer(t *testing.T) {
	code, out, _ := call(t, "", "--help")
	require.Equal(t, exitDone, code)
	for _, want := range []string{"check", "map", "run", "convert", "A project is a folder"} {
		require.Contains(t, out, want)
	}
	_, out, _ = call(t, "", "convert", "--help")
	require.Contains(t, out, "fixedwidth, csv, json, ndjson, xml")
}
