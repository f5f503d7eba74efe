package all

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

const sailing = `
schema: Sailing
notation: fixedwidth
notation settings: {line end: LF, starts with: S}
fields:
  - {name: no, type: text, columns: 2-4}
  - name: vehicle
    type: record
    occurs: 0..2
    starts with: V
    fields:
      - {name: plate, type: text, columns: 2-4}
      - name: cargo
        type: record
        occurs: 0..n
        fields:
          - {name: kind, type: text, columns: 1, discriminator: C}
          - {name: kg, type: integer, columns: 2-4, constraints: {minimum: 1}}
  - name: total
    type: record
    starts with: TT
    fields:
      - {name: kg, type: integer, columns: 3-6}
`

// TestLinesOfSeveralTypes: detail lines belong to the heading before them, in both notations of
// lines, and are written again as they were.
func TestLinesOfSeveralTypes(t *testing.T) {
	fixed := parse(t, "sailing", sailing)
	const in = "S204\nVABC\nC001\nC020\nVDEF\nTT0021\nS205\nTT0000\n"
	const want = `{"no":"204","vehicle":[{"plate":"ABC","cargo":[{"kind":"C","kg":1},{"kind":"C","kg":20}]},{"plate":"DEF"}],"total":{"kg":21}}` + "\n" +
		`{"no":"205","total":{"kg":0}}` + "\n"
	got, err := convert(t, "fixedwidth", "ndjson", fixed, in)
	require.NoError(t, err)
	require.Equal(t, want, got)
	back, err := convert(t, "ndjson", "fixedwidth", fixed, got)
	require.NoError(t, err)
	require.Equal(t, in, back)

	list := parse(t, "sailing", strings.NewReplacer("notation: fixedwidth", "notation: csv", "line end: LF, starts with: S", "header: false, delimiter: ;", "name: no,", "name: kind, type: text, discriminator: S}\n  - {name: no,",
		"starts with: V", "starts with: V;", "{name: plate,", "{name: kind, type: text}\n      - {name: plate,", "    starts with: TT\n", "", "{name: kg, type: integer, columns: 3-6", "{name: kind, type: text, discriminator: TT}\n      - {name: kg, type: integer").Replace(sailing))
	const rows = "S;204\r\nV;A C\r\nC;1\r\nC;\"20\"\r\nV;\"D;\n\"\r\nTT;21\r\nS;205\r\nTT;0\r\n"
	got, err = convert(t, "csv", "ndjson", list, rows)
	require.NoError(t, err)
	require.Contains(t, got, `"vehicle":[{"kind":"V","plate":"A C","cargo":[{"kind":"C","kg":1},{"kind":"C","kg":20}]},{"kind":"V","plate":"D;\n"}],"total":{"kind":"TT","kg":21}}`)
	back, err = convert(t, "ndjson", "csv", list, got)
	require.NoError(t, err)
	require.Equal(t, strings.Replace(rows, `"20"`, "20", 1), back)

	back, err = convert(t, "ndjson", "csv", list, `{"no":"1","vehicle":[{"kind":"V","plate":"x"}],"total":{"kg":3}}`)
	require.NoError(t, err)
	require.Equal(t, "S;1\r\nV;x\r\nTT;3\r\n", back, "what marks a line is written where it is not said")
	_, err = convert(t, "ndjson", "csv", list, `{"no":"1","vehicle":[{"kind":"W","plate":"x"}],"total":{"kg":3}}`)
	require.ErrorContains(t, err, `expected a line that begins with "V;"`)
}

// read reads a message to its end: what each record is, or its faults.
func read(t testing.TB, s *schema.Schema, in string, o notation.Options) []string {
	t.Helper()
	n, err := Named(s.Notation.Name)
	require.NoError(t, err)
	o.Source, o.Schema = "in", s
	r, err := n.NewReader(strings.NewReader(in), o)
	require.NoError(t, err)
	var got []string
	for {
		_, err := r.Next()
		if err == io.EOF {
			return got
		}
		var faults fault.List
		switch {
		case err == nil:
			got = append(got, fmt.Sprintf("%d: %s", r.Place().Line, strings.ReplaceAll(r.Raw(), "\n", "|")))
		case errors.As(err, &faults):
			for _, f := range faults {
				got = append(got, f.Error())
			}
		default:
			require.NoError(t, err)
		}
	}
}

// TestFaultsOfLinesOfSeveralTypes: every fault says where in the file and where in the message; the
// next record is read all the same.
func TestFaultsOfLinesOfSeveralTypes(t *testing.T) {
	s := parse(t, "sailing", sailing)
	const types = `vehicle (lines that begin with "V"), total (lines that begin with "TT"), sailing (lines that begin with "S")`
	for name, c := range map[string]struct{ in, want string }{
		"a value inside":    {"S204\nVABC\nC0x1\nC000\nTT0001\nS205\nTT0000\n", "in:3:2 /vehicle/0/cargo/0/kg: kg: expected a whole number, found \"0x1\"\nin:4:2 /vehicle/0/cargo/1/kg: kg: expected at least 1, found 0\n6: S205|TT0000"},
		"a line too short":  {"S204\nVAB\nTT0001\n", "in:2:4 /vehicle/0/plate: plate: expected 4 columns, found a line of 3"},
		"an unknown type":   {"S204\nX\nTT0001\nS205\nTT0000\n", "in:2:1: expected " + types + ", found \"X\"\n4: S205|TT0000"},
		"nothing around it": {"VABC\nS205\nTT0000\n", "in:1:1: expected " + types + ", found \"VABC\"\n2: S205|TT0000"},
		"too many":          {"S204\nVABC\nVABD\nVABE\nTT0001\n", "in:4:1 /vehicle/1: vehicle: expected vehicle 0..2 times, found one more line of it"},
		"one twice":         {"S204\nTT0001\nTT0002\nS205\nTT0000\n", "in:3:1 /total: total: expected total 1 times, found one more line of it\n4: S205|TT0000"},
		"one missing":       {"S204\nVABC\nS205\nTT0000\n", "in:3 /total: total: expected total (lines that begin with \"TT\"), found none\n3: S205|TT0000"},
	} {
		got := strings.Join(read(t, s, c.in, notation.Options{Check: true}), "\n")
		if name == "nothing around it" {
			require.Contains(t, got, c.want[:strings.Index(c.want, "\n")], name)
			require.Contains(t, got, "2: S205|TT0000", name)
			continue
		}
		require.Equal(t, c.want, got, name)
	}

	long := read(t, s, "S204\nVABC\n"+strings.Repeat("C001\n", 1000)+"TT0001\nS205\nTT0000\n", notation.Options{MaxRecord: 2000, Check: true})
	require.Equal(t, []string{"in:401: the lines of one record take more than 2000 bytes. If the lines inside are meant to be records of their own, pass over the line around them", "1004: S205|TT0000"}, long)
}

// TestARecordWithoutALineOfItsOwn begins with the first of its lines: a file with one heading is one
// record, and several in one file are several.
func TestARecordWithoutALineOfItsOwn(t *testing.T) {
	const group = "schema: X\nnotation: fixedwidth\nfields:\n  - name: head\n    type: record\n    starts with: H\n    fields: [{name: no, type: integer, columns: 2}]\n" +
		"  - name: part\n    type: record\n    occurs: 0..n\n    fields:\n      - name: a\n        type: record\n        starts with: A\n        fields: [{name: x, type: text, columns: 2}]\n" +
		"      - name: b\n        type: record\n        occurs: 0..n\n        starts with: B\n        fields: [{name: y, type: text, columns: 2}]\n"
	s := parse(t, "x", group)
	const in = "H1\nAx\nB1\nB2\nAy\nH2\n"
	got, err := convert(t, "fixedwidth", "ndjson", s, in)
	require.NoError(t, err)
	require.Equal(t, `{"head":{"no":1},"part":[{"a":{"x":"x"},"b":[{"y":"1"},{"y":"2"}]},{"a":{"x":"y"}}]}`+"\n"+`{"head":{"no":2}}`+"\n", got)
	back, err := convert(t, "ndjson", "fixedwidth", s, got)
	require.NoError(t, err)
	require.Equal(t, strings.ReplaceAll(in, "\n", "\r\n"), back)
}

func TestLinesThatCannotBeToldApartAreRefused(t *testing.T) {
	for wrong, want := range map[string]string{
		"notation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1}\n  - {name: b, type: record, starts with: B, fields: [{name: c, type: text, columns: 2}]}\n":                                                      "nothing tells the lines of x from others",
		"notation: fixedwidth\nnotation settings: {starts with: A}\nfields:\n  - {name: a, type: text, columns: 2}\n  - {name: b, type: record, fields: [{name: c, type: text, columns: 2}]}\n":                                 "nothing tells the lines of b from others",
		"notation: csv\nnotation settings: {starts with: A}\nfields:\n  - {name: a, type: text}\n  - {name: b, type: record, starts with: B, fields: [{name: c, type: text}]}\n":                                                "lines of several types cannot share one header",
		"notation: fixedwidth\nfields:\n  - {name: a, type: text, columns: 1, occurs: 0..3}\n":                                                                                                                                  "a line holds single fields and records",
		"notation: fixedwidth\nnotation settings: {starts with: A}\nfields:\n  - {name: b, type: record, starts with: B, discriminator: C, fields: [{name: c, type: text, columns: 2-3}, {name: d, type: text, columns: 3}]}\n": "column 3 belongs to the field before, too",
	} {
		d := partfile.Parse("x.yaml", []byte("schema: X\n"+wrong))
		schema.Parse("x", d)
		require.Contains(t, d.Faults.Error(), want)
	}
}
