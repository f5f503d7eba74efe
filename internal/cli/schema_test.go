package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const gauge = demoFolder + "/schemas/gauge-reading.yaml"

func TestValidateByAPart(t *testing.T) {
	code, out, errs := call(t, "", "validate", "--schema", gauge, demoFolder+"/samples/sk_0309.tide")
	require.Equal(t, exitDone, code, errs)
	require.Empty(t, out)
	require.Contains(t, errs, "48 records, valid")

	bad := file(t, "bad.tide", "SK0420310309061203000001241250R\r\nsk0420310309061203000001241250R\r\n")
	code, out, _ = call(t, "", "validate", "--schema", gauge, bad)
	require.Equal(t, exitFaults, code)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.NotEmpty(t, lines)
	require.JSONEq(t, `{"file":"`+bad+`","path":"","line":1,"column":32,"expected":"32 columns","found":"a line of 31","rule":"../../demo/schemas/gauge-reading.yaml:38:5","code":"length","field":"trend"}`, lines[0])

	code, out, _ = call(t, "a,b\nx,2\n", "validate", "--schema", file(t, "s.yaml", "schema: S\nnotation: csv\nfields:\n  - {name: a, type: integer}\n  - {name: b, type: integer, constraints: {minimum: 5}}\n"), "-")
	require.Equal(t, exitFaults, code)
	require.Contains(t, out, `"line":2,"column":3,"expected":"at least 5","found":"2"`)
	require.Contains(t, out, `s.yaml:5:5"`)
}

func TestValidateByJSONSchema(t *testing.T) {
	s := file(t, "s.json", `{"type":"object","required":["a"],"properties":{"a":{"type":"integer"}}}`)
	good, bad, broken := file(t, "good.json", `{"a":1}`), file(t, "bad.json", `{"a":"x"}`), file(t, "broken.json", `{"a":`)
	code, _, errs := call(t, "", "validate", "--schema", s, good)
	require.Equal(t, exitDone, code, errs)
	code, _, _ = call(t, "", "validate", "--schema", s, good, bad)
	require.Equal(t, exitFaults, code)
	code, out, _ := call(t, "", "validate", "--schema", s, good, bad, broken)
	require.Equal(t, exitInput, code, "one of them is no JSON")
	require.Equal(t, 2, strings.Count(out, "\n"))
	require.Contains(t, out, `"path":"/a","line":1,"column":6,"expected":"integer","found":"string"`)
	require.Contains(t, out, `s.json:1:61 /properties/a/type"`)
}

func TestXMLSchemasAreUsedAlike(t *testing.T) {
	const dir = "../core/schema/xsd/testdata/"
	code, out, errs := call(t, "", "validate", "--schema", dir+"multi.xsd", dir+"multi-1.xml")
	require.Equal(t, exitDone, code, out+errs)
	code, out, _ = call(t, "<trip xmlns='urn:m'><from/></trip>", "validate", "--schema", dir+"multi.xsd", "-")
	require.Equal(t, exitFaults, code)
	require.Contains(t, out, `"path":"/trip/from","line":1,"column":21,"expected":"code"`)
	part := file(t, "m.yaml", "schema: M\nnotation: xml\nfields: [{name: a, type: integer}]\n")
	for in, want := range map[string]int{"<m><a>1</a></m>": exitDone, "<m><a>x</a></m>": exitFaults, "<m><a>1</a>": exitInput, "<m><p:a>1</p:a></m>": exitInput, "": exitFaults} {
		code, out, _ = call(t, in, "validate", "--schema", part, "-")
		require.Equal(t, want, code, "%s: %s", in, out)
	}
	code, out, _ = call(t, "<trip", "validate", "--schema", dir+"multi.xsd", "-")
	require.Equal(t, exitInput, code, out)
	code, part, errs = call(t, "", "schema", "import", dir+"order.xsd", "--at", "orders")
	require.Equal(t, exitDone, code)
	require.Empty(t, errs)
	require.Contains(t, part, "orderNo: order by no")
	code, text, errs := call(t, "", "schema", "export", file(t, "order.yaml", part), "--as", "xsd")
	require.Equal(t, exitDone, code, errs)
	s := file(t, "again.xsd", text)
	code, made, errs := call(t, "", "schema", "sample", s, "--kind", "maximal")
	require.Equal(t, exitDone, code, errs)
	code, out, _ = call(t, made, "validate", "--schema", s, "-")
	require.Equal(t, exitDone, code, out)
	code, _, errs = call(t, "", "validate", "--schema", file(t, "bad.xsd", "<a/>"), "-")
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "expected an XML Schema document")
}

func TestValidateRefusesWhatItCannotUse(t *testing.T) {
	for _, args := range [][]string{
		{"validate", "--schema", "none.yaml", "x"},
		{"validate", "--schema", gauge, "none.tide"},
		{"validate", "--schema", file(t, "s.json", `{"type":1}`), "x"},
		{"validate", "--schema", file(t, "s.yaml", "schema: S\n"), "x"},
		{"validate", gauge},
	} {
		code, _, errs := call(t, "", args...)
		require.Equal(t, exitInput, code, args)
		require.Equal(t, 1, strings.Count(errs, "\n"), errs)
	}
}

func TestInferSampleAndValidateGoTogether(t *testing.T) {
	in := file(t, "orders.csv", "no,day,price,state\n1,2031-03-01,1.50,open\n2,2031-03-02,12.25,void\n")
	code, _, errs := call(t, "", "schema", "infer", in)
	require.Equal(t, exitDone, code, errs)
	require.Empty(t, errs, "evidence is told with --evidence only")
	code, part, errs := call(t, "", "schema", "infer", "--evidence", in)
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, part, "notation: csv\n")
	require.Contains(t, part, "type: date")
	require.Contains(t, errs, "seen in 2 of 2")
	s := file(t, "orders.yaml", part)
	code, _, errs = call(t, "", "validate", "--schema", s, in)
	require.Equal(t, exitDone, code, errs)
	for _, kind := range []string{"minimal", "typical", "maximal", "full"} {
		code, made, errs := call(t, "", "schema", "sample", s, "--kind", kind, "--count", "5", "--seed", "7")
		require.Equal(t, exitDone, code, errs)
		_, again, _ := call(t, "", "schema", "sample", s, "--kind", kind, "--count", "5", "--seed", "7")
		require.Equal(t, made, again)
		code, out, _ := call(t, made, "validate", "--schema", s, "-")
		require.Equal(t, exitDone, code, out)
	}
	code, _, errs = call(t, "", "schema", "sample", s, "--kind", "odd")
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, "minimal, typical or maximal")
}

func TestImportExportAndCompare(t *testing.T) {
	code, text, errs := call(t, "", "schema", "export", gauge, "--as", "jsonschema")
	require.Equal(t, exitDone, code, errs)
	code, part, errs := call(t, "", "schema", "import", file(t, "gauge-reading.json", text))
	require.Equal(t, exitDone, code, errs)
	require.Contains(t, part, "schema: Gauge reading\nnotation: json\n")
	code, _, errs = call(t, "", "schema", "import", file(t, "x.json", `{"type":"object","properties":{"a":{"not":{}}}}`))
	require.Equal(t, exitDone, code)
	require.Contains(t, errs, "not: it is not checked")

	a := file(t, "a.yaml", "schema: A\nnotation: json\nfields:\n  - {name: x, type: integer}\n")
	b := file(t, "b.yaml", "schema: A\nnotation: json\nfields:\n  - {name: x, type: decimal}\n  - {name: z, type: text, occurs: 0..1}\n")
	code, out, _ := call(t, "", "schema", "compare", a, b)
	require.Equal(t, exitFaults, code)
	require.Equal(t, "widened   x: type integer → decimal (breaks readers)\nadded     z: text 0..1\n", out)
	code, out, _ = call(t, "", "schema", "compare", a, a)
	require.Equal(t, exitDone, code)
	require.Empty(t, out)
}
