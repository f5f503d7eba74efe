package mapping

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

const mendedRules = `variables:
  - {name: net, formula: 'sum(item, .qty) * rate'}
conditions:
  - {when: state == "open"}
rules:
  - {field: id, formula: id}
  - {field: sum, formula: net}
  - {field: note, formula: 'coalesce(order.remark, "none")'}
  - {field: line, each: 'filter(item, .qty > 0)', where: kind == "kelp"}
  - {field: line/text, formula: upper(sku)}
  - {field: line/qty, formula: qty}
`

// mended compiles the rules over changed schemas, applies every mend that is proposed, and gives what is
// proposed.
func mended(t testing.TB, changeOrder, changeBill *strings.Replacer, history bool) (*Plan, []string) {
	t.Helper()
	list := map[string]*schema.Schema{}
	for id, text := range map[string]string{"order": changeOrder.Replace(orderSchema), "bill": changeBill.Replace(billSchema), "price": priceSchema} {
		d := partfile.Parse(id, []byte(text))
		list[id] = schema.Parse(id, d)
		require.Empty(t, d.Faults)
	}
	compiled := func(text string) *Plan {
		return Parse("m", partfile.Parse("m.yaml", []byte(text))).Compile(func(id string) *schema.Schema { return list[id] }, formula.Env{})
	}
	text := "mapping: M\nto: bill\nfrom:\n  - {name: order, schema: order}\n" + mendedRules
	var moves []Move
	if history {
		old := orderSchemas(t)
		moves = append(Moves(old("order"), list["order"]), Moves(old("bill"), list["bill"])...)
	}
	var told []string
	for more := true; more; {
		more = false
		for _, m := range compiled(text).SuggestFixes(moves) {
			told, more = append(told, fmt.Sprintf("%s: %s → %s (%s)", m.Field, m.Was, m.Now, m.Reason)), true
			changed, err := partfile.Set([]byte(text), m.At, m.Now)
			require.NoError(t, err)
			text = string(changed)
		}
	}
	return compiled(text), told
}

func TestMendsAfterASchemaHasChanged(t *testing.T) {
	same := strings.NewReplacer()
	p, told := mended(t, strings.NewReplacer("name: qty", "name: pieces", "name: remark", "name: comment", "name: state", "name: status"), same, true)
	require.Empty(t, p.Faults, "%v", told)
	require.Contains(t, told, "net: sum(item, .qty) * rate → sum(item, .pieces) * rate (stands in its place in Order)")
	require.Contains(t, told, "only where: state == \"open\" → status == \"open\" (renamed in Order)")
	require.Contains(t, told, "line: filter(item, .qty > 0) → filter(item, .pieces > 0) (stands in its place in Order)")

	p, told = mended(t, same, strings.NewReplacer("name: line", "name: row", "name: sum", "name: grand_sum", "{name: text, type: text, occurs: 0..1}", "{name: wording, type: text, occurs: 0..1}"), true)
	require.Empty(t, p.Faults, "%v", told)
	require.Contains(t, told, "line: line → row (renamed in Bill)")
	require.Contains(t, told, "line/text: line/text → row/wording (stands in its place in Bill)")
}

func TestMendsWithoutHistoryAreGuessed(t *testing.T) {
	p, told := mended(t, strings.NewReplacer("name: rate", "name: rates", "name: sku", "name: sku_code"), strings.NewReplacer("name: note", "name: remark_note"), false)
	require.Empty(t, p.Faults, "%v", told)
	require.Contains(t, told, "net: sum(item, .qty) * rate → sum(item, .qty) * rates (the name that is most like it)")
	require.Len(t, told, 3)
	p, told = mended(t, strings.NewReplacer("name: rate", "name: zzz"), strings.NewReplacer("name: note", "name: qqq"), false)
	require.Empty(t, told, "nothing is proposed that is like nothing")
	require.NotEmpty(t, p.Faults)
	p, told = mended(t, strings.NewReplacer(), strings.NewReplacer(), true)
	require.Empty(t, told)
	require.Empty(t, p.Faults)
}

func TestAVariableIsRenamedWhereverItIsRead(t *testing.T) {
	p := billing(t, `variables:
  - {name: net, formula: 'sum(item, .qty) * rate'}
  - {name: gross, formula: net * 2 + order.rate}
conditions:
  - {when: net > 0}
rules:
  - {field: sum, formula: 'net', when: net > 1}
  - {field: id, constant: net}
  - {field: note, formula: 'text(order.rate) + "net \"net"'}
  - {field: line, each: item, as: it, where: it.qty < net, sort by: net; it.sku, nested lists: [{each: 'filter(it.part, .no < net)', as: pt}], variables: [{name: half, formula: net / 2}]}
`)
	require.Empty(t, p.Faults)
	told := map[string]string{}
	for _, m := range p.Renames("net", "total") {
		told[fmt.Sprint(m.At)] = m.Now
	}
	require.Equal(t, map[string]string{
		"[variables 1 formula]": "total * 2 + order.rate", "[conditions 0 when]": "total > 0", "[rules 0 formula]": "total", "[rules 0 when]": "total > 1",
		"[rules 3 where]": "it.qty < total", "[rules 3 sort by]": "total; it.sku", "[rules 3 nested lists 0 each]": "filter(it.part, .no < total)", "[rules 3 variables 0 formula]": "total / 2",
	}, told)
}
