package mapping

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/words"
)

// planOf compiles a mapping between schemas given as text, by id.
func planOf(t testing.TB, parts map[string]string, m string) *Plan {
	t.Helper()
	list := map[string]*schema.Schema{}
	for id, text := range parts {
		d := partfile.Parse(id, []byte(text))
		list[id] = schema.Parse(id, d)
		require.Empty(t, d.Faults, id)
	}
	d := partfile.Parse("m", []byte(m))
	p := Parse("m", d).Compile(func(id string) *schema.Schema { return list[id] }, formula.Env{})
	require.Empty(t, d.Faults)
	return p
}

const desk = `
schema: Desk
notation: json
fields:
  - {name: number, type: text}
  - {name: madeOn, type: timestamp}
  - name: customer
    type: record
    fields:
      - {name: name, type: text}
      - {name: email, type: text, occurs: 0..1}
      - {name: cust_no, type: integer}
  - name: lines
    type: record
    occurs: 0..n
    fields:
      - {name: qty, type: integer}
      - {name: "x:desc", type: text}
      - {name: amount, type: decimal}
      - {name: tags, type: text, occurs: 0..n}
      - name: units
        type: record
        occurs: 0..n
        fields: [{name: plate, type: text}]
  - {name: secret, type: binary}
`

const bill = `
schema: Bill
notation: json
fields:
  - {name: number, type: text}
  - {name: made_on, type: date}
  - {name: customer_number, type: text}
  - name: payer
    type: record
    fields:
      - {name: customer_name, type: text}
      - {name: mail, type: text, occurs: 0..1}
  - name: line
    type: record
    occurs: 1..n
    fields:
      - {name: quantity, type: decimal}
      - {name: description, type: text}
      - {name: amount, type: integer}
      - {name: tags, type: text, occurs: 0..n}
      - name: unit
        type: record
        occurs: 0..n
        fields: [{name: plate, type: text}]
  - {name: secret, type: text}
  - {name: unheard, type: text, occurs: 0..1}
`

const nothing = "mapping: M\nfrom:\n  - {name: desk, schema: desk}\nto: bill\n"

func shown(proposals []Proposal) string {
	var b strings.Builder
	for _, p := range proposals {
		as := ""
		if p.As != "" {
			as = " as " + p.As
		}
		fmt.Fprintf(&b, "%s %s %s%s (%d, %s)\n", p.Field, p.Kind, p.Text, as, p.Score, p.Reason)
	}
	return b.String()
}

// TestMatchByName: the same name, then the same in another form, then what has words in common; a list
// carries what is inside; what does not go together by its type is not proposed.
func TestMatchByName(t *testing.T) {
	p := planOf(t, map[string]string{"desk": desk, "bill": bill}, nothing)
	require.Equal(t, `number formula number (90, the same name)
made_on formula date(madeOn) (72, the same name in another form: madeOn, made a date)
customer_number formula text(customer.cust_no) (72, the same name in another form: cust_no, made a text)
payer/customer_name formula customer.name (69, like customer.name)
payer/mail formula customer.email (80, the same name in another form: email)
line each lines as lines (80, like lines)
line/quantity formula qty (80, the same name in another form: qty)
line/description formula lines["x:desc"] (80, the same name in another form: x:desc)
line/tags formula tags (90, the same name)
line/unit each units as units (73, like units)
line/unit/plate formula plate (90, the same name)
`, shown(p.Match("")))
	require.Equal(t, "payer/customer_name formula customer.name", strings.SplitN(shown(p.Match("payer")), " (", 2)[0])
	require.Len(t, p.Match("line"), 6)
	require.Len(t, p.Match("line/unit"), 0, "a branch inside of a list needs the list first")
	require.Empty(t, p.Match("unheard"))
}

// accepted is a mapping with proposals as its rules.
func accepted(m string, proposals []Proposal) string {
	var b strings.Builder
	b.WriteString(m + "rules:\n")
	for _, p := range proposals {
		fmt.Fprintf(&b, "  - field: %s\n    %s: %q\n", p.Field, p.Kind, p.Text)
		if p.As != "" {
			fmt.Fprintf(&b, "    as: %s\n", p.As)
		}
	}
	return b.String()
}

// TestProposalsAreRulesThatWork: accepted as they are, they have no fault, and nothing more is proposed.
func TestProposalsAreRulesThatWork(t *testing.T) {
	parts := map[string]string{"desk": desk, "bill": bill}
	proposals := planOf(t, parts, nothing).Match("")
	p := planOf(t, parts, accepted(nothing, proposals))
	for _, f := range p.Fields {
		require.Empty(t, f.Faults, f.Name())
	}
	require.Empty(t, p.Match(""), "it is stable")

	inside := planOf(t, parts, nothing+"rules:\n  - {field: line, each: lines, as: one}\n  - {field: line/tags, formula: one.tags}\n")
	require.Equal(t, "line/quantity formula qty", strings.SplitN(shown(inside.Match("line")), " (", 2)[0])
	require.NotContains(t, shown(inside.Match("")), "line/tags", "nothing is overwritten")
	require.Contains(t, shown(inside.Match("line/unit")), "line/unit/plate")
}

// TestMatchingDoesNotDependOnTheOrderOfFields.
func TestMatchingDoesNotDependOnTheOrderOfFields(t *testing.T) {
	var fields []string
	for _, n := range []string{"customer_no", "customerName", "name", "cust_mail", "mail", "amount", "line_amount", "amt_total", "no", "ordered_on", "order_date"} {
		fields = append(fields, "  - {name: "+n+", type: text}\n")
	}
	to := "schema: T\nnotation: json\nfields:\n  - {name: customer_number, type: text}\n  - {name: customer_name, type: text}\n  - {name: total_amount, type: text}\n  - {name: amount, type: text}\n  - {name: date_of_order, type: text}\n  - {name: number, type: text}\n  - {name: e_mail, type: text}\n"
	const m = "mapping: M\nfrom:\n  - {name: s, schema: s}\nto: t\n"
	first := ""
	for seed := range uint64(40) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		rnd.Shuffle(len(fields), func(i, j int) { fields[i], fields[j] = fields[j], fields[i] })
		got := shown(planOf(t, map[string]string{"s": "schema: S\nnotation: json\nfields:\n" + strings.Join(fields, ""), "t": to}, m).Match(""))
		if first == "" {
			first = got
		}
		require.Equal(t, first, got)
	}
	require.Contains(t, first, "customer_number formula customer_no (80")
	require.Contains(t, first, "amount formula amount (90")
	require.Contains(t, first, "total_amount formula amt_total")
	require.Contains(t, first, "date_of_order formula order_date")
}

// TestSeveralSources: each source's fields are named so that the formula reads them.
func TestSeveralSources(t *testing.T) {
	p := planOf(t, map[string]string{
		"a": "schema: A\nnotation: json\nfields:\n  - {name: id, type: text}\n  - {name: b, type: text}\n",
		"b": "schema: B\nnotation: json\nfields:\n  - {name: id, type: integer}\n  - {name: price, type: decimal}\n  - {name: \"in\", type: text}\n",
		"t": "schema: T\nnotation: json\nfields:\n  - {name: id, type: integer}\n  - {name: price, type: decimal}\n  - {name: b, type: text}\n  - {name: \"in\", type: text}\n",
	}, "mapping: M\nfrom:\n  - {name: a, schema: a}\n  - {name: b, schema: b}\nto: t\n")
	got := shown(p.Match(""))
	require.Contains(t, got, "id formula b.id ")
	require.Contains(t, got, "price formula b.price ")
	require.Contains(t, got, "b formula a.b ", "the bare name is that of the other source")
	require.Contains(t, got, `in formula b["in"] `)
}

func TestWordsOfNames(t *testing.T) {
	for name, want := range map[string]string{
		"customerName": "customer name", "CUST_NO": "customer number", "XMLName": "xml name", "line2": "line 2", "ev:atTime": "at time",
		"order-date": "order date", "": "", "__": "", "straßeNr": "straße number",
	} {
		require.Equal(t, want, strings.Join(words.Split(name), " "), name)
	}
	require.InDelta(t, 1, overlap([]string{"lines"}, []string{"line"}), 0)
	require.InDelta(t, 0, overlap([]string{"the"}, []string{"the"}), 0)
}

// TestRulesInsideOfListsReadTheSource: the items of a list are known by where they stand.
func TestRulesInsideOfListsReadTheSource(t *testing.T) {
	p := planOf(t, map[string]string{"desk": desk, "bill": bill}, nothing+"rules:\n  - {field: line, each: 'filter(lines, .qty > 0)', as: l}\n  - {field: line/description, formula: 'l[\"x:desc\"] + number'}\n  - {field: line/unit, each: units, as: u}\n  - {field: line/unit/plate, formula: plate}\n")
	got := map[string]string{}
	for _, f := range p.Fields {
		for _, r := range f.Reads {
			got[f.Name()] += strings.Join(r, ".") + " "
		}
	}
	require.Equal(t, map[string]string{
		"line": "desk.lines desk.lines.qty ", "line/description": "desk.lines.x:desc desk.number ", "line/unit": "desk.lines.units ", "line/unit/plate": "desk.lines.units.plate ",
	}, got)
}
