package mapping

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

func TestWhatWouldChange(t *testing.T) {
	const was = "conditions:\n  - {when: count(item) > 0}\nrules:\n  - {field: id, formula: id}\n  - {field: note, formula: remark}\n  - {field: line, each: item}\n  - {field: line/text, formula: sku}\n  - {field: line/qty, formula: qty}\n"
	now := strings.NewReplacer("formula: sku", "formula: upper(sku)", "formula: remark", `formula: remark, default: '"none"'`, "each: item", "each: item, where: qty != 5", "formula: qty", "formula: 'quotient(10, qty - 1) * 0 + qty'").Replace(was)
	old, cur := billing(t, was), billing(t, now)
	require.Empty(t, cur.Faults)
	var c Changes
	for i, in := range []string{
		`{"id":"A","state":"s","rate":1,"remark":"r","item":[{"sku":"X","kind":"k","qty":3}]}`,
		`{"id":"B","state":"s","rate":1,"item":[{"sku":"x","kind":"k","qty":3},{"sku":"y","kind":"k","qty":4}]}`,
		`{"id":"C","state":"s","rate":1,"remark":"r","item":[{"sku":"X","kind":"k","qty":5}]}`,
		`{"id":"D","state":"s","rate":1,"remark":"r","item":[{"sku":"X","kind":"k","qty":1}]}`,
		`{"id":"E","state":"s","rate":1}`,
	} {
		_, a := billed(t, old, in)
		_, b := billed(t, cur, in)
		c.Add("message "+string(rune('A'+i)), a, b)
	}
	require.Equal(t, [2]int{5, 3}, [2]int{c.Messages, c.Different})
	var told []string
	for _, ch := range c.List() {
		told = append(told, ch.Field+": "+string(ch.Cause))
	}
	require.Equal(t, []string{"line: another number of entries", "line/qty: fails now", "line/text: another value", "note: appears"}, told)
	text := c.List()[2]
	require.Equal(t, [2]int{1, 2}, [2]int{text.Messages, text.Places})
	require.Equal(t, Example{Message: "message B", Path: "/line/0/text", Was: `"x"`, Now: `"X"`}, text.Examples[0])
	c = Changes{}
	left := Result{Skipped: "why"}
	_, made := billed(t, old, `{"id":"A","state":"s","rate":1,"item":[{"sku":"X","kind":"k","qty":3}]}`)
	c.Add("1", made, left)
	c.Add("2", left, made)
	c.Add("3", left, left)
	require.Equal(t, 2, c.Different)
	require.Equal(t, SkippedNoLonger, c.List()[0].Cause)
	require.Equal(t, NowSkipped, c.List()[1].Cause)
}

func TestASpecification(t *testing.T) {
	p := billing(t, `conditions:
  - {when: state == "open", reason: it is shut}
variables:
  - {name: net, formula: rate * 2}
rules:
  - {field: id, formula: '"=" + id'}
  - {field: sum, formula: net, default: '0'}
  - {field: line, each: item, as: it, where: it.qty > 1, sort by: it.sku, index: n}
  - {field: line/text, constant: goods}
  - {field: 'line[more]', when: state == "open"}
`)
	require.Empty(t, p.Faults)
	fr := p.NewFrame()
	fr.Set(value.Value{}, messages(t, p.Sources[0], sampleOrder)[0], value.ListOf())
	results := map[*Field]value.Value{}
	p.ApplyTraced(fr, func(f *Field, v value.Value, _ *fault.Fault) { results[f] = v })
	var b strings.Builder
	require.NoError(t, WriteSpecification(&b, p.Specification(results)))
	for _, want := range []string{
		"target,kind,type,required,rule,sources,uses,example\r\n",
		"the message,condition,,,\"only where state == \"\"open\"\"; else left out: it is shut\",,,\r\n",
		"net,variable,decimal,,rate * 2,order.rate,,5.0\r\n",
		"id,field,text,,\"\"\"=\"\" + id\",order.id,,'=O1\r\n",
		"sum,field,decimal,,\"net, or else 0\",order.rate,,5.0\r\n",
		"line,list,list of record,,\"for each it of item, where it.qty > 1, sorted by it.sku, numbered as n\",order.item; order.item.qty; order.item.sku,,\r\n",
		"line/text,field,text,,always goods,,,goods\r\n",
		"line[more],list,list of record,,\"one entry, only when state == \"\"open\"\"\",order.state,,\r\n",
	} {
		require.Contains(t, b.String(), want)
	}
}

// TestASpecificationOfEveryShape: what a field is is named, and one formula for several values has them as its example.
func TestASpecificationOfEveryShape(t *testing.T) {
	p := planOf(t, map[string]string{"ticket": ticket, "receipt": receipt}, toReceipt+`  - {field: text, formula: no}
  - {field: fares, each: entries(prices), as: p, key: p.key}
  - {field: fares/fare/full, formula: p.value.adult}
  - {field: paid/by_card, when: 'branch(payment) == "card"'}
  - {field: paid/by_card/last4, formula: 'right(payment.card.number, 4)'}
  - {field: points, formula: route}
  - {field: more, formula: extra}
`)
	require.Empty(t, p.Faults)
	fr := p.NewFrame()
	fr.Set(value.Value{}, messages(t, p.Sources[0], `{"no":"T1","prices":{"EUR":{"adult":12.50}},"payment":{"kind":"card","number":"4111222233334444"},"route":[[1.5,2]],"extra":{"a":"`+strings.Repeat("x", 300)+`"}}`)[0])
	results := map[*Field]value.Value{}
	p.ApplyTraced(fr, func(f *Field, v value.Value, _ *fault.Fault) { results[f] = v })
	var b strings.Builder
	require.NoError(t, WriteSpecification(&b, p.Specification(results)))
	for _, want := range []string{
		"\r\ntext,field,text,yes,no,ticket.no,,T1\r\n",
		"\r\nfares,map,map,,\"for each p of entries(prices), key p.key\",",
		"\r\nfares/fare,record,record,yes,,,,\r\n",
		"\r\nfares/fare/full,field,decimal,yes,p.value.adult,",
		"\r\npaid,variant,variant,,,,,\r\n",
		"\r\npaid/by_card,branch,record,",
		"\r\npaid/by_card/last4,field,text,yes,\"right(payment.card.number, 4)\",ticket.payment.card.number,,4444\r\n",
		"\r\npaid/other,branch,text,",
		"\r\npoints,list,list of list,,route,ticket.route,,\"[[1.5,2]]\"\r\n",
		"\r\nmore,field,any,,extra,ticket.extra,,\"{\"\"a\"\":\"\"" + strings.Repeat("x", maxExample-len(`{"a":"`)) + "…\"\r\n",
	} {
		require.Contains(t, b.String(), want)
	}
}

// TestWhatWouldChangeInEveryShape: entries of a map, branches and items of inner lists are told by the field of their rule.
func TestWhatWouldChangeInEveryShape(t *testing.T) {
	const was = toReceipt + `  - {field: text, formula: no}
  - {field: fares, each: entries(prices), as: p, key: p.key}
  - {field: fares/fare/full, formula: p.value.adult}
  - {field: paid/by_card, when: 'branch(payment) == "card"'}
  - {field: paid/by_card/last4, formula: 'right(payment.card.number, 4)'}
  - {field: points, formula: route}
  - {field: rest, formula: others}
`
	now := strings.NewReplacer("p.value.adult", "p.value.adult + 1", "number, 4)", "number, 5)", "formula: route", "formula: 'map(route, map(#, # == 2 ? 3 : #))'", "formula: others", "formula: 'fromEntries(map(entries(others), record(\"key\", .key, \"value\", .value + 1)))'").Replace(was)
	parts := map[string]string{"ticket": ticket, "receipt": receipt}
	old, cur := planOf(t, parts, was), planOf(t, parts, now)
	require.Empty(t, cur.Faults)
	const in = `{"no":"T1","prices":{"EUR":{"adult":12.50},"SEK":{"adult":140}},"payment":{"kind":"card","number":"4111222233334444"},"route":[[1.5,2],[2,4]],"wind":1,"7":2}`
	result := func(p *Plan) Result {
		fr := p.NewFrame()
		fr.Set(value.Value{}, messages(t, p.Sources[0], in)[0])
		r := p.Apply(fr)
		require.Empty(t, r.Faults)
		return r
	}
	c := Changes{Target: cur.Target}
	c.Add("one", result(old), result(cur))
	var told []string
	for _, ch := range c.List() {
		told = append(told, fmt.Sprintf("%s %s %d %s", ch.Field, ch.Cause, ch.Places, ch.Examples[0].Path))
	}
	require.Equal(t, []string{
		"fares/fare/full another value 2 /fares/EUR/full", "paid/by_card/last4 another value 1 /paid/last4",
		"points/value another value 2 /points/0/1", "rest/value another value 2 /rest/wind",
	}, told)
}
