package formula

import (
	"strings"

	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// maxPlain is how many operands of plain arithmetic are held at once.
const maxPlain = 8

// postfix is arithmetic of fields and constants as one list of operands and operators in postfix order, without a call for each: most
// formulas of amounts are so. Numbers that need more digits than a machine word has, and missing ones, are left to the general way.
type postfix []term

// term is an operand or an operator: a field of a record in scope, a constant, or +, - or *.
type term struct {
	op     byte // f, c, +, - or *
	access FieldAccess
	number value.Small
}

// postfix lists the terms of arithmetic; nil where something else is in it.
func (c *compiler) postfix(n ast.Node) postfix {
	terms, depth := c.terms(nil, n)
	if depth < 0 || depth > maxPlain || len(terms) < 3 {
		return nil
	}
	return terms
}

// terms adds those of a node, and says how many operands it holds at most; -1 where it is no plain arithmetic.
func (c *compiler) terms(to postfix, n ast.Node) (postfix, int) {
	var constant value.Value
	switch n := n.(type) {
	case *ast.BinaryNode:
		if !strings.Contains("+-*", n.Operator) {
			return nil, -1
		}
		to, left := c.terms(to, n.Left)
		if left < 0 {
			return nil, -1
		}
		to, right := c.terms(to, n.Right)
		if right < 0 {
			return nil, -1
		}
		return append(to, term{op: n.Operator[0]}), max(left, right+1)
	case *ast.IntegerNode:
		constant = value.Int(int64(n.Value))
	case *ast.FloatNode:
		constant, _ = c.literal(n)
	default:
		access := c.direct(n)
		if access == nil {
			return nil, -1
		}
		return append(to, term{op: 'f', access: *access}), 1
	}
	small, ok := constant.Small()
	if !ok {
		return nil, -1
	}
	return append(to, term{op: 'c', number: small}), 1
}

// or computes plainly, and in the general way where that is not possible.
func (p postfix) or(general eval) eval {
	if p == nil {
		return general
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		if v, ok := p.eval(fr); ok {
			return v, nil
		}
		return general(fr)
	}
}

func (p postfix) eval(fr *Frame) (value.Value, bool) {
	var stack [maxPlain]value.Small
	top := -1
	for i := range p {
		t := &p[i]
		ok := true
		switch t.op {
		case 'f':
			top++
			stack[top], ok = fr.Slots[t.access.Slot].Slot(t.access.Field).Small()
		case 'c':
			top++
			stack[top] = t.number
		case '*':
			top--
			ok = stack[top].Multiply(stack[top+1])
		case '-':
			top--
			ok = stack[top+1].Negate() && stack[top].Add(stack[top+1])
		default:
			top--
			ok = stack[top].Add(stack[top+1])
		}
		if !ok {
			return value.Value{}, false
		}
	}
	return stack[0].Value(), true
}
