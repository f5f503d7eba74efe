package step

import (
	"context"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var aggregateKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "aggregate", Older: []string{"gather"}, Title: "Aggregate", Group: flow.GroupControl, Lasting: true, About: "Gathers what several messages bring: the one with which a group is whole goes on with a list of it all, the others end here.",
		Begin: func(o flow.Offering) partfile.Ordered {
			return yields("gathered", append(o.Record("bring", ""), partfile.Entry{Key: "size", Value: "10"}, partfile.Entry{Key: "timeout", Value: "60"})...)
		},
		Settings: setting.List{
			{Name: "value", Older: []string{"bring"}, Label: "Value", Type: setting.Formula, Required: true, Help: "A formula, often the name of a record"},
			{Name: "correlate by", Older: []string{"key"}, Label: "Correlation key", Type: setting.Formula, Help: "Messages for which it is the same belong to one group; empty: all"},
			{Name: "size", Older: []string{"count"}, Label: "Group size", Type: setting.Number, Help: "So many; empty: only the time counts"},
			{Name: "timeout", Older: []string{"within"}, Label: "Timeout (s)", Type: setting.Decimal, Help: "Empty: only the number counts"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "gathered"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			switch n, t := s.Setting("size"), s.Setting("timeout"); {
			case t == "":
				return n + " together"
			case n == "":
				return "for " + t + " s"
			default:
				return n + " together, or " + t + " s"
			}
		},
	},
	Compile: compileAggregate,
	Ending:  compile.EndsWithout("to what is gathered into another message"),
}

func compileAggregate(c *compile.Compiler, s *flow.Step) running.Runner {
	bring, key := c.Formula(s.Place("value")), c.Optional(s, "correlate by")
	count, within := int(s.Number("size")), time.Duration(s.Number("timeout")*float64(time.Second))
	if count < 1 && within == 0 {
		c.Fault(s.At, fault.New(fault.Required, "a group is never whole").WithFix("Say with how many, or after how many seconds"))
	}
	if count > running.MaxGathered {
		c.Fault(s.Place("size"), fault.New(fault.Limit, "a group has at most %d", running.MaxGathered))
	}
	t := formula.Type{}
	if bring != nil {
		t = bring.Type
	}
	one := running.KeptOf(namedOf(t))
	if one.Schema == nil {
		one = running.KeptOf(running.Named{Name: "value", Type: t})
	}
	n := namedOf(t)
	n.List = true
	slot := c.Yield(s, "as", n, formula.Type{Kind: value.ListKind, Item: &t})
	if bring == nil || s.Setting("correlate by") != "" && key == nil {
		return running.PassOn
	}
	g := running.AggregateStep{Step: s.ID, Size: count, Timeout: within}
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		g := g
		var keys, texts []string
		for _, it := range items {
			k, ok := "", true
			if key != nil {
				k, ok = textOf(it, s, key)
			}
			if !ok {
				continue
			}
			it.Frame.Reset()
			v, f := bring.Eval(&it.Frame)
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				continue
			}
			g.Items, keys, texts = append(g.Items, it), append(keys, k), append(texts, one.Write(v))
		}
		if len(g.Items) == 0 {
			return nil
		}
		groups, err := b.Runtime.Aggregate(ctx, g, keys, texts)
		if err != nil {
			return err
		}
		for i, it := range g.Items {
			goOn(s, it, slot, one, groups[i], keys[i])
		}
		return nil
	}
}

// goOn lets an item go on with its group, or end because another one does.
func goOn(s *flow.Step, it *running.Item, slot int, one running.Kept, g running.AggregateGroup, key string) {
	if g.Texts == nil {
		if key != "" {
			key = " by " + fault.Quote(key)
		}
		it.Skip(s.ID, "gathered"+key+": the last of the group goes on with it")
		return
	}
	list := make([]value.Value, len(g.Texts))
	for i, text := range g.Texts {
		list[i] = one.Read(text)
	}
	it.Frame.Slots[slot] = value.ListOf(list...)
}
