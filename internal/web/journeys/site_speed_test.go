package journeys

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// wide is a mapping of as many fields, in lists and records of twenty, and the schemas of both sides.
func (w *world) wide(n int) {
	var from, to, rules strings.Builder
	from.WriteString("schema: Wide\nnotation: json\nfields:\n")
	to.WriteString("schema: Broad\nnotation: json\nfields:\n")
	for i := range n {
		if i%20 == 0 {
			fmt.Fprintf(&from, "  - name: group%d\n    type: record\n    fields:\n", i/20)
			fmt.Fprintf(&to, "  - name: part%d\n    type: record\n    fields:\n", i/20)
		}
		fmt.Fprintf(&from, "      - {name: f%d, type: text, occurs: 0..1}\n", i)
		fmt.Fprintf(&to, "      - {name: t%d, type: text, occurs: 0..1}\n", i)
		fmt.Fprintf(&rules, "  - {field: part%d/t%d, formula: 'upper(group%d.f%d)'}\n", i/20, i, i/20, i)
	}
	w.Part("schemas/wide.yaml", from.String())
	w.Part("schemas/broad.yaml", to.String())
	w.Part("mappings/wide.yaml", "mapping: Wide\nfrom:\n  - {name: wide, schema: wide}\nto: broad\nrules:\n"+rules.String())
}

// BenchmarkARuleOf500Fields is the answer to one change of a rule: it must come within 100 ms.
func BenchmarkARuleOf500Fields(b *testing.B) {
	w := newWorld(b)
	w.wide(500)
	revision := w.Draft("mappings/wide.yaml").Revision
	for b.Loop() {
		status, _ := w.Post("/bench/mappings/wide/rule", url.Values{
			"revision": {strconv.FormatInt(revision, 10)}, "field": {"part3/t61"}, "kind": {"formula"}, "when": {""}, "default": {""}, "when empty": {"keep"}, "rule": {"lower(group3.f61) + \"" + strconv.FormatInt(revision, 10) + "\""},
		})
		require.Equal(b, 200, status)
		revision++
	}
}

// BenchmarkAFlowOf150Steps is a flow of 150 steps, some in others, drawn with a try of its sample: it must come within
// 150 ms.
func BenchmarkAFlowOf150Steps(b *testing.B) {
	w := newWorld(b)
	var steps strings.Builder
	for i := range 75 {
		fmt.Fprintf(&steps, "  - step: choose\n    id: c%d\n    when:\n      - {if: 'input.kiosk == \"K%d\"', steps: [{step: note, id: n%d, text: input.name}]}\n", i, i, i)
	}
	w.Part("flows/long.yaml", "flow: Long\ntrigger: {kind: person, input: sign-up}\nsteps:\n"+steps.String())
	w.Get("/bench/flows/long")
	for b.Loop() {
		require.Equal(b, 200, w.Get("/bench/flows/long?step=n40").StatusCode)
	}
}
