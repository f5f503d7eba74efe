package formula

import (
	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

// Env is what the formulas of a project can use beside the catalogue. The zero Env has nothing.
type Env struct {
	Tables    map[string]*table.Table
	Libraries map[string]*Library
	Used      func(kind, id string) // told of each table and library that a formula names while it is compiled; may be nil
}

// Table finds a table that something names; nil when there is none.
func (e Env) Table(id string) *table.Table {
	if e.Used != nil {
		e.Used("table", id)
	}
	return e.Tables[id]
}

// library finds a library that a formula names; nil when there is none.
func (e Env) library(id string) *Library {
	if e.Used != nil {
		e.Used("library", id)
	}
	return e.Libraries[id]
}

// tableFunctions look values up in the project's tables. They are compiled with the table: its id must
// be a constant text.
var tableFunctions = []Function{
	{
		Name: "lookup", Family: "tables", About: "The row of a table with a key, or several; what comes of a key that it does not have is chosen in the table.",
		Params: []Param{p("table", textKind), p("key", scalar)}, Variadic: true, bind: bindTable,
		Examples: []Example{{`lookup("islands", "OR").name`, "Orma"}, {`lookup("islands", "XX").name`, "elsewhere"}},
	},
	{
		Name: "hasKey", Family: "tables", About: "Whether a table has a row with a key, or several.",
		Params: []Param{p("table", textKind), p("key", scalar)}, Variadic: true, bind: bindTable, Lenient: true,
		Examples: []Example{{`hasKey("islands", "OR")`, "true"}, {`hasKey("islands", "XX")`, "false"}},
	},
}

// bindTable compiles a look-up.
func bindTable(c *compiler, fn *Function, n ast.Node, nodes []ast.Node) (eval, Type) {
	id, ok := nodes[0].(*ast.StringNode)
	if !ok {
		return c.fail(nodes[0], fault.New(fault.Setting, "the table's name must be a constant text").InField(fn.Name))
	}
	t := c.scope.env.Table(id.Value)
	if t == nil {
		f := fault.New(fault.Unknown, "there is no table %q", id.Value)
		if near := nearest(id.Value, keysOf(c.scope.env.Tables)); near != "" {
			f.WithFix("Did you mean %s?", near)
		}
		return c.fail(nodes[0], f)
	}
	if len(nodes)-1 != len(t.Keys) {
		return c.fail(n, fault.Expect(fault.Syntax, count(len(t.Keys), "key")+" for the table "+t.ID, count(len(nodes)-1, "key")).InField(fn.Name))
	}
	args := make([]eval, len(t.Keys))
	maybe := t.None == table.Absent
	for i, key := range t.Keys {
		var at Type
		args[i], at = c.node(nodes[1+i])
		if maybe = maybe || at.Maybe; c.faults == nil && !at.unknown() && !at.is(value.Null) && !comparable(at, Type{Kind: key.Kind}) {
			return c.fail(nodes[1+i], fault.Expect(fault.Type, key.Kind.String()+" as "+key.Name, at.String()).InField(fn.Name))
		}
	}
	c.lookups, c.closed = append(c.lookups, t.ID), len(c.reads)
	look := &tableCall{fn: fn, table: t, args: args, place: place(n)}
	if fn.Name == "hasKey" {
		return look.has, Type{Kind: value.Boolean}
	}
	return look.find, Type{Kind: value.RecordKind, Fields: t.Row, Maybe: maybe}
}

// tableCall is one look-up in a formula.
type tableCall struct {
	fn    *Function
	table *table.Table
	args  []eval
	place fault.Place
}

// keys evaluates the keys on the frame's stack; they stand until the next call.
func (t *tableCall) keys(fr *Frame) (keys []value.Value, missing bool, f *fault.Fault) {
	base := len(fr.stack)
	defer func() { fr.stack = fr.stack[:base] }()
	for _, a := range t.args {
		v, f := a(fr)
		if f != nil {
			return nil, false, f
		}
		missing = missing || v.IsMissing()
		fr.stack = append(fr.stack, v)
	}
	if err := fr.step(); err != nil {
		return nil, false, at(t.place, err)
	}
	return fr.stack[base:], missing, nil
}

func (t *tableCall) find(fr *Frame) (value.Value, *fault.Fault) {
	keys, missing, f := t.keys(fr)
	if f != nil || missing {
		return value.Value{}, f
	}
	row, f := t.table.Find(keys)
	if f != nil {
		f = f.At(t.place).InField(t.fn.Name)
	}
	return row, f
}

func (t *tableCall) has(fr *Frame) (value.Value, *fault.Fault) {
	keys, missing, f := t.keys(fr)
	return value.Bool(f == nil && !missing && t.table.Has(keys)), f
}

func keysOf[T any](m map[string]T) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	return out
}
