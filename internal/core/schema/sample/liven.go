package sample

import (
	"math/rand/v2"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// dullTexts are texts that nobody's data has.
var dullTexts = []string{"test", "tests", "string", "text", "foo", "bar", "baz", "example", "sample", "lorem", "ipsum", "todo", "dummy", "value", "none", "n/a", "xxx", "abc", "asdf", "qwerty"}

// dull says whether a value looks made up: no text, a word that stands for anything, the field's own name, one sign again and
// again; or a number that is counted up.
func dull(f *schema.Field, v value.Value) bool {
	switch v.Kind() {
	case value.Integer, value.Decimal:
		return slices.Contains([]string{"0", "1", "12", "123", "1234", "12345", "123456", "999", "1.0", "1.00", "0.00"}, v.String())
	case value.Text:
		text := strings.ToLower(strings.TrimSpace(v.Text()))
		bare := strings.TrimRight(text, "0123456789 -_")
		return bare == "" && text == "" || slices.Contains(dullTexts, text) || slices.Contains(dullTexts, bare) || bare == strings.ToLower(f.Name) || len(text) > 2 && strings.Trim(text, text[:1]) == ""
	}
	return false
}

// Liven gives a record with values in place of those that look made up, as their fields' names suggest them and the schema
// allows them; all else stays. n is how many were replaced.
func Liven(s *schema.Schema, v value.Value, seed uint64) (livened value.Value, n int) {
	m := &maker{kind: Typical, schema: s, rand: rand.New(rand.NewPCG(seed, 0x11fe))}
	livened = m.liven(s.Root, v, &n)
	return livened, n
}

func (m *maker) liven(f *schema.Field, v value.Value, n *int) value.Value {
	switch v.Kind() {
	case value.RecordKind:
		r := v.Record()
		if f.Kind == value.VariantKind {
			if b, ft := f.Branch(v); ft == nil {
				return m.liven(b, v, n)
			}
		}
		if f.Kind != value.RecordKind || r.Layout != f.Layout() {
			return v
		}
		fields := slices.Clone(r.Fields)
		for i, c := range f.Fields {
			if i < len(fields) {
				m.begins, m.whole = m.schema.Discriminator(f, c)
				fields[i] = m.liven(c, fields[i], n)
			}
		}
		return value.NewRecord(r.Layout, fields)
	case value.ListKind:
		items := slices.Clone(v.Items())
		for i := range items {
			items[i] = m.liven(f, items[i], n)
		}
		return value.ListOf(items...)
	}
	if !f.Scalar() || m.begins != "" || len(f.Constraints.Codes) > 0 || !dull(f, v) {
		return v
	}
	made, ft := m.one(f, "/"+f.Name)
	if ft != nil {
		return v
	}
	*n++
	return made
}
