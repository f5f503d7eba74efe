package infer_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/schema/xsd"
)

// shapes are schemas whose made messages are inferred from: what is nested, optional, null, listed, and written oddly.
var shapes = []string{
	"fields:\n  - {name: id, type: integer}\n  - {name: who, type: text}\n  - {name: day, type: date}\n  - {name: at, type: timestamp, occurs: 0..1}\n  - {name: amount, type: decimal, constraints: {fraction digits: 2}}\n  - {name: paid, type: boolean}\n",
	"fields:\n  - {name: id, type: text, constraints: {pattern: '0[0-9]{6}'}}\n  - {name: note, type: text, occurs: 0..1}\n  - {name: left, type: date, occurs: 0..1, nullable: true}\n",
	"fields:\n  - {name: number, type: text}\n  - name: customer\n    type: record\n    fields:\n      - {name: name, type: text}\n      - {name: country, type: text, constraints: {codes: {NO: '', SE: '', DK: ''}}}\n  - name: line\n    type: record\n    occurs: 1..n\n    fields:\n      - {name: qty, type: integer}\n      - {name: tag, type: text, occurs: 0..n}\n",
	"fields:\n  - {name: number, type: text}\n  - {name: tag, type: text, occurs: 1..n, single: true}\n  - name: line\n    type: record\n    occurs: 0..n\n    single: true\n    fields:\n      - {name: qty, type: integer}\n",
}

// named is a notation of the list.
func named(t *testing.T, name string) *notation.Kind {
	t.Helper()
	k, err := all.Named(name)
	require.NoError(t, err)
	return k
}

// check reads a message and gives how many records it has, and the first fault.
func check(t *testing.T, s *schema.Schema, as, message string) (n int, first error) {
	t.Helper()
	r, err := named(t, as).NewReader(strings.NewReader(message), notation.Options{Source: "in", Schema: s, Check: true})
	if err != nil {
		return 0, err
	}
	for {
		_, err := r.Next()
		if errors.Is(err, io.EOF) {
			return n, nil
		}
		if err != nil {
			return n, err
		}
		n++
	}
}

// message writes made records of a schema.
func message(t *testing.T, s *schema.Schema, as string, records int, kind sample.Kind, seed uint64) string {
	t.Helper()
	var b bytes.Buffer
	w, err := named(t, as).NewWriter(&b, notation.Options{Schema: s, Many: records > 1})
	require.NoError(t, err)
	for i := range records {
		v, f := sample.Make(s, kind, seed*1000+uint64(i))
		require.Nil(t, f)
		require.NoError(t, w.Write(v))
	}
	require.NoError(t, w.Close())
	return b.String()
}

// TestWhatIsTakenReadsItsOwnData: in every notation, what was inferred from a message reads it without a fault, and what is
// made of the inferred schema passes it; so says the independent judge, too.
func TestWhatIsTakenReadsItsOwnData(t *testing.T) {
	tried := 0
	for i, shape := range shapes {
		for _, as := range []string{"json", "ndjson", "xml", "csv"} {
			if as == "csv" && i >= 2 {
				continue // records inside have no place there
			}
			written := ""
			if as == "xml" {
				written = "notation settings: {root: all, record: one}\n"
			}
			d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: "+as+"\n"+written+shape))
			s := schema.Parse("x", d)
			require.Empty(t, d.Faults)
			for seed := range uint64(12) {
				for _, kind := range []sample.Kind{sample.Typical, sample.Minimal, sample.Maximal} {
					text := message(t, s, as, 10, kind, seed)
					r, err := infer.From("x", "X", named(t, as), infer.Sample{Name: "in", Content: []byte(text)})
					require.NoError(t, err, text)
					n, first := check(t, r.Schema, as, text)
					require.NoError(t, first, "%s %s %d\n%s\n%s", as, kind, seed, schema.Write(r.Schema), text)
					require.Positive(t, n)
					for _, again := range []sample.Kind{sample.Typical, sample.Minimal, sample.Maximal} {
						made := message(t, r.Schema, as, 1, again, seed)
						_, first = check(t, r.Schema, as, made)
						require.NoError(t, first, "%s\n%s", schema.Write(r.Schema), made)
						if again == sample.Maximal && seed < 2 {
							judged(t, r.Schema, as, made)
						}
					}
					tried++
				}
			}
		}
	}
	require.Greater(t, tried, 300)
}

// judged asks the independent judge of a notation.
func judged(t *testing.T, s *schema.Schema, as, made string) {
	t.Helper()
	switch as {
	case "json":
		v, err := jsonschema.Compile("s.json", jsonschema.Export(s, false), nil)
		require.NoError(t, err)
		faults, err := v.Check("in", []byte(made))
		require.NoError(t, err)
		require.Empty(t, faults, made)
	case "xml":
		if _, err := exec.LookPath("xmllint"); err != nil {
			t.Log("xmllint is not installed")
			return
		}
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "s.xsd"), xsd.Export(s), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "m.xml"), []byte(made), 0o600))
		out, err := exec.Command("xmllint", "--noout", "--schema", filepath.Join(dir, "s.xsd"), filepath.Join(dir, "m.xml")).CombinedOutput()
		require.NoError(t, err, fmt.Sprintf("%s\n%s\n%s", out, xsd.Export(s), made))
	}
}
