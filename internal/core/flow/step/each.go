package step

import (
	"context"
	"hash/maphash"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Bounds on lists inside a record.
const (
	MaxEntries = 100_000 // of one list
	maxAtOnce  = 64
	maxKept    = 100 // entries of one list that the journal keeps, beside those that were set aside
	slice      = 500 // entries that pass the steps together
)

var eachKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "each", Title: "For each", Group: flow.GroupControl, Concurrent: true, Forgets: true, About: "Does its steps for each record that is read, or for each entry of a list.",
		Loops: true, Drawn: flow.AsSpan, Wraps: &flow.Wrapping{Settings: partfile.Ordered{{Key: "of", Value: "of"}, {Key: "as", Value: "entry"}}, Inside: []any{"steps"}},
		Begin: func(o flow.Offering) partfile.Ordered {
			return yields("entry", partfile.Entry{Key: "of", Value: partfile.Text{Value: o.List()}})
		},
		Branches: []flow.BranchKind{{Key: "steps", Title: "For each"}},
		Settings: setting.List{
			{Name: "of", Label: "Of", Type: setting.Formula, Required: true, Help: "The name of the records that are read, or a formula that is a list"},
			{Name: "as", Label: "Entry name", Type: setting.Text, Default: "entry", Help: "Of a list; records keep the name with which they are read"},
			{Name: "concurrency", Older: []string{"at once"}, Label: "Concurrency (at most)", Type: setting.Number, Default: "1", Help: "How many entries of a list are under way at the same time; 1 keeps their order"},
			{Name: "key", Label: "In order within", Type: setting.Formula, Rare: true, Help: "Entries for which this formula has the same value keep their order"},
			{Name: "collect", Label: "Collect", Type: setting.Formula, Rare: true, Help: "A formula whose values, one for each entry that came through, are a list behind the each"},
			{Name: "collect as", Older: []string{"collected as"}, Label: "Result name", Type: setting.Text, Default: "collected", Rare: true},
			{Name: "failed", Label: "When an entry fails", Type: setting.Choice, Default: "set it aside", Choices: []string{"set it aside", "the record fails", "the record fails after"}, Help: "Set it aside and carry on with the others, or let the record that it belongs to fail"},
			{Name: "failures at most", Older: []string{"most"}, Label: "Failures (at most)", Type: setting.Number, Default: "10", Rare: true},
		},
		Detail: func(s *flow.Step) string {
			if n := s.Setting("concurrency"); n != "1" {
				return "of " + s.Setting("of") + " · " + n + " at once"
			}
			return "of " + s.Setting("of") + " · keep order"
		},
	},
	Compile: compileEach,
	Ending:  func(c *compile.Compiler, s *flow.Step) compile.Ending { return c.Perhaps(s, "when the list is empty") },
}

func compileEach(c *compile.Compiler, s *flow.Step) running.Runner {
	read := c.Plan.ReadStep
	if read != nil && c.Cur.Inside == nil && s.Setting("of") == read.Setting("as") {
		return stream(c, s)
	}
	return entriesOf(c, s)
}

// stream compiles the each over the records that are read.
func stream(c *compile.Compiler, s *flow.Step) running.Runner {
	if c.Streamed {
		c.Fault(s.At, fault.New(fault.Setting, "the records are read once: there is an each of them already"))
	}
	c.Streamed = true
	name := c.Plan.ReadStep.Setting("as")
	c.Within(func() {
		c.Scope.Bind(name, c.Plan.Record, formula.Of(c.Plan.Source.Root))
		c.Scope.Open(name)
		c.Named = append(c.Named, running.RecordOf(name, c.Plan.Source, c.Plan.Record))
		c.Branch(s.Branches[0])
	})
	for _, ps := range c.Cur.Branches[0] { // what they have come to is seen behind the records
		if ps.Kind.Carries && ps.Result != nil {
			c.Scope.Bind(ps.Result.Name, ps.Result.Slot, ps.Result.Type)
			c.Named = append(c.Named, *ps.Result)
		}
	}
	return running.PassOn
}

// entriesOf is an each over a list.
type entries struct {
	step      *flow.Step
	of        *formula.Program
	slot      int
	steps     []*running.PlannedStep
	atOnce    int
	key       *formula.Program
	collect   *formula.Program
	collected int
	most      int // failed entries with which the record may still go on; -1 is any number
	seed      maphash.Seed
}

func entriesOf(c *compile.Compiler, s *flow.Step) running.Runner {
	e := &entries{step: s, of: c.Formula(s.Place("of")), atOnce: min(max(1, int(s.Number("concurrency"))), maxAtOnce), most: -1, seed: maphash.MakeSeed()}
	item := formula.Type{}
	if e.of != nil {
		if !e.of.Type.Fits(value.ListKind) {
			c.Fault(s.Place("of"), fault.Expect(fault.Type, "a list", e.of.Type.String()).WithFix("toList(…) makes a list of one or many"))
		} else if e.of.Type.Item != nil {
			item = *e.of.Type.Item
		}
	}
	switch s.Setting("failed") {
	case "the record fails":
		e.most = 0
	case "the record fails after":
		e.most = int(s.Number("failures at most"))
	}
	ps, nested := c.Cur, c.Nested
	c.Within(func() {
		c.Nested = true
		e.slot = c.Yield(s, "as", namedOf(item), item)
		ps.Entry, ps.Result = ps.Result, nil // it is seen inside only
		c.Scope.Open(s.Setting("as"))
		if s.Setting("key") != "" {
			e.key = c.Formula(s.Place("key"))
		}
		e.steps = c.Branch(s.Branches[0])
		if s.Setting("collect") != "" {
			e.collect = c.Formula(s.Place("collect"))
		}
		c.Nested = nested
	})
	if e.collect != nil {
		t := e.collect.Type
		n := namedOf(t)
		n.List = true
		e.collected = c.Yield(s, "collect as", n, formula.Type{Kind: value.ListKind, Item: &t})
	}
	return e.run
}

// run makes the entries of all items and passes them through the steps.
func (e *entries) run(ctx context.Context, b *running.Batch, items []*running.Item) error {
	var all []*running.Item
	ends := make([]int, len(items)) // where each item's entries end among all
	for i, it := range items {
		all = append(all, e.split(it)...)
		ends[i] = len(all)
	}
	if err := e.each(ctx, b, all); err != nil {
		return err
	}
	from := 0
	for i, it := range items {
		if it.State == running.Live {
			e.gather(it, all[from:ends[i]])
		}
		from = ends[i]
	}
	return nil
}

// split makes the entries of one item's list.
func (e *entries) split(it *running.Item) []*running.Item {
	it.Frame.Reset()
	v, f := e.of.Eval(&it.Frame)
	if f == nil && !v.IsMissing() && v.Kind() != value.ListKind {
		f = fault.Expect(fault.Type, "a list", v.Kind().String())
	}
	if f == nil && !v.IsMissing() && len(v.Items()) > MaxEntries {
		f = fault.New(fault.Limit, "the list has more than %d entries", MaxEntries)
	}
	if f != nil {
		it.Aside(e.step.ID, f.InField(e.step.Name))
		return nil
	}
	if v.IsMissing() {
		return nil
	}
	list := v.Items()
	made, children := make([]running.Item, len(list)), make([]*running.Item, len(list))
	slots := make([]value.Value, len(list)*len(it.Frame.Slots))
	for i, entry := range list {
		child := &made[i]
		child.Record, child.Place, child.State, child.Parent, child.Of = it.Record, it.Place, running.Live, it, e.step.ID
		child.Path = strings.TrimPrefix(it.Path+"."+strconv.Itoa(i), ".")
		n := len(it.Frame.Slots)
		child.Frame.Slots = slots[i*n : (i+1)*n : (i+1)*n]
		copy(child.Frame.Slots, it.Frame.Slots)
		child.Frame.Slots[e.slot] = entry
		children[i] = child
	}
	return children
}

// each passes the entries through the steps: slice by slice, or some at once.
func (e *entries) each(ctx context.Context, b *running.Batch, all []*running.Item) error {
	if b.Watcher != nil { // one after the other, so that each can be followed
		for _, it := range all {
			if err := e.some(ctx, b, []*running.Item{it}); err != nil {
				return err
			}
		}
		return nil
	}
	if e.atOnce == 1 || len(all) < 2 {
		for from := 0; from < len(all); from += slice {
			if err := e.some(ctx, b, all[from:min(from+slice, len(all))]); err != nil {
				return err
			}
		}
		return nil
	}
	groups := make([][]*running.Item, e.atOnce)
	for i, it := range all {
		g := i % e.atOnce
		if e.key != nil {
			it.Frame.Reset()
			v, _ := e.key.Eval(&it.Frame)
			g = int(maphash.String(e.seed, v.String()) % uint64(e.atOnce))
		}
		groups[g] = append(groups[g], it)
	}
	return b.Together(ctx, len(groups), func(ctx context.Context, sub *running.Batch, i int) error {
		for _, it := range groups[i] { // one by one, so that as many are under way as there are groups
			if err := e.some(ctx, sub, []*running.Item{it}); err != nil {
				return err
			}
		}
		return nil
	})
}

func (e *entries) some(ctx context.Context, b *running.Batch, items []*running.Item) error {
	live, err := b.Advance(ctx, e.steps, append(make([]*running.Item, 0, len(items)), items...))
	for _, it := range live {
		it.State = running.Done
	}
	return err
}

// gather says what the entries mean for the item that they belong to.
func (e *entries) gather(it *running.Item, children []*running.Item) {
	var list []value.Value
	var first *fault.Fault
	failed, kept := 0, 0
	for _, child := range children {
		switch {
		case child.State == running.SetAside:
			failed++
			if first == nil {
				first = child.Faults[0]
			}
		case child.State == running.Done && e.collect != nil:
			child.Frame.Reset()
			v, f := e.collect.Eval(&child.Frame)
			if f != nil {
				it.Aside(e.step.ID, f.InField(e.step.Name))
				return
			}
			list = append(list, v)
		}
		if kept++; kept <= maxKept || child.State == running.SetAside {
			it.Inner = append(it.Inner, child)
		}
	}
	if e.most >= 0 && failed > e.most {
		f := *first
		it.Aside(e.step.ID, &f)
		return
	}
	if e.collect != nil {
		it.Frame.Slots[e.collected] = value.ListOf(list...)
	}
}
