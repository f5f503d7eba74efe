package flow

import (
	"context"
	"hash/maphash"
	"strconv"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
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

var eachKind = &Kind{
	Name: "each", Title: "For each", Group: Way, About: "Does its steps for each record that is read, or for each entry of a list.",
	Loops: true, Drawn: AsSpan, Wraps: &Wrapping{Settings: doc.Out{{Key: "of", Value: "of"}, {Key: "as", Value: "entry"}}, Inside: []any{"steps"}},
	Begin: func(o Offering) doc.Out {
		return yields("entry", doc.Entry{Key: "of", Value: doc.Text{Value: o.List()}})
	},
	Tracks: []TrackKind{{Key: "steps", Title: "For each"}},
	Settings: setting.List{
		{Name: "of", Label: "Of", Type: setting.Formula, Required: true, Help: "The name of the records that are read, or a formula that is a list"},
		{Name: "as", Label: "An entry is called", Type: setting.Text, Default: "entry", Help: "Of a list; records keep the name with which they are read"},
		{Name: "at once", Label: "At once", Type: setting.Number, Default: "1", Help: "How many entries of a list are under way at the same time; 1 keeps their order"},
		{Name: "key", Label: "In order within", Type: setting.Formula, Rare: true, Help: "Entries for which this formula has the same value keep their order"},
		{Name: "collect", Label: "Collect", Type: setting.Formula, Rare: true, Help: "A formula whose values, one for each entry that came through, are a list behind the each"},
		{Name: "collected as", Label: "Result name", Type: setting.Text, Default: "collected", Rare: true},
		{Name: "failed", Label: "When an entry fails", Type: setting.Choice, Default: "set it aside", Choices: []string{"set it aside", "the record fails", "the record fails after"}, Help: "Set it aside and carry on with the others, or let the record that it belongs to fail"},
		{Name: "most", Label: "Failed entries, at most", Type: setting.Number, Default: "10", Rare: true},
	},
	Detail: func(s *Step) string {
		if n := s.Setting("at once"); n != "1" {
			return "of " + s.Setting("of") + " · " + n + " at once"
		}
		return "of " + s.Setting("of") + " · keep order"
	},
	compile: compileEach,
}

func compileEach(c *compiler, s *Step) runner {
	read := c.plan.ReadStep
	if read != nil && c.cur.Inside == nil && s.Setting("of") == read.Setting("as") {
		return c.stream(s)
	}
	return c.entries(s)
}

// stream compiles the each over the records that are read.
func (c *compiler) stream(s *Step) runner {
	if c.streamed {
		c.fault(s.At, fault.New(fault.Setting, "the records are read once: there is an each of them already"))
	}
	c.streamed = true
	name := c.plan.ReadStep.Setting("as")
	c.within(func() {
		c.scope.Bind(name, c.plan.Record, formula.Type{Kind: value.RecordKind, Fields: c.plan.Source.Root})
		c.scope.Open(name)
		c.named = append(c.named, recordOf(name, c.plan.Source, c.plan.Record))
		c.track(s.Tracks[0])
	})
	for _, ps := range c.cur.Tracks[0] { // what they have come to is seen behind the records
		if ps.kind == tallyKind && ps.Result != nil {
			c.scope.Bind(ps.Result.Name, ps.Result.Slot, ps.Result.Type)
			c.named = append(c.named, *ps.Result)
		}
	}
	return pass
}

// entries is an each over a list.
type entries struct {
	step      *Step
	of        *formula.Program
	slot      int
	steps     []*PlannedStep
	atOnce    int
	key       *formula.Program
	collect   *formula.Program
	collected int
	most      int // failed entries with which the record may still go on; -1 is any number
	seed      maphash.Seed
}

func (c *compiler) entries(s *Step) runner {
	e := &entries{step: s, of: c.formula(s.place("of")), atOnce: min(max(1, int(s.number("at once"))), maxAtOnce), most: -1, seed: maphash.MakeSeed()}
	item := formula.Type{}
	if e.of != nil {
		if !e.of.Type.Fits(value.ListKind) {
			c.fault(s.place("of"), fault.Expect(fault.Type, "a list", e.of.Type.String()).Mended("toList(…) makes a list of one or many"))
		} else if e.of.Type.Item != nil {
			item = *e.of.Type.Item
		}
	}
	switch s.Setting("failed") {
	case "the record fails":
		e.most = 0
	case "the record fails after":
		e.most = int(s.number("most"))
	}
	ps, nested := c.cur, c.nested
	c.within(func() {
		c.nested = true
		e.slot = c.yield(s, "as", namedOf(item), item)
		ps.Entry, ps.Result = ps.Result, nil // it is seen inside only
		c.scope.Open(s.Setting("as"))
		if s.Setting("key") != "" {
			e.key = c.formula(s.place("key"))
		}
		e.steps = c.track(s.Tracks[0])
		if s.Setting("collect") != "" {
			e.collect = c.formula(s.place("collect"))
		}
		c.nested = nested
	})
	if e.collect != nil {
		t := e.collect.Type
		n := namedOf(t)
		n.List = true
		e.collected = c.yield(s, "collected as", n, formula.Type{Kind: value.ListKind, Item: &t})
	}
	return e.run
}

// namedOf describes a value of a type.
func namedOf(t formula.Type) Named {
	switch {
	case t.Kind == value.RecordKind && t.Fields != nil:
		return Named{Schema: described(t.Fields.Name, t.Fields)}
	case t.Kind == value.ListKind && t.Item != nil && t.Item.Kind == value.RecordKind && t.Item.Fields != nil:
		n := namedOf(*t.Item)
		n.List = true
		return n
	}
	return Named{}
}

// run makes the entries of all items and passes them through the steps.
func (e *entries) run(ctx context.Context, b *Batch, items []*Item) error {
	var all []*Item
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
		if it.State == Live {
			e.gather(it, all[from:ends[i]])
		}
		from = ends[i]
	}
	return nil
}

// split makes the entries of one item's list.
func (e *entries) split(it *Item) []*Item {
	it.Frame.Reset()
	v, f := e.of.Eval(&it.Frame)
	if f == nil && !v.Missing() && v.Kind() != value.ListKind {
		f = fault.Expect(fault.Type, "a list", v.Kind().String())
	}
	if f == nil && !v.Missing() && len(v.Items()) > MaxEntries {
		f = fault.New(fault.Limit, "the list has more than %d entries", MaxEntries)
	}
	if f != nil {
		it.aside(e.step.ID, f.In(e.step.Name))
		return nil
	}
	if v.Missing() {
		return nil
	}
	list := v.Items()
	made, children := make([]Item, len(list)), make([]*Item, len(list))
	slots := make([]value.Value, len(list)*len(it.Frame.Slots))
	for i, entry := range list {
		child := &made[i]
		child.Record, child.Place, child.State, child.Parent, child.Of = it.Record, it.Place, Live, it, e.step.ID
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
func (e *entries) each(ctx context.Context, b *Batch, all []*Item) error {
	if b.Watch != nil { // one after the other, so that each can be followed
		for _, it := range all {
			if err := e.some(ctx, b, []*Item{it}); err != nil {
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
	groups := make([][]*Item, e.atOnce)
	for i, it := range all {
		g := i % e.atOnce
		if e.key != nil {
			it.Frame.Reset()
			v, _ := e.key.Eval(&it.Frame)
			g = int(maphash.String(e.seed, v.String()) % uint64(e.atOnce))
		}
		groups[g] = append(groups[g], it)
	}
	return b.together(ctx, len(groups), func(ctx context.Context, sub *Batch, i int) error {
		for _, it := range groups[i] { // one by one, so that as many are under way as there are groups
			if err := e.some(ctx, sub, []*Item{it}); err != nil {
				return err
			}
		}
		return nil
	})
}

func (e *entries) some(ctx context.Context, b *Batch, items []*Item) error {
	live, err := b.pass(ctx, e.steps, append(make([]*Item, 0, len(items)), items...))
	for _, it := range live {
		it.State = Done
	}
	return err
}

// EntryAgain makes the entry of a list anew that is done again by itself, in a run as a whole that has what was in scope of
// it, and with another value.
func (p *Plan) EntryAgain(whole *Item, each *PlannedStep, was *Item, entry value.Value) *Item {
	it := &Item{Record: whole.Record, Place: was.Place, State: Live, Parent: whole, Of: each.Step.ID, Path: was.Path}
	copy(whole.Frame.Slots[RequestSlot+1:], was.Frame.Slots[RequestSlot+1:]) // what it began with it has itself
	whole.Frame.Slots[each.Entry.Slot] = value.Value{}
	for _, ps := range p.Steps {
		if !ps.inside(each) {
			continue
		}
		for _, n := range []*Named{ps.Result, ps.Entry} {
			if n != nil {
				whole.Frame.Slots[n.Slot] = value.Value{}
			}
		}
	}
	it.Frame.Slots = append([]value.Value(nil), whole.Frame.Slots...)
	it.Frame.Slots[each.Entry.Slot] = entry
	whole.Inner = []*Item{it}
	return it
}

// inside says whether a step stands inside another.
func (ps *PlannedStep) inside(outer *PlannedStep) bool {
	for ps = ps.Inside; ps != nil; ps = ps.Inside {
		if ps == outer {
			return true
		}
	}
	return false
}

// PassEntry passes one entry of a list through the steps of its each.
func (b *Batch) PassEntry(ctx context.Context, each *PlannedStep, entry *Item) error {
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	live, err := b.pass(ctx, each.Tracks[0], []*Item{entry})
	if err != nil {
		return err
	}
	return b.finish(live)
}

// EntryNumber tells the path of an entry as people count: from 1, as 18 or 1.3.
func EntryNumber(path string) string {
	if path == "" {
		return ""
	}
	parts := strings.Split(path, ".")
	for i, p := range parts {
		if n, err := strconv.Atoi(p); err == nil {
			parts[i] = strconv.Itoa(n + 1)
		}
	}
	return strings.Join(parts, ".")
}

// gather says what the entries mean for the item that they belong to.
func (e *entries) gather(it *Item, children []*Item) {
	var list []value.Value
	var first *fault.Fault
	failed, kept := 0, 0
	for _, child := range children {
		switch {
		case child.State == SetAside:
			failed++
			if first == nil {
				first = child.Faults[0]
			}
		case child.State == Done && e.collect != nil:
			child.Frame.Reset()
			v, f := e.collect.Eval(&child.Frame)
			if f != nil {
				it.aside(e.step.ID, f.In(e.step.Name))
				return
			}
			list = append(list, v)
		}
		if kept++; kept <= maxKept || child.State == SetAside {
			it.Inner = append(it.Inner, child)
		}
	}
	if e.most >= 0 && failed > e.most {
		f := *first
		it.aside(e.step.ID, &f)
		return
	}
	if e.collect != nil {
		it.Frame.Slots[e.collected] = value.ListOf(list...)
	}
}
