package all

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// seeds are a message for each notation, with a schema that reads it.
var seeds = []struct{ notation, schema, message string }{
	{"json", "schema: X\nnotation: json\nfields:\n  - {name: a, type: integer}\n  - {name: b, type: record, occurs: 0..n, fields: [{name: c, type: date, occurs: 0..1, nullable: true}]}\n", "[{\"a\":1,\"b\":[{\"c\":\"2031-03-09\"},{\"c\":null}]},\n {\"a\":22}]"},
	{"ndjson", "schema: X\nnotation: ndjson\nfields:\n  - {name: a, type: decimal}\n", "{\"a\":1.50}\n{\"a\":-2}\n\n{\"a\":3}\n"},
	{"csv", "schema: X\nnotation: csv\nnotation settings: {comment: '#'}\nfields:\n  - {name: a, type: integer}\n  - {name: b, type: text, occurs: 0..1}\n", "a,b\r\n1,\"x, \"\"y\"\"\r\nz\"\r\n# no\r\n2,\r\n"},
	{"csv", "schema: X\nnotation: csv\nnotation settings: {header: false, starts with: 'H', delimiter: ;}\nfields:\n  - {name: k, type: text}\n  - {name: d, type: record, occurs: 0..n, fields: [{name: k, type: text, discriminator: D}, {name: n, type: integer}]}\n", "H\nD;1\nD;2\nHx\n"},
	{"fixedwidth", "schema: X\nnotation: fixedwidth\nnotation settings: {count: characters}\nfields:\n  - {name: a, type: text, columns: 1-3}\n  - {name: b, type: integer, columns: 4-6}\n", "abc001\næø 002\n"},
	{"fixedwidth", sailing, "S204\nVABC\nC001\nC020\nTT0021\nS205\nTT0000\n"},
	{"xml", "schema: X\nnotation: xml\nnotation settings: {root: r, record: i, namespace: u, namespaces: {p: v}}\nfields:\n  - {name: a, type: integer, attribute: true}\n  - {name: 'p:b', type: text, occurs: 0..n}\n  - {name: t, type: text, content: true}\n", "<r xmlns='u' xmlns:q='v'>\n <i a='1'>x<q:b>y</q:b></i>\n <i a='2'/></r>"},
}

// readAll reads a message to its end: values as JSON, faults with their places.
func readAll(t testing.TB, name string, s *schema.Schema, in io.Reader) string {
	n, err := Named(name)
	require.NoError(t, err)
	r, err := n.NewReader(in, notation.Options{Source: "in", Schema: s, Check: true, MaxRecord: 1 << 16})
	if err != nil {
		return "! " + err.Error()
	}
	var b strings.Builder
	var enc json.Appender
	for range 10_000 {
		v, err := r.Next()
		var faults fault.List
		switch {
		case err == io.EOF:
			return b.String()
		case errors.As(err, &faults):
			require.NotEmpty(t, faults)
			fmt.Fprintln(&b, r.Place().Line, faults.Error())
		case err != nil:
			var f *fault.Fault
			require.ErrorAs(t, err, &f, "what a person sees is a fault")
			return b.String() + "! " + f.Error()
		default:
			fmt.Fprintf(&b, "%d %s\n", r.Place().Line, enc.Append(nil, v))
		}
	}
	t.Fatal("the reading does not end")
	return ""
}

// alike checks that a message reads the same in one go and byte by byte, with a schema and without.
func alike(t testing.TB, name string, s *schema.Schema, in string) {
	whole, bytewise := readAll(t, name, s, strings.NewReader(in)), readAll(t, name, s, iotest.OneByteReader(strings.NewReader(in)))
	require.Equal(t, character.ReplaceAllString(whole, "c"), character.ReplaceAllString(bytewise, "c"), "%s %q", name, in)
}

// character is how the JSON tokenizer shows one: its first byte only, where it has no more of it yet.
var character = regexp.MustCompile(`character '[^\n]*' `)

// TestReadersDoNotDependOnTheirBlocks, on messages that are spoilt in a few places at random.
func TestReadersDoNotDependOnTheirBlocks(t *testing.T) {
	for i, seed := range seeds {
		s := parse(t, "x", seed.schema)
		require.NotContains(t, readAll(t, seed.notation, s, strings.NewReader(seed.message)), "expected", seed.notation)
		for n := range uint64(300) {
			rnd := rand.New(rand.NewPCG(n, uint64(i)))
			in := []byte(seed.message)
			for range rnd.IntN(4) {
				at := rnd.IntN(len(in))
				switch rnd.IntN(3) {
				case 0:
					in[at] = byte(rnd.IntN(256))
				case 1:
					in = append(in[:at], in[at+1:]...)
				default:
					in = append(in[:at:at], append([]byte{"\n\r\"'<>&;,{}[]:#"[rnd.IntN(15)]}, in[at:]...)...)
				}
			}
			alike(t, seed.notation, s, string(in))
			if seed.notation != "fixedwidth" {
				alike(t, seed.notation, nil, string(in))
			}
		}
	}
}

// FuzzBlocks feeds foreign bytes to every reader with a schema, in one go and byte by byte.
func FuzzBlocks(f *testing.F) {
	for i, seed := range seeds {
		f.Add(i, seed.message)
	}
	f.Fuzz(func(t *testing.T, i int, in string) {
		seed := seeds[uint(i)%uint(len(seeds))]
		d := partfile.Parse("x", []byte(seed.schema))
		alike(t, seed.notation, schema.Parse("x", d), in)
	})
}

// TestWhatIsReadIsWrittenAgain: a message of any notation, made from what was read, reads the same.
func TestWhatIsReadIsWrittenAgain(t *testing.T) {
	for _, seed := range seeds {
		s := parse(t, "x", seed.schema)
		first := readAll(t, seed.notation, s, strings.NewReader(seed.message))
		written, err := convert(t, seed.notation, seed.notation, s, seed.message)
		require.NoError(t, err)
		again := readAll(t, seed.notation, s, strings.NewReader(written))
		require.Equal(t, values(first), values(again), "%s\n%s", seed.notation, written)
	}
}

// values are the records without their lines.
func values(read string) []string {
	var out []string
	for _, l := range strings.Split(strings.TrimSpace(read), "\n") {
		_, v, _ := strings.Cut(l, " ")
		out = append(out, v)
	}
	return out
}
