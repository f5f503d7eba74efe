package engine

import (
	"context"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// once is the outside as a run sees it: what an operation with an effect answered is kept at once, and not asked
// for again when the batch is done again after a crash or an outage.
type once struct {
	flow.Outside
	db  store.DB
	run *store.Run
}

// Call asks for what was not answered before.
func (o *once) Call(ctx context.Context, c flow.Call, requests []value.Value) ([]flow.Answered, error) {
	if !c.Op.Verb.Effect {
		return o.Outside.Call(ctx, c, requests)
	}
	done := make([]flow.Answered, len(requests))
	left := make([]int, 0, len(requests))
	known, err := o.known(ctx, c)
	if err != nil {
		return nil, err
	}
	for i, it := range c.Items {
		if answer, ok := known[it.Record]; ok {
			done[i] = answer
			continue
		}
		left = append(left, i)
	}
	if len(left) == 0 {
		return done, nil
	}
	rest := c
	rest.Items = make([]*flow.Item, len(left))
	asked := make([]value.Value, len(left))
	for n, i := range left {
		rest.Items[n], asked[n] = c.Items[i], requests[i]
	}
	rest.Done = func(from int, answers []flow.Answered) error { return o.keep(ctx, rest, from, answers) }
	answers, err := o.Outside.Call(ctx, rest, asked)
	if err != nil {
		return nil, err
	}
	for n, i := range left {
		done[i] = answers[n]
	}
	return done, nil
}

// known reads what was answered before; a run that is taken on for the first time has nothing.
func (o *once) known(ctx context.Context, c flow.Call) (map[int]flow.Answered, error) {
	if o.run.Claim <= 1 {
		return nil, nil
	}
	records := make([]int, len(c.Items))
	for i, it := range c.Items {
		records[i] = it.Record
	}
	kept, err := store.Effects(ctx, o.db, o.run.ID, c.Step, records)
	if err != nil {
		return nil, err
	}
	known := map[int]flow.Answered{}
	for record, text := range kept {
		a := flow.Answered{}
		if c.Op.Response != nil && text != "" {
			rows, err := project.ReadJSON(c.Op.Response, text)
			if err != nil {
				return nil, err
			}
			a.Answer = rows[0]
		}
		known[record] = a
	}
	return known, nil
}

// keep notes answers; what was refused may be asked for again.
func (o *once) keep(ctx context.Context, c flow.Call, from int, answers []flow.Answered) error {
	records, texts := []int{}, []string{}
	var enc json.Appender
	for i, a := range answers {
		if a.Fault != nil {
			continue
		}
		text := ""
		if c.Op.Response != nil && a.Answer.Kind() != value.Absent {
			text = string(enc.Append(nil, a.Answer))
		}
		records, texts = append(records, c.Items[from+i].Record), append(texts, text)
	}
	return store.KeepEffects(ctx, o.db, o.run.ID, c.Step, records, texts)
}
