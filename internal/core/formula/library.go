package formula

import (
	"slices"
	"strings"

	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/script"
	"hollowreed/internal/core/value"
)

// mostInlined bounds the functions of libraries that one formula takes in, through one another.
const mostInlined = 1_000

// Library is a set of a project's own functions, used in formulas as library.name.
type Library struct {
	ID        string
	Functions []*Custom
}

// Custom is one function of a library: a formula over its parameters, or a script.
type Custom struct {
	Name, About string
	Params      []Param    // each of one kind, or of any
	Result      value.Kind // Absent is any
	Formula     string
	Script      *script.Function
}

// Function finds a function by name; nil when there is none.
func (l *Library) Function(name string) *Custom {
	if i := slices.IndexFunc(l.Functions, func(f *Custom) bool { return f.Name == name }); i >= 0 {
		return l.Functions[i]
	}
	return nil
}

// Signature shows how the function is called.
func (f *Custom) Signature() string {
	names := make([]string, len(f.Params))
	for i, p := range f.Params {
		names[i] = p.Name
	}
	return f.Name + "(" + strings.Join(names, ", ") + ")"
}

// typeOf is what is known of a parameter's value.
func (p Param) typeOf(arg Type) Type {
	if len(p.Kinds) == 0 {
		return arg
	}
	t := Type{Kind: p.Kinds[0], Maybe: arg.Maybe || arg.unknown()}
	if arg.Kind == t.Kind {
		t.Fields, t.Item = arg.Fields, arg.Item
	}
	return t
}

// libraryCall takes a call apart that names a function of a library; ok is false for every other.
func (c *compiler) libraryCall(n *ast.CallNode) (lib *Library, id, name string, ok bool) {
	m, is := n.Callee.(*ast.MemberNode)
	if !is {
		return nil, "", "", false
	}
	of, isName := m.Node.(*ast.IdentifierNode)
	property, named := m.Property.(*ast.StringNode)
	if !isName || !named {
		return nil, "", "", false
	}
	lib = c.scope.env.library(of.Value)
	_, _, known := c.scope.find(of.Value)
	return lib, of.Value, property.Value, lib != nil || !known
}

func (c *compiler) custom(n *ast.CallNode, lib *Library, id, name string) (eval, Type) {
	if lib == nil {
		f := fault.New(fault.Unknown, "there is no library %q", id)
		if near := nearest(id, keysOf(c.scope.env.Libraries)); near != "" {
			f.WithFix("Did you mean %s?", near)
		}
		return c.fail(n, f)
	}
	fn := lib.Function(name)
	if fn == nil {
		var names []string
		for _, f := range lib.Functions {
			names = append(names, f.Name)
		}
		return c.fail(n, fault.New(fault.Unknown, "the library %s has no function %q", id, name).WithFix("It has %s", strings.Join(names, ", ")))
	}
	full := id + "." + name
	if slices.Contains(c.calls, full) {
		return c.fail(n, fault.New(fault.Setting, "functions of libraries call each other in a circle: %s", strings.Join(append(c.calls, full), " → ")))
	}
	if len(n.Arguments) != len(fn.Params) {
		return c.fail(n, fault.Expect(fault.Syntax, id+"."+fn.Signature(), count(len(n.Arguments), "argument")))
	}
	args := make([]eval, len(fn.Params))
	types := make([]Type, len(fn.Params))
	for i, a := range n.Arguments {
		args[i], types[i] = c.node(a)
		if p := fn.Params[i]; c.faults == nil && !fits(types[i], p.Kinds) {
			return c.fail(a, fault.Expect(fault.Type, kindList(p.Kinds)+" as "+p.Name, types[i].String()).InField(full))
		}
	}
	if c.faults != nil {
		return never, Type{}
	}
	c.libraries, c.closed = append(c.libraries, full), len(c.reads)
	if fn.Script != nil {
		return scripted(fn, full, args, place(n)), Type{Kind: fn.Result, Maybe: true}
	}
	return c.inlined(n, fn, full, args, types)
}

// inlined compiles the formula of a function at the place of its call, with the arguments in slots of
// their own.
func (c *compiler) inlined(n ast.Node, fn *Custom, full string, args []eval, types []Type) (eval, Type) {
	if *c.taken++; *c.taken > mostInlined {
		return c.fail(n, fault.New(fault.Limit, "the formula takes in more than %d functions of libraries", mostInlined))
	}
	tree, err := parse(fn.Formula)
	if err != nil {
		return c.fail(n, fault.New(fault.Syntax, "%s cannot be read: %s", full, syntax(err).What()))
	}
	base := c.temp(len(args))
	scope := NewScope()
	scope.env = c.scope.env
	for i, p := range fn.Params {
		scope.names[p.Name] = binding{slot: base + i, typ: p.typeOf(types[i]), name: p.Name}
	}
	body := &compiler{source: []rune(fn.Formula), scope: scope, frames: c.frames, calls: append(c.calls[:len(c.calls):len(c.calls)], full), taken: c.taken}
	e, t := body.node(tree.Node)
	c.frames = body.frames
	c.lookups, c.libraries = append(c.lookups, body.lookups...), append(c.libraries, body.libraries...)
	if body.faults != nil {
		return c.fail(n, fault.New(body.faults[0].Code, "%s: %s", full, body.faults[0].What()))
	}
	if fn.Result != value.Absent {
		if !t.Fits(fn.Result) {
			return c.fail(n, fault.Expect(fault.Type, fn.Result.String()+" from "+full, t.String()))
		}
		t.Kind = fn.Result
	}
	p, whole := place(n), fn.Result == value.Decimal
	return func(fr *Frame) (value.Value, *fault.Fault) {
		for i, a := range args {
			v, f := a(fr)
			if f != nil {
				return v, f
			}
			fr.Slots[base+i] = v
		}
		v, f := e(fr)
		if f != nil {
			return v, called(f, full, p)
		}
		if whole && v.Kind() == value.Integer {
			v = value.AsDecimal(v)
		}
		return v, nil
	}, t
}

// called is a fault inside of a library's function as one of its call.
func called(f *fault.Fault, full string, p fault.Place) *fault.Fault {
	outer := *f
	outer.Place, outer.Field = p, full
	return &outer
}

// scripted makes the evaluation of a function that is a script.
func scripted(fn *Custom, full string, args []eval, p fault.Place) eval {
	return func(fr *Frame) (value.Value, *fault.Fault) {
		values := make([]value.Value, len(args))
		for i, a := range args {
			v, f := a(fr)
			if f != nil {
				return v, f
			}
			values[i] = v
		}
		err := fr.step()
		if err == nil {
			err = fr.late()
		}
		if err != nil {
			return value.Value{}, at(p, err)
		}
		v, f := fn.Script.Call(values)
		if f != nil {
			f = called(f, full, p)
		}
		return v, f
	}
}
