package step

import (
	"context"
	"maps"
	"slices"
	"time"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

var cacheKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "cache", Older: []string{"cached"}, Title: "Cache a response", Group: flow.GroupControl, Lasting: true, About: "Does its steps, and remembers under a key what they come to: for a time they are not done again for that key.",
		Begin: func(flow.Offering) partfile.Ordered {
			return yields("known", partfile.Entry{Key: "ttl", Value: "3600"})
		},
		Branches: []flow.BranchKind{{Key: "steps", Title: "Unless it is known"}},
		Settings: setting.List{
			{Name: "key", Label: "Key", Type: setting.Formula, Required: true},
			{Name: "value", Older: []string{"keep"}, Label: "Value", Type: setting.Formula, Required: true, Help: "A formula over what the steps inside yield"},
			{Name: "ttl", Older: []string{"for"}, Label: "Time to live (s)", Type: setting.Decimal, Default: "3600"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "known"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "by " + s.Setting("key") + " · " + s.Setting("ttl") + " s" },
	},
	Compile: compileCache,
	Ending: func(c *compile.Compiler, s *flow.Step) compile.Ending {
		return c.Perhaps(s, "when it is known already")
	},
}

// cached is a step that remembers what the steps inside it come to.
type cached struct {
	step      *flow.Step
	key, keep *formula.Program
	steps     []*running.PlannedStep
	kept      running.Kept
	slot      int
	space     string
	during    time.Duration
}

func compileCache(c *compile.Compiler, s *flow.Step) running.Runner {
	a := &cached{step: s, key: c.Formula(s.Place("key")), space: "answers/" + c.Flow.ID + "/" + s.ID, during: time.Duration(s.Number("ttl") * float64(time.Second))}
	c.Within(func() {
		a.steps = c.Branch(s.Branches[0])
		a.keep = c.Formula(s.Place("value"))
	})
	t := formula.Type{}
	if a.keep != nil {
		t = a.keep.Type
	}
	a.slot = c.Yield(s, "as", namedOf(t), t)
	a.kept = running.KeptOf(*c.Cur.Result)
	if a.key == nil || a.keep == nil {
		return running.PassOn
	}
	return a.run
}

func (a *cached) run(ctx context.Context, b *running.Batch, items []*running.Item) error {
	of, byKey := map[*running.Item]string{}, map[string][]*running.Item{}
	for _, it := range items {
		if key, ok := textOf(it, a.step, a.key); ok {
			of[it], byKey[key] = key, append(byKey[key], it)
		}
	}
	if len(of) == 0 {
		return nil
	}
	known, err := b.Runtime.Get(ctx, a.space, slices.Sorted(maps.Keys(byKey)))
	if err != nil {
		return err
	}
	var first []*running.Item // of each key that is not known: the others take what it comes to
	for _, it := range items {
		key, there := of[it]
		text, hit := known[key]
		switch {
		case !there:
		case hit:
			it.Frame.Slots[a.slot] = a.kept.Read(text)
		case byKey[key][0] == it:
			first = append(first, it)
		}
	}
	return a.fill(ctx, b, first, of, byKey)
}

// fill does the steps for one item of each key, remembers what they come to and gives it to the others. Where they do
// not come through for the first of a key, the next one of it does them.
func (a *cached) fill(ctx context.Context, b *running.Batch, first []*running.Item, of map[*running.Item]string, byKey map[string][]*running.Item) error {
	if len(first) == 0 {
		return nil
	}
	live, err := b.Advance(ctx, a.steps, append([]*running.Item(nil), first...))
	if err != nil {
		return err
	}
	var notes []running.StateEntry
	for _, it := range live {
		it.Frame.Reset()
		v, f := a.keep.Eval(&it.Frame)
		if f != nil {
			it.Aside(a.step.ID, f.InField(a.step.Name))
			continue
		}
		notes = append(notes, running.StateEntry{Key: of[it], Text: a.kept.Write(v), ExpiresAt: b.Runtime.Now().Add(a.during)})
		for _, other := range byKey[of[it]] {
			other.Frame.Slots[a.slot] = v
		}
	}
	if len(notes) > 0 {
		if err := b.Runtime.Put(ctx, a.space, notes); err != nil {
			return err
		}
	}
	var next []*running.Item
	for _, it := range first {
		if key := of[it]; it.State != running.Live && len(byKey[key]) > 1 {
			byKey[key] = byKey[key][1:]
			next = append(next, byKey[key][0])
		}
	}
	return a.fill(ctx, b, next, of, byKey)
}
