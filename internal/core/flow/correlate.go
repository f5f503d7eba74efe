package flow

import (
	"context"
	"strconv"
	"time"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var gatherKind = &Kind{
	Name: "gather", Title: "Aggregate", Group: Way, Lasting: true, About: "Gathers what several messages bring: the one with which a group is whole goes on with a list of it all, the others end here.",
	Begin: func(o Offering) doc.Out {
		return yields("gathered", append(o.Record("bring", ""), doc.Entry{Key: "count", Value: "10"}, doc.Entry{Key: "within", Value: "60"})...)
	},
	Settings: setting.List{
		{Name: "bring", Label: "What each brings", Type: setting.Formula, Required: true, Help: "A formula, often the name of a record"},
		{Name: "key", Label: "Together by", Type: setting.Formula, Help: "Messages for which it is the same belong to one group; empty: all"},
		{Name: "count", Label: "A group is whole with", Type: setting.Number, Help: "So many; empty: only the time counts"},
		{Name: "within", Label: "Or so many seconds after its first", Type: setting.Decimal, Help: "Empty: only the number counts"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "gathered"},
		onFault,
	},
	Detail: func(s *Step) string {
		switch n, t := s.Setting("count"), s.Setting("within"); {
		case t == "":
			return n + " together"
		case n == "":
			return "for " + t + " s"
		default:
			return n + " together, or " + t + " s"
		}
	},
	compile: compileGather,
}

// MaxGathered bounds one group.
const MaxGathered = 10_000

func compileGather(c *compiler, s *Step) runner {
	bring, key := c.formula(s.place("bring")), c.optional(s, "key")
	count, within := int(s.number("count")), time.Duration(s.number("within")*float64(time.Second))
	if count < 1 && within == 0 {
		c.fault(s.At, fault.New(fault.Required, "a group is never whole").Mended("Say with how many, or after how many seconds"))
	}
	if count > MaxGathered {
		c.fault(s.place("count"), fault.New(fault.Limit, "a group has at most %d", MaxGathered))
	}
	t := formula.Type{}
	if bring != nil {
		t = bring.Type
	}
	one := keptOf(namedOf(t))
	if one.Schema == nil {
		one = keptOf(Named{Name: "value", Type: t})
	}
	n := namedOf(t)
	n.List = true
	slot := c.yield(s, "as", n, formula.Type{Kind: value.ListKind, Item: &t})
	if bring == nil || s.Setting("key") != "" && key == nil {
		return pass
	}
	g := AggregateStep{Step: s.ID, Count: count, Within: within}
	return func(ctx context.Context, b *Batch, items []*Item) error {
		g := g
		var keys, texts []string
		for _, it := range items {
			k, ok := "", true
			if key != nil {
				k, ok = it.text(s, key)
			}
			if !ok {
				continue
			}
			it.Frame.Reset()
			v, f := bring.Eval(&it.Frame)
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
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
func goOn(s *Step, it *Item, slot int, one Kept, g AggregateGroup, key string) {
	if g.Texts == nil {
		if key != "" {
			key = " by " + fault.Quote(key)
		}
		it.leave(s.ID, "gathered"+key+": the last of the group goes on with it")
		return
	}
	list := make([]value.Value, len(g.Texts))
	for i, text := range g.Texts {
		list[i] = one.Read(text)
	}
	it.Frame.Slots[slot] = value.ListOf(list...)
}

// kindOfMessage is the setting by which messages are told apart that are handed over.
var kindOfMessage = setting.Setting{Name: "kind", Label: "Kind of message", Type: setting.Text, Required: true, Help: "A word on which both flows agree"}

var deliverKind = &Kind{
	Name: "deliver", Title: "Send a message", Group: Run, Lasting: true, About: "Hands a message over to the run that waits for one of its kind with its reference, or will.",
	Begin: func(o Offering) doc.Out {
		return append(doc.Out{{Key: "kind", Value: "message"}}, o.Record("from", "")...)
	},
	Settings: setting.List{
		kindOfMessage,
		{Name: "reference", Label: "Reference", Type: setting.Formula, Required: true},
		{Name: "from", Label: "Message", Type: setting.Name, Required: true, Help: "The name of a record"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("kind") + " · " + s.Setting("reference") },
	compile: compileDeliver,
}

func compileDeliver(c *compiler, s *Step) runner {
	prog := c.formula(s.place("reference"))
	slot, sch := c.record(s, "from")
	if prog == nil || sch == nil {
		return pass
	}
	kept := keptOf(recordOf("message", sch, slot))
	return func(ctx context.Context, b *Batch, items []*Item) error {
		var at []*Item
		var messages []CorrelatedMessage
		for _, it := range items {
			if ref, ok := it.text(s, prog); ok {
				at, messages = append(at, it), append(messages, CorrelatedMessage{s.Setting("kind"), ref, kept.Write(it.Frame.Slots[slot])})
			}
		}
		if len(at) == 0 {
			return nil
		}
		return b.Runtime.Send(ctx, s.ID, at, messages)
	}
}

var awaitKind = &Kind{
	Name: "await", Title: "Wait for a message", Group: Run, Lasting: true, About: "Lets the run rest until another one hands over a message of a kind with its reference; it needs no worker while it does.",
	Begin: func(Offering) doc.Out { return yields("message", doc.Entry{Key: "kind", Value: "message"}) },
	Settings: setting.List{
		kindOfMessage,
		{Name: "reference", Label: "Reference", Type: setting.Formula, Required: true},
		{Name: "schema", Label: "Schema of the message", Type: setting.Part, Of: "schema", Required: true},
		{Name: "within", Label: "Within (seconds)", Type: setting.Decimal, Default: "86400"},
		{Name: "none", Label: "When none comes in time", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "message"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("kind") + " · " + s.Setting("reference") },
	compile: compileAwait,
}

func compileAwait(c *compiler, s *Step) runner {
	prog, sch := c.formula(s.place("reference")), c.schema(s, "schema")
	slot := c.define(s, "as", sch)
	kept := keptOf(*c.cur.Result)
	a := ReceiveStep{Step: s.ID, Of: sch, Within: time.Duration(min(s.number("within"), maxWait.Seconds()) * float64(time.Second))}
	if prog == nil {
		return pass
	}
	return func(ctx context.Context, b *Batch, items []*Item) error {
		a := a
		var messages []CorrelatedMessage
		for _, it := range items {
			if ref, ok := it.text(s, prog); ok {
				a.Items, messages = append(a.Items, it), append(messages, CorrelatedMessage{Kind: s.Setting("kind"), Reference: ref})
			}
		}
		if len(a.Items) == 0 {
			return nil
		}
		texts, err := b.Runtime.Receive(ctx, a, messages)
		if err != nil {
			return err
		}
		for i, it := range a.Items {
			awaited(s, sch.Title, it, slot, kept, texts[i], messages[i])
		}
		return nil
	}
}

func awaited(s *Step, title string, it *Item, slot int, kept Kept, text *string, l CorrelatedMessage) {
	if text != nil {
		v := kept.Read(*text)
		if v.Kind() == value.Absent {
			it.aside(s.ID, fault.Expect(fault.Type, "a message of "+title, "one of another shape").In(s.Name).Mended("Let the flow that hands it over do so with a record of this schema"))
			return
		}
		it.Frame.Slots[slot] = v
		return
	}
	why := "no " + l.Kind + " with the reference " + fault.Quote(l.Reference) + " came within " + strconv.FormatFloat(s.number("within"), 'f', -1, 64) + " seconds"
	switch s.Setting("none") {
	case "set aside":
		it.aside(s.ID, fault.New(fault.NotFound, "%s", why).In(s.Name))
	case "skip":
		it.leave(s.ID, why)
	}
}
