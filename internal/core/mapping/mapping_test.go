package mapping

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const booking = `
schema: Booking
notation: json
fields:
  - {name: ref, type: text}
  - {name: made_on, type: date}
  - {name: rate, type: decimal}
  - name: items
    type: record
    occurs: 0..n
    fields:
      - {name: what, type: text}
      - {name: count, type: integer}
      - {name: note, type: text, occurs: 0..1}
`

const invoice = `
schema: Invoice
notation: json
fields:
  - {name: number, type: text}
  - {name: issued, type: date}
  - {name: currency, type: text, constraints: {codes: {EUR: euro}}}
  - {name: total, type: decimal, constraints: {fraction digits: 2}}
  - name: payer
    type: record
    occurs: 0..1
    fields:
      - {name: name, type: text, occurs: 0..1}
  - name: line
    type: record
    occurs: 1..n
    fields:
      - {name: text, type: text, constraints: {max length: 12}}
      - {name: amount, type: decimal}
      - {name: note, type: text, occurs: 0..1}
`

func schemas(t testing.TB) Schemas {
	t.Helper()
	list := map[string]*schema.Schema{}
	for id, text := range map[string]string{"booking": booking, "invoice": invoice} {
		d := partfile.Parse(id, []byte(text))
		list[id] = schema.Parse(id, d)
		require.Empty(t, d.Faults)
	}
	return func(id string) *schema.Schema { return list[id] }
}

func compile(t testing.TB, rules string) *Plan {
	t.Helper()
	d := partfile.Parse("m.yaml", []byte("mapping: Booking to invoice\nfrom:\n  - {name: booking, schema: booking}\nto: invoice\nrules:\n"+rules))
	m := Parse("m", d)
	require.Empty(t, d.Faults)
	return m.Compile(schemas(t), formula.Env{})
}

const rules = `  - {field: number, formula: '"INV-" + ref'}
  - {field: issued, formula: made_on}
  - {field: currency, constant: EUR}
  - {field: total, formula: 'round(sum(items, .count * booking.rate), 2)'}
  - {field: line, each: 'filter(items, .count > 0)'}
  - {field: line/text, formula: what}
  - {field: line/amount, formula: count * rate}
  - {field: line/note, formula: note}
`

func run(t testing.TB, p *Plan, in string) (string, fault.List) {
	t.Helper()
	r, err := json.NewReader(strings.NewReader(in), notation.Options{Schema: p.Sources[0]})
	require.NoError(t, err)
	v, err := r.Next()
	require.NoError(t, err)
	fr := p.NewFrame()
	fr.Set(value.Value{}, v)
	res := p.Apply(fr)
	var a json.Appender
	return string(a.Append(nil, res.Value)), res.Faults
}

func TestAMappingMakesTheTarget(t *testing.T) {
	p := compile(t, rules)
	require.Empty(t, p.Faults)
	done, all := p.Complete()
	require.Equal(t, [2]int{8, 9}, [2]int{done, all})
	got, faults := run(t, p, `{"ref":"LS-1","made_on":"2031-03-02","rate":0.38,"items":[{"what":"kelp","count":12},{"what":"none","count":0},{"what":"salt","count":3,"note":"dry"}]}`)
	require.Empty(t, faults)
	require.Equal(t, `{"number":"INV-LS-1","issued":"2031-03-02","currency":"EUR","total":5.70,"line":[{"text":"kelp","amount":4.56},{"text":"salt","amount":1.14,"note":"dry"}]}`, got)
}

func TestFaultsOfAMessageHavePaths(t *testing.T) {
	p := compile(t, rules)
	_, faults := run(t, p, `{"ref":"LS-1","made_on":"2031-03-02","rate":0.38,"items":[{"what":"kelp","count":1},{"what":"a very long description","count":1}]}`)
	require.Len(t, faults, 1)
	require.Equal(t, "/line/1/text: text: expected at most 12 characters, found 23", faults[0].Error())
	_, faults = run(t, p, `{"ref":"LS-1","made_on":"2031-03-02","rate":0.38,"items":[]}`)
	require.Contains(t, faults.Error(), "/line: line: expected at least 1 occurrences, found 0 times")
	_, faults = run(t, p, `{"ref":"LS-1","made_on":"2031-03-02","rate":0.38}`)
	require.Contains(t, faults.Error(), "/line: line: expected a value, found absent")
	p = compile(t, strings.Replace(rules, "count * rate", "count * rate / (count - 1)", 1))
	_, faults = run(t, p, `{"ref":"LS-1","made_on":"2031-03-02","rate":0.38,"items":[{"what":"kelp","count":2},{"what":"salt","count":1}]}`)
	require.Len(t, faults, 1)
	require.Equal(t, fault.Arithmetic, faults[0].Code)
	require.Equal(t, "/line/1/amount", faults[0].Place.Path)
}

func TestFaultsOfRulesPointIntoThePart(t *testing.T) {
	for name, c := range map[string]struct{ old, new, want string }{
		"unknown field":     {"made_on}", "made_onn}", `m.yaml:7:30: issued: there is no "made_onn" here. Did you mean made_on?`},
		"wrong type":        {"formula: made_on}", "formula: ref}", `m.yaml:7:30: issued: expected date, found text. Write date(ref)`},
		"no text":           {`'"INV-" + ref'`, "rate", `m.yaml:6:30: number: expected text, found decimal. Write text(rate)`},
		"constant":          {"EUR", "GBP", `m.yaml:8:33: currency: expected EUR euro, found "GBP"`},
		"no rule":           {"  - {field: issued, formula: made_on}\n", "", `m.yaml:1:1: issued: the required field has no rule`},
		"twice":             {"field: issued", "field: number", `m.yaml:7:13: number has a rule already`},
		"no such target":    {"field: issued", "field: issue", `m.yaml:7:13: the target invoice has no field "issue". It has number, issued, currency, total, payer, line`},
		"each for a scalar": {"formula: made_on", "each: made_on", `m.yaml:7:27: issued: expected a formula or a constant, found each`},
		"list without each": {"each: '", "formula: '", `m.yaml:10:28: line: expected each with a list, for a list of records, found formula`},
		"no list":           {"'filter(items, .count > 0)'", "ref", `m.yaml:10:25: line: expected a list, found text`},
		"inside an each":    {"formula: what", "formula: whut", `m.yaml:11:33: line/text: there is no "whut" here. Did you mean what?`},
	} {
		t.Run(name, func(t *testing.T) {
			text := strings.Replace(rules, c.old, c.new, 1)
			require.NotEqual(t, rules, text)
			p := compile(t, text)
			require.NotEmpty(t, p.Faults)
			var told []string
			for _, f := range p.Faults {
				told = append(told, f.Error())
			}
			require.Contains(t, told, c.want)
		})
	}
}

// BenchmarkApply maps one message with three lines.
func BenchmarkApply(b *testing.B) {
	p := compile(b, rules)
	var lines []string
	for i := range 3 {
		lines = append(lines, fmt.Sprintf(`{"what":"kelp","count":%d}`, i+1))
	}
	r, _ := json.NewReader(strings.NewReader(`{"ref":"LS-1","made_on":"2031-03-02","rate":0.38,"items":[`+strings.Join(lines, ",")+`]}`), notation.Options{Schema: p.Sources[0]})
	v, err := r.Next()
	require.NoError(b, err)
	fr := p.NewFrame()
	fr.Set(value.Value{}, v)
	for b.Loop() {
		if res := p.Apply(fr); res.Faults != nil {
			b.Fatal(res.Faults)
		}
	}
}
