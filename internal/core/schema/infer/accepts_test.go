package infer_test

import (
	"bytes"
	stdcsv "encoding/csv"
	stdjson "encoding/json"
	stdxml "encoding/xml"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/validate"
)

var (
	oddNames = []string{"a", "b", "item", "@id", "#text", "#content", "", "a b", "2x", "x:y", "é", "others", "value"}
	oddTexts = []string{
		"", " ", "x", "1", "true", "null", "2024-01-01", "2024-01-01T10:00:00Z", "1.50", "0012", "2024-13-01", "10:00:00", "P1D", "550e8400-e29b-41d4-a716-446655440000",
		"aGVsbG8=", "http://a.b/c", ".5", "1.", "1e5", "+3", "-0", "01.02.2024", "1,234.5", "a,b", "say \"so\"",
	}
)

func some(random *rand.Rand) string { return oddTexts[random.IntN(len(oddTexts))] }

func madeJSON(random *rand.Rand, depth int) any {
	switch kind := random.IntN(8); {
	case depth > 0 && kind < 3:
		m := map[string]any{}
		for range random.IntN(5) {
			m[oddNames[random.IntN(len(oddNames))]] = madeJSON(random, depth-1)
		}
		return m
	case depth > 0 && kind < 5:
		l := []any{}
		for range random.IntN(5) {
			l = append(l, madeJSON(random, depth-1))
		}
		return l
	case kind == 5:
		return stdjson.Number([]string{"0", "-1.50", "1e400", "12345678901234567890", "-0", "3", "2.0"}[random.IntN(7)])
	case kind == 6:
		return []any{true, false, nil}[random.IntN(3)]
	}
	return some(random)
}

func madeXML(random *rand.Rand, depth int) string {
	name := []string{"a", "b", "item", "p:c", "_x0020_", "d"}[random.IntN(6)]
	var b bytes.Buffer
	fmt.Fprintf(&b, "<%s xmlns:p='urn:p'", name)
	if random.IntN(3) == 0 {
		b.WriteString(" x='")
		stdxml.EscapeText(&b, []byte(some(random)))
		b.WriteString("'")
	}
	b.WriteString(">")
	for range random.IntN(4) {
		if depth > 0 && random.IntN(3) > 0 {
			b.WriteString(madeXML(random, depth-1))
		} else if random.IntN(3) == 0 {
			stdxml.EscapeText(&b, []byte(some(random)))
		}
	}
	return b.String() + "</" + name + ">"
}

func madeCSV(random *rand.Rand) string {
	var b bytes.Buffer
	w := stdcsv.NewWriter(&b)
	columns := 2 + random.IntN(4)
	names := make([]string, columns)
	for i := range names {
		names[i] = fmt.Sprintf("column %d", i)
	}
	w.Write(names)
	for range 1 + random.IntN(5) {
		cells := make([]string, columns)
		for i := range cells {
			cells[i] = some(random)
		}
		w.Write(cells)
	}
	w.Flush()
	return b.String()
}

// TestWhatIsInferredAcceptsTheSample, with nothing passed over: documents and files of every shape, and with odd names and values.
func TestWhatIsInferredAcceptsTheSample(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	for _, c := range []struct {
		as   string
		made func(i int) string
	}{
		{"json", func(i int) string {
			text, err := stdjson.Marshal(madeJSON(random, 1+i%4))
			require.NoError(t, err)
			return string(text)
		}},
		{"ndjson", func(i int) (lines string) {
			for range 1 + i%3 {
				text, err := stdjson.Marshal(madeJSON(random, 1+i%4))
				require.NoError(t, err)
				lines += string(text) + "\n"
			}
			return lines
		}},
		{"xml", func(i int) string { return madeXML(random, 1+i%4) }},
		{"csv", func(int) string { return madeCSV(random) }},
	} {
		t.Run(c.as, func(t *testing.T) {
			for i := range 1_000 {
				sample := c.made(i)
				accepts(t, c.as, sample)
			}
		})
	}
}

func accepts(t *testing.T, as, sample string) {
	r, err := infer.From("x", "X", named(t, as), infer.Sample{Name: "in", Content: []byte(sample)})
	require.NoError(t, err, sample)
	d := partfile.Parse("x.yaml", schema.Write(r.Schema))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults, "%s\n%s", sample, schema.Write(r.Schema))
	var first *fault.Fault
	found, err := validate.File(s, "x.yaml", named(t, as), "in", bytes.NewReader([]byte(sample)), func(f *fault.Fault) bool { first = f; return false })
	require.NoError(t, err, sample)
	require.True(t, found.OK(), "%v of %s\n%s", first, sample, schema.Write(r.Schema))
	require.Empty(t, found.Ignored.Fields(), "%s\n%s", sample, schema.Write(r.Schema))
}
