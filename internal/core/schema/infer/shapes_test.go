package infer

import (
	stdjson "encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// document makes any JSON value.
func document(r *rand.Rand, depth int) any {
	n := 9
	if depth > 3 {
		n = 6
	}
	switch r.IntN(n) {
	case 0:
		return nil
	case 1:
		return r.IntN(2) == 0
	case 2:
		return stdjson.Number(fmt.Sprintf("%d", r.IntN(1000)-500))
	case 3:
		return stdjson.Number(fmt.Sprintf("%d.%02d", r.IntN(100), r.IntN(100)))
	case 4:
		return []string{"", " ", "x", "2031-02-03", "2031-02-30", "12:30:00", "7", "1.5", "true", "null", "a b", "é"}[r.IntN(12)]
	case 5:
		return "kind" + fmt.Sprint(r.IntN(3))
	case 6:
		list := make([]any, r.IntN(4))
		for i := range list {
			list[i] = document(r, depth+1)
		}
		return list
	}
	names := [][]string{
		{"a", "b", "c", "value", "others", "a/b", "", "#text"},
		{"EUR", "SEK", "NOK", "DKK", "ISK"},
		{"2031-01-01", "2031-01-02", "2031-01-03", "2031-01-04"},
		{"kind", "no", "text", "at"},
	}[r.IntN(4)]
	out := map[string]any{}
	alike := r.IntN(2) == 0
	one := document(r, depth+1)
	for _, name := range names {
		if r.IntN(3) > 0 {
			out[name] = one
			if !alike {
				out[name] = document(r, depth+1)
			}
		}
	}
	return out
}

// TestWhatIsInferredAcceptsItsSamples: of any JSON documents, one or several, with all of their values passed on.
func TestWhatIsInferredAcceptsItsSamples(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		var texts []string
		for range 1 + r.IntN(3) {
			text, err := stdjson.Marshal(document(r, 0))
			require.NoError(t, err)
			texts = append(texts, string(text))
		}
		var samples []Sample
		for _, text := range texts {
			samples = append(samples, Sample{Name: "s", Content: []byte(text)})
		}
		got, err := From("x", "X", kindNamed("json"), samples...)
		if err != nil {
			require.ErrorContains(t, err, "an empty sample", texts) // only empty lists
			continue
		}
		part := schema.Write(got.Schema)
		d := partfile.Parse("x", part)
		s := schema.Parse("x", d)
		require.Empty(t, d.Faults, "%d: %s\n%s", seed, texts, part)
		walked := 0
		s.Root.Walk(func([]string, *schema.Field) { walked++ })
		require.Len(t, got.Fields, walked-1, "%d: the evidence of every field: %s\n%s", seed, texts, part)
		for _, text := range texts {
			accepted(t, s, text, fmt.Sprintf("%d: %s\n%s", seed, texts, part))
		}
	}
}

// accepted reads a document as the schema has it, and compares what is written with it.
func accepted(t *testing.T, s *schema.Schema, text, about string) {
	t.Helper()
	var ignored notation.Ignored
	rd, err := json.NewReader(strings.NewReader(text), notation.Options{Schema: s, Check: true, Ignored: &ignored})
	require.NoError(t, err)
	var b strings.Builder
	var records int
	var w notation.Writer
	for {
		v, err := rd.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err, about)
		s.Check(v, func(f *fault.Fault) { require.Fail(t, f.Error(), about) })
		if w == nil {
			w, err = json.NewWriter(&b, notation.Options{Schema: s, Many: rd.Many()})
			require.NoError(t, err)
		}
		require.NoError(t, w.Write(v))
		records++
	}
	require.Empty(t, ignored.Paths(), about)
	if w == nil {
		return
	}
	require.NoError(t, w.Close())
	require.JSONEq(t, single(s, text), single(s, b.String()), about)
}

// single writes a list of one item and the item alike, where the schema takes one for the other.
func single(s *schema.Schema, text string) string {
	either := false
	s.Root.Walk(func(_ []string, f *schema.Field) { either = either || f.Single })
	if !either {
		return text
	}
	var v any
	if stdjson.Unmarshal([]byte(text), &v) != nil {
		return text
	}
	out, err := stdjson.Marshal(flat(v))
	if err != nil {
		return text
	}
	return string(out)
}

func flat(v any) any {
	switch v := v.(type) {
	case []any:
		for i := range v {
			v[i] = flat(v[i])
		}
		if len(v) == 1 {
			return v[0]
		}
	case map[string]any:
		for name := range v {
			v[name] = flat(v[name])
		}
	}
	return v
}
