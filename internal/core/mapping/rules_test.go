package mapping

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const orderSchema = `
schema: Order
notation: json
fields:
  - {name: id, type: text}
  - {name: state, type: text}
  - {name: rate, type: decimal}
  - {name: remark, type: text, occurs: 0..1}
  - {name: party, type: record, occurs: 0..n, fields: [{name: role, type: text}, {name: name, type: text}]}
  - name: item
    type: record
    occurs: 0..n
    fields:
      - {name: sku, type: text}
      - {name: kind, type: text}
      - {name: qty, type: integer}
      - {name: part, type: record, occurs: 0..n, fields: [{name: no, type: integer}]}
  - {name: extra, type: record, occurs: 0..n, fields: [{name: text, type: text}, {name: qty, type: integer}]}
`

const billSchema = `
schema: Bill
notation: json
fields:
  - {name: id, type: text, occurs: 0..1, nullable: true}
  - {name: sum, type: decimal, occurs: 0..1}
  - {name: note, type: text, occurs: 0..1, nullable: true}
  - {name: payer, type: record, occurs: 0..1, fields: [{name: name, type: text, occurs: 0..1}]}
  - {name: party, type: record, occurs: 0..n, fields: [{name: role, type: text}, {name: name, type: text, occurs: 0..1}]}
  - name: line
    type: record
    occurs: 0..n
    fields:
      - {name: no, type: integer, occurs: 0..1}
      - {name: text, type: text, occurs: 0..1}
      - {name: qty, type: integer, occurs: 0..1}
      - {name: part, type: record, occurs: 0..n, fields: [{name: no, type: integer}, {name: of, type: text}]}
`

const priceSchema = `
schema: Price
notation: json
fields:
  - {name: sku, type: text}
  - {name: cost, type: decimal}
`

const sampleOrder = `{"id":"O1","state":"open","rate":2.5,"party":[{"role":"BY","name":"Vane"},{"role":"CN","name":"Ormlet"}],
"item":[{"sku":"k1","kind":"kelp","qty":3,"part":[{"no":1},{"no":2}]},{"sku":"s1","kind":"salt","qty":1},{"sku":"k2","kind":"kelp","qty":5,"part":[{"no":7}]}],
"extra":[{"text":"quay","qty":1}]}`

func orderSchemas(t testing.TB) Schemas {
	t.Helper()
	list := map[string]*schema.Schema{}
	for id, text := range map[string]string{"order": orderSchema, "bill": billSchema, "price": priceSchema} {
		d := partfile.Parse(id, []byte(text))
		list[id] = schema.Parse(id, d)
		require.Empty(t, d.Faults)
	}
	return func(id string) *schema.Schema { return list[id] }
}

func billing(t testing.TB, body string) *Plan {
	t.Helper()
	text := "mapping: M\nto: bill\nfrom:\n  - {name: order, schema: order}\n  - {name: prices, schema: price, list: true}\n" + body
	d := partfile.Parse("m.yaml", []byte(text))
	m := Parse("m", d)
	p := m.Compile(orderSchemas(t), formula.Env{})
	p.Faults = append(slices.Clone(d.Faults), p.Faults...)
	return p
}

func messages(t testing.TB, s *schema.Schema, text string) []value.Value {
	t.Helper()
	r, err := json.NewReader(strings.NewReader(text), notation.Options{Schema: s})
	require.NoError(t, err)
	var out []value.Value
	for {
		v, err := r.Next()
		if err != nil {
			return out
		}
		out = append(out, v)
	}
}

func billed(t testing.TB, p *Plan, in string) (string, Result) {
	t.Helper()
	fr := p.NewFrame()
	prices := messages(t, p.Sources[1], `[{"sku":"k1","cost":1.5},{"sku":"s1","cost":4}]`)
	fr.Set(value.Value{}, messages(t, p.Sources[0], in)[0], value.ListOf(prices...))
	res := p.Apply(fr)
	var a json.Appender
	return string(a.Append(nil, res.Value)), res
}

func TestRules(t *testing.T) {
	for name, c := range map[string]struct{ body, want string }{
		"where, sort, position": {`rules:
  - {field: line, each: item, where: qty > 1, sort by: qty descending, index: n}
  - {field: line/no, formula: n}
  - {field: line/text, formula: sku}
`, `{"line":[{"no":1,"text":"k2"},{"no":2,"text":"k1"}]}`},
		"sort by two keys": {`rules:
  - {field: line, each: item, sort by: kind descending; qty}
  - {field: line/text, formula: sku}
`, `{"line":[{"text":"s1"},{"text":"k1"},{"text":"k2"}]}`},
		"distinct": {`rules:
  - {field: line, each: item, distinct by: kind}
  - {field: line/text, formula: kind}
`, `{"line":[{"text":"kelp"},{"text":"salt"}]}`},
		"group, with the items nested": {`rules:
  - {field: line, each: item, as: g, group by: kind, sort by: g.key}
  - {field: line/text, formula: g.key}
  - {field: line/qty, formula: 'sum(g.items, .qty)'}
  - {field: line/part, each: items}
  - {field: line/part/no, formula: qty}
  - {field: line/part/of, formula: sku}
`, `{"line":[{"text":"kelp","qty":8,"part":[{"no":3,"of":"k1"},{"no":5,"of":"k2"}]},{"text":"salt","qty":1,"part":[{"no":1,"of":"s1"}]}]}`},
		"lists inside, made flat": {`rules:
  - {field: line, each: item, as: it, nested lists: [{each: it.part, as: pt}], sort by: pt.no descending}
  - {field: line/no, formula: pt.no}
  - {field: line/text, formula: it.sku}
`, `{"line":[{"no":7,"text":"k2"},{"no":2,"text":"k1"},{"no":1,"text":"k1"}]}`},
		"several feeds, in the order of their labels": {`rules:
  - {field: 'line[z]/text', formula: text}
  - {field: 'line[z]', each: extra}
  - {field: 'line[a]'}
  - {field: 'line[a]/text', constant: head}
  - {field: line, each: item, where: kind == "salt"}
  - {field: line/text, formula: sku}
`, `{"line":[{"text":"s1"},{"text":"head"},{"text":"quay"}]}`},
		"entries by qualifier": {`variables:
  - {name: consignee, formula: 'find(party, .role == "CN")'}
rules:
  - {field: 'party[consignee]', when: not isMissing(consignee)}
  - {field: 'party[consignee]/role', constant: CN}
  - {field: 'party[consignee]/name', formula: consignee.name}
  - {field: 'party[carrier]', when: 'any(order.party, .role == "CA")'}
  - {field: 'party[carrier]/role', constant: CA}
`, `{"party":[{"role":"CN","name":"Ormlet"}]}`},
		"variables in any order, and inside": {`variables:
  - {name: total, formula: net * 2}
  - {name: net, formula: 'sum(item, .qty) * rate'}
rules:
  - {field: sum, formula: total}
  - {field: line, each: item, as: it, variables: [{name: twice, formula: it.qty * 2}]}
  - {field: line/qty, formula: twice}
`, `{"sum":45.0,"line":[{"qty":6},{"qty":2},{"qty":10}]}`},
		"when, default, empty": {`rules:
  - {field: id, formula: 'replace(id, "O1", "")', when empty: "null"}
  - {field: sum, formula: rate, when: state == "shut"}
  - {field: note, formula: remark, default: '"none"'}
  - {field: payer, when: state == "open"}
  - {field: payer/name, constant: Vane}
`, `{"id":null,"note":"none","payer":{"name":"Vane"}}`},
		"left out when empty": {`rules:
  - {field: id, formula: '""', when empty: omit}
  - {field: line, each: 'filter(item, false)', when empty: omit}
  - {field: payer, when: state == "shut"}
  - {field: payer/name, constant: Vane}
`, `{}`},
		"join by key": {`rules:
  - {field: line, each: item, as: it, variables: [{name: price, formula: 'find(prices, .sku == it.sku)'}], where: kind == "kelp"}
  - {field: line/text, formula: 'text(price.cost)', default: '"no price"'}
`, `{"line":[{"text":"1.5"},{"text":"no price"}]}`},
		"join one to many": {`rules:
  - {field: line, each: prices, as: p, nested lists: [{each: 'filter(order.item, .sku == p.sku)', as: it}]}
  - {field: line/text, formula: it.sku + " " + text(p.cost)}
`, `{"line":[{"text":"k1 1.5"},{"text":"s1 4"}]}`},
	} {
		t.Run(name, func(t *testing.T) {
			p := billing(t, c.body)
			require.Empty(t, p.Faults)
			got, res := billed(t, p, sampleOrder)
			require.Empty(t, res.Faults)
			require.Equal(t, c.want, got)
		})
	}
}

func TestTheOrderOfRulesDoesNotMatter(t *testing.T) {
	lines := []string{
		"  - {field: sum, formula: rate}\n", "  - {field: line, each: item, as: g, group by: kind}\n", "  - {field: line/text, formula: g.key}\n",
		"  - {field: 'line[b]', each: extra}\n", "  - {field: 'line[b]/text', formula: text}\n", "  - {field: line/part, each: items}\n", "  - {field: line/part/no, formula: qty}\n", "  - {field: line/part/of, formula: sku}\n",
	}
	want := ""
	for i := range lines {
		turned := append(slices.Clone(lines[i:]), lines[:i]...)
		got, res := billed(t, billing(t, "rules:\n"+strings.Join(turned, "")), sampleOrder)
		require.Empty(t, res.Faults)
		if want == "" {
			want = got
		}
		require.Equal(t, want, got)
		slices.Reverse(turned)
		got, _ = billed(t, billing(t, "rules:\n"+strings.Join(turned, "")), sampleOrder)
		require.Equal(t, want, got)
	}
	require.Contains(t, want, `{"text":"quay"`)
}

func TestMessagesThatAreNotKept(t *testing.T) {
	p := billing(t, "conditions:\n  - {when: state == \"open\", reason: the order is not open}\n  - {when: count(item) > 0}\nrules:\n  - {field: id, formula: id}\n")
	require.Empty(t, p.Faults)
	got, res := billed(t, p, sampleOrder)
	require.Equal(t, `{"id":"O1"}`, got)
	require.Empty(t, res.Skipped)
	_, res = billed(t, p, strings.Replace(sampleOrder, `"open"`, `"shut"`, 1))
	require.Equal(t, "the order is not open", res.Skipped)
	_, res = billed(t, p, `{"id":"O1","state":"open","rate":1}`)
	require.Equal(t, "not count(item) > 0", res.Skipped)
}

func TestWhatAFaultDoes(t *testing.T) {
	const rules = "rules:\n  - {field: id, formula: id}\n  - {field: line, each: item}\n  - {field: line/text, formula: sku}\n  - {field: line/qty, formula: 'quotient(15, qty - 3)'}\n"
	p := billing(t, rules)
	_, res := billed(t, p, sampleOrder)
	require.Len(t, res.Faults, 1)
	require.Equal(t, "/line/0/qty", res.Faults[0].Place.Path)
	require.Empty(t, res.Notes)
	got, res := billed(t, billing(t, "on fault: skip entry\n"+rules), sampleOrder)
	require.Empty(t, res.Faults)
	require.Equal(t, `{"id":"O1","line":[{"text":"s1","qty":-7},{"text":"k2","qty":7}]}`, got)
	require.Equal(t, "/line/0/qty", res.Notes[0].Place.Path)
	got, res = billed(t, billing(t, "on fault: omit field\n"+rules), sampleOrder)
	require.Empty(t, res.Faults)
	require.Equal(t, `{"id":"O1","line":[{"text":"k1"},{"text":"s1","qty":-7},{"text":"k2","qty":7}]}`, got)
	require.Len(t, res.Notes, 1)
	got, res = billed(t, billing(t, "on fault: skip entry\nrules:\n  - {field: id, formula: id}\n  - {field: sum, formula: 1 / (rate - 2.5)}\n"), sampleOrder)
	require.Len(t, res.Faults, 1, "outside of lists the message fails: %s", got)
}

func TestFaultsOfTheWiderRules(t *testing.T) {
	for name, c := range map[string]struct{ body, want string }{
		"circle":           {"variables:\n  - {name: a, formula: b + 1}\n  - {name: b, formula: a + 1}\n", "the variables read each other in a circle: a → b → a"},
		"itself":           {"variables:\n  - {name: a, formula: a + 1}\n", "circle: a → a"},
		"taken":            {"variables:\n  - {name: order, formula: '1'}\n", `the name "order" is taken`},
		"no name":          {"variables:\n  - {name: a b, formula: '1'}\n", `a variable cannot be called "a b"`},
		"no feed":          {"rules:\n  - {field: 'line[x]/text', constant: a}\n", "line[x] has no rule that makes its entries"},
		"nothing":          {"rules:\n  - {field: id}\n", "the rule has neither formula nor constant nor each"},
		"record":           {"rules:\n  - {field: payer, formula: party}\n", "expected rules for the record's fields, found formula"},
		"where":            {"rules:\n  - {field: line, each: item, where: qty}\n", "expected true or false, found integer"},
		"sort":             {"rules:\n  - {field: line, each: item, sort by: kind; qyt}\n", `there is no "qyt" here. Did you mean qty?`},
		"inside":           {"rules:\n  - {field: line, each: item, as: it, nested lists: [{each: it.qty, as: p}]}\n", "expected a list, found integer"},
		"inside and group": {"rules:\n  - {field: line, each: item, as: it, nested lists: [{each: it.part, as: p}], group by: kind}\n", "cannot be grouped"},
		"default":          {"rules:\n  - {field: sum, formula: rate, default: '\"a\"'}\n", "expected decimal, may be absent, found text"},
		"when":             {"rules:\n  - {field: sum, formula: rate, when: rate}\n", "expected true or false, found decimal"},
		"keep":             {"conditions:\n  - {when: rate}\n", "expected true or false, found decimal"},
		"choice":           {"on fault: shrug\n", `on fault: expected one of fail, skip entry, omit field, found "shrug"`},
		"a misspelt word":  {"rules:\n  - {field: line, each: item, sorted by: kind}\n", `"sorted by"`},
		"item name":        {"rules:\n  - {field: line, each: item, as: a b}\n", `an item cannot be called "a b"`},
	} {
		t.Run(name, func(t *testing.T) {
			p := billing(t, c.body)
			require.NotEmpty(t, p.Faults)
			require.Contains(t, p.Faults.Error(), c.want)
			require.NotPanics(t, func() { billed(t, p, sampleOrder) }, "a plan is usable whatever its faults")
		})
	}
}

func TestWhatAFieldReadsIsFoundThroughNames(t *testing.T) {
	p := billing(t, `variables:
  - {name: consignee, formula: 'find(party, .role == "CN")'}
  - {name: net, formula: 'sum(item, .qty) * rate'}
rules:
  - {field: note, formula: consignee.name}
  - {field: sum, formula: net}
  - {field: line, each: item, as: g, group by: kind}
  - {field: line/text, formula: g.key}
  - {field: line/part, each: items, as: it}
  - {field: line/part/of, formula: it.sku}
  - {field: line/part/no, formula: it.qty}
`)
	require.Empty(t, p.Faults)
	reads := map[string]string{}
	for _, f := range p.Fields {
		var paths []string
		for _, path := range f.Reads {
			paths = append(paths, strings.Join(path, "."))
		}
		reads[f.Name()] = strings.Join(paths, " ")
	}
	require.Equal(t, "order.party.name order.party.role", reads["note"])
	require.Equal(t, "order.item order.item.qty order.rate", reads["sum"])
	require.Equal(t, "order.item order.item.kind", reads["line"])
	require.Equal(t, "order.item.kind", reads["line/text"])
	require.Equal(t, "order.item", reads["line/part"])
	require.Equal(t, "order.item.sku", reads["line/part/of"])
}

// BenchmarkLines maps lists of 1,000 and 100,000 lines: grouped, joined by key and sorted. The time of
// one line must not grow with their number.
func BenchmarkLines(b *testing.B) {
	p := billing(b, `rules:
  - {field: line, each: order.item, as: g, group by: kind, sort by: g.key}
  - {field: line/text, formula: g.key}
  - {field: line/part, each: g.items, as: it, variables: [{name: price, formula: 'find(prices, .sku == it.sku)'}]}
  - {field: line/part/no, formula: it.qty}
  - {field: line/part/of, formula: 'text(price.cost)'}
`)
	require.Empty(b, p.Faults)
	for _, n := range []int{1_000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var items, prices strings.Builder
			for i := range n {
				fmt.Fprintf(&items, `,{"sku":"s%d","kind":"k%d","qty":%d}`, i, i%100, i)
				fmt.Fprintf(&prices, `,{"sku":"s%d","cost":%d}`, i, i)
			}
			fr := p.NewFrame()
			fr.Set(value.Value{}, messages(b, p.Sources[0], `{"id":"O","state":"open","rate":1,"item":[`+items.String()[1:]+"]}")[0],
				value.ListOf(messages(b, p.Sources[1], "["+prices.String()[1:]+"]")...))
			for b.Loop() {
				if res := p.Apply(fr); res.Faults != nil {
					b.Fatal(res.Faults)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/line")
		})
	}
}

func TestAScriptInPlaceOfRules(t *testing.T) {
	p := billing(t, "conditions:\n  - {when: state == \"open\"}\nscript: |\n  const lines = order.item.filter(i => i.qty > 1);\n  return {id: order.id, sum: order.rate * 2, line: lines.map((i, n) => ({no: n + 1, text: i.sku})), note: prices[0].sku};\n")
	require.Empty(t, p.Faults)
	got, res := billed(t, p, sampleOrder)
	require.Empty(t, res.Faults)
	require.Equal(t, `{"id":"O1","sum":5,"note":"k1","line":[{"no":1,"text":"k1"},{"no":2,"text":"k2"}]}`, got)
	done, all := p.Complete()
	require.Equal(t, [2]int{1, 1}, [2]int{done, all})
	p = billing(t, "script: |\n  return {ident: 1}\n")
	_, res = billed(t, p, sampleOrder)
	require.Contains(t, res.Faults.Error(), `there is no field "ident" in bill`)
	p = billing(t, "script: |\n  let a = 1\n  return {id: +* 1}\n")
	require.Contains(t, p.Faults.Error(), "m.yaml:8:")
	_, res = billed(t, p, sampleOrder)
	require.NotEmpty(t, res.Faults)
	p = billing(t, "rules: [{field: id, formula: id}]\nscript: return {}\n")
	require.Contains(t, p.Faults.Error(), "rules or a script, and not both")
}
