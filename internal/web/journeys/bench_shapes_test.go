package journeys

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/store"
)

// crossing is a message of every shape: a map of prices, a payment that is one of two, a route of positions, a seat that is a text
// or a number, and fields that the schema lacks.
const crossing = `[
{"no":"LS-204","prices":{"EUR":{"adult":12.50,"child":6},"SEK":{"adult":140}},"pay":{"kind":"card","number":"4111222233334444"},"route":[[58.1,6.4],[58.2,6.9]],"seat":12,"wind":"NW","tide":{"at":"06:12:00","cm":412}},
{"no":"LS-205","prices":{"NOK":{"adult":139}},"pay":{"kind":"transfer","account":"NO93 8601"},"route":[],"seat":"A4"}
]
`

var crossingParts = map[string]string{
	"samples/crossings.json": crossing,
	"schemas/crossing.yaml": `schema: Crossing
notation: json
samples: [crossings.json]
fields:
  - {name: "no", type: text}
  - name: prices
    type: map
    constraints: {pattern: "[A-Z]{3}"}
    fields: [{name: price, type: record, fields: [{name: adult, type: decimal}, {name: child, type: decimal, occurs: 0..1}]}]
  - name: pay
    type: variant
    told by: kind
    fields:
      - {name: card, type: record, fields: [{name: kind, type: text, constraints: {codes: {card: ""}}}, {name: number, type: text}]}
      - {name: transfer, type: record, fields: [{name: kind, type: text, constraints: {codes: {transfer: ""}}}, {name: account, type: text}]}
  - {name: route, type: list, occurs: 0..n, fields: [{name: at, type: decimal, occurs: "2"}]}
  - {name: seat, type: variant, fields: [{name: label, type: text}, {name: number, type: integer}]}
`,
	"schemas/fare.yaml": `schema: Fare
notation: json
fields:
  - {name: sailing, type: text}
  - {name: fares, type: map, occurs: 0..1, fields: [{name: fare, type: decimal}]}
  - name: paid
    type: variant
    occurs: 0..1
    fields:
      - {name: card, type: record, fields: [{name: last4, type: text}]}
      - {name: bank, type: record, fields: [{name: account, type: text}]}
  - {name: points, type: list, occurs: 0..n, fields: [{name: value, type: decimal, occurs: 0..n}]}
`,
	"mappings/crossing-to-fare.yaml": `mapping: Crossing to fare
from: [{name: crossing, schema: crossing}]
to: fare
rules:
  - {field: sailing, formula: 'no'}
  - {field: paid/card, when: 'branch(pay) == "card"'}
  - {field: paid/card/last4, formula: 'right(pay.card.number, 4)'}
  - {field: paid/bank, when: 'branch(pay) == "transfer"'}
  - {field: paid/bank/account, formula: pay.transfer.account}
  - {field: points, formula: route}
`,
}

func (w *world) parts(parts map[string]string) {
	require.NoError(w.T, pgx.BeginFunc(w.T.Context(), w.DB, func(tx pgx.Tx) error {
		for path, text := range parts {
			if err := store.AddPart(w.T.Context(), tx, "skerry", path, text, "mira"); err != nil {
				return err
			}
		}
		return nil
	}))
}

// TestMessagesOfEveryShapeAreDescribedAndMapped: the tree shows maps, variants and lists of lists with what the record at hand has
// in them; a field that the partner added is taken into the schema with one click; a map is made of a map, and the branch that the
// message took is the one that is made.
func TestMessagesOfEveryShapeAreDescribedAndMapped(t *testing.T) {
	w := newWorld(t)
	w.parts(crossingParts)
	tb := w.tab()
	tb.open("/bench/schemas/crossing")
	tb.sees("#fits", "all 2 records fit")
	for field, value := range map[string]string{"1": "2 entries: EUR, SEK", "1.0.0": "12.50", "2": "card", "2.0.1": "4111222233334444", "3": "2 items", "4": "number", "4.1": "12"} {
		tb.sees("tr[data-field='"+field+"']", value)
	}
	tb.sees("#lacking", "wind, tide")
	tb.click("#take-in")
	tb.sees("tr.sel", "tide")
	tb.sees("tr[data-field='6.1']", "412")
	tb.sees("tr[data-field='5']", "wind")
	require.Contains(t, w.Text("schemas/crossing.yaml"), "name: wind\n    type: text\n    occurs: 0..1\n")
	tb.open("/bench/schemas/crossing?line=2")
	tb.sees("tr[data-field='2']", "transfer")
	tb.sees("tr[data-field='4']", "label")

	tb.open("/bench/mappings/crossing-to-fare?field=fares")
	tb.sees("[data-source='crossing.prices.price.adult']", "12.50")
	tb.fill("#formula", "prices")
	tb.sees("#verdict", "2 entries: EUR, SEK")
	tb.open("/bench/mappings/crossing-to-fare?field=fares/fare")
	tb.fill("#formula", "item.value.adult")
	tb.sees("#verdict", "12.50")
	require.Contains(t, w.Text("mappings/crossing-to-fare.yaml"), "each: prices")
	tb.sees("[data-target='paid/card/last4']", "4444")
	tb.open("/bench/mappings/crossing-to-fare?field=fares/fare&record=2")
	tb.sees("#verdict", "139")
	tb.sees("[data-target='paid/bank/account']", "NO93 8601")
	tb.sees("[data-target='points']", "0 items")
}
