package mapping

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const ticket = `
schema: Ticket
notation: json
fields:
  - {name: no, type: text}
  - name: prices
    type: map
    fields: [{name: price, type: record, fields: [{name: adult, type: decimal}, {name: child, type: decimal, occurs: 0..1}]}]
  - name: payment
    type: variant
    told by: kind
    fields:
      - {name: card, type: record, fields: [{name: kind, type: text, constraints: {codes: {card: ""}}}, {name: number, type: text}]}
      - {name: transfer, type: record, fields: [{name: kind, type: text, constraints: {codes: {transfer: ""}}}, {name: account, type: text}]}
  - name: route
    type: list
    occurs: 0..n
    fields: [{name: at, type: decimal, occurs: 2}]
  - name: seat
    type: variant
    occurs: 0..1
    fields: [{name: label, type: text}, {name: number, type: integer}]
  - {name: extra, type: any, occurs: 0..1}
  - {name: others, type: map, occurs: 0..1, others: true, fields: [{name: value, type: any}]}
`

const receipt = `
schema: Receipt
notation: json
fields:
  - {name: text, type: text}
  - name: fares
    type: map
    occurs: 0..1
    constraints: {pattern: "[A-Z]{3}"}
    fields: [{name: fare, type: record, fields: [{name: full, type: decimal}, {name: note, type: text, occurs: 0..1}]}]
  - name: amounts
    type: map
    occurs: 0..1
    fields: [{name: amount, type: decimal}]
  - name: paid
    type: variant
    occurs: 0..1
    fields:
      - {name: by_card, type: record, fields: [{name: last4, type: text}]}
      - {name: by_bank, type: record, fields: [{name: account, type: text}]}
      - {name: other, type: text}
  - name: points
    type: list
    occurs: 0..n
    fields: [{name: value, type: decimal, occurs: 1..n}]
  - {name: more, type: any, occurs: 0..1}
  - {name: rest, type: map, occurs: 0..1, others: true, fields: [{name: value, type: any}]}
`

const toReceipt = "mapping: M\nfrom:\n  - {name: ticket, schema: ticket}\nto: receipt\nrules:\n"

// TestShapesAreMapped: maps are read by name, as entries, and built from lists; variants by branch; lists of lists item by item;
// what nobody named goes on.
func TestShapesAreMapped(t *testing.T) {
	parts := map[string]string{"ticket": ticket, "receipt": receipt}
	const in = `{"no":"T1","prices":{"EUR":{"adult":12.50,"child":6},"SEK":{"adult":140}},"payment":{"kind":"card","number":"4111222233334444"},"route":[[1.5,2],[3,4]],"seat":12,"extra":{"a":[1,{"b":2.50}]},"wind":"NW","tide":[3,null]}`
	const bank = `{"no":"T2","prices":{},"payment":{"kind":"transfer","account":"NO93"},"seat":"A4"}`
	const branches = `{field: text, constant: x}
  - {field: paid/by_card, when: 'branch(payment) == "card"'}
  - {field: paid/by_card/last4, formula: 'right(payment.card.number, 4)'}
  - {field: paid/by_bank, when: 'branch(payment) == "transfer"'}
  - {field: paid/by_bank/account, formula: payment.transfer.account}`
	for _, c := range []struct{ name, rules, in, want string }{
		{"look-up", `{field: text, formula: 'text(prices.EUR.adult) + " " + text(prices["SEK"].adult)'}`, in, `{"text":"12.50 140"}`},
		{"look-up by a value", `{field: text, formula: 'let code = "EUR"; text(prices[code].child ?? 0)'}`, in, `{"text":"6"}`},
		{"a name that is not there", `{field: text, formula: 'isAbsent(prices.NOK) ? "none" : "some"'}`, in, `{"text":"none"}`},
		{"names and values", `{field: text, formula: 'join(keys(prices), "+") + " " + text(sum(values(prices), .adult))'}`, in, `{"text":"EUR+SEK 152.50"}`},
		{"entries", `{field: text, formula: 'join(map(entries(prices), .key + text(.value.adult)), " ")'}`, in, `{"text":"EUR12.50 SEK140"}`},
		{"a branch", `{field: text, formula: 'payment.card.number ?? payment.transfer.account'}`, in, `{"text":"4111222233334444"}`},
		{"the other branch", `{field: text, formula: 'payment.card.number ?? payment.transfer.account'}`, bank, `{"text":"NO93"}`},
		{"which branch", `{field: text, formula: 'branch(payment) + " " + branch(seat)'}`, bank, `{"text":"transfer label"}`},
		{"text or number", `{field: text, formula: 'seat.label ?? text(seat.number)'}`, in, `{"text":"12"}`},
		{"items of items", `{field: text, formula: 'join(map(route, join(map(#, text(#)), "/")), " ") + " " + text(route[1][0])'}`, in, `{"text":"1.5/2 3/4 3"}`},
		{"into anything", `{field: text, formula: 'text(extra.a[1].b) + text(others.wind)'}`, in, `{"text":"2.50NW"}`},
		{"passed on", `{field: text, constant: x}
  - {field: more, formula: extra}
  - {field: rest, formula: others}`, in, `{"text":"x","more":{"a":[1,{"b":2.50}]},"wind":"NW","tide":[3,null]}`},
		{"a map of a map", `{field: text, constant: x}
  - {field: fares, each: entries(prices), as: p, key: p.key}
  - {field: fares/fare/full, formula: p.value.adult}
  - {field: fares/fare/note, formula: 'p.value.child == nil ? "adults only" : nil', when empty: omit}`, in, `{"text":"x","fares":{"EUR":{"full":12.50},"SEK":{"full":140,"note":"adults only"}}}`},
		{"each of a map", `{field: text, constant: x}
  - {field: amounts, each: prices, as: p}
  - {field: amounts/amount, formula: p.value.adult * 2}`, in, `{"text":"x","amounts":{"EUR":25.00,"SEK":280}}`},
		{"a map of values", `{field: text, constant: x}
  - {field: amounts, each: '["a", "b"]', as: w, key: w, where: 'w != "a"'}
  - {field: amounts/amount, formula: length(w)}`, in, `{"text":"x","amounts":{"b":1}}`},
		{"a map by a formula", `{field: text, constant: x}
  - {field: amounts, formula: 'fromEntries(map(entries(prices), record("key", .key, "value", .value.adult)))'}`, in, `{"text":"x","amounts":{"EUR":12.50,"SEK":140}}`},
		{"branches by conditions", branches, in, `{"text":"x","paid":{"last4":"4444"}}`},
		{"branches by conditions, the other one", branches, bank, `{"text":"x","paid":{"account":"NO93"}}`},
		{"a branch that is a text", `{field: text, constant: x}
  - {field: paid/other, formula: no}`, in, `{"text":"x","paid":"T1"}`},
		{"a variant by a constant", `{field: text, constant: x}
  - {field: paid, constant: cash}`, in, `{"text":"x","paid":"cash"}`},
		{"lists of lists", `{field: text, constant: x}
  - {field: points, each: route, as: p}
  - {field: points/value, formula: 'map(p, # * 10)'}`, in, `{"text":"x","points":[[15.0,20],[30,40]]}`},
		{"lists of lists by a formula", `{field: text, constant: x}
  - {field: points, formula: route}`, in, `{"text":"x","points":[[1.5,2],[3,4]]}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := planOf(t, parts, toReceipt+"  - "+c.rules+"\n")
			require.Empty(t, p.Faults)
			done, all := p.Complete()
			require.Positive(t, done)
			require.LessOrEqual(t, done, all)
			got, faults := run(t, p, c.in)
			require.Empty(t, faults)
			require.Equal(t, c.want, got)
		})
	}
}

// TestFaultsOfShapes: what is wrong is told at the rule, with what it should be, or at the entry of the message.
func TestFaultsOfShapes(t *testing.T) {
	parts := map[string]string{"ticket": ticket, "receipt": receipt}
	for _, c := range []struct{ name, rules, want string }{
		{"no branch", `{field: text, formula: payment.number}`, `payment is one of card, transfer; "number" is none of them. Say which one: payment.card.number`},
		{"a variant as a text", `{field: text, formula: payment}`, "expected text, found one of card, transfer"},
		{"no key", `{field: amounts, each: route}`, "nothing says at which name an entry of the map stands"},
		{"a key of a list", `{field: points, each: route, key: '"a"'}`, "only the entries of a map have a key"},
		{"a key that is no text", `{field: amounts, each: route, key: "3"}`, "expected text, found integer"},
		{"a number of a map", `{field: text, formula: 'text(prices[3].adult)'}`, "expected a text as name, found integer"},
		{"no constant", `{field: paid/by_card, constant: x}`, "expected rules for the record's fields"},
		{"branch of a text", `{field: text, formula: branch(no)}`, "expected a value of one of several shapes"},
		{"required in a branch", `{field: paid/by_card, when: 'true'}`, "paid/by_card/last4: the required field has no rule"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := planOf(t, parts, toReceipt+"  - "+c.rules+"\n")
			require.Contains(t, p.Faults.Error(), c.want)
		})
	}
	for _, c := range []struct{ name, rules, want string }{
		{"a key twice", `{field: amounts, each: '["a", "a"]', as: w, key: w}
  - {field: amounts/amount, formula: '1'}`, `/amounts: amounts: the key "a" stands twice`},
		{"a name that does not fit", `{field: fares, each: '["eur"]', as: w, key: w}
  - {field: fares/fare/full, formula: '1'}`, `/fares/eur: fares: expected a name: text like [A-Z]{3}, found "eur"`},
		{"a list that is too short", `{field: points, each: '[1]', as: w}
  - {field: points/value, formula: 'take([1.5], 0)'}`, "/points/0: value: expected at least 1 occurrences"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := planOf(t, parts, toReceipt+"  - {field: text, constant: x}\n  - "+c.rules+"\n")
			require.Empty(t, p.Faults)
			_, faults := run(t, p, `{"no":"T","prices":{},"payment":{"kind":"card","number":"1"}}`)
			require.Contains(t, faults.Error(), c.want)
		})
	}
}

// TestMessagesThatAreNoRecords: the message as a whole is called . in rules.
func TestMessagesThatAreNoRecords(t *testing.T) {
	parts := map[string]string{
		"rates": "schema: In\nnotation: json\ntype: map\nfields: [{name: price, type: decimal}]\n",
		"map":   "schema: M\nnotation: json\ntype: map\nfields: [{name: row, type: record, fields: [{name: amount, type: decimal}]}]\n",
		"value": "schema: V\nnotation: json\ntype: text\nconstraints: {max length: 6}\n",
		"list":  "schema: L\nnotation: json\ntype: list\nfields: [{name: item, type: decimal, occurs: 0..n}]\n",
	}
	for _, c := range []struct{ to, rules, want string }{
		{"map", "{field: ., each: entries(rates), as: e, key: lower(e.key)}\n  - {field: ./row/amount, formula: e.value * 2}", `{"eur":{"amount":3.0},"sek":{"amount":20}}`},
		{"value", "{field: ., formula: 'join(keys(rates), \"\")'}", `"EURSEK"`},
		{"list", "{field: ., formula: values(rates)}", `[1.5,10]`},
	} {
		p := planOf(t, parts, "mapping: M\nfrom:\n  - {name: rates, schema: rates}\nto: "+c.to+"\nrules:\n  - "+c.rules+"\n")
		require.Empty(t, p.Faults, c.to)
		got, faults := run(t, p, `{"EUR":1.5,"SEK":10}`)
		require.Empty(t, faults, c.to)
		require.Equal(t, c.want, got)
	}
	p := planOf(t, parts, "mapping: M\nfrom:\n  - {name: rates, schema: rates}\nto: map\nrules:\n  - {field: ., each: entries(rates), as: e, key: e.key}\n")
	require.Contains(t, p.Faults.Error(), "./row/amount: the required field has no rule")
}
