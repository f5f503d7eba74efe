package step

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var accumulateKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "accumulate", Older: []string{"tally"}, Title: "Accumulate", Group: flow.GroupTransform, Carries: true, About: "Carries a value from record to record through the run: a counter, a sum, a list that grows.",
		Begin: func(flow.Offering) partfile.Ordered {
			return partfile.Ordered{{Key: "as", Value: "total"}, {Key: "next", Value: "total + 1"}}
		},
		Settings: setting.List{
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "total", Help: "For each record, the value with it; behind the records, the last one"},
			{Name: "initial", Older: []string{"starts"}, Label: "Starts with", Type: setting.Formula, Default: "0"},
			{Name: "next", Older: []string{"becomes"}, Label: "Next value", Type: setting.Formula, Required: true, Help: "total + 1 counts; flatten([list, [reading.gauge]]) collects"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("as") + " = " + s.Setting("next") },
	},
	Compile: compileAccumulate,
}

// maxTally bounds a list that a tally carries.
const maxTally = 10_000

func compileAccumulate(c *compile.Compiler, s *flow.Step) running.Runner {
	at := s.Settings.Text("initial")
	at.Value = s.Setting("initial")
	start := c.Formula(at)
	t := formula.Type{}
	if start != nil {
		t = start.Type
		if t.Kind == value.Integer {
			t.Kind = value.Decimal // a sum of either
		}
		if t.Kind == value.ListKind && t.Item == nil {
			t.Item = &formula.Type{}
		}
	}
	slot := c.Yield(s, "as", namedOf(t), t)
	next := c.Formula(s.Place("next"))
	if next != nil && !t.Fits(next.Type.Kind) && !next.Type.Fits(t.Kind) && t.Kind != value.Absent {
		c.Fault(s.Place("next"), fault.Expect(fault.Type, t.String()+", as it starts", next.Type.String()))
	}
	if start == nil || next == nil {
		return running.PassOn
	}
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		if b.Totals == nil {
			b.Totals = &running.Totals{}
		}
		b.Totals.Lock()
		defer b.Totals.Unlock()
		for _, it := range items {
			now, ok := b.Totals.Values[s.ID]
			var f *fault.Fault
			if it.Frame.Reset(); !ok {
				now, f = start.Eval(&it.Frame)
			}
			if f == nil {
				it.Frame.Slots[slot] = now
				now, f = next.Eval(&it.Frame)
			}
			if f == nil && now.Kind() == value.ListKind && len(now.Items()) > maxTally {
				f = fault.New(fault.Limit, "the tally has more than %d entries", maxTally)
			}
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			if b.Totals.Values == nil {
				b.Totals.Values = map[string]value.Value{}
			}
			b.Totals.Values[s.ID], it.Frame.Slots[slot] = now, now
		}
		return nil
	}
}
