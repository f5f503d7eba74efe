package trial

import (
	"context"
	"strings"
	"sync"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
)

// RecordedCall is what a system answered a step, or a flow that it called: what it was asked and what came of it, as JSON.
type RecordedCall struct {
	Flow     string         `json:"flow"`
	Step     string         `json:"step"`
	Request  string         `json:"asked"`
	Response string         `json:"answer,omitempty"` // empty: nothing
	Effect   running.Effect `json:"effect,omitempty"`
	Fault    *fault.Fault   `json:"fault,omitempty"`
	At       *time.Time     `json:"at,omitempty"` // when it was answered; nil: not known, or made up
	Turns    []running.Turn `json:"said,omitempty"`
	Ignored  map[string]int `json:"ignored,omitempty"` // fields of the answer that were passed over because its schema lacks them
}

// Since is when what is known of a step was answered: the oldest of its answers. It is zero where nothing is.
func (r *Recording) Since(flow, step string) (at time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, h := range r.known {
		if h.Flow == flow && h.Step == step && h.At != nil && (at.IsZero() || h.At.Before(at)) {
			at = *h.At
		}
	}
	return at
}

// Key tells what was heard from all else.
func (h RecordedCall) Key() string { return h.Flow + "\x00" + h.Step + "\x00" + h.Request }

// Recording keeps what was heard, the last answer to each question. The zero Recording is empty.
type Recording struct {
	mu    sync.Mutex
	known map[string]RecordedCall
	order []string
}

// Add keeps an answer, in place of one to the same question.
func (r *Recording) Add(h RecordedCall) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil {
		r.known = map[string]RecordedCall{}
	}
	key := h.Key()
	if _, there := r.known[key]; !there {
		r.order = append(r.order, key)
	}
	r.known[key] = h
}

// AddResponse keeps what a step was answered.
func (r *Recording) AddResponse(flow, step string, asked value.Value, a running.Response) {
	r.Add(recordedCall(recordedQuestion{flow, step, asJSON(asked), nil}, a, ""))
}

// Find gives the answer to a question.
func (r *Recording) Find(flow, step, asked string) (RecordedCall, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	h, ok := r.known[RecordedCall{Flow: flow, Step: step, Request: asked}.Key()]
	return h, ok
}

// All lists what was heard, in its order.
func (r *Recording) All() []RecordedCall {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := make([]RecordedCall, len(r.order))
	for i, key := range r.order {
		list[i] = r.known[key]
	}
	return list
}

// CallMode is what a try does about a step that reaches a system.
type CallMode string

// The manners. Not at all makes something up, as a system could answer; a remembered answer must be there.
const (
	Live      CallMode = "really"
	Simulated CallMode = "not at all"
	Replayed  CallMode = "with a remembered answer"
)

// callModes are what the modes are called.
var callModes = map[CallMode]string{Live: "Call the system", Simulated: "Simulate", Replayed: "Replay the recorded response"}

// Title is what the mode is called.
func (m CallMode) Title() string { return callModes[m] }

// Manners in the order in which they are offered.
var Manners = []CallMode{Simulated, Live, Replayed}

// Recorder is an Outside that asks as is chosen for each step, keeps what it hears, and does not ask twice for the same.
type Recorder struct {
	Inner     running.Systems
	Dry       running.Systems
	Recording *Recording
	// CallMode says what is done about a step; effect says whether it changes its system.
	CallMode func(flow, step string, effect bool) CallMode
	// Repeat says whether what was heard before is taken for a step; nil is always.
	Repeat func(flow, step string, effect bool) bool
	// Checks holds upserts that are not done against their tables.
	Checks bool
	// At is noted with what is heard.
	At time.Time
	// All keeps what was made up, too.
	All bool
	// OnRequest is told of every question as it is asked, whether it is answered from memory or not; it may be nil.
	OnRequest func(RecordedRequest)
}

// RecordedRequest is what a step asks a system.
type RecordedRequest struct {
	Flow, Step, Asked string
	Effect            bool
}

// recordedQuestion is one of a step, with how its answer is read and written.
type recordedQuestion struct {
	flow, step string
	asked      string
	of         *running.Kept // how its answer is read back; nil where there is none
}

// record answers questions: what is known from memory, the others by ask, which gets their positions.
func (r *Recorder) record(list []recordedQuestion, effect bool, ask func(o running.Systems, left []int) ([]running.Response, []running.Effect, error)) ([]running.Response, []running.Effect, error) {
	done, effects := make([]running.Response, len(list)), make([]running.Effect, len(list))
	left := map[CallMode][]int{}
	for i, q := range list {
		if r.OnRequest != nil {
			r.OnRequest(RecordedRequest{q.flow, q.step, q.asked, effect})
		}
		if h, ok := r.Recording.Find(q.flow, q.step, q.asked); ok && (r.Repeat == nil || r.Repeat(q.flow, q.step, effect)) {
			done[i], effects[i] = h.ToResponse(q.of), h.Effect
			continue
		}
		how := r.CallMode(q.flow, q.step, effect)
		if how == Replayed {
			done[i].Fault = fault.New(fault.NotFound, "no answer is remembered to %s", fault.Quote(q.asked)).WithFix("Try the step really once, or let it be made up")
			continue
		}
		left[how] = append(left[how], i)
	}
	for how, o := range map[CallMode]running.Systems{Live: r.Inner, Simulated: r.Dry} {
		if len(left[how]) == 0 {
			continue
		}
		answers, effect, err := ask(o, left[how])
		if err != nil {
			return nil, nil, err
		}
		for n, i := range left[how] {
			done[i], effects[i] = answers[n], effect[n]
			if how == Live || r.All {
				h := recordedCall(list[i], answers[n], effect[n])
				if how == Live && !r.At.IsZero() {
					h.At = &r.At
				}
				r.Recording.Add(h)
			}
		}
	}
	return done, effects, nil
}

func recordedCall(q recordedQuestion, a running.Response, e running.Effect) RecordedCall {
	h := RecordedCall{Flow: q.flow, Step: q.step, Request: q.asked, Effect: e, Fault: a.Fault, Turns: a.Turns, Ignored: a.Ignored}
	if a.Answer.Kind() != value.Absent {
		h.Response = json.Text(a.Answer)
	}
	return h
}

// ToResponse reads back what was heard, as a record of a schema.
func (h RecordedCall) ToResponse(of *running.Kept) running.Response {
	a := running.Response{Turns: h.Turns, Ignored: h.Ignored}
	if h.Fault != nil {
		f := *h.Fault
		a.Fault = &f
	}
	if h.Response != "" && of != nil {
		a.Answer = of.Read(h.Response)
	}
	return a
}

// picked are the things at some positions of a list, those that it has.
func picked[T any](list []T, at []int) (out []T) {
	for _, i := range at {
		if i < len(list) {
			out = append(out, list[i])
		}
	}
	return out
}

func asJSON(v value.Value) string {
	if v.Kind() == value.Absent {
		return "{}"
	}
	return json.Text(v)
}

// Lookup looks rows up, or remembers them.
func (r *Recorder) Lookup(ctx context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error) {
	list := make([]recordedQuestion, len(keys))
	for i, key := range keys {
		list[i] = recordedQuestion{l.Flow, l.Step, asJSON(value.NewRecord(value.NewLayout(l.Columns...), key)), l.RowOf()}
	}
	done, _, err := r.record(list, false, func(o running.Systems, left []int) ([]running.Response, []running.Effect, error) {
		part := l
		part.Items = picked(l.Items, left)
		rows, err := o.Lookup(ctx, part, picked(keys, left))
		out := make([]running.Response, len(rows))
		for n, row := range rows {
			out[n].Answer = row
		}
		return out, make([]running.Effect, len(rows)), err
	})
	if err != nil {
		return nil, err
	}
	rows := make([]value.Value, len(done))
	for i, d := range done {
		if d.Fault != nil { // a look-up has no fault of one row: it is the whole try's
			return nil, d.Fault
		}
		rows[i] = d.Answer
	}
	return rows, nil
}

// Upsert writes rows, or remembers what writing them did.
func (r *Recorder) Upsert(ctx context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	list := make([]recordedQuestion, len(rows))
	for i, row := range rows {
		list[i] = recordedQuestion{u.Flow, u.Step, asJSON(row), nil}
	}
	done, effects, err := r.record(list, true, func(o running.Systems, left []int) ([]running.Response, []running.Effect, error) {
		part := u
		part.Items = picked(u.Items, left)
		if out := r.checked(ctx, o, part, len(left)); out != nil {
			return out, make([]running.Effect, len(left)), nil
		}
		written, err := o.Upsert(ctx, part, picked(rows, left))
		out, effects := make([]running.Response, len(written)), make([]running.Effect, len(written))
		for n, w := range written {
			out[n].Fault, effects[n] = w.Fault, w.Effect
		}
		return out, effects, err
	})
	if err != nil {
		return nil, err
	}
	out := make([]running.WriteResult, len(done))
	for i := range done {
		out[i] = running.WriteResult{Effect: effects[i], Fault: done[i].Fault}
	}
	return out, nil
}

// Checker is an outside that holds upserts against their tables.
type Checker interface {
	CheckUpsert(ctx context.Context, u running.Upsert) (fault.List, error)
}

// checked are the faults of rows that are not written, and never could be; nil where they could, or their system cannot be
// asked now. What was found is kept for when the page is drawn again.
func (r *Recorder) checked(ctx context.Context, o running.Systems, u running.Upsert, rows int) []running.Response {
	check, can := r.Inner.(Checker)
	if !can || o != r.Dry || r.Recording == nil {
		return nil
	}
	q := recordedQuestion{u.Flow, u.Step, asJSON(value.NewRecord(value.NewLayout("table", "key", "columns"), []value.Value{
		value.NewText(u.Table), value.NewText(strings.Join(u.Key, ", ")), value.NewText(strings.Join(u.Row.Root.Layout().Names, ", ")),
	})), nil}
	h, known := r.Recording.Find(q.flow, q.step, q.asked)
	if r.Checks {
		faults, err := check.CheckUpsert(ctx, u)
		if err != nil {
			return nil
		}
		h, known = recordedCall(q, running.Response{}, running.NotDone), true
		if h.At = &r.At; len(faults) > 0 {
			h.Fault = faults[0]
		}
		r.Recording.Add(h)
	}
	if !known || h.Fault == nil {
		return nil
	}
	out := make([]running.Response, rows)
	for i := range out {
		f := *h.Fault
		out[i].Fault = &f
	}
	return out
}

// Call asks systems, or remembers what they answered.
func (r *Recorder) Call(ctx context.Context, c running.Call, requests []value.Value) ([]running.Response, error) {
	list := make([]recordedQuestion, len(requests))
	for i, request := range requests {
		list[i] = recordedQuestion{c.Flow, c.Step, asJSON(request), c.AnswerOf()}
	}
	done, effects, err := r.record(list, c.Op.Changes(), func(o running.Systems, left []int) ([]running.Response, []running.Effect, error) {
		part := c
		part.Items = picked(c.Items, left)
		if u := running.UpsertOf(c.Op); u != nil {
			u.Flow, u.Step = c.Flow, c.Step
			if out := r.checked(ctx, o, *u, len(left)); out != nil {
				return out, make([]running.Effect, len(left)), nil
			}
		}
		answers, err := o.Call(ctx, part, picked(requests, left))
		effects := make([]running.Effect, len(answers))
		for n, a := range answers {
			if a.NotDone {
				effects[n] = running.NotDone
			}
		}
		return answers, effects, err
	})
	for i := range done {
		done[i].NotDone = effects[i] == running.NotDone
	}
	return done, err
}
