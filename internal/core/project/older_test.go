package project

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOlderNamesAreWrittenAnew: a part with names that its settings had before is the same part with those of today, each once.
func TestOlderNamesAreWrittenAnew(t *testing.T) {
	for path, texts := range map[string][2]string{
		"schemas/level.yaml": {
			`schema: Level
notation: fixedwidth
left out: [a note]
written: {most bytes: 100, begins: L, null as: left out} # how it is written
fields:
  - {name: code, type: text, columns: 2-5, fill: '*', must: {least length: 1, most length: 4}}
  - {name: level, type: decimal, columns: 6-9, implied places: 1, must: {least: 0, greatest: 90, digits: 4, places: 1}}
  - name: line
    type: record
    occurs: 0..n
    begins: M
    fields:
      - {name: kind, type: text, columns: 2, marks: M}
`,
			`schema: Level
notation: fixedwidth
not imported: [a note]
notation settings: {max record bytes: 100, starts with: L, null as: omitted} # how it is written
fields:
  - {name: code, type: text, columns: 2-5, padding: '*', constraints: {min length: 1, max length: 4}}
  - {name: level, type: decimal, columns: 6-9, implied decimals: 1, constraints: {minimum: 0, maximum: 90, total digits: 4, fraction digits: 1}}
  - name: line
    type: record
    occurs: 0..n
    starts with: M
    fields:
      - {name: kind, type: text, columns: 2, discriminator: M}
`,
		},
		"mappings/bill.yaml": {
			`mapping: Bill
from: [{name: order, schema: order}]
to: bill
on fault: leave out field
keep:
  - {when: no > 0, else: it has no number}
let:
  - {name: half, formula: no / 2}
rules:
  - {field: no, formula: no, when empty: leave out}
  - {field: line, each: line, as: it, inside: [{each: it.part, as: p}], position: n, let: [{name: twice, formula: p.no * 2}]}
`,
			`mapping: Bill
from: [{name: order, schema: order}]
to: bill
on fault: omit field
conditions:
  - {when: no > 0, reason: it has no number}
variables:
  - {name: half, formula: no / 2}
rules:
  - {field: no, formula: no, when empty: omit}
  - {field: line, each: line, as: it, nested lists: [{each: it.part, as: p}], index: n, variables: [{name: twice, formula: p.no * 2}]}
`,
		},
		"cases/one.yaml": {
			"case: One\nflow: scans\nat: \"2031-03-09T06:00:00Z\"\nanswers:\n  - step: tell\n    asked: 'a'\n    answer: 'b'\naccount:\n  - of: run\n    is: done\n",
			"case: One\nflow: scans\nnow: \"2031-03-09T06:00:00Z\"\nrecorded calls:\n  - step: tell\n    request: 'a'\n    response: 'b'\nexpected outcomes:\n  - of: run\n    value: done\n",
		},
		"cases/two.yaml": {
			"case: Two\nmapping: bill\nfacts:\n  line: 4\nfails: it has no number\n",
			"case: Two\nmapping: bill\ncontext:\n  line: 4\nexpected fault: it has no number\n",
		},
		"libraries/freight.yaml": {
			"library: Freight\nfunctions:\n  - {name: twice, formula: n * 2, cases: [{call: freight.twice(2), gives: \"4\"}]}\n",
			"library: Freight\nfunctions:\n  - {name: twice, formula: n * 2, cases: [{call: freight.twice(2), result: \"4\"}]}\n",
		},
		"connections/board.yaml": {
			"connection: Board\nkind: http\noperations:\n  - {operation: post, does: call, path: /answer.status, fails when: 'answer.status >= 400 or answer.body == \"answer.status\"'}\n",
			"connection: Board\nkind: http\noperations:\n  - {operation: post, kind: call, path: /answer.status, fails when: 'response.status >= 400 or response.body == \"answer.status\"'}\n",
		},
		"flows/files.yaml": {
			"flow: Files\ntrigger:\n  connection: in\n  mask: \"*\"\nsteps: []\n",
			"flow: Files\ntrigger:\n  connection: in\n  glob: \"*\"\nsteps: []\n",
		},
		"flows/changes.yaml": {
			"flow: Changes\ntrigger:\n  kind: records\n  rising: changed\n  with:\n    since: rising + rising.x + now.rising + \"rising\"\nsteps: []\n",
			"flow: Changes\ntrigger:\n  kind: new records\n  watermark: changed\n  with:\n    since: watermark + watermark.x + now.rising + \"rising\"\nsteps: []\n",
		},
	} {
		require.Equal(t, texts[1], string(Upgraded(path, []byte(texts[0]))), path)
		require.Equal(t, texts[1], string(Upgraded(path, []byte(texts[1]))), path)
	}
}

// TestAPartWithOlderNamesIsReadAsItIs: a project of older part files loads without a fault, and its mapping and case say the same.
func TestAPartWithOlderNamesIsReadAsItIs(t *testing.T) {
	p := Load("older", map[string]string{
		"project.yaml":       "project: Older\n",
		"schemas/order.yaml": "schema: Order\nnotation: json\nfields:\n  - {name: no, type: integer, must: {least: 1}}\n  - {name: item, type: text, occurs: 0..n}\n",
		"schemas/bill.yaml":  "schema: Bill\nnotation: json\nwritten: {absent as: left out}\nfields:\n  - {name: no, type: integer}\n  - {name: line, type: record, occurs: 0..n, fields: [{name: no, type: integer}]}\n",
		"mappings/bill.yaml": "mapping: Bill\nfrom: [{name: order, schema: order}]\nto: bill\nkeep: [{when: no > 1, else: too small}]\nlet: [{name: twice, formula: no * 2}]\nrules:\n  - {field: no, formula: twice}\n  - {field: line, each: item, position: n}\n  - {field: line/no, formula: n}\n",
		"cases/twice.yaml":   "case: Twice\nmapping: bill\nfacts: {line: 4}\nfrom: {order: '{\"no\": 2, \"item\": [\"a\"]}'}\nexpected: '{\"no\": 4, \"line\": [{\"no\": 1}]}'\n",
		"cases/small.yaml":   "case: Small\nmapping: bill\nfrom: {order: '{\"no\": 1}'}\nfails: too small\n",
	})
	require.Empty(t, p.Faults.Error())
	cases := p.CasesOf("bill")
	require.Len(t, cases, 2)
	for _, c := range cases {
		r := p.RunCase(c)
		require.True(t, r.OK(), "%s: %v %v", c.Title, r.Differences, r.Fault)
	}
	s := p.Schema("order")
	require.NotNil(t, s)
	require.Equal(t, "1", s.Root.Field("no").Constraints.Minimum.String())
}
