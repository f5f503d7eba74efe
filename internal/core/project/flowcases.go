package project

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Run is the message of a case of a flow, with what other systems answered.
type Run struct {
	At      value.Value          // timestamp
	File    string               // that the records are said to come from
	Input   string               // the message with which it begins, as JSON
	Request string               // the HTTP request with which it came, as JSON
	Records string               // the records that are read, one JSON value a line
	Answers []trial.RecordedCall // of systems, and of flows that are called
}

// Outcomes is what a run came to: what it asked of systems that it changes, what became of it and of each record, and what
// it answered.
type Outcomes []Outcome

// Outcome is one thing that a run came to.
type Outcome struct{ Of, Is string }

// maxCaseRecords bounds the records of one case, maxCaseTime what a case may take.
const maxCaseRecords = 1000

// The names that settings of cases had before.
var (
	olderCaseSettings = partfile.Older{Names: map[string]string{
		"facts": "context", "at": "now", "answers": "recorded calls", "account": "expected outcomes", "fails": "expected fault",
	}}
	olderCall    = partfile.Older{Names: map[string]string{"asked": "request", "answer": "response"}}
	olderOutcome = partfile.Older{Names: map[string]string{"is": "value"}}
)

// olderCase writes a case with the names of today where it has older ones. It says whether there were any.
func olderCase(root partfile.Settings) (changed bool) {
	changed = olderCaseSettings.Upgrade(root)
	changed = olderCall.UpgradeList(root.List("recorded calls")) || changed
	return olderOutcome.UpgradeList(root.List("expected outcomes")) || changed
}

func parseRun(n partfile.Node, flowID string) (r Run) {
	started, ok := value.ParseTimestamp(n.Text("now").Value)
	if !ok && n.Present() {
		n.Fault(fault.Type, "now: expected a timestamp, for example 2031-03-09T06:00:00Z")
	}
	r.At = started
	r.File, r.Input, r.Request, r.Records = n.Text("file").Value, n.Text("input").Value, n.Text("request").Value, n.Text("records").Value
	for _, a := range n.List("recorded calls") {
		h := trial.RecordedCall{Flow: flowID, Step: a.Required("step").Value, Request: a.Text("request").Value, Response: a.Text("response").Value, Effect: running.Effect(a.Text("effect").Value)}
		if text := a.Text("fault").Value; text != "" {
			h.Fault = fault.New(fault.Code(a.Text("code").Value), "%s", text)
		}
		a.RejectUnknown()
		r.Answers = append(r.Answers, h)
	}
	return r
}

func parseAccount(n partfile.Node) (list Outcomes) {
	for _, line := range n.List("expected outcomes") {
		list = append(list, Outcome{line.Required("of").Value, sayState(line.Text("value").Value)})
		line.RejectUnknown()
	}
	return list
}

// CasesOfFlow lists the cases of a flow.
func (p *Project) CasesOfFlow(id string) []Case {
	var out []Case
	for _, c := range p.cases() {
		if c.Flow == id {
			out = append(out, c)
		}
	}
	return out
}

// runFlowCase takes the case's message through its flow and compares what it comes to.
func (p *Project) runFlowCase(c Case) Result {
	r := Result{Case: c}
	got, f := p.Play(c.Flow, c.Run)
	if f != nil {
		r.Fault = f
		return r
	}
	r.Differences = differing(c.Account, got, c.Ignore)
	return r
}

// Play takes a message through a flow, answered by what the case remembers, and says what it comes to.
func (p *Project) Play(flowID string, r Run) (Outcomes, *fault.Fault) {
	plan := p.Flow(flowID)
	switch {
	case plan == nil:
		return nil, fault.New(fault.Unknown, "there is no flow %q", flowID)
	case len(plan.Faults) > 0:
		return nil, plan.Faults[0]
	}
	rec := &trial.Recording{}
	for _, h := range r.Answers {
		rec.Add(h)
	}
	k := &player{p: p, plan: plan, heard: rec}
	outside := &trial.Recorder{Recording: rec, OnRequest: k.asked, CallMode: func(string, string, bool) trial.CallMode { return trial.Replayed }}
	return k.play(r, outside)
}

// player keeps the account of one run.
type player struct {
	p       *Project
	plan    *running.Plan
	heard   *trial.Recording
	mu      sync.Mutex // branches that run at once note what they ask
	account Outcomes
}

func (k *player) note(of, is string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.account = append(k.account, Outcome{of, is})
}

// asked notes what is asked of a system that it changes.
func (k *player) asked(q trial.RecordedRequest) {
	if q.Effect {
		k.note("asked by "+q.Step, q.Asked)
	}
}

// caseRuntime is Hollow Reed as a case sees it: flows that are called are not run.
type caseRuntime struct {
	*trial.DryRuntime
	player *player
}

// Start gives what is remembered of flows that are called.
func (h caseRuntime) Start(_ context.Context, c running.FlowCall, inputs []value.Value) ([]running.Response, error) {
	k := h.player
	done := make([]running.Response, len(inputs))
	for i, input := range inputs {
		asked := "{}"
		if input.Kind() != value.Absent {
			asked = json.Text(input)
		}
		k.note("asked by "+c.Step, asked)
		h, ok := k.heard.Find(c.From, c.Step, asked)
		switch {
		case !ok && !c.Wait:
		case !ok:
			done[i].Fault = fault.New(fault.NotFound, "no answer of %s is remembered to %s", c.Flow.Title, fault.Quote(asked))
		default:
			done[i] = h.ToResponse(c.Flow.AnswerOf())
		}
	}
	return done, nil
}

func (k *player) play(r Run, outside running.Systems) (Outcomes, *fault.Fault) {
	facts := running.Facts{ID: "case", File: r.File, Started: r.At}
	if r.Request != "" {
		facts.Request = k.plan.ReadStarted([]byte(r.Request))
	}
	at := r.At.GoTime()
	runtime := caseRuntime{&trial.DryRuntime{Systems: outside, Plan: k.p.Flow, At: at, Facts: facts, Randomness: rand.NewChaCha8([32]byte{})}, k}
	b := &running.Batch{Plan: k.plan, Systems: outside, Runtime: runtime, Attempt: 1000, Totals: &running.Totals{}}
	played, err := k.p.PlayWith(b, facts, r)
	if err != nil {
		k.note("run", "could not go on: "+fault.From(err, fault.Outside).What())
		return k.account, nil
	}
	k.ends(played, b)
	return k.account, nil
}

// PlayWith takes the message of a case through a batch's flow.
func (p *Project) PlayWith(b *running.Batch, facts running.Facts, r Run) (*trial.PlayResult, error) {
	m := trial.PlayOptions{Facts: facts, Most: maxCaseRecords}
	if b.Plan.Input != nil && r.Input != "" {
		rows, err := ReadJSON(b.Plan.Input, r.Input)
		if err != nil {
			return nil, fault.From(err, fault.Syntax).InField("input")
		}
		m.Input = rows[0]
	}
	if m.Facts.Reference == "" {
		m.Facts.Reference = b.Plan.ReferenceOf(running.RunFacts(facts.ID, facts.File, "", 0, facts.Started), m.Input, facts.Request)
	}
	if b.Plan.Source != nil {
		m.Open = func() (notation.Reader, error) { return openLines(b.Plan.Source, r.Records) }
	}
	return trial.Play(context.Background(), b, m)
}

func openLines(sch *schema.Schema, text string) (notation.Reader, error) {
	return json.LinesKind.NewReader(strings.NewReader(text), notation.Options{Source: "records", Schema: sch})
}

// ends notes what became of the run, its records, and the caller's answer.
func (k *player) ends(played *trial.PlayResult, b *running.Batch) {
	if b.Stopped != nil && b.Stopped.Fault != nil {
		k.note("run", "stopped: "+b.Stopped.Fault.What())
	} else {
		k.note("run", k.became(played.Whole))
	}
	for i, it := range played.Items {
		k.note("record "+strconv.Itoa(i+1), k.became(it))
	}
	if b.Answer.Kind() != value.Absent {
		k.note("answer", json.Text(b.Answer))
	}
	if b.Reply != nil && b.Reply.Status != 200 {
		k.note("status", strconv.Itoa(b.Reply.Status))
	}
}

// became says what became of an item, and of the entries in it.
func (k *player) became(it *running.Item) string {
	text := string(it.State)
	if ps := k.plan.Planned(it.Step); ps != nil && it.State != running.Done {
		text += " at " + ps.Step.ID
	}
	if it.Reason != "" {
		text += ": " + it.Reason
	}
	for i, f := range it.Faults {
		text += map[bool]string{true: ": ", false: "; "}[i == 0] + f.What()
	}
	aside := 0
	for _, inner := range it.Inner {
		if inner.State == running.SetAside {
			aside++
		}
	}
	if aside > 0 {
		text += fmt.Sprintf(" (%d entries set aside)", aside)
	}
	return text
}

// sayState is what is said of a record, where an older case calls a state by the name that it had.
func sayState(is string) string {
	if rest, older := strings.CutPrefix(is, "left out"); older {
		return string(running.Skipped) + rest
	}
	return is
}

// differing compares two accounts. What is asked by one step is compared whatever its order: entries that are under way at
// the same time ask as they come.
func differing(want, got Outcomes, ignore []string) (list []Difference) {
	left := map[string][]string{} // what was found and is not matched, by what it is of
	for _, line := range got {
		left[line.Of] = append(left[line.Of], line.Is)
	}
	var missing Outcomes
	for _, line := range want {
		if i := slices.Index(left[line.Of], line.Is); i >= 0 {
			left[line.Of] = slices.Delete(left[line.Of], i, i+1)
		} else {
			missing = append(missing, line)
		}
	}
	note := func(of, expected, found string) {
		if !slices.Contains(ignore, of) {
			list = append(list, Difference{Path: of, Expected: expected, Found: found})
		}
	}
	for _, line := range missing {
		found := "nothing"
		if others := left[line.Of]; len(others) > 0 {
			found, left[line.Of] = others[0], others[1:]
		}
		note(line.Of, line.Is, found)
	}
	for _, line := range got {
		if others := left[line.Of]; len(others) > 0 {
			note(line.Of, "nothing", others[0])
			left[line.Of] = others[1:]
		}
	}
	return list
}

// NewFlowCase is the part of a case that keeps what a flow comes to with a message now.
func (p *Project) NewFlowCase(title, flowID string, r Run) ([]byte, *fault.Fault) {
	account, f := p.Play(flowID, r)
	if f != nil {
		return nil, f
	}
	o := partfile.Ordered{{Key: "case", Value: title}, {Key: "flow", Value: flowID}, {Key: "now", Value: r.At.String()}}
	for _, part := range []partfile.Entry{{Key: "file", Value: r.File}, {Key: "input", Value: r.Input}, {Key: "request", Value: r.Request}, {Key: "records", Value: r.Records}} {
		if part.Value != "" {
			o.Add(part.Key, partfile.Text{Value: part.Value.(string)})
		}
	}
	var answers []partfile.Ordered
	for _, h := range r.Answers {
		if h.Flow != flowID {
			continue
		}
		a := partfile.Ordered{{Key: "step", Value: h.Step}, {Key: "request", Value: partfile.Text{Value: h.Request}}}
		if h.Response != "" {
			a.Add("response", partfile.Text{Value: h.Response})
		}
		if h.Effect != "" {
			a.Add("effect", string(h.Effect))
		}
		if h.Fault != nil {
			a.Add("code", string(h.Fault.Code))
			a.Add("fault", partfile.Text{Value: h.Fault.What()})
		}
		answers = append(answers, a)
	}
	if answers != nil {
		o.Add("recorded calls", answers)
	}
	o.Add("expected outcomes", WriteOutcomes(account))
	return partfile.Encode(o), nil
}

// WriteOutcomes is an account as a case writes it.
func WriteOutcomes(account Outcomes) (lines []partfile.Ordered) {
	for _, line := range account {
		lines = append(lines, partfile.Ordered{{Key: "of", Value: line.Of}, {Key: "value", Value: partfile.Text{Value: line.Is}}})
	}
	return lines
}
