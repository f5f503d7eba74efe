package engine

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
)

// effectGuard is the outside as a run sees it: what an operation with an effect answered is kept at effectGuard, and not asked
// for again when the batch is done again after a crash or an outage. For the run as a whole that is so for all that
// it asks: it must come to the same decisions whenever it is taken on.
type effectGuard struct {
	running.Systems
	db     store.DB
	run    *store.Run
	plan   *running.Plan
	ending bool // the run was told to stop: nothing new is begun, but for what takes back what was done
}

// errEnding is why nothing new is begun.
func errEnding() *fault.Fault { return fault.New(fault.Cancelled, "the run was told to stop") }

// begins says whether a step may begin something in a run that ends.
func (o *effectGuard) begins(step string) bool {
	if !o.ending {
		return true
	}
	ps := o.plan.Planned(step)
	return ps != nil && ps.IsCleanup()
}

// Upsert writes rows; in a run that ends only those that are taken back then, since nobody knows whether they were written.
func (o *effectGuard) Upsert(ctx context.Context, u running.Upsert, rows []value.Value) ([]running.WriteResult, error) {
	if o.begins(u.Step) || o.plan.Planned(u.Step).HasCompensation() {
		return o.Systems.Upsert(ctx, u, rows)
	}
	done := make([]running.WriteResult, len(rows))
	for i := range done {
		done[i].Fault = errEnding()
	}
	return done, nil
}

// Call asks for what was not answered before.
func (o *effectGuard) Call(ctx context.Context, c running.Call, requests []value.Value) ([]running.Response, error) {
	if !c.Op.Changes() && !whole(c.Items) {
		return o.Systems.Call(ctx, c, requests)
	}
	done := make([]running.Response, len(requests))
	left := make([]int, 0, len(requests))
	known, err := o.recorded(ctx, c.Step, c.Items, c.AnswerOf())
	if err != nil {
		return nil, err
	}
	for i, it := range c.Items {
		if answer, ok := known[journal.KeyOf(it)]; ok {
			done[i].Answer = answer
			continue
		}
		left = append(left, i)
	}
	if !o.begins(c.Step) {
		for _, i := range left {
			done[i].Fault = errEnding()
		}
		return done, nil
	}
	if len(left) == 0 {
		return done, nil
	}
	rest := c
	rest.Items = make([]*running.Item, len(left))
	asked := make([]value.Value, len(left))
	for n, i := range left {
		rest.Items[n], asked[n] = c.Items[i], requests[i]
	}
	kept := 0
	rest.Done = func(from int, answers []running.Response) error {
		kept += len(answers)
		return o.keep(ctx, c.Step, rest.Items, from, answers)
	}
	answers, err := o.Systems.Call(ctx, rest, asked)
	if err != nil {
		return nil, err
	}
	if kept == 0 { // what changes nothing is not told as it comes
		if err := o.keep(ctx, c.Step, rest.Items, 0, answers); err != nil {
			return nil, err
		}
	}
	for n, i := range left {
		done[i] = answers[n]
	}
	return done, nil
}

// Lookup looks up what the run as a whole has not looked up before.
func (o *effectGuard) Lookup(ctx context.Context, l running.Lookup, keys [][]value.Value) ([]value.Value, error) {
	if !whole(l.Items) {
		return o.Systems.Lookup(ctx, l, keys)
	}
	known, err := o.recorded(ctx, l.Step, l.Items, l.RowOf())
	if err != nil {
		return nil, err
	}
	if len(known) == len(l.Items) {
		rows := make([]value.Value, len(l.Items))
		for i, it := range l.Items {
			rows[i] = known[journal.KeyOf(it)]
		}
		return rows, nil
	}
	rows, err := o.Systems.Lookup(ctx, l, keys)
	if err != nil {
		return nil, err
	}
	answers := make([]running.Response, len(rows))
	for i, row := range rows {
		answers[i].Answer = row
	}
	return rows, o.keep(ctx, l.Step, l.Items, 0, answers)
}

// whole says whether items are the run as a whole, or entries of its lists.
func whole(items []*running.Item) bool { return len(items) > 0 && items[0].Record == running.WholeRun }

// recorded reads what was answered before; a run that is taken on for the first time has nothing.
func (o *effectGuard) recorded(ctx context.Context, step string, items []*running.Item, of *running.Kept) (map[store.EffectKey]value.Value, error) {
	if o.run.ClaimVersion <= 1 {
		return nil, nil
	}
	records := make([]int, len(items))
	for i, it := range items {
		records[i] = it.Record
	}
	kept, err := store.Effects(ctx, o.db, o.run.ID, step, records)
	if err != nil {
		return nil, err
	}
	known := map[store.EffectKey]value.Value{}
	for effect, text := range kept {
		known[effect] = value.Value{}
		if of == nil || text == "" {
			continue
		}
		known[effect] = of.Read(text)
	}
	return known, nil
}

// keep notes answers; what was refused may be asked for again.
func (o *effectGuard) keep(ctx context.Context, step string, items []*running.Item, from int, answers []running.Response) error {
	var of []store.EffectKey
	var texts []string
	var enc json.Appender
	for i, a := range answers {
		if a.Fault != nil {
			continue
		}
		text := ""
		if a.Answer.Kind() != value.Absent {
			text = string(enc.Append(nil, a.Answer))
		}
		of, texts = append(of, journal.KeyOf(items[from+i])), append(texts, text)
	}
	return store.SaveEffects(ctx, o.db, o.run.ID, step, of, texts)
}
