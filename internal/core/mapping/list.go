package mapping

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/value"
)

// listing is how the items of an each become entries.
type listing struct {
	item     int // slot of the item, or of the group
	inside   []level
	where    *formula.Program
	distinct *formula.Program
	group    *formula.Program
	sort     []sortKey
	key      *formula.Program // of a map
	entries  bool             // the items are the entries of a map
	position int              // slot; 0 when it has no name
	size     int              // slots that the rules inside need
}

// level is a list inside of an item; its items stand in the slot.
type level struct {
	program *formula.Program
	slot    int
}

type sortKey struct {
	program    *formula.Program
	descending bool
}

// plain says that the items are the entries.
func (l *listing) plain() bool {
	return l.inside == nil && l.where == nil && l.distinct == nil && l.group == nil && l.sort == nil
}

// width is how many values one entry has: the item, and one for each list inside.
func (l *listing) width() int { return 1 + len(l.inside) }

// rows are the entries of a list, one after another, each with as many values as the listing is wide.
type rows struct {
	l    *listing
	run  *runner
	list []value.Value
	seen map[string]bool
}

// listed takes the items apart, leaves out those that are not wanted, groups and sorts them.
func (r *runner) listed(n *node, items []value.Value) ([]value.Value, *fault.Fault) {
	l := n.list
	if l.plain() {
		return items, nil
	}
	rs := &rows{l: l, run: r}
	if l.distinct != nil {
		rs.seen = map[string]bool{}
	}
	for _, item := range items {
		r.frame.Slots[l.item] = item
		if ft := rs.take(0); ft != nil {
			return nil, ft
		}
	}
	if l.group != nil {
		if ft := rs.group(); ft != nil {
			return nil, ft
		}
	}
	if l.sort != nil {
		return rs.sorted()
	}
	return rs.list, nil
}

// take goes through the lists inside of the item at hand from a level on, and keeps what is wanted.
func (rs *rows) take(depth int) *fault.Fault {
	fr := &rs.run.frame.Frame
	fr.AddBudget(stepsPerEntry)
	if depth < len(rs.l.inside) {
		in := rs.l.inside[depth]
		if in.program == nil {
			return nil
		}
		list, ft := in.program.Eval(fr)
		if ft != nil {
			return ft
		}
		for _, item := range list.Items() {
			fr.Slots[in.slot] = item
			if ft := rs.take(depth + 1); ft != nil {
				return ft
			}
		}
		return nil
	}
	if wanted, ft := rs.wanted(fr); !wanted || ft != nil {
		return ft
	}
	if len(rs.list) >= MaxItems*rs.l.width() {
		return tooMany()
	}
	rs.list = append(rs.list, fr.Slots[rs.l.item])
	for _, in := range rs.l.inside {
		rs.list = append(rs.list, fr.Slots[in.slot])
	}
	return nil
}

func tooMany() *fault.Fault {
	return fault.New(fault.Limit, "the list has more than %d items", MaxItems)
}

func (rs *rows) wanted(fr *formula.Frame) (bool, *fault.Fault) {
	if rs.l.where != nil {
		v, ft := rs.l.where.Eval(fr)
		if ft != nil || !v.IsTrue() {
			return false, ft
		}
	}
	if rs.seen == nil {
		return true, nil
	}
	v, ft := rs.l.distinct.Eval(fr)
	if ft != nil {
		return false, ft
	}
	key, ok := value.Key(v)
	if !ok {
		return false, fault.Expect(fault.Type, "a single value to tell items apart by", v.Kind().String())
	}
	first := !rs.seen[key]
	rs.seen[key] = true
	return first, nil
}

func (rs *rows) group() *fault.Fault {
	keys, ft := rs.eval(rs.l.group)
	if ft != nil {
		return ft
	}
	groups, err := formula.Grouped(rs.list, keys)
	if err != nil {
		return fault.From(err, fault.Type)
	}
	rs.list = groups
	return nil
}

// eval evaluates a formula for every entry.
func (rs *rows) eval(p *formula.Program) ([]value.Value, *fault.Fault) {
	w := rs.l.width()
	out := make([]value.Value, 0, len(rs.list)/w)
	for i := 0; i < len(rs.list); i += w {
		rs.l.put(rs.run.frame, rs.list[i:i+w])
		v, ft := p.Eval(&rs.run.frame.Frame)
		if ft != nil {
			return nil, ft
		}
		out = append(out, v)
	}
	return out, nil
}

// put makes one entry the one at hand.
func (l *listing) put(fr *Frame, entry []value.Value) {
	fr.Slots[l.item] = entry[0]
	for i, in := range l.inside {
		fr.Slots[in.slot] = entry[1+i]
	}
}

func (rs *rows) sorted() ([]value.Value, *fault.Fault) {
	w := rs.l.width()
	keys := make([]formula.SortKey, len(rs.l.sort))
	for i, k := range rs.l.sort {
		values, ft := rs.eval(k.program)
		if ft != nil {
			return nil, ft
		}
		keys[i] = formula.SortKey{Values: values, Descending: k.descending}
	}
	order, err := formula.Order(len(rs.list)/w, keys...)
	if err != nil {
		return nil, fault.From(err, fault.Type)
	}
	out := make([]value.Value, 0, len(rs.list))
	for _, at := range order {
		out = append(out, rs.list[at*w:at*w+w]...)
	}
	return out, nil
}
