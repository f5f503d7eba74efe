package step

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// answering compiles a flow that promises an answer.
func answering(t *testing.T, steps string) *running.Plan {
	t.Helper()
	p := compiledText(t, parts(t), "greet", "flow: Greet\ntrigger: {kind: called, input: booking, output: note, as: b}\nsteps:\n"+indented(steps, "  "))
	require.Empty(t, p.Faults, steps)
	return p
}

const answer = "{step: answer, id: a, with: {number: b.number, count: b.pax}}"

// TestWhoeverCallsIsTold: each way through a flow that promises an answer gives one, or tells its caller why not. Where
// one does neither it is pointed out, at the step where the way parts.
func TestWhoeverCallsIsTold(t *testing.T) {
	other := "{step: answer, id: other, with: {number: '\"-\"', count: 0}}"
	for name, c := range map[string]struct {
		steps string
		want  []string // step and what is said
	}{
		"one that answers": {"- " + answer, nil},
		"none":             {"- {step: note, id: n, text: b.number}", []string{": whoever calls the flow is promised Note, and no step answers"}},
		"switched off":     {"- {step: answer, id: a, off: true, with: {number: b.number, count: b.pax}}", []string{": whoever calls the flow is promised Note, and no step answers"}},
		"a branch without": {
			"- step: choose\n  id: c\n  when:\n    - {if: b.pax > 3, steps: [" + answer + "]}\n    - {if: b.pax > 1, steps: [{step: note, id: n, text: b.number}]}",
			[]string{"c: no answer is given under When b.pax > 1, and Note is promised", "c: no answer is given under Otherwise, and Note is promised"},
		},
		"every branch": {"- step: choose\n  id: c\n  when:\n    - {if: b.pax > 3, steps: [" + answer + "]}\n  otherwise: [" + other + "]", nil},
		"told why not": {"- step: choose\n  id: c\n  none: set aside\n  when:\n    - {if: b.pax > 3, steps: [" + answer + "]}\n    - {if: b.pax > 1, steps: [{step: stop, id: s}]}", nil},
		"left out": {
			"- step: choose\n  id: c\n  none: leave out\n  when:\n    - {if: b.pax > 3, steps: [" + answer + "]}",
			[]string{"c: no answer is given to what is skipped since no condition is true, and Note is promised"},
		},
		"answered behind it": {"- step: choose\n  id: c\n  when:\n    - {if: b.pax > 3, steps: [" + answer + "]}\n- " + other, nil},
		"left out before":    {"- {step: keep, id: k, where: b.pax > 3}\n- " + answer, []string{"k: no answer is given to what is skipped here, and Note is promised"}},
		"left out behind":    {"- " + answer + "\n- {step: keep, id: k, where: b.pax > 3}\n- {step: once, id: o, key: b.number}", nil},
		"a repeat":           {"- {step: once, id: o, key: b.number}\n- " + answer, []string{"o: no answer is given to a repeat that is skipped here, and Note is promised"}},
		"ended as done": {
			"- step: choose\n  id: c\n  when:\n    - {if: b.pax > 3, steps: [{step: stop, id: s, outcome: done}]}\n- " + answer,
			[]string{"s: no answer is given where the way ends here, and Note is promised"},
		},
		"the run is stopped": {"- step: choose\n  id: c\n  when:\n    - {if: b.pax > 3, steps: [{step: stop, id: s, ends: the run}]}\n- " + answer, nil},
		"a fault dealt with": {
			"- step: attempt\n  id: t\n  steps: [" + answer + "]\n  on fault: [{step: note, id: n, text: fault.text}]",
			[]string{"t: no answer is given when a fault is dealt with here, and Note is promised"},
		},
		"a fault set aside":    {"- step: attempt\n  id: t\n  then: set aside\n  steps: [" + answer + "]\n  on fault: [{step: note, id: n, text: fault.text}]", nil},
		"a fault undone":       {"- step: attempt\n  id: t\n  steps: [{step: call, id: n, connection: desk, operation: note, with: {number: b.number, count: b.pax}, as: noted, undo: [{step: note, id: u, text: b.number}]}, " + answer + "]", nil},
		"finally":              {"- step: attempt\n  id: t\n  steps: [{step: note, id: n, text: b.number}]\n  on fault: [{step: note, id: m, text: fault.text}]\n  finally: [" + answer + "]", nil},
		"a list may be empty":  {"- step: each\n  id: e\n  of: '[1, 2]'\n  as: n\n  steps: [" + answer + "]", []string{"e: no answer is given when the list is empty, and Note is promised"}},
		"an entry is left out": {"- step: each\n  id: e\n  of: '[1, 2]'\n  as: n\n  steps: [{step: keep, id: k, where: n > 1}]\n- " + answer, nil},
		"known already": {
			"- step: cached\n  id: h\n  key: b.number\n  keep: b.pax\n  for: 60\n  as: known\n  steps: [" + answer + "]",
			[]string{"h: no answer is given when it is known already, and Note is promised"},
		},
		"beside, all awaited":   {"- step: at once\n  id: p\n  branches:\n    - {steps: [" + answer + "]}\n    - {steps: [{step: note, id: n, text: b.number}]}", nil},
		"beside, the first one": {"- step: at once\n  id: p\n  wait: when the first is done\n  branches:\n    - {name: quick, steps: [" + answer + "]}\n    - {name: slow, steps: [{step: note, id: n, text: b.number}]}", []string{"p: no answer is given under slow, and Note is promised"}},
	} {
		p := answering(t, c.steps)
		var got []string
		for _, f := range p.Notes {
			got = append(got, f.Place.Step+": "+f.Message)
			require.NotEmpty(t, f.Fix, name)
			require.NotZero(t, f.Place.Line, name)
		}
		require.Equal(t, c.want, got, name)
	}
	require.Empty(t, compiledText(t, parts(t), "q", "flow: Quiet\ntrigger: {kind: called, input: booking}\nsteps:\n  - {step: keep, id: k, where: input.pax > 1}\n").Notes, "nobody waits for an answer")
}

const vehicle = `schema: Vehicle
notation: json
fields:
  - {name: plate, type: text}
  - {name: class, type: text, constraints: {codes: {CAR: car, VAN: van, LOR: lorry, MC: cycle}}}
  - {name: axles, type: integer, constraints: {codes: {"2": two, "3": three}}}
  - name: owner
    type: record
    fields:
      - {name: kind, type: text, constraints: {codes: {P: person, F: firm}}}
`

// TestValuesWithoutABranchArePointedOut: each code is tried against each condition, whatever its form; where anything else
// is read, or something is said about the rest, nothing is claimed.
func TestValuesWithoutABranchArePointedOut(t *testing.T) {
	d := parts(t)
	part := partfile.Parse("schemas/vehicle.yaml", []byte(vehicle))
	d.schemas = map[string]*schema.Schema{"vehicle": schema.Parse("vehicle", part)}
	require.Empty(t, part.Faults)
	for name, c := range map[string]struct{ settings, when, want string }{
		"some are missing": {"", `v.class == "CAR" | v.class == "VAN"`, "no branch is for LOR, MC of v.class: such records pass it by"},
		"other forms":      {"", `v.class in ["CAR", "VAN"] | lower(v.class) == "lor"`, "no branch is for MC of v.class: such records pass it by"},
		"a range":          {"", `v.axles > 2`, "no branch is for 2 of v.axles: such records pass it by"},
		"deeper":           {"", `v.owner.kind == "P"`, "no branch is for F of v.owner.kind: such records pass it by"},
		"all of them":      {"", `v.class == "CAR" | v.class != "CAR"`, ""},
		"set aside":        {"none: set aside", `v.class == "CAR"`, ""},
		"otherwise":        {"otherwise: [{step: note, id: o, text: v.plate}]", `v.class == "CAR"`, ""},
		"two fields":       {"", `v.class == "CAR" and v.axles == 2`, ""},
		"no codes":         {"", `v.plate == "X"`, ""},
		"no field":         {"", `true`, ""},
	} {
		text := "flow: Sort\ntrigger: {kind: called, input: vehicle, as: v}\nsteps:\n  - step: choose\n    id: c\n"
		if c.settings != "" {
			text += "    " + c.settings + "\n"
		}
		text += "    when:\n"
		for i, condition := range strings.Split(c.when, " | ") {
			text += "      - {if: '" + condition + "', steps: [{step: note, id: n" + string(rune('0'+i)) + ", text: v.plate}]}\n"
		}
		p := compiledText(t, d, "sort", text)
		require.Empty(t, p.Faults, name)
		if c.want == "" {
			require.Empty(t, p.Notes, name)
			continue
		}
		require.Len(t, p.Notes, 1, name)
		require.Equal(t, c.want, p.Notes[0].Message, name)
		require.Equal(t, "c", p.Notes[0].Place.Step)
	}
}
