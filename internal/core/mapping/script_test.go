package mapping

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// scripts are rules beside scripts: of a single value, of the entries of a list, of a whole branch, and of an entry's field.
const scripts = `variables:
  - {name: most, formula: 'max(map(item, .qty))'}
rules:
  - {field: id, formula: id}
  - field: note
    script: |
      const kinds = new Set(order.item.map(i => i.kind));
      return [...kinds].sort().join(" and ");
  - field: payer
    script: |
      const buyer = (order.party || []).find(p => p.role === "BY");
      return buyer && {name: buyer.name.toUpperCase()};
    when: state == "open"
  - field: line
    each: item
    as: entry
  - field: line/no
    script: 'return entry.qty === most ? 1 : 2'
  - field: line/part
    script: |
      return (entry.part ?? []).map(({no}) => ({no, of: entry.sku}));
`

func readsOf(f *Field) string {
	var list []string
	for _, p := range f.Reads {
		list = append(list, strings.Join(p, "."))
	}
	for _, v := range f.Through {
		list = append(list, "through "+v.Path[0])
	}
	return strings.Join(list, " ")
}

// TestScriptsStandBesideRules: each gives its field with all in it, and what it reads and makes is known.
func TestScriptsStandBesideRules(t *testing.T) {
	p := billing(t, scripts)
	require.Empty(t, p.Faults)
	got, res := billed(t, p, sampleOrder)
	require.Empty(t, res.Faults)
	require.Equal(t, `{"id":"O1","note":"kelp and salt","payer":{"name":"VANE"},"line":[{"no":2,"part":[{"no":1,"of":"k1"},{"no":2,"of":"k1"}]},{"no":2},{"no":1,"part":[{"no":7,"of":"k2"}]}]}`, strings.ReplaceAll(got, `,"part":[]`, ""))
	reads, makes := map[string]string{}, map[string]string{}
	for _, f := range p.Fields {
		if f.Rule != nil && f.Rule.Kind == Script {
			reads[f.Name()], makes[f.Name()] = readsOf(f), strings.Join(f.Makes, " ")
		}
	}
	require.Equal(t, map[string]string{
		"note":      "order.item order.item.kind",
		"payer":     "order.state order.party order.party.role order.party.name",
		"line/no":   "order.item.qty order.item through most",
		"line/part": "order.item.part order.item.part.no order.item.sku",
	}, reads)
	require.Equal(t, map[string]string{"note": "", "payer": "name", "line/no": "", "line/part": "no of"}, makes)
	for _, f := range p.Fields {
		if f.Name() == "line/part" {
			require.Contains(t, f.Rule.Words(), "script return (entry.part")
		}
	}
	_, res = billed(t, p, strings.Replace(sampleOrder, `"open"`, `"shut"`, 1))
	require.Empty(t, res.Faults)
	require.Contains(t, KindsFor(p.Target.Root.Field("line")), Script)
}

// TestFaultsOfScriptsStandAtTheirLines: in what is written, in what it reads, in what it gives and in what it throws.
func TestFaultsOfScriptsStandAtTheirLines(t *testing.T) {
	const head = "rules:\n  - field: note\n    script: |\n" // line 6 to 8 of the part
	for script, want := range map[string]string{
		"      const a = 1;\n      return +* a;\n":                       "m.yaml:10:",
		"      const a = order.id;\n      return order.idd;\n":           `m.yaml:10: note: there is no field "idd" in order`,
		"      return order.item.map(i => i.weight).join();\n":           `m.yaml:9: note: there is no field "weight" in order.item`,
		"      return order.item.weight;\n":                              `there is no field "weight" in order.item`,
		"      const {id, age} = order;\n      return id + age;\n":       `there is no field "age" in order`,
		"      for (const i of order.item) return i.nothing;\n":          `there is no field "nothing" in order.item`,
		"      return order.party[0]?.nothing;\n":                        `there is no field "nothing" in order.party`,
		"      return order.nothing?.length;\n":                          `there is no field "nothing" in order`,
		"      }\n      return 1;\n":                                     "m.yaml:",
		"      return prices.map(price => price.costs)[0];\n":            `there is no field "costs" in prices`,
		"      return order[\"nothing\"];\n":                             `there is no field "nothing" in order`,
		"      return run.nothing;\n":                                    "",
		"      return order.id.length + order.item.length + \"\";\n":     "",
		"      const f = (order) => order.anything; return f({});\n":     "",
		"      let order2 = {}; return order2.anything;\n":               "",
		"      return Object.keys(order.item[0]).join();\n":              "",
		"      const k = \"id\"; return order[k];\n":                     "",
		"      return order.item.filter(i => i.qty).at(0).sku;\n":        "",
		"      return [...order.item].reverse().map(i => i.x)[0];\n":     "",
		"      return order.item.reduce((sum, i) => sum + i.qty, \"\");": "",
	} {
		p := billing(t, head+script)
		if want == "" {
			require.Empty(t, p.Faults, script)
			continue
		}
		require.NotEmpty(t, p.Faults, script)
		require.Contains(t, p.Faults.Error(), want, script)
	}
	for script, want := range map[string]string{
		"      return {a: 1};\n": "note",
		"      const a = order;\n      throw new Error(\"no \" + a.id);\n": "no O1 (line 2)",
		"      while (true);\n":                     "takes more than",
		"      return fetch(\"http://example\");\n": "fetch is not defined",
	} {
		p := billing(t, head+script)
		require.Empty(t, p.Faults, script)
		_, res := billed(t, p, sampleOrder)
		require.Contains(t, res.Faults.Error(), want, script)
	}
	p := billing(t, "rules:\n  - {field: payer, script: 'return {}'}\n  - {field: payer/name, constant: x}\n")
	require.Contains(t, p.Faults.Error(), "rules below")
	p = billing(t, "rules:\n  - {field: note, script: 'return 1', formula: id}\n")
	require.Contains(t, p.Faults.Error(), "not two")
}

// TestAWholeScriptSaysWhatItReadsAndMakes: of an object behind return, and of one that is filled.
func TestAWholeScriptSaysWhatItReadsAndMakes(t *testing.T) {
	for _, script := range []string{
		"  return {id: order.id, line: order.item.map(i => ({text: i.sku, qty: i.qty}))};\n",
		"  const out = {id: order.id};\n  out.line = [];\n  out.line = order.item.map(function (i) { return {text: i.sku, qty: i.qty}; });\n  return out;\n",
		"  const lines = order.item.map((i) => { const {sku, qty} = i; return {text: sku, qty}; });\n  return order.id ? {id: order.id, line: lines} : null;\n",
	} {
		p := billing(t, "script: |\n"+script)
		require.Empty(t, p.Faults, script)
		var reads, makes []string
		for _, path := range p.ScriptReads {
			reads = append(reads, strings.Join(path, "."))
		}
		for _, f := range p.Fields {
			if f.Made {
				makes = append(makes, f.Name())
			}
		}
		require.ElementsMatch(t, []string{"order.id", "order.item", "order.item.sku", "order.item.qty"}, reads, script)
		require.Subset(t, makes, []string{"id", "line"}, script)
		require.NotContains(t, makes, "note")
		got, res := billed(t, p, sampleOrder)
		require.Empty(t, res.Faults)
		require.Equal(t, `{"id":"O1","line":[{"text":"k1","qty":3},{"text":"s1","qty":1},{"text":"k2","qty":5}]}`, got)
	}
}

// TestHelpInAScript: the names in scope, the fields of what stands before a point, also of names of the script's own.
func TestHelpInAScript(t *testing.T) {
	p := billing(t, scripts)
	for text, want := range map[string]string{
		"return or|":                                         "order",
		"return order.|":                                     "id state rate remark party item extra",
		"return order.i|":                                    "id item",
		"return order.item.map(i => i.|)":                    "sku kind qty part",
		"return order.item.map((i, n) => i.k|)":              "kind",
		"for (const e of order.extra) { e.|":                 "text qty",
		"const f = order.item[0];\nreturn f.s|":              "sku",
		"const f = order.item[0];\nreturn f.part[1].|":       "no",
		"return order.item.filter(i => i.qty).map(j => j.q|": "qty",
		"return (order.party ?? []).map(x => x.|":            "role name",
		"return order.item.find(x => true).|":                "sku kind qty part",
		"return order.id.to|":                                "toUpperCase toLowerCase",
		"return order.item.fi|":                              "filter find",
		"return unknown.|":                                   "",
		"return entr|":                                       "entry",
		"return 1|":                                          "",
	} {
		before, after, _ := strings.Cut(text, "|")
		h := p.ScriptHelp("line/part", before+after, len([]rune(before)))
		var got []string
		for _, g := range h.Suggestions {
			got = append(got, g.Label)
		}
		require.Equal(t, want, strings.Join(got, " "), text)
	}
	require.Empty(t, p.ScriptWrong("note", "return order.id"))
	for text, want := range map[string]string{
		"return order.idd;":             "idd",
		"const a = 1;\nreturn +* a;":    "*",
		"const ä = 1; return order.xyz": "xyz",
	} {
		wrong := p.ScriptWrong("note", text)
		require.Len(t, wrong, 1, text)
		require.Equal(t, want, string([]rune(text)[wrong[0].From:wrong[0].To]), wrong)
	}
}
