package formula

import (
	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Function is one row of the catalogue. Unless it is Lenient it is absent or null when one of
// its arguments is.
type Function struct {
	Name     string
	Family   string
	About    string
	Params   []Param
	Variadic bool                                  // the last parameter may repeat
	Lenient  bool                                  // is given absent and null arguments
	Keyed    func(found []value.Value) value.Value // the result where the items that meet the condition are known by key
	Result   func(args []Type) Type
	Call     func(fr *Frame, a []value.Value) (value.Value, error)
	Examples []Example
	Constant func(arg int, text string, types []Type) *fault.Fault                     // why a text that is written as an argument, from 0, is none; may be nil
	text     func(string) string                                                       // what Call does, where it makes a text of one
	bind     func(c *compiler, fn *Function, n ast.Node, args []ast.Node) (eval, Type) // compiles a call that is none of values only
}

// Param is one parameter.
type Param struct {
	Name     string
	Kinds    []value.Kind // none: any
	Optional bool
	Each     bool // a formula that is evaluated for every item of the first argument
}

// Example is a formula over nothing and its result as text; it is run as a test.
type Example struct{ Formula, Result string }

func known(k value.Kind) func([]Type) Type { return func([]Type) Type { return Type{Kind: k} } }

var byName = func() map[string]*Function {
	m := map[string]*Function{}
	for i := range Catalogue {
		m[Catalogue[i].Name] = &Catalogue[i]
	}
	for old, now := range FormerNames {
		m[old] = m[now]
	}
	return m
}

// FormerNames are names of functions under which formulas were written before, and the present ones. They go on to be read.
var FormerNames = map[string]string{
	"kindOf": "typeOf", "whole": "trunc", "places": "decimalPlaces", "recode": "mapValue",
	"quotient": "div", "remainder": "mod", "greatestDivisor": "gcd",
	"numbersFrom": "range", "asList": "toList", "only": "pick", "without": "omit",
	"at": "pointer", "table": "lookup", "inTable": "hasKey",
	"squeeze": "normalizeSpace", "title": "titleCase", "countOf": "countMatches", "character": "fromCodePoint", "uuidOf": "uuid5",
	"atZone": "zonedTimestamp", "inZone": "toZone", "has": "includes", "least": "min", "greatest": "max",
}

var functions map[string]*Function

func init() { functions = byName() }

func (c *compiler) call(n ast.Node, name string, nodes []ast.Node) (eval, Type) {
	fn := functions[name]
	if fn == nil {
		f := fault.New(fault.Unknown, "there is no function %q", name)
		if near := nearest(name, keysOf(functions)); near != "" {
			f.WithFix("Did you mean %s?", functions[near].Name)
		}
		return c.fail(n, f)
	}
	if f := fn.arity(len(nodes)); f != nil {
		return c.fail(n, f)
	}
	if fn.bind != nil {
		return fn.bind(c, fn, n, nodes)
	}
	if len(nodes) > 0 && each(fn, len(nodes)) {
		return c.over(n, fn, nodes)
	}
	args := make([]eval, len(nodes))
	types := make([]Type, len(nodes))
	for i, a := range nodes {
		args[i], types[i] = c.node(a)
		if p := fn.param(i); c.faults == nil && !fits(types[i], p.Kinds) {
			return c.fail(a, fault.Expect(fault.Type, kindList(p.Kinds)+" as "+p.Name, types[i].String()).InField(name))
		}
	}
	if c.faults != nil {
		return never, Type{}
	}
	for i, a := range nodes {
		if text, ok := a.(*ast.StringNode); ok && fn.Constant != nil {
			if f := fn.Constant(i, text.Value, types); f != nil {
				return c.fail(a, f.InField(name))
			}
		}
	}
	t := fn.Result(types)
	if !fn.Lenient {
		for _, a := range types {
			t.Maybe = t.Maybe || a.Maybe
		}
	}
	general := invoke(fn, args, place(n))
	if fn.text == nil || len(nodes) != 1 {
		return general, t
	}
	return ofField(c.direct(nodes[0]), fn.text, general), t
}

// ofField applies a function to the text of a field, without the way by the frame's stack; what is no text is left to the general way.
func ofField(access *FieldAccess, fn func(string) string, general eval) eval {
	if access == nil {
		return general
	}
	at := *access
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v := fr.Slots[at.Slot].Slot(at.Field)
		if v.Kind() != value.Text || fr.step() != nil {
			return general(fr)
		}
		s := fn(v.Text())
		if fr.grow(len(s)) != nil {
			return general(fr)
		}
		return value.NewText(s), nil
	}
}

func each(fn *Function, n int) bool { return n <= len(fn.Params) && fn.Params[n-1].Each }

func (fn *Function) param(i int) Param {
	if i >= len(fn.Params) {
		i = len(fn.Params) - 1
	}
	return fn.Params[i]
}

func (fn *Function) arity(n int) *fault.Fault {
	least := 0
	for _, p := range fn.Params {
		if !p.Optional {
			least++
		}
	}
	if n >= least && (n <= len(fn.Params) || fn.Variadic) {
		return nil
	}
	return fault.Expect(fault.Syntax, fn.Signature(), count(n, "argument")).InField(fn.Name)
}

// Signature shows how the function is called: round(number, places?, mode?).
func (fn *Function) Signature() string {
	s := fn.Name + "("
	for i, p := range fn.Params {
		if i > 0 {
			s += ", "
		}
		s += p.Name
		if p.Optional {
			s += "?"
		}
	}
	if fn.Variadic {
		s += ", …"
	}
	return s + ")"
}

func fits(t Type, kinds []value.Kind) bool {
	if len(kinds) == 0 || t.unknown() || t.is(value.Null) {
		return true
	}
	for _, k := range kinds {
		if t.Fits(k) {
			return true
		}
	}
	return false
}

func kindList(kinds []value.Kind) string {
	s := ""
	for i, k := range kinds {
		if i > 0 {
			s += " or "
		}
		s += k.String()
	}
	return s
}

// invoke makes the evaluation of a call. Arguments live on the frame's stack, so that a call
// allocates nothing; no function keeps them.
func invoke(fn *Function, args []eval, p fault.Place) eval {
	accepts := make([]kindSet, len(args))
	for i := range args {
		accepts[i] = kindsOf(fn.param(i).Kinds)
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		base := len(fr.stack)
		for i, a := range args {
			v, f := a(fr)
			if f == nil && !v.IsMissing() && !accepts[i].has(v.Kind()) {
				f = fault.Expect(fault.Type, kindList(fn.param(i).Kinds)+" as "+fn.param(i).Name, v.Kind().String()).InField(fn.Name).At(p)
			}
			if f != nil || v.IsMissing() && !fn.Lenient {
				fr.stack = fr.stack[:base]
				return v, f
			}
			fr.stack = append(fr.stack, v)
		}
		v, f := finish(fn, fr, fr.stack[base:], p)
		fr.stack = fr.stack[:base]
		return v, f
	}
}

func finish(fn *Function, fr *Frame, vals []value.Value, p fault.Place) (value.Value, *fault.Fault) {
	err := fr.step()
	if err == nil {
		var v value.Value
		if v, err = fn.Call(fr, vals); err == nil {
			return v, nil
		}
	}
	f := at(p, err)
	if f.Field == "" {
		f.Field = fn.Name
	}
	return value.Value{}, f
}

// kindSet is a set of kinds, one bit each.
type kindSet uint32

// kindsOf is what a parameter of these kinds accepts: any kind when none is named, and integers
// wherever decimals are.
func kindsOf(kinds []value.Kind) kindSet {
	if len(kinds) == 0 {
		return ^kindSet(0)
	}
	var s kindSet
	for _, k := range kinds {
		s |= 1 << k
		if k == value.Decimal {
			s |= 1 << value.Integer
		}
	}
	return s
}

func (s kindSet) has(k value.Kind) bool { return s&(1<<k) != 0 }

// items compiles a list and a formula over its items; slot holds the item, the one behind it its
// position. ok is false when something is wrong.
func (c *compiler) items(fn *Function, listNode, body ast.Node) (list, each eval, lt, et Type, slot int, ok bool) {
	before := len(c.reads)
	list, lt = c.node(listNode)
	var path []string
	if len(c.reads) > before && before >= c.closed {
		path = c.reads[before]
	}
	if !lt.unknown() && !lt.is(value.ListKind) {
		c.fail(listNode, fault.Expect(fault.Type, "a list", lt.String()).InField(fn.Name))
		return list, each, lt, et, 0, false
	}
	item := Type{Maybe: true}
	if lt.Item != nil {
		item = *lt.Item
	}
	slot = c.temp(2)
	c.pointers = append(c.pointers, binding{slot: slot, typ: item, path: path})
	if p, is := body.(*ast.PredicateNode); is {
		body = p.Node
	}
	each, et = c.node(body)
	c.pointers = c.pointers[:len(c.pointers)-1]
	return list, each, lt, et, slot, c.faults == nil
}

// over compiles a function that evaluates its last argument for every item of its first.
func (c *compiler) over(n ast.Node, fn *Function, nodes []ast.Node) (eval, Type) {
	list, each, lt, et, slot, ok := c.items(fn, nodes[0], nodes[1])
	if !ok {
		return never, Type{}
	}
	t := fn.Result([]Type{lt, et})
	t.Maybe = t.Maybe || lt.Maybe
	p := place(n)
	keyed := c.keyed(fn, nodes[1], lt, slot)
	return func(fr *Frame) (value.Value, *fault.Fault) {
		l, f := list(fr)
		if f != nil || l.IsMissing() {
			return l, f
		}
		if keyed != nil {
			if found, ok := keyed.find(fr, l); ok {
				return found, nil
			}
		}
		results, f := perItem(fr, l.Items(), each, slot, p)
		if f != nil {
			return value.Value{}, f
		}
		return finish(fn, fr, []value.Value{l, value.ListOf(results...)}, p)
	}, t
}

// perItem evaluates a formula for every item.
func perItem(fr *Frame, items []value.Value, each eval, slot int, p fault.Place) ([]value.Value, *fault.Fault) {
	results := make([]value.Value, len(items))
	for i, v := range items {
		if err := fr.step(); err != nil {
			return nil, at(p, err)
		}
		fr.Slots[slot], fr.Slots[slot+1] = v, value.Int(int64(i))
		var f *fault.Fault
		if results[i], f = each(fr); f != nil {
			return nil, f
		}
	}
	return results, nil
}
