package formula

import (
	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/value"
)

// fewItems is how many items are not worth an index.
const fewItems = 8

// keyed lets the function find its items through an index where its condition is that a formula over
// the item equals something else.
func (fn Function) keyed(pick func([]value.Value) value.Value) Function {
	fn.Keyed = pick
	return fn
}

// index holds the keys of the lists that were looked into, one for each place in a formula that does
// so. A list is indexed when it is looked into for the second time: a join takes linear time.
type index map[*keyedCall]*keys

type keys struct {
	of   value.Value
	kind value.Kind               // of the keys
	all  map[string][]value.Value // nil before the second time, or where the list cannot be indexed
	odd  bool
}

// keyedCall is one place in a formula where items are found by key.
type keyedCall struct {
	pick    func([]value.Value) value.Value
	key, of eval
	slot    int
}

// keyed recognises a condition of the form .key == value, either way round, in which one side reads
// nothing but the item, the other all but the item; nil for every other.
func (c *compiler) keyed(fn *Function, condition ast.Node, list Type, slot int) *keyedCall {
	if p, is := condition.(*ast.PredicateNode); is {
		condition = p.Node
	}
	eq, is := condition.(*ast.BinaryNode)
	if fn.Keyed == nil || !is || eq.Operator != "==" {
		return nil
	}
	key, of := eq.Left, eq.Right
	if c.uses(of).item {
		key, of = of, key
	}
	if k, o := c.uses(key), c.uses(of); !k.item || k.names || o.item {
		return nil
	}
	item := Type{}
	if list.Item != nil {
		item = *list.Item
	}
	before := len(c.reads)
	c.pointers = append(c.pointers, binding{slot: slot, typ: item})
	call := &keyedCall{pick: fn.Keyed, slot: slot}
	call.key, _ = c.node(key)
	call.of, _ = c.node(of)
	c.pointers = c.pointers[:len(c.pointers)-1]
	c.reads = c.reads[:before]
	return call
}

// uses notes whether a part of a formula reads the item at hand, and names of the scope.
type uses struct{ item, names bool }

func (c *compiler) uses(n ast.Node) uses {
	v := visitor{scope: c.scope}
	ast.Walk(&n, &v)
	return v.uses
}

type visitor struct {
	uses
	scope *Scope
}

// Visit looks at one node.
func (v *visitor) Visit(n *ast.Node) {
	switch n := (*n).(type) {
	case *ast.PointerNode:
		v.item = true
	case *ast.IdentifierNode:
		_, _, found := v.scope.find(n.Value)
		v.names = v.names || found || functions[n.Value] == nil
	}
}

// find gives the items with a key; ok is false where the list must be gone through instead.
func (k *keyedCall) find(fr *Frame, list value.Value) (found value.Value, ok bool) {
	if len(list.Items()) <= fewItems {
		return found, false
	}
	known := fr.index[k]
	if known == nil || !value.SameList(known.of, list) {
		if fr.index == nil {
			fr.index = index{}
		}
		fr.index[k] = &keys{of: list}
		return found, false
	}
	if known.all == nil && !known.odd {
		known.odd = !k.build(fr, known)
	}
	v, f := k.of(fr)
	if f != nil || known.odd {
		return found, false
	}
	key, ok := value.Key(v)
	if !ok || v.IsMissing() || family(v) != known.kind {
		return found, false
	}
	return k.pick(known.all[key]), fr.step() == nil
}

// family is the kind of a value; numbers are of one.
func family(v value.Value) value.Kind {
	if v.Kind() == value.Integer {
		return value.Decimal
	}
	return v.Kind()
}

// build makes the index of a list; it is false for one in which an item's key fails, is missing, is no
// scalar or is of another type than those before.
func (k *keyedCall) build(fr *Frame, known *keys) bool {
	all := make(map[string][]value.Value, len(known.of.Items()))
	for i, item := range known.of.Items() {
		fr.Slots[k.slot], fr.Slots[k.slot+1] = item, value.Int(int64(i))
		v, f := k.key(fr)
		key, ok := value.Key(v)
		if i == 0 {
			known.kind = family(v)
		}
		if f != nil || !ok || v.IsMissing() || family(v) != known.kind || fr.step() != nil {
			return false
		}
		all[key] = append(all[key], item)
	}
	known.all = all
	return true
}
