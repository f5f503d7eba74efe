package step

import (
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/value"
)

const rememberNote = `- step: cached
  id: known
  key: number
  keep: noted.tags
  as: known
  steps:
    - {step: call, id: note, connection: desk, operation: note, with: {number: number, count: pax, tags: '"seen"'}, as: noted}
`

// TestAnAnswerIsRememberedByItsKey: it is asked once for each key; what failed for the first of a key is asked again for
// the next.
func TestAnAnswerIsRememberedByItsKey(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, rememberNote, "")
	out := &told{}
	j := fly(t, d, plan, out, "A:1", "B:2", "A:3")
	require.Equal(t, "done, done, done", j.states())
	require.Equal(t, 2, j.batch.Counts["note"].In)
	require.True(t, value.Equal(j.result(0, "known"), j.result(2, "known")))
	require.Equal(t, "seen", j.result(2, "known").Items()[0].Text())

	j = fly(t, d, planned(t, d, rememberNote, ""), &told{}, "refused:1", "refused:2")
	require.Equal(t, "set aside, set aside", j.states())
	require.Equal(t, 2, j.batch.Counts["note"].In, "each of them was tried")
}

// TestAGroupGoesOnWithItsLast: by number within a key; what is left over waits for more.
func TestAGroupGoesOnWithItsLast(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, "- {step: gather, id: g, bring: pax, key: number, count: 2, as: all}\n- {step: note, id: n, text: text(sum(all))}\n", "")
	j := fly(t, d, plan, nil, "A:1", "B:5", "A:2", "A:7")
	require.Equal(t, "skipped, skipped, done, skipped", j.states())
	require.Equal(t, "3", j.items[2].Notes[0].Message)
	require.Equal(t, `gathered by "B": the last of the group goes on with it`, j.items[1].Reason)

	plan = planned(t, d, "- {step: gather, id: g, bring: booking, within: 60, as: all}\n- {step: note, id: n, text: 'join(map(all, .number), \",\")'}\n", "")
	j = fly(t, d, plan, nil, "A:1", "B:5")
	require.Equal(t, "skipped, done", j.states())
	require.Equal(t, "A,B", j.items[1].Notes[0].Message)
}

// TestATemplateIsFilledIn: braces and texts inside of formulas do not end them.
func TestATemplateIsFilledIn(t *testing.T) {
	d := parts(t)
	for template, want := range map[string]string{
		"no formula":            "no formula",
		"${number}: ${pax + 1}": "A: 2",
		`${number + "}"}|`:      "A}|",
		`\${number} ${number}`:  "${number} A",
		"${pax > 5 ? \"many\" : \"few\"}\nsecond line": "few\nsecond line",
	} {
		plan := planned(t, d, "- step: template\n  id: t\n  as: text\n  text: "+quoted(template)+"\n", "")
		require.Equal(t, want, fly(t, d, plan, nil, "A:1").result(0, "t").Text(), template)
	}
}

func quoted(s string) string { return string(strconv.AppendQuote(nil, s)) }

func TestFaultsOfStepsThatRemember(t *testing.T) {
	d := parts(t)
	for step, want := range map[string]string{
		"{step: template, id: t, text: 'a ${number'}":                       "expected } behind the formula, found the end of the template",
		"{step: template, id: t, text: 'a ${nobody}'}":                      "nobody",
		"{step: gather, id: t, bring: pax}":                                 "a group is never whole",
		"{step: gather, id: t, bring: pax, count: 20000}":                   "a group has at most 10000",
		"{step: look up, id: t, table: nowhere, match: {a: number}}":        `there is no table "nowhere"`,
		"{step: seal, id: t, value: number}":                                "it is neither encrypted nor signed",
		"{step: open, id: t, value: number}":                                "it is neither decrypted nor verified",
		"{step: pack, id: t, value: booking}":                               "a text or bytes",
		"{step: deliver, id: t, kind: k, reference: number, from: nothing}": `no step before yields "nothing"`,
		"{step: await, id: t, kind: k, reference: number, schema: nothing}": `there is no schema "nothing"`,
	} {
		p := planned(t, d, "- "+step+"\n", "")
		require.NotEmpty(t, p.Faults, step)
		require.Contains(t, p.Faults.Error(), want, step)
		require.Equal(t, "t", p.Faults[0].Place.Step)
	}
}
