package xml_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

const payments = `schema: Payments
notation: xml
notation settings: {root: payments, record: payment, namespaces: {p: "urn:pay"}}
fields:
  - {name: "no", type: integer, attribute: true}
  - name: by
    type: variant
    told by: kind
    occurs: 1..n
    fields:
      - name: card
        type: record
        fields: [{name: number, type: text}, {name: kind, type: text, constraints: {codes: {card: ""}}}]
      - name: transfer
        type: record
        fields: [{name: kind, type: text, attribute: true, constraints: {codes: {iban: "", clearing: ""}}}, {name: "p:account", type: text, occurs: 1..n}]
`

// An element is the branch that a field tells, wherever the field stands: as an attribute, or last among its elements, behind much
// else. What comes behind it is read on as if nothing had been read ahead.
func TestAFieldTellsTheBranchOfAnElement(t *testing.T) {
	d := partfile.Parse("x.yaml", []byte(payments))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	long := strings.Repeat("9 ", 200_000)
	message := `<payments xmlns:q="urn:pay"><payment no="1">
<by kind="iban"><q:account>A</q:account><q:account>B</q:account></by>
<by><number>` + long + `</number><kind>card</kind></by><by xmlns:o="urn:pay" kind="clearing"><o:account>C</o:account></by>
</payment><payment no="2"><by><number>7</number><kind>card</kind><odd/></by></payment><payment no="3"><by kind="cheque"/></payment></payments>`
	ignored := &notation.Ignored{}
	r, err := all.Of(s).NewReader(strings.NewReader(message), notation.Options{Source: "in", Schema: s, Check: true, Ignored: ignored})
	require.NoError(t, err)
	v, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf(`{"no":1,"by":[{"kind":"iban","p:account":["A","B"]},{"number":%q,"kind":"card"},{"kind":"clearing","p:account":["C"]}]}`, long), json.Text(v))
	v, err = r.Next()
	require.NoError(t, err)
	assert.Equal(t, `{"no":2,"by":[{"number":"7","kind":"card"}]}`, json.Text(v))
	assert.Equal(t, []string{"/payments/payment/by/odd"}, ignored.Paths())
	assert.Equal(t, map[string]int{"payments/payment/by/odd": 1}, ignored.Fields())
	_, err = r.Next()
	require.ErrorContains(t, err, `in:4:`)
	require.ErrorContains(t, err, `expected kind as one of card, iban, clearing, found "cheque"`)
}
