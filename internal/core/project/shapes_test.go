package project

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shapes is the demo with mappings whose messages have maps, variants, lists of lists and fields of any shape; one is a list itself.
func shapes(t *testing.T, more map[string]string) *Project {
	return loadDemo(t, func(texts map[string]string) {
		for path, text := range map[string]string{
			"schemas/ticket.yaml": `schema: Ticket
notation: json
fields:
  - {name: "no", type: text}
  - name: prices
    type: map
    fields: [{name: price, type: record, fields: [{name: adult, type: decimal}, {name: child, type: decimal, occurs: 0..1}]}]
  - name: pay
    type: variant
    told by: kind
    fields:
      - {name: card, type: record, fields: [{name: kind, type: text, constraints: {codes: {card: ""}}}, {name: number, type: text}]}
      - {name: transfer, type: record, fields: [{name: kind, type: text, constraints: {codes: {transfer: ""}}}, {name: account, type: text}]}
  - {name: route, type: list, occurs: 0..n, fields: [{name: at, type: decimal, occurs: 0..n}]}
  - {name: extra, type: any, occurs: 0..1}
`,
			"schemas/fares.yaml": `schema: Fares
notation: json
fields:
  - {name: fares, type: map, occurs: 0..1, fields: [{name: fare, type: record, fields: [{name: full, type: decimal}]}]}
  - name: paid
    type: variant
    occurs: 0..1
    fields:
      - {name: card, type: record, fields: [{name: last4, type: text}]}
      - {name: bank, type: record, fields: [{name: account, type: text}]}
  - {name: points, type: list, occurs: 0..n, fields: [{name: value, type: decimal, occurs: 0..n}]}
  - {name: rest, type: any, occurs: 0..1}
`,
			"schemas/line.yaml": "schema: Line\nnotation: json\nfields:\n  - {name: adult, type: decimal, occurs: 0..1}\n  - {name: account, type: text, occurs: 0..1}\n  - {name: path, type: list, occurs: 0..n, fields: [{name: p, type: decimal, occurs: 0..n}]}\n",
			"mappings/ticket-to-fares.yaml": `mapping: Ticket to fares
from: [{name: ticket, schema: ticket}]
to: fares
rules:
  - {field: fares, each: prices, as: p}
  - {field: fares/fare/full, formula: p.value.adult}
  - {field: paid/card, when: 'branch(pay) == "card"'}
  - {field: paid/card/last4, formula: 'right(pay.card.number, 4)'}
  - {field: paid/bank, when: 'branch(pay) == "transfer"'}
  - {field: paid/bank/account, formula: pay.transfer.account}
  - {field: points, formula: route}
  - {field: rest, formula: extra}
`,
			"mappings/fares-to-line.yaml": "mapping: Fares to line\nfrom: [{name: fares, schema: fares}]\nto: line\nrules:\n  - {field: adult, formula: 'fares.fares.EUR.full'}\n  - {field: account, formula: 'paid.bank.account ?? nil'}\n  - {field: path, formula: points}\n",
			"flows/tickets.yaml":          "flow: Tickets\ntrigger: {kind: file, connection: gauge-drop, glob: '*.tickets'}\nsteps:\n  - {step: read, id: read, schema: ticket, as: ticket}\n  - step: each\n    id: each\n    of: ticket\n    steps:\n      - {step: map, id: one, mapping: ticket-to-fares, as: fares}\n      - {step: map, id: two, mapping: fares-to-line, as: line}\n",
		} {
			texts[path] = text
		}
		for path, text := range more {
			texts[path] = text
		}
	})
}

const ticketOne = `{"no": "T1", "prices": {"EUR": {"adult": 12.5}, "S/K": {"adult": 140}}, "pay": {"kind": "card", "number": "4111222233334444"}, "route": [[1, 2], [], [3]], "extra": {"a": [1, {"b": 2.50}]}}`

func caseOf(from, expected string) map[string]string {
	return map[string]string{"cases/one.yaml": "case: One\nmapping: ticket-to-fares\nfrom:\n  ticket: '" + from + "'\nexpected: '" + expected + "'\n"}
}

// TestCasesCompareEveryShape: entries of maps, branches, items of lists in lists, and values of any shape; what is there and is not
// expected is a difference, too.
func TestCasesCompareEveryShape(t *testing.T) {
	const good = `{"fares": {"EUR": {"full": 12.50}, "S/K": {"full": 140}}, "paid": {"last4": "4444"}, "points": [[1, 2], [], [3]], "rest": {"a": [1, {"b": 2.5}]}}`
	for _, c := range []struct {
		name, old, now string
		want           []string
	}{
		{"all", "", "", nil},
		{"an entry that is not expected", `, "S/K": {"full": 140}`, "", []string{`/fares/S~1K: expected absent, found {"full":140}`}},
		{"an entry that is missing", `"EUR": {"full": 12.50}`, `"EUR": {"full": 12.50}, "NOK": {"full": 1}`, []string{`/fares/NOK: expected {"full":1}, found absent`}},
		{"a value of an entry", "12.50", "12.51", []string{"/fares/EUR/full: expected 12.51, found 12.5"}},
		{"another branch", `{"last4": "4444"}`, `{"account": "NO93"}`, []string{`/paid/account: expected "NO93", found absent`, `/paid/last4: expected absent, found "4444"`}},
		{"a list in a list", "[]", "[9]", []string{"/points/1/0: expected 9, found absent"}},
		{"a value of any shape", "2.5}", "2.5, \"c\": null}", []string{`/rest/a/1/c: expected null, found absent`}},
		{"more of any shape", `"a": [1, {"b": 2.5}]`, "", []string{`/rest/a: expected absent, found [1,{"b":2.50}]`}},
	} {
		p := shapes(t, caseOf(ticketOne, strings.Replace(good, c.old, c.now, 1)))
		require.Empty(t, p.Faults)
		list := p.CasesOf("ticket-to-fares")
		require.Len(t, list, 1)
		r := p.RunCase(list[0])
		require.Nil(t, r.Fault, c.name)
		var found []string
		for _, d := range r.Differences {
			found = append(found, d.String())
		}
		assert.Equal(t, c.want, found, c.name)
	}
}

// TestLineageGoesThroughShapes: through entries of maps, branches and lists in lists, and on to the next mapping of a flow.
func TestLineageGoesThroughShapes(t *testing.T) {
	p := shapes(t, nil)
	require.Empty(t, p.Faults)
	assert.Equal(t, `fares-to-line:adult
 fares-to-line:fares.fares.fare.full
  ticket-to-fares:fares/fare/full
   ticket-to-fares:ticket.prices.price.adult
`, drawn(p.Upstream("fares-to-line", "adult"), 0))
	assert.Equal(t, `fares-to-line:account
 fares-to-line:fares.paid.bank.account
  ticket-to-fares:paid/bank/account
   ticket-to-fares:ticket.pay.transfer.account
`, drawn(p.Upstream("fares-to-line", "account"), 0))
	assert.Equal(t, `fares-to-line:path
 fares-to-line:fares.points
  ticket-to-fares:points
   ticket-to-fares:ticket.route
`, drawn(p.Upstream("fares-to-line", "path"), 0))
	assert.Equal(t, `ticket-to-fares:ticket.prices.price.adult
 ticket-to-fares:fares/fare/full
  fares-to-line:fares.fares.fare.full
   fares-to-line:adult
`, drawn(p.Downstream("ticket-to-fares", "ticket.prices.price.adult"), 0))
	assert.Contains(t, drawn(p.Downstream("ticket-to-fares", "ticket.pay.transfer.account"), 0), ` ticket-to-fares:paid/bank/account
  fares-to-line:fares.paid.bank.account
   fares-to-line:account
`)
}
