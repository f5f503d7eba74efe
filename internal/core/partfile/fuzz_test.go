package partfile

import (
	"bytes"
	"testing"
)

// FuzzParse: any text is read without harm, and a value that is set in one that has no faults is what is read then.
func FuzzParse(f *testing.F) {
	for _, text := range []string{"a: 1\n", "flow: A\nsteps:\n  - {step: note, id: n, text: '\"x\"'}\n", "a: &x [*x]\n", "? b\n: - |\n    c\n", "a: \"\\u0000\"\n", "%YAML 1.1\n---\na: {b: [1, {c: d}]}\n...\n"} {
		f.Add([]byte(text), "v")
	}
	f.Fuzz(func(t *testing.T, text []byte, v string) {
		if d := Parse("x.yaml", text); len(d.Faults) > 0 {
			return
		}
		changed, err := Set(text, []any{"set by hand"}, v)
		if err != nil {
			return
		}
		if d := Parse("x.yaml", changed); len(d.Faults) > 0 {
			t.Fatalf("%q became %q: %s", text, changed, d.Faults)
		}
		if bytes.Equal(changed, text) && v != "" {
			t.Fatalf("%q was not changed to %q", text, v)
		}
	})
}
