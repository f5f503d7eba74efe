package tries

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trial"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// SampleCase is a sample of a draft as the message of a case, with what systems answer to it: those that are asked really
// by their answers, the others by what is made up. Of a flow that reads records it is one of them.
func (e *Tries) SampleCase(ctx context.Context, p *project.Project, flowID, sample string, record int, how TestOptions) (project.Run, *fault.Fault) {
	how.Record, how.At, how.RecordAll, how.ReadSystems = record, time.Now(), true, true
	if how.Recording == nil {
		how.Recording = &trial.Recording{}
	}
	t := e.RunTest(ctx, p, flowID, sample, how)
	if t.Fault != nil {
		return project.Run{}, t.Fault
	}
	plan := p.Flow(flowID)
	r := project.Run{At: value.Instant(how.At.UTC().Truncate(time.Second)), File: sample, Answers: how.Recording.All()}
	if req := t.Whole.Frame.Slots[running.RequestSlot]; req.Kind() != value.Absent {
		r.Request = string(plan.WriteStarted(req))
	}
	if in := t.Whole.Frame.Slots[running.InputSlot]; plan.Input != nil && in.Kind() != value.Absent {
		r.Input = json.Text(in)
	}
	if plan.ReadStep != nil && record > 0 && record <= len(t.Items) {
		r.Records = json.Text(t.Items[record-1].Frame.Slots[plan.Record]) + "\n"
	}
	return r, nil
}

// maxRunCase bounds the records of a run that becomes a case.
const maxRunCase = 100

// RunCase is the message of a run as a case, with what systems answered then, as the journal has it. The project is that
// of the run's release.
func (e *Tries) RunCase(ctx context.Context, r store.Run) (project.Run, *project.Project, error) {
	c := project.Run{File: r.File, Input: string(r.Input), Request: string(r.Request), At: value.Instant(r.CreatedAt.UTC().Truncate(time.Second))}
	if r.StartedAt != nil {
		c.At = value.Instant(r.StartedAt.UTC().Truncate(time.Second))
	}
	if r.RecordsRead > maxRunCase {
		return c, nil, fault.New(fault.Limit, "the run has more than %d records", maxRunCase).WithFix("Keep one of its records as a case of the mapping, or as a sample")
	}
	p, err := e.compiled.Release(ctx, e.db, r.Project, r.Of, r.Release)
	if err != nil {
		return c, nil, err
	}
	plan := p.Flow(r.Flow)
	past := &replayer{e: e, run: r, plan: plan, items: map[store.EffectKey]*running.Item{}}
	if whole, err := journal.Of(ctx, e.db, r.ID, running.WholeRun); err == nil {
		past.add(whole.Item(plan))
	} else if !errors.Is(err, store.ErrNotFound) {
		return c, nil, err
	}
	var records bytes.Buffer
	err = journal.Entries(ctx, e.db, r, func(entry *journal.Entry) bool {
		it := entry.Item(plan)
		past.add(it)
		if v := it.Frame.Slots[plan.Record]; plan.ReadStep != nil && v.Kind() != value.Absent {
			records.WriteString(json.Text(v) + "\n")
		}
		return true
	})
	if err != nil {
		return c, nil, err
	}
	c.Records = records.String()
	c.Answers, err = past.answers(ctx, p, c)
	return c, p, err
}

// replayer answers as systems did in a run: by what its journal has for each item.
type replayer struct {
	e     *Tries
	run   store.Run
	plan  *running.Plan
	items map[store.EffectKey]*running.Item
}

func (k *replayer) add(it *running.Item) {
	k.items[journal.KeyOf(it)] = it
	for _, inner := range it.Inner {
		k.add(inner)
	}
}

// answers takes the message through the flow once more and keeps what it is answered.
func (k *replayer) answers(ctx context.Context, p *project.Project, c project.Run) ([]trial.RecordedCall, error) {
	rec := &trial.Recording{}
	outside := &trial.Recorder{Inner: k, Dry: k, Recording: rec, CallMode: func(string, string, bool) trial.CallMode { return trial.Live }}
	facts := running.Facts{ID: k.run.ID.String(), File: c.File, Reference: k.run.Reference, Started: c.At, Request: k.plan.ReadStarted(k.run.Request)}
	runtime := &replayRuntime{&trial.DryRuntime{Systems: outside, Plan: p.Flow, At: c.At.GoTime(), Facts: facts, Randomness: rand.Reader}, k, rec}
	b := &running.Batch{Plan: k.plan, Systems: outside, Runtime: runtime, Attempt: 1000, Totals: &running.Totals{}}
	_, err := p.PlayWith(b, facts, c)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return rec.All(), nil
}

// at is what the journal has for an item; nil where it has nothing.
func (k *replayer) at(items []*running.Item, i int) *running.Item {
	if i >= len(items) {
		return nil
	}
	return k.items[journal.KeyOf(items[i])]
}

// answered is what a step came to for an item then.
func (k *replayer) answered(step string, it *running.Item) running.Response {
	a := running.Response{}
	if it == nil {
		return a
	}
	if ps := k.plan.Planned(step); ps.Result != nil {
		a.Answer = it.Frame.Slots[ps.Result.Slot]
	}
	for _, f := range append(it.Faults[:len(it.Faults):len(it.Faults)], it.Notes...) {
		if f.Place.Step == step && f.Code != fault.LogEntry && a.Answer.Kind() == value.Absent {
			a.Fault = f
			break
		}
	}
	return a
}

// Lookup gives the row that was found then.
func (k *replayer) Lookup(_ context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error) {
	rows := make([]value.Value, len(keys))
	for i := range keys {
		rows[i] = k.answered(l.Step, k.at(l.Items, i)).Answer
	}
	return rows, nil
}

// Upsert says what writing the row did then.
func (k *replayer) Upsert(_ context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	out := make([]running.WriteResult, len(rows))
	for i := range rows {
		it := k.at(u.Items, i)
		out[i] = running.WriteResult{Effect: running.Unchanged, Fault: k.answered(u.Step, it).Fault}
		if e := it.EffectOf(u.Step); e != "" {
			out[i].Effect = e
		}
	}
	return out, nil
}

// Call gives what was answered then.
func (k *replayer) Call(_ context.Context, c running.Call, requests []value.Value) ([]running.Response, error) {
	out := make([]running.Response, len(requests))
	for i := range requests {
		out[i] = k.answered(c.Step, k.at(c.Items, i))
	}
	return out, nil
}

// replayRuntime answers for flows that were called.
type replayRuntime struct {
	*trial.DryRuntime
	past *replayer
	rec  *trial.Recording
}

// Start gives what the flow answered then.
func (h *replayRuntime) Start(_ context.Context, c running.FlowCall, inputs []value.Value) ([]running.Response, error) {
	out := make([]running.Response, len(inputs))
	for i, input := range inputs {
		out[i] = h.past.answered(c.Step, h.past.at(c.Items, i))
		h.rec.AddResponse(c.From, c.Step, input, out[i])
	}
	return out, nil
}
