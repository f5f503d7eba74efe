package formula

import (
	"strings"

	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

type operation func(a, b value.Value) (value.Value, error)

var arithmetic = map[string]operation{
	"+": value.Add, "-": value.Sub, "*": value.Mul, "/": value.Div, "%": value.Mod,
}

var comparison = map[string]func(c int) bool{
	"<": func(c int) bool { return c < 0 }, "<=": func(c int) bool { return c <= 0 },
	">": func(c int) bool { return c > 0 }, ">=": func(c int) bool { return c >= 0 },
	"==": func(c int) bool { return c == 0 }, "!=": func(c int) bool { return c != 0 },
}

var textTests = map[string]func(a, b string) bool{
	"contains": strings.Contains, "startsWith": strings.HasPrefix, "endsWith": strings.HasSuffix,
}

func (c *compiler) binary(n *ast.BinaryNode) (eval, Type) {
	switch n.Operator {
	case "and", "&&", "or", "||":
		return c.logic(n)
	}
	left, lt := c.node(n.Left)
	if n.Operator == "matches" {
		return c.matches(n, left)
	}
	right, rt := c.node(n.Right)
	if c.faults != nil {
		return never, Type{}
	}
	maybe := lt.Maybe || rt.Maybe
	switch {
	case n.Operator == "??":
		return c.coalesce(n, left, right, lt, rt)
	case n.Operator == "==" || n.Operator == "!=":
		return c.equality(n, left, right, lt, rt)
	case n.Operator == "in":
		return c.in(n, left, right, lt, rt)
	case comparison[n.Operator] != nil:
		return c.compare(n, left, right, lt, rt)
	case textTests[n.Operator] != nil:
		return c.textTest(n, left, right, lt, rt)
	case n.Operator == "+" && lt.is(value.Text) && rt.is(value.Text):
		return c.strict(n, concat, left, right), Type{Kind: value.Text, Maybe: maybe}
	case arithmetic[n.Operator] != nil:
		return c.arithmetic(n, left, right, lt, rt)
	}
	return c.fail(n, fault.New(fault.Syntax, "the operator %s is not part of the formula language", n.Operator))
}

func concat(a, b value.Value) (value.Value, error) {
	if len(a.Text())+len(b.Text()) > MaxBytes {
		return value.Value{}, errBytes
	}
	return value.NewText(a.Text() + b.Text()), nil
}

// strict makes an evaluation that is absent or null when an operand is.
func (c *compiler) strict(n ast.Node, op operation, left, right eval) eval {
	p := place(n)
	return func(fr *Frame) (value.Value, *fault.Fault) {
		a, f := left(fr)
		if f != nil || a.IsMissing() {
			return a, f
		}
		b, f := right(fr)
		if f != nil || b.IsMissing() {
			return b, f
		}
		r, err := op(a, b)
		if err != nil {
			return r, at(p, err)
		}
		return r, nil
	}
}

// joined says how two values are joined as texts, where that compiles.
func (c *compiler) joined(n *ast.BinaryNode, lt, rt Type, f *fault.Fault) {
	left, right := n.Left.String(), n.Right.String()
	if !lt.is(value.Text) {
		left = "text(" + left + ")"
	}
	if !rt.is(value.Text) {
		right = "text(" + right + ")"
	}
	now := left + " + " + right
	if _, wrong := compilePlain(now, c.scope); len(wrong) == 0 {
		f.WithFix("Write %s", now)
	}
}

func (c *compiler) arithmetic(n *ast.BinaryNode, left, right eval, lt, rt Type) (eval, Type) {
	for _, o := range []struct {
		t Type
		n ast.Node
	}{{lt, n.Left}, {rt, n.Right}} {
		if o.t.unknown() || o.t.Kind.Numeric() {
			continue
		}
		f := fault.Expect(fault.Type, "a number beside "+n.Operator, o.t.String())
		if n.Operator == "+" && (lt.is(value.Text) || rt.is(value.Text)) {
			c.joined(n, lt, rt, f)
		}
		return c.fail(o.n, f)
	}
	t := Type{Kind: value.Decimal, Maybe: lt.Maybe || rt.Maybe}
	switch {
	case lt.unknown() || rt.unknown():
		t = Type{Maybe: true}
	case lt.is(value.Integer) && rt.is(value.Integer) && n.Operator != "/":
		t.Kind = value.Integer
	}
	op := arithmetic[n.Operator]
	if n.Operator == "+" && t.unknown() {
		op = addOrJoin
	}
	general := c.strict(n, op, left, right)
	if t.unknown() {
		return general, t
	}
	return c.postfix(n).or(general), t
}

func addOrJoin(a, b value.Value) (value.Value, error) {
	if a.Kind() == value.Text && b.Kind() == value.Text {
		return concat(a, b)
	}
	return value.Add(a, b)
}

func comparable(a, b Type) bool {
	return a.unknown() || b.unknown() || a.Kind == b.Kind || a.Kind.Numeric() && b.Kind.Numeric()
}

func (c *compiler) compare(n *ast.BinaryNode, left, right eval, lt, rt Type) (eval, Type) {
	if !comparable(lt, rt) || lt.is(value.RecordKind, value.ListKind) {
		return c.fail(n, fault.Expect(fault.Type, "two values of one type around "+n.Operator, lt.String()+" and "+rt.String()))
	}
	test := comparison[n.Operator]
	return c.strict(n, func(a, b value.Value) (value.Value, error) {
		o, err := value.Compare(a, b)
		return value.Bool(test(o)), err
	}, left, right), Type{Kind: value.Boolean, Maybe: lt.Maybe || rt.Maybe}
}

// equality knows absent and null: they equal nil and nothing else.
func (c *compiler) equality(n *ast.BinaryNode, left, right eval, lt, rt Type) (eval, Type) {
	if !comparable(lt, rt) && !lt.is(value.Null) && !rt.is(value.Null) {
		return c.fail(n, fault.Expect(fault.Type, "two values of one type around "+n.Operator, lt.String()+" and "+rt.String()))
	}
	want := n.Operator == "=="
	return c.fieldIs(n, want, equal(left, right, want, place(n))), Type{Kind: value.Boolean}
}

// fieldIs compares a field with a text that is written out; what else stands in the field is left to the general way.
func (c *compiler) fieldIs(n *ast.BinaryNode, want bool, general eval) eval {
	access, text := c.direct(n.Left), n.Right
	if access == nil {
		access, text = c.direct(n.Right), n.Left
	}
	is, ok := text.(*ast.StringNode)
	if access == nil || !ok {
		return general
	}
	at, yes, no := *access, value.Bool(want), value.Bool(!want)
	return func(fr *Frame) (value.Value, *fault.Fault) {
		switch v := fr.Slots[at.Slot].Slot(at.Field); {
		case v.Kind() != value.Text:
			return general(fr)
		case v.Text() == is.Value:
			return yes, nil
		}
		return no, nil
	}
}

func equal(left, right eval, want bool, p fault.Place) eval {
	return func(fr *Frame) (value.Value, *fault.Fault) {
		a, f := left(fr)
		if f != nil {
			return a, f
		}
		b, f := right(fr)
		if f != nil {
			return b, f
		}
		if a.IsMissing() || b.IsMissing() {
			return value.Bool((a.IsMissing() && b.IsMissing()) == want), nil
		}
		if a.Kind() != b.Kind() && (!a.Kind().Numeric() || !b.Kind().Numeric()) {
			return value.Value{}, fault.Expect(fault.Type, "two values of one type", a.Kind().String()+" and "+b.Kind().String()).At(p)
		}
		return value.Bool(value.Equal(a, b) == want), nil
	}
}

func (c *compiler) in(n *ast.BinaryNode, left, right eval, lt, rt Type) (eval, Type) {
	if !rt.unknown() && !rt.is(value.ListKind) {
		return c.fail(n.Right, fault.Expect(fault.Type, "a list after in", rt.String()))
	}
	if rt.Item != nil && !comparable(lt, *rt.Item) {
		return c.fail(n, fault.Expect(fault.Type, "a list of "+lt.String(), rt.String()))
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		a, f := left(fr)
		if f != nil || a.IsMissing() {
			return a, f
		}
		b, f := right(fr)
		if f != nil {
			return b, f
		}
		for _, item := range b.Items() {
			if value.Equal(a, item) {
				return value.Bool(true), nil
			}
		}
		return value.Bool(false), nil
	}, Type{Kind: value.Boolean, Maybe: lt.Maybe}
}

func (c *compiler) textTest(n *ast.BinaryNode, left, right eval, lt, rt Type) (eval, Type) {
	for _, t := range []Type{lt, rt} {
		if !t.unknown() && !t.is(value.Text) {
			return c.fail(n, fault.Expect(fault.Type, "texts around "+n.Operator, lt.String()+" and "+rt.String()))
		}
	}
	test := textTests[n.Operator]
	return c.strict(n, func(a, b value.Value) (value.Value, error) {
		return value.Bool(test(a.Text(), b.Text())), nil
	}, left, right), Type{Kind: value.Boolean, Maybe: lt.Maybe || rt.Maybe}
}

func (c *compiler) coalesce(n *ast.BinaryNode, left, right eval, lt, rt Type) (eval, Type) {
	t, ok := union(lt, rt)
	if !ok {
		return c.fail(n.Right, fault.Expect(fault.Type, lt.String(), rt.String()))
	}
	t.Maybe = rt.Maybe
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := left(fr)
		if f != nil || !v.IsMissing() {
			return v, f
		}
		return right(fr)
	}, t
}

// logic evaluates its right side only when the left does not decide.
func (c *compiler) logic(n *ast.BinaryNode) (eval, Type) {
	left, right := c.condition(n.Left), c.condition(n.Right)
	decides := n.Operator == "or" || n.Operator == "||"
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := left(fr)
		if f != nil || v.IsTrue() == decides {
			return v, f
		}
		return right(fr)
	}, Type{Kind: value.Boolean}
}
