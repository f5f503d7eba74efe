package edit_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/core/schema/infer"
)

// TestFieldsOfASampleAreTakenIn: what a reader passes over is added where it stands: in the message, in records inside, in lists,
// maps and branches; once it is there nothing is passed over any more.
func TestFieldsOfASampleAreTakenIn(t *testing.T) {
	const part = `schema: X
notation: json
fields:
  - {name: no, type: integer}
  - {name: at, type: record, fields: [{name: pier, type: text}]}
  - {name: lines, type: record, occurs: 0..n, fields: [{name: sku, type: text}]}
  - {name: prices, type: map, fields: [{name: price, type: record, fields: [{name: adult, type: integer}]}]}
  - {name: pay, type: variant, fields: [{name: text, type: text}, {name: card, type: record, fields: [{name: number, type: text}]}]}
`
	const in = `{"no":1,"note":"x","at":{"pier":"SK","tide":3.5},"lines":[{"sku":"a","qty":2},{"sku":"b","unit":{"code":"kg"}}],"prices":{"EUR":{"adult":1,"child":2},"SEK":{"adult":9}},"pay":{"number":"4","holder":{"name":"M"}},"more":[1,2]}`
	read := func(text string) (*schema.Schema, []string) {
		d := partfile.Parse("x", []byte(text))
		s := schema.Parse("x", d)
		require.Empty(t, d.Faults, text)
		k, err := all.Named("json")
		require.NoError(t, err)
		var seen notation.Ignored
		r, err := k.NewReader(strings.NewReader(in), notation.Options{Schema: s, Check: true, Ignored: &seen})
		require.NoError(t, err)
		_, err = r.Next()
		require.NoError(t, err)
		return s, seen.Paths()
	}
	s, passed := read(part)
	require.Equal(t, []string{"/note", "/at/tide", "/lines/0/qty", "/lines/1/unit", "/prices/EUR/child", "/pay/holder", "/more"}, passed)
	k, err := all.Named("json")
	require.NoError(t, err)
	of, err := infer.From("x", "X", k, infer.Sample{Name: "in", Content: []byte(in)})
	require.NoError(t, err)
	r, n, err := edit.TakeIn([]byte(part), s, of.Schema.Root, passed)
	require.NoError(t, err)
	require.Equal(t, len(passed), n, string(r.Text))
	now, left := read(string(r.Text))
	require.Empty(t, left, string(r.Text))
	require.Equal(t, "more", edit.Field(now, r.Selected).Name)
	require.Equal(t, "0..1", now.Root.Find("lines", "qty").Occurs())
	require.Equal(t, "0..n", now.Root.Find("more").Occurs())
	require.NotNil(t, now.Root.Find("pay", "card", "holder", "name"))
}
