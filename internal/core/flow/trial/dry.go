// Package trial takes messages through a flow without outside systems, or with recorded answers of theirs: for tries in the
// browser, stepping through, test cases, and the command line.
package trial

import (
	"context"
	"io"
	"sync"
	"time"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

// Dry is an Outside that reaches nothing: rows are looked up among samples, and what would be
// written is only told.
type Dry struct {
	Rows     func(row *schema.Schema) ([]value.Value, error) // the sample rows of a schema
	OnUpsert func(u running.Upsert, row value.Value)         // may be nil
	OnCall   func(c running.Call, request value.Value)       // told of what would change something; may be nil
	Hint     string                                          // how answers are got that no sample is kept of; empty: they are made up
	OnMadeUp func(op *connection.Operation)                  // told of an answer that is made up; may be nil
	mu       sync.Mutex
	cache    map[string][]value.Value
}

// Lookup finds rows among the samples of the row's schema.
func (d *Dry) Lookup(_ context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	rows, ok := d.cache[l.Row.ID]
	if !ok {
		var err error
		if rows, err = d.Rows(l.Row); err != nil {
			return nil, err
		}
		if d.cache == nil {
			d.cache = map[string][]value.Value{}
		}
		d.cache[l.Row.ID] = rows
	}
	if len(rows) == 0 {
		f := fault.New(fault.Setting, "the schema %s has no sample rows to look into", l.Row.ID).WithFix("Keep a sample with it, or run really")
		if d.Hint != "" {
			f.WithFix("%s", d.Hint)
		}
		return nil, f
	}
	out := make([]value.Value, len(keys))
	for i, key := range keys {
		out[i] = match(rows, l.Columns, key)
	}
	return out, nil
}

// samples are the kept records of a schema; none where there are none, or they cannot be read.
func (d *Dry) samples(s *schema.Schema) []value.Value {
	if s == nil || d.Rows == nil {
		return nil
	}
	rows, err := d.Rows(s)
	if err != nil {
		return nil
	}
	return rows
}

// Call asks nobody; the answers are the samples that are kept of them, or else made up.
func (d *Dry) Call(_ context.Context, c running.Call, requests []value.Value) ([]running.Response, error) {
	out := make([]running.Response, len(requests))
	rows := d.samples(c.Op.Response)
	for i := range out {
		out[i].NotDone = true
		if d.OnCall != nil && c.Op.Changes() {
			d.OnCall(c, requests[i])
		}
		switch {
		case c.Op.Response == nil:
		case len(rows) > 0 && c.Rows == running.AllRows:
			out[i].Answer = value.ListOf(rows...)
		case len(rows) > 0:
			out[i].Answer = rows[0]
		case d.Hint != "" && !c.Op.Changes():
			out[i].Fault = fault.New(fault.NotFound, "%s was not asked yet, and no sample of its answer is kept", c.Op.Name).WithFix("%s", d.Hint)
		default: // something as it would be, for the steps that come after
			if d.OnMadeUp != nil && !c.Op.Changes() {
				d.OnMadeUp(c.Op)
			}
			if v, f := sample.Make(c.Op.Response, sample.Typical, uint64(i)); f == nil {
				out[i].Answer, out[i].MadeUp = v, true
				if c.Rows == running.AllRows {
					out[i].Answer = value.ListOf(v)
				}
			}
		}
	}
	return out, nil
}

func match(rows []value.Value, columns []string, key []value.Value) value.Value {
next:
	for _, row := range rows {
		for i, c := range columns {
			if !value.Equal(row.Field(c), key[i]) {
				continue next
			}
		}
		return row
	}
	return value.Value{}
}

// Upsert writes nothing.
func (d *Dry) Upsert(_ context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	out := make([]running.WriteResult, len(rows))
	for i, row := range rows {
		out[i].Effect = running.NotDone
		if d.OnUpsert != nil {
			d.OnUpsert(u, row)
		}
	}
	return out, nil
}

// DryRuntime runs the flows that a flow calls in the same way, remembers keys for itself, and waits for nothing.
type DryRuntime struct {
	Systems    running.Systems
	Plan       func(flow string) *running.Plan // of a flow that is called; nil when there is none
	At         time.Time
	Facts      running.Facts
	Recording  *Recording                                                  // of what flows that are called have answered; may be nil
	Watcher    running.Watcher                                             // nil: nobody watches
	Secrets    func(ctx context.Context, name string) (string, error)      // nil: none
	Randomness io.Reader                                                   // what messages are encrypted with; nil: a step that needs it fails
	Collect    func(plan *running.Plan, records []running.Collected) error // told of what flows that are called collect for files; may be nil
	mu         sync.Mutex
	seen       map[string]bool
	kept       map[string]string
	messages   map[running.CorrelatedMessage][]string
	groups     map[string][]string
	depth      int
	around     []string // the steps that have called this flow
}

// maxCalls bounds flows that call flows.
const maxCalls = 20

// Start runs the flow at once for each input, and nothing is recorded.
func (d *DryRuntime) Start(ctx context.Context, c running.FlowCall, inputs []value.Value) ([]running.Response, error) {
	out := make([]running.Response, len(inputs))
	plan, around := d.Plan(c.Flow.ID), d.around
	if from := d.Plan(c.From); from != nil && from.Planned(c.Step) != nil {
		around = from.Planned(c.Step).CallStack(around)
	}
	around = append(around[:len(around):len(around)], c.From+"/"+c.Step)
	for i, input := range inputs {
		switch {
		case plan == nil || len(plan.Faults) > 0:
			out[i].Fault = fault.New(fault.Setting, "the flow %s has faults", c.Flow.Title).WithFix("Mend it first")
		case d.depth >= maxCalls:
			out[i].Fault = fault.New(fault.Limit, "flows call flows more than %d deep", maxCalls)
		default:
			runtime := &DryRuntime{Systems: d.Systems, Plan: d.Plan, At: d.At, Facts: d.Facts, Secrets: d.Secrets, Randomness: d.Randomness, Watcher: d.Watcher, Collect: d.Collect, depth: d.depth + 1, around: around}
			b := &running.Batch{Plan: plan, Systems: d.Systems, Runtime: runtime, Attempt: running.StandardTries, Watcher: d.Watcher, CallStack: around}
			whole := plan.RunItem(d.Facts, input)
			if err := b.Pass(ctx, append(plan.Head[:len(plan.Head):len(plan.Head)], plan.Tail...), whole); err != nil {
				return nil, err
			}
			if d.Collect != nil {
				if err := d.Collect(plan, b.Collected); err != nil {
					return nil, err
				}
			}
			out[i] = Outcome(whole, b)
			if d.Recording != nil {
				d.Recording.AddResponse(c.From, c.Step, input, out[i])
			}
		}
	}
	return out, nil
}

// Outcome is what a flow that was called answers, or the fault for which it does not.
func Outcome(whole *running.Item, b *running.Batch) running.Response {
	switch {
	case whole.State == running.SetAside:
		f := *whole.Faults[0]
		return running.Response{Fault: &f}
	case b.Stopped != nil && b.Stopped.Fault != nil:
		f := *b.Stopped.Fault
		return running.Response{Fault: &f}
	}
	return running.Response{Answer: b.Answer}
}

// MarkSeen knows the keys of this try only.
func (d *DryRuntime) MarkSeen(_ context.Context, s running.DuplicateCheck, keys []string) ([]bool, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.seen == nil {
		d.seen = map[string]bool{}
	}
	out := make([]bool, len(keys))
	for i, key := range keys {
		out[i] = d.seen[s.Step+"\x00"+key]
		d.seen[s.Step+"\x00"+key] = true
	}
	return out, nil
}

// Wait waits for nothing.
func (d *DryRuntime) Wait(context.Context, string, []*running.Item, []time.Time) error { return nil }

// Now is the time at which the try began.
func (d *DryRuntime) Now() time.Time { return d.At }

// Secret is what the secrets of the try have.
func (d *DryRuntime) Secret(ctx context.Context, name string) (string, error) {
	if d.Secrets == nil {
		return "", nil
	}
	return d.Secrets(ctx, name)
}

// Random gives random bytes.
func (d *DryRuntime) Random() io.Reader {
	if d.Randomness == nil {
		return noRandomness{}
	}
	return d.Randomness
}

// noRandomness is what a run reads that was given no randomness.
type noRandomness struct{}

func (noRandomness) Read([]byte) (int, error) {
	return 0, fault.New(fault.Setting, "this run was given no source of random bytes")
}

// Get knows what this try has remembered.
func (d *DryRuntime) Get(_ context.Context, space string, keys []string) (map[string]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	known := map[string]string{}
	for _, key := range keys {
		if text, ok := d.kept[space+"\x00"+key]; ok {
			known[key] = text
		}
	}
	return known, nil
}

// Put remembers for this try.
func (d *DryRuntime) Put(_ context.Context, space string, notes []running.StateEntry) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.kept == nil {
		d.kept = map[string]string{}
	}
	for _, n := range notes {
		d.kept[space+"\x00"+n.Key] = n.Text
	}
	return nil
}

// Send hands over within this try.
func (d *DryRuntime) Send(_ context.Context, _ string, _ []*running.Item, messages []running.CorrelatedMessage) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.messages == nil {
		d.messages = map[running.CorrelatedMessage][]string{}
	}
	for _, l := range messages {
		of := running.CorrelatedMessage{Name: l.Name, CorrelationKey: l.CorrelationKey}
		d.messages[of] = append(d.messages[of], l.Text)
	}
	return nil
}

// Receive takes what was handed over in this try; otherwise it makes a message up, for the steps that come after.
func (d *DryRuntime) Receive(_ context.Context, a running.ReceiveStep, messages []running.CorrelatedMessage) ([]*string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	texts := make([]*string, len(messages))
	for i, of := range messages {
		if waiting := d.messages[of]; len(waiting) > 0 {
			texts[i], d.messages[of] = &waiting[0], waiting[1:]
			continue
		}
		if v, f := sample.Make(a.Of, sample.Typical, uint64(i)); f == nil {
			text := running.Kept{}.Write(v)
			texts[i] = &text
		}
	}
	return texts, nil
}

// Aggregate gathers what comes in this try: a group that is whole by its number, and at the end of what comes together
// those that are whole by the time.
func (d *DryRuntime) Aggregate(_ context.Context, g running.AggregateStep, keys, texts []string) ([]running.AggregateGroup, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.groups == nil {
		d.groups = map[string][]string{}
	}
	out, last := make([]running.AggregateGroup, len(keys)), map[string]int{}
	for i, key := range keys {
		of := g.Step + "\x00" + key
		d.groups[of] = append(d.groups[of], texts[i])
		last[of] = i
		if g.Size > 0 && len(d.groups[of]) >= g.Size {
			out[i].Texts = d.groups[of]
			delete(d.groups, of)
		}
	}
	for of, i := range last {
		if open := d.groups[of]; g.Timeout > 0 && len(open) > 0 {
			out[i].Texts = open
			delete(d.groups, of)
		}
	}
	return out, nil
}
