package sample

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const shipment = `schema: Shipment
notation: json
fields:
  - {name: shipment_no, type: text}
  - {name: ordered, type: date}
  - {name: delivery_due, type: date}
  - {name: vessel, type: record, fields: [{name: name, type: text}, {name: speedKnots, type: integer}]}
  - {name: customer, type: record, fields: [{name: id, type: integer}, {name: name, type: text}, {name: mail, type: text}, {name: born, type: date}]}
  - {name: invoice, type: record, fields: [{name: customer_id, type: integer}, {name: shipmentNo, type: text}, {name: amount, type: decimal}, {name: weight_kg, type: decimal, constraints: {maximum: 40}}]}
  - {name: line, type: record, occurs: 2..5, fields: [{name: no, type: integer}, {name: qty, type: integer}, {name: remark, type: text, constraints: {max length: 12}}]}
`

// TestTypicalValuesLookReal: in the ranges of their units and names, dates near each other, ids that refer to each other, and a
// mail address of the person.
func TestTypicalValuesLookReal(t *testing.T) {
	d := partfile.Parse("x.yaml", []byte(shipment))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	require.Equal(t, "json", json.Kind.Name)
	for seed := range uint64(200) {
		v, ft := Make(s, Typical, seed)
		require.Nil(t, ft)
		customer, invoice := v.Field("customer"), v.Field("invoice")
		require.Equal(t, customer.Field("id").String(), invoice.Field("customer_id").String())
		require.Equal(t, v.Field("shipment_no").Text(), invoice.Field("shipmentNo").Text())
		given, _, _ := strings.Cut(customer.Field("name").Text(), " ")
		require.Equal(t, strings.ToLower(given)+"@skerry.example", customer.Field("mail").Text())
		require.Contains(t, []string{"Ling Castle", "Orma Light", "Havra Star", "Tern"}, v.Field("vessel").Field("name").Text())
		between(t, 4, 22, v.Field("vessel").Field("speedKnots"))
		between(t, 20, 950, invoice.Field("amount"))
		between(t, 5, 40, invoice.Field("weight_kg"))
		before, err := value.Compare(v.Field("ordered"), v.Field("delivery_due"))
		require.NoError(t, err)
		require.Negative(t, before)
		require.Less(t, customer.Field("born").String(), "2006")
		lines := v.Field("line").Items()
		require.NotEqual(t, lines[0].Field("no").String(), lines[1].Field("no").String(), "two lines are two things")
		between(t, 1, 24, lines[0].Field("qty"))
		require.LessOrEqual(t, len(lines[0].Field("remark").Text()), 12)
	}
}

func between(t *testing.T, low, high int64, v value.Value) {
	for bound, want := range map[int64]int{low: 1, high: -1} {
		c, err := value.Compare(v, value.Int(bound))
		require.NoError(t, err)
		require.NotEqual(t, -want, c, "%s between %d and %d", v, low, high)
	}
}

// TestIdsInListsAndNamesDiffer: a list of ids, and the names of a map, are no one thing's.
func TestIdsInListsAndNamesDiffer(t *testing.T) {
	d := partfile.Parse("x.yaml", []byte("schema: X\nnotation: json\nfields:\n  - {name: order_no, type: text, occurs: 3..5, constraints: {unique items: true}}\n"+
		"  - {name: seat_numbers, type: integer, occurs: 3..5, constraints: {unique items: true}}\n  - {name: price_codes, type: map, constraints: {min entries: 4}, fields: [{name: v, type: integer}]}\n"))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	for seed := range uint64(100) {
		for _, kind := range Kinds {
			_, ft := Make(s, kind, seed)
			require.Nil(t, ft, "%s %d", kind, seed)
		}
	}
}
