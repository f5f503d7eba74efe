package formula

import (
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

var oneList = []Param{p("list", listKind)}

var withCondition = []Param{p("list", listKind), {Name: "condition", Each: true}}

// listFunctions are those on lists.
var listFunctions = []Function{
	{
		Name: "sum", Family: "lists", About: "The sum of a list's numbers, or of a formula over its items.",
		Params: []Param{p("list", listKind), {Name: "formula", Each: true, Optional: true}}, Result: sumType, Call: sum,
		Examples: []Example{{`sum([0.1, 0.2])`, "0.3"}, {`sum([1, 2], # * 10)`, "30"}},
	},
	{
		Name: "count", Family: "lists", About: "How many items a list has, or how many meet a condition.",
		Params: []Param{p("list", listKind), {Name: "condition", Each: true, Optional: true}}, Result: known(value.Integer), Call: countItems,
		Examples: []Example{{`count([1, 2, 3], # > 1)`, "2"}},
	},
	{
		Name: "filter", Family: "lists", About: "The items of a list that meet a condition.",
		Params: []Param{p("list", listKind), {Name: "condition", Each: true}}, Result: same, Call: filter, Keyed: func(found []value.Value) value.Value { return value.ListOf(found...) },
		Examples: []Example{{`length(filter([1, 2, 3], # > 1))`, "2"}},
	},
	{
		Name: "map", Family: "lists", About: "A formula's result for every item of a list.",
		Params: []Param{p("list", listKind), {Name: "formula", Each: true}},
		Result: func(a []Type) Type { return Type{Kind: value.ListKind, Item: &a[1]} },
		Call:   func(_ *Frame, a []value.Value) (value.Value, error) { return a[1], nil }, Examples: []Example{{`map([1, 2], # * 2)[1]`, "4"}},
	},
	quantifier("any", "Whether at least one item meets a condition.", func(hits, n int) bool { return hits > 0 }, `any([1, 2], # > 1)`, "true"),
	quantifier("all", "Whether every item meets a condition.", func(hits, n int) bool { return hits == n }, `all([1, 2], # > 1)`, "false"),
	end("first", "The first item of a list; absent when it is empty.", func(n int) int { return 0 }, `first([7, 8])`, "7"),
	end("last", "The last item of a list; absent when it is empty.", func(n int) int { return n - 1 }, `last([7, 8])`, "8"),
	quantifier("none", "Whether no item meets a condition.", func(hits, _ int) bool { return hits == 0 }, `none([1, 2], # > 2)`, "true"),
	quantifier("one", "Whether exactly one item meets a condition.", func(hits, _ int) bool { return hits == 1 }, `one([1, 2], # > 1)`, "true"),
	finder("find", "The first item that meets a condition; absent when none does.", false, ex(`find([1, 5, 7], # > 2)`, "5")).keyed(firstOf),
	finder("findLast", "The last item that meets a condition; absent when none does.", true, ex(`findLast([1, 5, 7], # > 2)`, "7")),
	{
		Name: "findIndex", Family: "lists", About: "The position, from 0, of the first item that meets a condition; absent when none does.", Params: withCondition,
		Result: func([]Type) Type { return Type{Kind: value.Integer, Maybe: true} }, Examples: []Example{{`findIndex([1, 5], # > 2)`, "1"}},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if _, err := hits(a[1].Items()); err != nil {
				return value.Value{}, err
			}
			if i := slices.IndexFunc(a[1].Items(), value.Value.IsTrue); i >= 0 {
				return value.Int(int64(i)), nil
			}
			return value.Value{}, nil
		},
	},
	{
		Name: "sortBy", Family: "lists", About: "The items in the order of a formula's results; those that are equal stay as they are.",
		Params: []Param{p("list", listKind), {Name: "formula", Each: true}}, Result: same, Examples: []Example{{`join(sortBy(["bb", "a", "ccc"], length(#)), " ")`, "a bb ccc"}},
		Call: func(fr *Frame, a []value.Value) (value.Value, error) { return sorted(fr, a[0].Items(), a[1].Items()) },
	},
	{
		Name: "groupBy", Family: "lists", About: "The items with the same result of a formula together: a list of records with key and items, in the order in which the keys first stand.",
		Params: []Param{p("list", listKind), {Name: "formula", Each: true}}, Result: groupType, Call: groupBy,
		Examples: []Example{{`length(groupBy(["a", "bb", "c"], length(#)))`, "2"}, {`groupBy(["a", "bb", "c"], length(#))[0].items[1]`, "c"}},
	},
	listFn("sort", "The items in order; those that are absent or null come last.", oneList, func(fr *Frame, a []value.Value) (value.Value, error) { return sorted(fr, a[0].Items(), a[0].Items()) }, ex(`join(sort([3, 1, 2]), " ")`, "1 2 3")),
	listFn("reverse", "The items in the opposite order.", oneList, func(_ *Frame, a []value.Value) (value.Value, error) {
		items := slices.Clone(a[0].Items())
		slices.Reverse(items)
		return value.ListOf(items...), nil
	}, ex(`join(reverse([1, 2]), " ")`, "2 1")),
	listFn("distinct", "The items without those that stand before already.", oneList, func(fr *Frame, a []value.Value) (value.Value, error) { return unlike(fr, a[0].Items(), nil) }, ex(`join(distinct([1, 2, 1]), " ")`, "1 2")),
	listFn("take", "The first items of a list.", []Param{p("list", listKind), p("count", whole)}, func(_ *Frame, a []value.Value) (value.Value, error) {
		n, err := size(a[1], len(a[0].Items()))
		return value.ListOf(a[0].Items()[:n]...), err
	}, ex(`join(take([1, 2, 3], 2), " ")`, "1 2")),
	listFn("skip", "The items of a list without the first.", []Param{p("list", listKind), p("count", whole)}, func(_ *Frame, a []value.Value) (value.Value, error) {
		n, err := size(a[1], len(a[0].Items()))
		return value.ListOf(a[0].Items()[n:]...), err
	}, ex(`join(skip([1, 2, 3], 2), " ")`, "3")),
	listFn("append", "The items of several lists, one list after another.", oneList, func(fr *Frame, a []value.Value) (value.Value, error) {
		var items []value.Value
		for _, l := range a {
			items = append(items, l.Items()...)
		}
		return value.ListOf(items...), fr.grow(16 * len(items))
	}, ex(`join(append([1], [2, 3]), " ")`, "1 2 3")).repeating(),
	{
		Name: "flatten", Family: "lists", About: "The items of the lists of a list.", Params: oneList, Examples: []Example{{`join(flatten([[1], [2, 3]]), " ")`, "1 2 3"}},
		Result: func(a []Type) Type {
			if a[0].Item != nil && a[0].Item.is(value.ListKind) {
				return *a[0].Item
			}
			return Type{Kind: value.ListKind}
		},
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			var items []value.Value
			for _, v := range a[0].Items() {
				if v.Kind() == value.ListKind {
					items = append(items, v.Items()...)
				} else if !v.IsMissing() {
					items = append(items, v)
				}
			}
			return value.ListOf(items...), fr.grow(16 * len(items))
		},
	},
	listFn("intersect", "The items that stand in another list, too, each once.", []Param{p("list", listKind), p("other", listKind)}, func(fr *Frame, a []value.Value) (value.Value, error) {
		outside, err := unlike(fr, a[0].Items(), a[1].Items())
		if err != nil {
			return outside, err
		}
		return unlike(fr, a[0].Items(), outside.Items())
	}, ex(`join(intersect([1, 2, 3], [3, 1]), " ")`, "1 3")),
	listFn("except", "The items that do not stand in another list, each once.", []Param{p("list", listKind), p("other", listKind)}, func(fr *Frame, a []value.Value) (value.Value, error) {
		return unlike(fr, a[0].Items(), a[1].Items())
	}, ex(`join(except([1, 2, 3], [3]), " ")`, "1 2")),
	pure("includes", "lists", "Whether a list includes a value.", []Param{p("list", listKind), p("value", nil)}, value.Boolean, func(a []value.Value) (value.Value, error) {
		return value.Bool(slices.ContainsFunc(a[0].Items(), func(v value.Value) bool { return value.Equal(v, a[1]) })), nil
	}, ex(`includes(["CAR", "LOR"], "LOR")`, "true")),
	pure("range", "lists", "The whole numbers from one to another, as a list of at most 100,000.", []Param{p("from", whole), p("to", whole)}, value.ListKind, func(a []value.Value) (value.Value, error) {
		from, okf := a[0].Int64()
		to, okt := a[1].Int64()
		if !okf || !okt || to >= from && uint64(to)-uint64(from) >= 100_000 {
			return value.Value{}, fault.Expect(fault.Range, "at most 100,000 numbers", a[0].String()+" to "+a[1].String())
		}
		var items []value.Value
		for n := from; n <= to; n++ {
			items = append(items, value.Int(n))
		}
		return value.ListOf(items...), nil
	}, ex(`sum(range(1, 4))`, "10")).listOf(value.Integer),
	{
		Name: "chunk", Family: "lists", About: "The items in lists of a length; the last may be shorter.", Params: []Param{p("list", listKind), p("length", whole)},
		Result: func(a []Type) Type { item := same(a); return Type{Kind: value.ListKind, Item: &item} }, Examples: []Example{{`length(chunk([1, 2, 3], 2))`, "2"}},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			n, ok := a[1].Int64()
			if !ok || n < 1 {
				return value.Value{}, fault.Expect(fault.Range, "a length of at least 1", a[1].String())
			}
			var items []value.Value
			for part := range slices.Chunk(a[0].Items(), int(min(n, int64(max(1, len(a[0].Items())))))) {
				items = append(items, value.ListOf(part...))
			}
			return value.ListOf(items...), nil
		},
	},
	{
		Name: "toList", Family: "lists", About: "A list of one item; a list as it is; an empty list for what is absent or null.", Params: []Param{p("value", nil)}, Lenient: true,
		Result: func(a []Type) Type {
			if a[0].is(value.ListKind) {
				return Type{Kind: value.ListKind, Item: a[0].Item}
			}
			item := a[0]
			return Type{Kind: value.ListKind, Item: &item}
		},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			switch {
			case a[0].Kind() == value.ListKind:
				return a[0], nil
			case a[0].IsMissing():
				return value.ListOf(), nil
			}
			return value.ListOf(a[0]), nil
		},
		Examples: []Example{{`length(toList("a"))`, "1"}, {`length(toList(nil))`, "0"}, {`length(toList([1, 2]))`, "2"}},
	},
}

// listFn makes a function whose result is like its first argument.
func listFn(name, about string, params []Param, call func(fr *Frame, a []value.Value) (value.Value, error), examples ...Example) Function {
	return Function{Name: name, Family: "lists", About: about, Params: params, Result: same, Call: call, Examples: examples}
}

// itemOf is the type of a list's item, which may not be there.
func itemOf(a []Type) Type {
	t := Type{}
	if a[0].Item != nil {
		t = *a[0].Item
	}
	t.Maybe = true
	return t
}

// finder makes a function that gives an item that meets a condition.
func finder(name, about string, last bool, examples ...Example) Function {
	return Function{
		Name: name, Family: "lists", About: about, Params: withCondition, Result: itemOf, Examples: examples,
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if _, err := hits(a[1].Items()); err != nil {
				return value.Value{}, err
			}
			found := value.Value{}
			for i, hit := range a[1].Items() {
				if !hit.IsTrue() {
					continue
				}
				if found = a[0].Items()[i]; !last {
					break
				}
			}
			return found, nil
		},
	}
}

func firstOf(found []value.Value) value.Value {
	if len(found) == 0 {
		return value.Value{}
	}
	return found[0]
}

// repeating lets the last parameter of a function repeat.
func (fn Function) repeating() Function {
	fn.Variadic = true
	return fn
}

// sorted puts items in the order of their keys; what is missing comes last.
func sorted(fr *Frame, items, keys []value.Value) (value.Value, error) {
	order, err := Order(len(items), SortKey{Values: keys})
	if err != nil {
		return value.Value{}, err
	}
	out := make([]value.Value, len(items))
	for i, at := range order {
		out[i] = items[at]
	}
	return value.ListOf(out...), fr.grow(16 * len(items))
}

// unlike are the items that differ from those before, and from those of another list.
func unlike(fr *Frame, items, from []value.Value) (value.Value, error) {
	seen := map[string]bool{}
	var odd, out []value.Value
	for _, v := range from {
		if k, ok := value.Key(v); ok {
			seen[k] = true
		} else {
			odd = append(odd, v)
		}
	}
	for _, v := range items {
		if err := fr.step(); err != nil {
			return value.Value{}, err
		}
		k, ok := value.Key(v)
		if ok && seen[k] || !ok && slices.ContainsFunc(odd, func(o value.Value) bool { fr.steps++; return value.Equal(o, v) }) {
			continue
		}
		if out = append(out, v); ok {
			seen[k] = true
		} else {
			odd = append(odd, v)
		}
	}
	return value.ListOf(out...), fr.grow(16 * len(out))
}

func groupType(a []Type) Type {
	return Type{Kind: value.ListKind, Item: &Type{Kind: value.RecordKind, Fields: Group(a[0], a[1])}}
}

// Group is the record of a group of a list's items: their key and the items.
func Group(list, of Type) *schema.Field {
	key := schema.Scalar("key", of.Kind)
	items := &schema.Field{Name: "items", Kind: value.Text, Max: schema.Many}
	if t := list.Item; t != nil {
		if items.Kind = t.Kind; t.Fields != nil && t.Kind != value.RecordKind {
			twin := *t.Fields
			twin.Name, twin.Min, twin.Max = "items", 0, schema.Many
			items = &twin
		} else if t.Fields != nil {
			items = (&schema.Field{Name: "items", Kind: value.RecordKind, Max: schema.Many, Fields: cloned(t.Fields)}).Compiled()
		}
	}
	return schema.Record("group", key, items)
}

// cloned are the fields of a record for another one to hold.
func cloned(record *schema.Field) []*schema.Field {
	out := make([]*schema.Field, len(record.Fields))
	for i, f := range record.Fields {
		twin := *f
		if f.Nests() {
			twin.Fields = cloned(f)
		}
		out[i] = &twin
	}
	return out
}

var groupShape = value.NewLayout("key", "items")

func groupBy(fr *Frame, a []value.Value) (value.Value, error) {
	groups, err := Grouped(a[0].Items(), a[1].Items())
	if err != nil {
		return value.Value{}, err
	}
	return value.ListOf(groups...), fr.grow(16 * len(a[0].Items()))
}

// Grouped puts the items with the same key together, in the order in which the keys first stand. It
// fails for a key that is a record or a list.
func Grouped(items, keys []value.Value) ([]value.Value, error) {
	at := map[string]int{}
	var first []value.Value
	var groups [][]value.Value
	for i, item := range items {
		key, ok := value.Key(keys[i])
		if !ok {
			return nil, fault.Expect(fault.Type, "a single value to group by", keys[i].Kind().String())
		}
		g, there := at[key]
		if !there {
			g = len(groups)
			at[key] = g
			first, groups = append(first, keys[i]), append(groups, nil)
		}
		groups[g] = append(groups[g], item)
	}
	out := make([]value.Value, len(groups))
	for g := range groups {
		out[g] = value.NewRecord(groupShape, []value.Value{first[g], value.ListOf(groups[g]...)})
	}
	return out, nil
}

func sumType(a []Type) Type {
	item := Type{}
	switch {
	case len(a) > 1:
		item = a[1]
	case a[0].Item != nil:
		item = *a[0].Item
	}
	if item.is(value.Integer) {
		return Type{Kind: value.Integer}
	}
	return Type{Kind: value.Decimal}
}

func sum(_ *Frame, a []value.Value) (value.Value, error) {
	total := value.Int(0)
	for _, v := range a[len(a)-1].Items() {
		if v.IsMissing() {
			continue
		}
		var err error
		if total, err = value.Add(total, v); err != nil {
			return value.Value{}, err
		}
	}
	return total, nil
}

func hits(conditions []value.Value) (int, error) {
	n := 0
	for _, v := range conditions {
		if v.Kind() != value.Boolean {
			return 0, fault.Expect(fault.Type, "true or false for every item", v.Kind().String())
		}
		if v.IsTrue() {
			n++
		}
	}
	return n, nil
}

func countItems(_ *Frame, a []value.Value) (value.Value, error) {
	if len(a) == 1 {
		return value.Int(int64(len(a[0].Items()))), nil
	}
	n, err := hits(a[1].Items())
	return value.Int(int64(n)), err
}

func filter(_ *Frame, a []value.Value) (value.Value, error) {
	if _, err := hits(a[1].Items()); err != nil {
		return value.Value{}, err
	}
	var kept []value.Value
	for i, v := range a[1].Items() {
		if v.IsTrue() {
			kept = append(kept, a[0].Items()[i])
		}
	}
	return value.ListOf(kept...), nil
}

func quantifier(name, about string, decide func(hits, n int) bool, ex, result string) Function {
	return Function{
		Name: name, Family: "lists", About: about, Result: known(value.Boolean),
		Params: []Param{p("list", listKind), {Name: "condition", Each: true}},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			n, err := hits(a[1].Items())
			return value.Bool(decide(n, len(a[1].Items()))), err
		},
		Examples: []Example{{ex, result}},
	}
}

func end(name, about string, at func(n int) int, ex, result string) Function {
	return Function{
		Name: name, Family: "lists", About: about, Params: []Param{p("list", listKind)},
		Result: func(a []Type) Type {
			t := Type{}
			if a[0].Item != nil {
				t = *a[0].Item
			}
			t.Maybe = true
			return t
		},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			items := a[0].Items()
			if len(items) == 0 {
				return value.Value{}, nil
			}
			return items[at(len(items))], nil
		},
		Examples: []Example{{ex, result}},
	}
}
