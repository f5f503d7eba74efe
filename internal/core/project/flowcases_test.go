package project

import (
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/value"
)

// played is a project of scans that are announced at a desk, and orders that another flow checks.
var played = map[string]string{
	"project.yaml":          "project: Played\n",
	"connections/drop.yaml": "connection: Drop\nkind: file\n",
	"connections/desk.yaml": "connection: Desk\nkind: http\noperations:\n  - {operation: price, kind: call, path: /p, request: scan, response: scan}\n  - {operation: tell, kind: call, method: PUT, path: /t, request: scan, response: scan}\n",
	"schemas/scan.yaml":     "schema: Scan\nnotation: json\nfields:\n  - {name: code, type: text}\n  - {name: level, type: integer}\n",
	"flows/scans.yaml": `flow: Scans
trigger: {kind: file, connection: drop, mask: "*.json"}
steps:
  - {step: read, id: read, schema: scan, as: scan}
  - step: each
    id: each
    of: scan
    steps:
      - {step: keep, id: keep, where: scan.level < 900}
      - {step: call, id: tell, connection: desk, operation: tell, from: scan, as: told}
      - step: each
        id: digits
        of: 'split(told.code, " ")'
        as: digit
        steps: [{step: note, id: n, text: 'digit == "!" ? text(integer(digit)) : digit'}]
`,
	"flows/order.yaml": `flow: Order
trigger: {kind: request, path: orders, input: scan, output: scan, as: order}
reference: order.code
steps:
  - {step: flow, id: check, flow: check, from: order, as: checked}
  - {step: answer, id: a, with: {code: 'checked.code + " " + request.method + " " + run.reference', level: '1'}, status: '201'}
`,
	"flows/check.yaml": "flow: Check\ntrigger: {kind: called, input: scan, output: scan}\nsteps:\n  - {step: answer, id: a, from: input}\n",
}

func at(t *testing.T) value.Value {
	t.Helper()
	v, ok := value.ParseTimestamp("2031-03-09T06:00:00Z")
	require.True(t, ok)
	return v
}

// account writes what a run came to, a line each.
func account(a Outcomes) string {
	var lines []string
	for _, l := range a {
		lines = append(lines, l.Of+": "+l.Is)
	}
	return strings.Join(lines, "\n")
}

// heard is what the desk answered to a scan.
func heard(asked, answer string) trial.RecordedCall {
	h := trial.RecordedCall{Flow: "scans", Step: "tell", Request: asked, Response: answer, Effect: running.Called}
	if answer == "" {
		h.Fault = fault.New(fault.Outside, "the desk is closed")
	}
	return h
}

// TestARunIsPlayedWithWhatWasAnswered: every outcome of a record is in its account, and what was asked of systems that are
// changed; nothing outside is reached, and what was never answered is said.
func TestARunIsPlayedWithWhatWasAnswered(t *testing.T) {
	p := Load("played", played)
	require.Empty(t, p.Faults)
	r := Run{
		At: at(t), File: "scans.json",
		Records: `{"code":"A","level":1}` + "\n" + `{"code":"B","level":950}` + "\n" + `{"code":"C","level":3}` + "\n" + `{"code":"D","level":"x"}` + "\n" + `{"code":"E !","level":5}` + "\n",
		Answers: []trial.RecordedCall{heard(`{"code":"A","level":1}`, `{"code":"A","level":1}`), heard(`{"code":"C","level":3}`, ""), heard(`{"code":"E !","level":5}`, `{"code":"E !","level":5}`)},
	}
	got, f := p.Play("scans", r)
	require.Nil(t, f)
	text := account(got)
	for _, want := range []string{
		`asked by tell: {"code":"A","level":1}`, "run: done", "record 1: done", "record 2: skipped at keep: not scan.level < 900",
		"record 3: set aside at tell: Call an operation: the desk is closed", "record 4: set aside at read: ", "(1 entries set aside)",
	} {
		require.Contains(t, text, want)
	}
	unheard := r
	unheard.Answers = r.Answers[1:]
	got, f = p.Play("scans", unheard)
	require.Nil(t, f)
	require.Contains(t, account(got), "record 1: set aside at tell: ")
	require.Contains(t, account(got), "remembered")

	_, f = p.Play("nothing", r)
	require.Contains(t, f.What(), `there is no flow "nothing"`)
	broken := Load("played", with(played, "flows/scans.yaml", strings.Replace(played["flows/scans.yaml"], "scan.level < 900", "scan.size", 1)))
	_, f = broken.Play("scans", r)
	require.Contains(t, f.What(), "size")
}

func with(texts map[string]string, path, text string) map[string]string {
	out := map[string]string{}
	for k, v := range texts {
		out[k] = v
	}
	out[path] = text
	return out
}

// TestARequestIsPlayed: with the answers of flows that it calls, which are not run, and what it is answered.
func TestARequestIsPlayed(t *testing.T) {
	p := Load("played", played)
	request := string(running.WriteRequest(running.RequestOf("POST", "orders", nil, nil, nil)))
	r := Run{At: at(t), Input: `{"code":"K","level":2}`, Request: request, Answers: []trial.RecordedCall{{Flow: "order", Step: "check", Request: `{"code":"K","level":2}`, Response: `{"code":"ok","level":0}`}}}
	got, f := p.Play("order", r)
	require.Nil(t, f)
	require.Equal(t, "asked by check: {\"code\":\"K\",\"level\":2}\nrun: done\nanswer: {\"code\":\"ok POST K\",\"level\":1}\nstatus: 201", account(got))
	r.Answers = nil
	got, f = p.Play("order", r)
	require.Nil(t, f)
	require.Contains(t, account(got), "run: set aside at check: ")
	require.Contains(t, account(got), "no answer of Check is remembered")
	r.Input = `{"code": 1`
	got, f = p.Play("order", r)
	require.Nil(t, f)
	require.Contains(t, account(got), "run: could not go on: input: ")
}

// TestWhatIsKeptOfARunIsACaseThatHolds: its text is a part, which is played to the same account; another outcome is told by
// what differs, and what may differ is not compared.
func TestWhatIsKeptOfARunIsACaseThatHolds(t *testing.T) {
	p := Load("played", played)
	r := Run{
		At: at(t), File: "scans.json", Records: `{"code":"A","level":1}` + "\n" + `{"code":"C","level":3}` + "\n",
		Answers: []trial.RecordedCall{heard(`{"code":"A","level":1}`, `{"code":"A","level":1}`), heard(`{"code":"C","level":3}`, ""), {Flow: "order", Step: "check", Request: "{}"}},
	}
	text, f := p.NewFlowCase("Two scans", "scans", r)
	require.Nil(t, f)
	require.NotContains(t, string(text), "step: check", "what another flow heard does not belong to it")
	texts := with(played, "cases/two-scans.yaml", string(text))
	kept := Load("played", texts)
	require.Empty(t, kept.Faults, string(text))
	cases := kept.CasesOfFlow("scans")
	require.Len(t, cases, 1)
	require.Equal(t, "scans", cases[0].Of())
	require.Equal(t, r.Records, cases[0].Run.Records)
	res := kept.RunCase(cases[0])
	require.True(t, res.OK(), "%v %v", res.Fault, res.Differences)
	require.Empty(t, kept.CasesOfFlow("order"))

	other := Load("played", with(texts, "flows/scans.yaml", strings.Replace(played["flows/scans.yaml"], "scan.level < 900", "scan.level < 2", 1)))
	res = other.RunCase(other.CasesOfFlow("scans")[0])
	require.False(t, res.OK())
	var told []string
	for _, d := range res.Differences {
		told = append(told, d.String())
	}
	require.Contains(t, strings.Join(told, "\n"), "record 2")
	require.Contains(t, strings.Join(told, "\n"), "skipped at keep")

	_, f = p.NewFlowCase("None", "nothing", r)
	require.NotNil(t, f)
	for change, want := range map[string]string{
		"flow: scans|flow: nowhere":                    `there is no flow "nowhere"`,
		"now: \"2031-03-09T06:00:00Z\"|now: yesterday": "expected a timestamp, for example 2031-03-09T06:00:00Z",
		"step: tell|stop: tell":                        `"step" is missing`,
		"of: run|for: run":                             `"of" is missing`,
	} {
		old, now, _ := strings.Cut(change, "|")
		require.Contains(t, string(text), old)
		bad := Load("played", with(played, "cases/two-scans.yaml", strings.Replace(string(text), old, now, 1)))
		require.Contains(t, bad.Faults.Error(), want, change)
	}
}

// TestBranchesNoteAtOnce: nothing that steps beside each other ask is lost from the account.
func TestBranchesNoteAtOnce(t *testing.T) {
	k := &player{}
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 2000 {
				k.asked(trial.RecordedRequest{Step: "s", Effect: true, Asked: "{}"})
			}
		})
	}
	wg.Wait()
	require.Len(t, k.account, 16_000)
}

// TestAnOlderCaseSaysSkipped: a case that was kept when skipped records were called otherwise holds as before.
func TestAnOlderCaseSaysSkipped(t *testing.T) {
	require.Equal(t, "skipped at keep: not true", sayState("left out at keep: not true"))
	require.Equal(t, "done", sayState("done"))
}
