package step

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// planned compiles a flow over bookings (number, pax) whose steps inside the each are given, as YAML behind six
// spaces; more goes behind the each.
func planned(t *testing.T, d *desk, steps, more string) *running.Plan {
	t.Helper()
	return compiledText(t, d, "noting", `
flow: Noting
trigger: {kind: records, connection: desk, operation: list, rising: pax}
steps:
  - {step: read, id: read, as: booking}
  - step: each
    id: each
    of: booking
    steps:
`+indented(steps, "      ")+indented(more, "  "))
}

func compiledText(t *testing.T, d *desk, id, text string) *running.Plan {
	t.Helper()
	part := partfile.Parse("flows/"+id+".yaml", []byte(text))
	f := flow.Parse(id, part)
	require.Empty(t, part.Faults, text)
	return compile.Compile(f, d)
}

func indented(text, by string) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		out.WriteString(by + line)
	}
	return strings.TrimRight(out.String(), " ") + "\n"
}

// journey is what became of a run.
type journey struct {
	t     *testing.T
	plan  *running.Plan
	items []*running.Item
	whole *running.Item
	batch *running.Batch
	out   *told
	err   error
}

// fly runs bookings through a plan. A booking is written as number:pax.
func fly(t *testing.T, d *desk, plan *running.Plan, out *told, bookings ...string) *journey {
	t.Helper()
	require.Empty(t, plan.Faults)
	if out == nil {
		out = &told{}
	}
	j := &journey{t: t, plan: plan, out: out}
	at := time.Date(2031, 3, 9, 6, 0, 0, 0, time.UTC)
	facts := running.Facts{ID: "r1", File: "list", Started: value.Instant(at)}
	runtime := &trial.DryRuntime{Systems: out, At: at, Facts: facts, Plan: func(id string) *running.Plan { return d.flows[id] }}
	j.batch = &running.Batch{Plan: plan, Systems: out, Runtime: runtime, Attempt: 1, Totals: &running.Totals{}}
	j.whole = plan.RunItem(facts, value.Value{})
	require.NoError(t, j.batch.Pass(t.Context(), plan.Head, j.whole))
	var lines strings.Builder
	for _, b := range bookings {
		number, pax, _ := strings.Cut(b, ":")
		fmt.Fprintf(&lines, "{\"number\":%q,\"pax\":%s}\n", number, pax)
	}
	n, err := all.Named("ndjson")
	require.NoError(t, err)
	r, err := n.NewReader(strings.NewReader(lines.String()), notation.Options{Schema: plan.Source})
	require.NoError(t, err)
	j.items, err = running.NewSource(plan, r, facts).Within(j.whole).Batch(100)
	require.NoError(t, err)
	if j.err = j.batch.Run(t.Context(), j.items); j.err != nil {
		return j
	}
	plan.SetTotals(j.whole, j.batch.Totals.Values)
	require.NoError(t, j.batch.Pass(t.Context(), plan.Tail, j.whole))
	return j
}

// states writes what became of the records.
func (j *journey) states() string {
	require.NoError(j.t, j.err)
	var out []string
	for _, it := range j.items {
		out = append(out, string(it.State))
	}
	return strings.Join(out, ", ")
}

// result is what a step yielded for a record, as JSON-like text of the fields named.
func (j *journey) result(record int, step string) value.Value {
	j.t.Helper()
	ps := j.plan.Planned(step)
	require.NotNil(j.t, ps)
	require.NotNil(j.t, ps.Result, step)
	it := j.whole
	if record >= 0 {
		it = j.items[record]
	}
	return it.Frame.Slots[ps.Result.Slot]
}

func TestChooseLeadsEachRecordItsWay(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, `
- step: choose
  id: size
  when:
    - if: pax > 9
      name: group
      steps:
        - {step: set, id: big, values: {fare: pax * 8}, as: price}
        - {step: call, id: group-note, connection: desk, operation: note, with: {number: '"G" + number', count: pax}, as: noted}
    - if: pax == 0
      steps:
        - {step: stop, id: none, outcome: left out, text: '"nobody travels on " + number'}
  otherwise:
    - {step: call, id: single-note, connection: desk, operation: note, with: {number: number, count: pax}, as: noted}
- step: call
  id: after
  connection: desk
  operation: note
  with: {number: noted.number, count: noted.count + 1}
  as: done
`, "")
	j := fly(t, d, plan, nil, "a:12", "b:0", "c:2")
	require.Equal(t, "done, skipped, done", j.states())
	require.Equal(t, "nobody travels on b", j.items[1].Reason)
	require.Equal(t, "Ga", j.result(0, "after").Field("number").Text(), "what both branches yield is seen behind them")
	require.Equal(t, "3", j.result(2, "after").Field("count").String())
	require.Equal(t, []running.BranchTaken{{Step: "size", Track: 0}}, j.items[0].Branches)
	require.Equal(t, []running.BranchTaken{{Step: "size", Track: 2}}, j.items[2].Branches)
	require.Equal(t, &running.Counts{In: 3, Out: 2, Skipped: 1}, j.batch.Counts["size"])
	require.Equal(t, &running.Counts{In: 1, Out: 1, Called: 1}, j.batch.Counts["group-note"])
	require.Contains(t, planned(t, d, "- step: choose\n  id: c\n  when:\n    - if: pax > 9\n      steps:\n        - {step: set, id: s, values: {fare: pax}}\n- {step: note, id: n, text: text(fare)}\n", "").Faults.Error(), "fare", "what one branch yields is not seen behind them")
}

func TestBranchesThatAreNeverTakenAreFaults(t *testing.T) {
	d := parts(t)
	for steps, want := range map[string]string{
		"- step: choose\n  id: c\n  when:\n    - {if: pax > 1, steps: []}\n    - {if: pax > 1, steps: []}\n": "one before it has the same condition",
		"- step: choose\n  id: c\n  when:\n    - {if: 'true', steps: []}\n    - {if: pax > 1, steps: []}\n":  "true before it is always true",
		"- step: choose\n  id: c\n  when:\n    - {if: pax, steps: []}\n":                                     "expected true or false, found integer",
		"- {step: stop, id: s}\n- {step: note, id: n, text: number}\n":                                       "never reached: Stop ends the way before it",
		"- step: attempt\n  id: a\n  steps:\n    - {step: note, id: n, text: number}\n":                      "does nothing about a fault",
		"- {step: answer, id: a, with: {number: number}}\n":                                                  "nobody waits for an answer",
		"- {step: wait, id: w}\n":                "expected either seconds or until, found neither",
		"- {step: flow, id: f, flow: nowhere}\n": `there is no flow "nowhere" that can be called`,
		"- step: call\n  id: c\n  connection: desk\n  operation: note\n  with: {number: number, count: pax}\n  undo:\n    - {step: note, id: n, text: number}\n": "stands in no Try step",
	} {
		require.Contains(t, planned(t, d, steps, "").Faults.Error(), want, steps)
	}
	outside := planned(t, d, "- {step: note, id: n, text: number}\n", "- {step: note, id: late, text: booking.number}\n")
	require.Contains(t, outside.Faults.Error(), "booking is read record by record: use it inside a For each of it")
}

// TestAnEachOverAListWorksOnItsEntries: entries pass the steps by themselves; one that fails harms no other,
// unless the setting says so; what came through is collected in its order.
func TestAnEachOverAListWorksOnItsEntries(t *testing.T) {
	const each = `
- step: set
  id: split
  values: {words: 'split(number, " ")'}
- step: each
  id: words
  of: words
  as: word
  at once: %ATONCE%
  collect: noted.number
  failed: %FAILED%
  most: "1"
  steps:
    - {step: keep, id: keep, where: word != "skip"}
    - {step: call, id: note, connection: desk, operation: note, with: {number: word, count: pax}, as: noted}
- {step: note, id: after, text: 'join(collected, "+")'}
`
	d := parts(t)
	for _, atOnce := range []string{"1", "3"} {
		plan := planned(t, d, strings.NewReplacer("%ATONCE%", atOnce, "%FAILED%", "set it aside").Replace(each), "")
		j := fly(t, d, plan, &told{}, "a skip b refused c:1", "d:2", ":3")
		require.Equal(t, "done, done, done", j.states())
		require.Equal(t, "a+b+c", j.items[0].Notes[0].Message, "at once: "+atOnce)
		require.Len(t, j.items[0].Inner, 5)
		require.Equal(t, running.SetAside, j.items[0].Inner[3].State)
		require.Equal(t, "3", j.items[0].Inner[3].Path)
		require.Equal(t, &running.Counts{In: 6, Out: 5, SetAside: 1, Called: 5}, j.batch.Counts["note"])
		require.Equal(t, 1, j.batch.Counts["keep"].Skipped)
	}
	one := strings.NewReplacer("%ATONCE%", "2", "%FAILED%", "the record fails").Replace(each)
	j := fly(t, d, planned(t, d, one, ""), nil, "a refused:1", "b:1")
	require.Equal(t, "set aside, done", j.states())
	require.Contains(t, j.items[0].Faults[0].What(), "no")
	some := strings.NewReplacer("%ATONCE%", "1", "%FAILED%", "the record fails after").Replace(each)
	j = fly(t, d, planned(t, d, some, ""), nil, "a refused:1", "refused refused:1")
	require.Equal(t, "done, set aside", j.states())
	require.Contains(t, planned(t, d, "- {step: each, id: e, of: pax, as: x, steps: []}\n", "").Faults.Error(), "toList(…) makes a list of one or many")
}

const attempted = `
- step: attempt
  id: try
  then: %THEN%
  steps:
    - step: call
      id: first
      connection: desk
      operation: note
      with: {number: '"first " + number', count: pax}
      as: noted
      undo:
        - {step: call, id: back, connection: desk, operation: note, with: {number: '"undo " + number', count: noted.count}, as: undone}
    - {step: call, id: second, connection: desk, operation: note, with: {number: number, count: pax}, as: also%TRIES%}
  on fault:
    - {step: set, id: told, values: {trouble: 'fault.step + ": " + fault.text'}, as: bad}
  finally:
    - {step: note, id: last, text: '"finally " + number'}
- {step: note, id: after, text: '"after " + number'}
`

// TestAnAttemptDealsWithWhatFails: what was done is undone, the record goes on with the fault in hand, and the last
// steps are done in any case.
func TestAnAttemptDealsWithWhatFails(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, strings.NewReplacer("%THEN%", "go on", "%TRIES%", "").Replace(attempted), "")
	out := &told{}
	j := fly(t, d, plan, out, "a:1", "refused:2")
	require.Equal(t, "done, done", j.states())
	require.Equal(t, "second: Call an operation: no", j.result(1, "told").Field("trouble").Text())
	require.Equal(t, []string{"first a", "first refused", "a", "refused", "undo refused"}, out.numbers)
	require.Equal(t, []string{"finally a", "after a"}, notes(j.items[0]))
	require.Equal(t, []string{"Call an operation: no", "finally refused", "after refused"}, notes(j.items[1]), "the fault that was dealt with is told")
	require.Equal(t, 1, j.batch.Counts["told"].In)

	plan = planned(t, d, strings.NewReplacer("%THEN%", "set aside", "%TRIES%", "").Replace(attempted), "")
	j = fly(t, d, plan, nil, "a:1", "refused:2")
	require.Equal(t, "done, set aside", j.states())
	require.Equal(t, "second", j.items[1].Step)
	require.Contains(t, notes(j.items[1]), "finally refused")
}

func notes(it *running.Item) (list []string) {
	for _, f := range it.Notes {
		list = append(list, f.What())
	}
	return list
}

// TestASystemThatIsAwayIsTriedAsOftenAsTheStepSays: outside of an attempt, and before the last try, the batch is
// tried again; the last try of an attempt lets it deal with the fault.
func TestASystemThatIsAwayIsTriedAsOftenAsTheStepSays(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, strings.NewReplacer("%THEN%", "go on", "%TRIES%", ", tries: 2, pause: 3, longest pause: 10").Replace(attempted), "")
	out := &told{away: "a"}
	j := fly(t, d, plan, out, "a:1", "b:2")
	var failed *running.Failed
	require.ErrorAs(t, j.err, &failed)
	require.Equal(t, "second", failed.Step.Step.ID)
	require.Equal(t, 2, failed.Attempts(9))
	for tried, want := range map[int]time.Duration{1: 3 * time.Second, 2: 6 * time.Second, 3: 10 * time.Second, 60: 10 * time.Second} {
		pause, ok := failed.Delay(tried, 0.5)
		require.True(t, ok)
		require.Equal(t, want, pause)
	}
	for _, it := range j.items {
		it.State, it.Step, it.Faults = running.Live, "", nil
	}
	last := &running.Batch{Plan: plan, Systems: out, Runtime: &trial.DryRuntime{}, Attempt: 2}
	require.NoError(t, last.Run(t.Context(), j.items))
	require.Equal(t, "second: Call an operation: cannot be reached, tried 2 times: the desk is away", j.result(0, "told").Field("trouble").Text())
	require.Equal(t, 1, last.Counts["told"].In, "the other record is not harmed")
}

func TestBranchesAtOnce(t *testing.T) {
	const both = `
- step: at once
  id: both
  wait: %WAIT%
  branches:
    - name: left
      steps:
        - {step: call, id: left, connection: desk, operation: note, with: {number: '"left " + number', count: pax}, as: %ONE%}
    - name: right
      steps:
        - {step: call, id: right, connection: desk, operation: note, with: {number: number, count: pax}, as: %TWO%}
`
	d := parts(t)
	j := fly(t, d, planned(t, d, strings.NewReplacer("%WAIT%", "when all are done", "%ONE%", "one", "%TWO%", "two").Replace(both)+"- {step: note, id: n, text: 'one.number + \" and \" + two.number'}\n", ""), nil, "a:1", "refused:1")
	require.Equal(t, "done, set aside", j.states())
	require.Equal(t, []string{"left a and a"}, notes(j.items[0]))
	j = fly(t, d, planned(t, d, strings.NewReplacer("%WAIT%", "when the first is done", "%ONE%", "one", "%TWO%", "one").Replace(both)+"- {step: note, id: n, text: one.number}\n", ""), nil, "refused:1")
	require.Equal(t, "done", j.states(), "a branch that fails is no first")
	require.Equal(t, []string{"left refused"}, notes(j.items[0]))
	j = fly(t, d, planned(t, d, strings.NewReplacer("%WAIT%", "at once", "%ONE%", "one", "%TWO%", "two").Replace(both), ""), nil, "refused:1", "b:1")
	require.Equal(t, "done, done", j.states(), "nobody waits")
	require.Len(t, j.batch.Events, 1)
	require.Equal(t, 2, j.batch.Counts["left"].Called)
}

func TestValuesTalliesAndTheTail(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, `
- {step: set, id: s, values: {twice: pax * 2, more: twice + 1}, as: sums}
- {step: tally, id: sum, as: total, starts: "0", becomes: total + sums.more}
- {step: tally, id: list, as: numbers, starts: '[""]', becomes: 'flatten([numbers, [number]])'}
- {step: reference, id: ref, is: number}
- {step: note, id: n, text: text(more) + " " + text(total), where: the event log}
`, "- {step: note, id: end, text: '\"in all \" + run.file'}\n")
	j := fly(t, d, plan, nil, "a:1", "b:5")
	require.Equal(t, "3 3", j.items[0].Notes[0].Message)
	require.Equal(t, "11 14", j.items[1].Notes[0].Message)
	require.Equal(t, "14", j.result(running.WholeRun, "sum").String())
	require.Equal(t, []running.Reference{{Record: 0, Text: "a"}, {Record: 1, Text: "b"}}, j.batch.References)
	require.Len(t, j.batch.Events, 2)
	require.Equal(t, []string{"in all list"}, notes(j.whole))
	require.Equal(t, running.Done, j.whole.State)
}

// TestWhatAFaultOfACheckDoesIsAChoice: a wrong type, an unknown name, a value below the least and a missing field
// stop the record with the first or with all of them, or are noted while it goes on.
func TestWhatAFaultOfACheckDoesIsAChoice(t *testing.T) {
	const bad = `{"ship": "Ling", "lines": [{"plate": 7, "length": 0, "odd": true}, {"length": 3}]}`
	d := parts(t)
	for faults, want := range map[string][3]int{ // set aside with, noted with, events
		"stop at the first":                {1, 0, 0},
		"stop with all":                    {4, 0, 0},
		"carry on, noted in the event log": {0, 4, 4},
		"carry on, noted in the run only":  {0, 4, 0},
	} {
		plan := planned(t, d, "- {step: set, id: s, values: {t: '"+strconv.Quote(bad)+"'}}\n- {step: check, id: c, value: t, schema: sailing, faults: '"+faults+"'}\n", "")
		j := fly(t, d, plan, nil, "a:1")
		it := j.items[0]
		require.Equal(t, want, [3]int{len(it.Faults), len(it.Notes), len(j.batch.Events)}, "%s: %v %v", faults, it.Faults, it.Notes)
		for i, e := range j.batch.Events {
			require.Equal(t, it.Notes[i].Error(), e.Text)
			require.Contains(t, e.Text, it.Notes[i].Place.Path+": ", "the event log keeps the path")
		}
		if want[0] == 0 {
			require.Equal(t, running.Done, it.State)
			require.Equal(t, "c", it.Notes[0].Place.Step)
		}
	}
	plan := planned(t, d, "- {step: check, id: c, value: booking, schema: note}\n", "")
	j := fly(t, d, plan, nil, "a:1")
	require.Contains(t, j.items[0].Faults.Error(), `pax: note: expected one of number, count, tags, found "pax"`)
}

func TestStopsAndRepeats(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, `
- {step: once, id: once, key: number}
- step: choose
  id: c
  when:
    - if: pax == 7
      steps: [{step: stop, id: all, ends: the run, text: '"seven"'}]
    - if: pax == 8
      steps: [{step: stop, id: well, outcome: done, text: '"eight"'}]
- {step: call, id: note, connection: desk, operation: note, with: {number: number, count: pax}, as: noted}
`, "")
	j := fly(t, d, plan, nil, "a:1", "a:2", "b:8", "c:7", "d:1")
	require.Equal(t, "done, skipped, ended, live, live", j.states())
	require.Equal(t, "repeated: a", j.items[1].Reason)
	require.Equal(t, 3, j.batch.Stopped.Record)
	require.Equal(t, "seven", j.batch.Stopped.Fault.Message)
	require.Equal(t, 1, j.batch.Counts["note"].In, "neither the record that ended well nor those from the stop on")

	stop := planned(t, d, "- {step: call, id: note, connection: desk, operation: note, with: {number: number, count: pax}, as: noted, on fault: stop}\n", "")
	j = fly(t, d, stop, nil, "a:1", "refused:2", "b:8")
	require.Equal(t, "done, set aside, live", j.states(), "the record before the faulty one is done")
	require.Equal(t, 1, j.batch.Stopped.Record)
}

func TestAFlowRunsAnother(t *testing.T) {
	d := parts(t)
	d.flows = map[string]*running.Plan{"greet": compiledText(t, d, "greet", `
flow: Greet
trigger: {kind: called, input: booking, output: note}
reference: input.number
steps:
  - step: choose
    id: c
    when:
      - if: input.pax > 3
        steps: [{step: stop, id: s, text: '"too many"'}]
  - {step: answer, id: a, with: {number: '"hello " + input.number', count: input.pax}}
`)}
	require.Empty(t, d.flows["greet"].Faults)
	plan := planned(t, d, "- {step: flow, id: f, flow: greet, from: booking, as: said}\n- {step: note, id: n, text: said.number}\n", "")
	j := fly(t, d, plan, nil, "a:1", "b:4")
	require.Equal(t, "done, set aside", j.states())
	require.Equal(t, []string{"hello a"}, notes(j.items[0]))
	require.Contains(t, j.items[1].Faults[0].What(), "too many")
	require.Contains(t, planned(t, d, "- {step: flow, id: f, flow: greet, with: {number: number}}\n", "").Faults.Error(), "greet needs pax")
	require.Equal(t, "a", d.flows["greet"].ReferenceOf(running.RunFacts("r", "f", "", 0, value.Value{}), j.items[0].Frame.Slots[plan.Record], value.Value{}))
}

func TestTextsAreReadAndWritten(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, `
- {step: parse, id: p, text: '"{\"ship\": \"" + number + "\", \"lines\": [{\"plate\": \"X\", \"length\": 4}]}"', schema: sailing, as: sailing}
- {step: each, id: e, of: sailing.lines, as: line, steps: [{step: note, id: n, text: line.plate}], collect: line.length * 2, collected as: lengths}
- {step: format, id: f, value: sailing, schema: sailing, as: out}
- {step: note, id: t, text: 'out.type + " " + out.text + " " + text(sum(lengths))'}
`, "")
	j := fly(t, d, plan, nil, "Ling:1", `B"d:2`)
	require.Contains(t, notes(j.items[0])[0], "application/json {")
	require.Contains(t, notes(j.items[0])[0], " 8")
	require.Equal(t, "X", j.items[0].Inner[0].Notes[0].Message)
	require.Equal(t, "done, set aside", j.states(), "a quote inside a JSON text is a fault")
}

func TestASystemThatNeverAnswersRunsIntoTheTimeLimit(t *testing.T) {
	d := parts(t)
	plan := planned(t, d, "- {step: call, id: c, connection: desk, operation: note, with: {number: number, count: pax}, time limit: 0.02}\n", "")
	j := fly(t, d, plan, &told{hangs: true}, "a:1")
	require.ErrorContains(t, j.err, "it took longer than 20ms")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	b := &running.Batch{Plan: plan, Systems: &told{hangs: true}, Runtime: &trial.DryRuntime{}}
	require.True(t, errors.Is(b.Run(ctx, []*running.Item{j.items[0]}), context.Canceled))
}
