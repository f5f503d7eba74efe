package formula

import (
	"regexp"
	"strings"

	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// compiler turns one formula's tree into closures. It goes on after a fault, to find the others.
type compiler struct {
	source             []rune
	scope              *Scope
	frames             int       // slots needed so far
	pointers           []binding // the items at hand, the innermost last
	reads              [][]string
	closed             int      // how many of the reads end where they are: what stands behind them is no part of theirs
	lookups, libraries []string // the tables and the functions of libraries that are used
	calls              []string // the functions of libraries around
	taken              *int     // how many functions of libraries the formula has taken in
	faults             fault.List
}

func never(*Frame) (value.Value, *fault.Fault) { return value.Value{}, nil }

func (c *compiler) fail(n ast.Node, f *fault.Fault) (eval, Type) {
	c.faults = append(c.faults, f.At(place(n)))
	return never, Type{}
}

func place(n ast.Node) fault.Place { return fault.Place{Column: n.Location().From + 1} }

// at gives an evaluation's error its place.
func at(p fault.Place, err error) *fault.Fault {
	code := fault.Arithmetic
	if err == errSteps || err == errTime || err == errBytes || err == errMatch {
		code = fault.Limit
	}
	f := fault.From(err, code)
	if f.Place.Column == 0 {
		f.Place.Column = p.Column
	}
	return f
}

func constant(v value.Value) eval {
	return func(*Frame) (value.Value, *fault.Fault) { return v, nil }
}

func (c *compiler) node(n ast.Node) (eval, Type) {
	switch n := n.(type) {
	case *ast.NilNode:
		return constant(value.NullValue), Type{Kind: value.Null, Maybe: true}
	case *ast.BoolNode:
		return constant(value.Bool(n.Value)), Type{Kind: value.Boolean}
	case *ast.IntegerNode:
		return constant(value.Int(int64(n.Value))), Type{Kind: value.Integer}
	case *ast.FloatNode:
		return c.decimal(n)
	case *ast.StringNode:
		return constant(value.NewText(n.Value)), Type{Kind: value.Text}
	case *ast.IdentifierNode:
		return c.name(n, n.Value)
	case *ast.MemberNode:
		return c.member(n)
	case *ast.ChainNode:
		return c.node(n.Node)
	case *ast.PointerNode:
		return c.pointer(n)
	case *ast.UnaryNode:
		return c.unary(n)
	case *ast.BinaryNode:
		return c.binary(n)
	case *ast.ConditionalNode:
		return c.conditional(n)
	case *ast.VariableDeclaratorNode:
		return c.let(n)
	case *ast.ArrayNode:
		return c.array(n)
	case *ast.BuiltinNode:
		return c.call(n, n.Name, n.Arguments)
	case *ast.CallNode:
		if callee, ok := n.Callee.(*ast.IdentifierNode); ok {
			return c.call(n, callee.Value, n.Arguments)
		}
		if lib, id, name, ok := c.libraryCall(n); ok {
			return c.custom(n, lib, id, name)
		}
	}
	return c.fail(n, fault.New(fault.Syntax, "this form is not part of the formula language"))
}

// decimal takes the literal's digits from the source: the tree holds only a float.
func (c *compiler) decimal(n *ast.FloatNode) (eval, Type) {
	v, text := c.literal(n)
	if v.Kind() == value.Absent {
		return c.fail(n, fault.New(fault.Syntax, "%q is not a decimal number", text))
	}
	return constant(v), Type{Kind: value.Decimal}
}

// literal is the number that a literal says, and its text; absent where it is none.
func (c *compiler) literal(n *ast.FloatNode) (value.Value, string) {
	loc := n.Location()
	text := strings.ReplaceAll(string(c.source[loc.From:min(loc.To, len(c.source))]), "_", "")
	v, _ := value.ParseDecimal(text)
	return v, text
}

func (c *compiler) name(n ast.Node, name string) (eval, Type) {
	b, field, ok := c.scope.find(name)
	if !ok {
		f := fault.New(fault.Unknown, "there is no %q here", name)
		if near := nearest(name, c.scope.candidates()); near != "" {
			f.WithFix("Did you mean %s?", near)
		}
		return c.fail(n, f)
	}
	slot := b.slot
	if field == nil {
		c.read(n, []string{b.name})
		return func(fr *Frame) (value.Value, *fault.Fault) { return fr.Slots[slot], nil }, b.typ
	}
	c.read(n, []string{b.name, name})
	return slotOf(slot, field.Slot()), Of(field)
}

func slotOf(slot, i int) eval {
	return func(fr *Frame) (value.Value, *fault.Fault) { return fr.Slots[slot].Slot(i), nil }
}

func (c *compiler) read(_ ast.Node, path []string) { c.reads = append(c.reads, path) }

// direct finds the place of a name, or of a name's field.
func (c *compiler) direct(n ast.Node) *FieldAccess {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		if b, field, ok := c.scope.find(n.Value); ok && field != nil {
			return &FieldAccess{Slot: b.slot, Field: field.Slot()}
		}
	case *ast.MemberNode:
		id, ok := n.Node.(*ast.IdentifierNode)
		property, named := n.Property.(*ast.StringNode)
		if !ok || !named {
			return nil
		}
		if b, field, found := c.scope.find(id.Value); found && field == nil && b.typ.Record() {
			return &FieldAccess{Slot: b.slot, Field: b.typ.Fields.Field(property.Value).Slot()}
		}
	}
	return nil
}

// bare says whether a tree is only a path of names.
func (c *compiler) bare(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		return true
	case *ast.ChainNode:
		return c.bare(n.Node)
	case *ast.MemberNode:
		_, text := n.Property.(*ast.StringNode)
		return text && c.bare(n.Node)
	}
	return false
}

func (c *compiler) member(n *ast.MemberNode) (eval, Type) {
	before := len(c.reads)
	inner, t := c.node(n.Node)
	property, named := n.Property.(*ast.StringNode)
	switch {
	case c.faults != nil:
		return never, Type{}
	case named && t.Record():
		return c.field(n, inner, t, property.Value, before)
	case named && t.is(value.VariantKind):
		return c.branch(n, inner, t, property.Value, before)
	case t.is(value.MapKind):
		return c.entry(n, inner, t, before)
	case named && t.unknown(), named && t.is(value.RecordKind):
		name := property.Value
		return func(fr *Frame) (value.Value, *fault.Fault) {
			v, f := inner(fr)
			return v.Field(name), f
		}, Type{Maybe: true}
	case t.is(value.ListKind), t.unknown() && !named:
		return c.index(n, inner, t)
	}
	return c.fail(n, fault.Expect(fault.Type, "a record before the point", t.String()))
}

func (c *compiler) field(n *ast.MemberNode, inner eval, t Type, name string, before int) (eval, Type) {
	f := t.Fields.Field(name)
	if f == nil {
		ft := fault.New(fault.Unknown, "%s has no field %q", t.Fields.Name, name)
		if near := nearest(name, t.Fields.Layout().Names); near != "" {
			ft.WithFix("Did you mean %s?", near)
		}
		return c.fail(n, ft)
	}
	c.goOn(before, name)
	result := Of(f)
	result.Maybe = result.Maybe || t.Maybe
	i := f.Slot()
	if id, ok := n.Node.(*ast.IdentifierNode); ok {
		if b, field, found := c.scope.find(id.Value); found && field == nil {
			return slotOf(b.slot, i), result
		}
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := inner(fr)
		return v.Slot(i), f
	}, result
}

// goOn lets the path that was read by what stands before a name go on with it.
func (c *compiler) goOn(before int, name string) {
	if len(c.reads) > before && before >= c.closed {
		of := c.reads[before]
		c.reads[before] = append(of[:len(of):len(of)], name)
	}
}

// branch reads a variant as one of its branches; absent where the value is another one.
func (c *compiler) branch(n *ast.MemberNode, inner eval, t Type, name string, before int) (eval, Type) {
	b := t.Fields.Field(name)
	if b == nil {
		ft := fault.New(fault.Unknown, "%s is one of %s; %q is none of them", t.Fields.Name, strings.Join(t.branches(), ", "), name)
		for _, has := range t.Fields.Fields {
			if has.Kind == value.RecordKind && has.Field(name) != nil {
				ft.WithFix("Say which one: %s.%s.%s", t.Fields.Name, has.Name, name)
				break
			}
		}
		return c.fail(n, ft)
	}
	c.goOn(before, name)
	result := Of(b)
	result.Maybe = true
	of := t.Fields
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := inner(fr)
		if f != nil || v.IsMissing() {
			return v, f
		}
		if is, _ := of.Branch(v); is != b {
			return value.Value{}, nil
		}
		return v, nil
	}, result
}

// entry reads what stands at a name of a map; absent where it has no such name.
func (c *compiler) entry(n *ast.MemberNode, inner eval, t Type, before int) (eval, Type) {
	name, it := c.node(n.Property)
	if !it.unknown() && !it.is(value.Text) {
		return c.fail(n.Property, fault.Expect(fault.Type, "a text as name", it.String()))
	}
	result := Type{Maybe: true}
	if t.Item != nil {
		result = *t.Item
		result.Maybe = true
	}
	if t.Fields != nil {
		c.goOn(before, t.Fields.Each().Name)
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := inner(fr)
		if f != nil || v.IsMissing() {
			return v, f
		}
		key, f := name(fr)
		if f != nil || key.IsMissing() {
			return value.Value{}, f
		}
		return v.Field(key.Text()), nil
	}, result
}

// index reads a list's item: from 0, from the end when negative; absent when there is none.
func (c *compiler) index(n *ast.MemberNode, inner eval, t Type) (eval, Type) {
	idx, it := c.node(n.Property)
	if !it.unknown() && !it.is(value.Integer) {
		return c.fail(n.Property, fault.Expect(fault.Type, "a whole number as position", it.String()))
	}
	result := Type{Maybe: true}
	if t.Item != nil {
		result = *t.Item
		result.Maybe = true
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		list, f := inner(fr)
		if f != nil {
			return list, f
		}
		i, f := idx(fr)
		if f != nil {
			return i, f
		}
		k, ok := i.Int64()
		items := list.Items()
		if k < 0 {
			k += int64(len(items))
		}
		if !ok || k < 0 || k >= int64(len(items)) {
			return value.Value{}, nil
		}
		return items[k], nil
	}, result
}

// pointer is the item at hand inside a predicate, or its position as #index.
func (c *compiler) pointer(n *ast.PointerNode) (eval, Type) {
	if len(c.pointers) == 0 {
		return c.fail(n, fault.New(fault.Syntax, "# stands for a list's item; there is no list here"))
	}
	b := c.pointers[len(c.pointers)-1]
	slot := b.slot
	if n.Name == "index" {
		slot++
		return func(fr *Frame) (value.Value, *fault.Fault) { return fr.Slots[slot], nil }, Type{Kind: value.Integer}
	}
	if b.path != nil {
		c.read(n, b.path)
	}
	return func(fr *Frame) (value.Value, *fault.Fault) { return fr.Slots[slot], nil }, b.typ
}

func (c *compiler) temp(n int) int {
	slot := c.frames
	c.frames += n
	return slot
}

func (c *compiler) let(n *ast.VariableDeclaratorNode) (eval, Type) {
	v, t := c.node(n.Value)
	outer := c.scope
	c.scope = outer.Inner()
	slot := c.temp(1)
	c.scope.names[n.Name] = binding{slot: slot, typ: t, name: n.Name}
	body, bt := c.node(n.Expr)
	c.scope = outer
	return func(fr *Frame) (value.Value, *fault.Fault) {
		x, f := v(fr)
		if f != nil {
			return x, f
		}
		fr.Slots[slot] = x
		return body(fr)
	}, bt
}

func (c *compiler) array(n *ast.ArrayNode) (eval, Type) {
	items := make([]eval, len(n.Nodes))
	t := Type{Kind: value.ListKind}
	for i, item := range n.Nodes {
		var it Type
		items[i], it = c.node(item)
		if t.Item == nil {
			t.Item = &it
		} else if t.Item.Kind != it.Kind {
			t.Item = &Type{}
		}
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		out := make([]value.Value, len(items))
		for i, item := range items {
			v, f := item(fr)
			if f != nil {
				return v, f
			}
			out[i] = v
		}
		return value.ListOf(out...), nil
	}, t
}

func (c *compiler) conditional(n *ast.ConditionalNode) (eval, Type) {
	cond := c.condition(n.Cond)
	yes, ty := c.node(n.Exp1)
	no, tn := c.node(n.Exp2)
	t, ok := union(ty, tn)
	if !ok {
		return c.fail(n.Exp2, fault.Expect(fault.Type, ty.String()+" in both branches", tn.String()))
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		is, f := cond(fr)
		if f != nil {
			return is, f
		}
		if is.IsTrue() {
			return yes(fr)
		}
		return no(fr)
	}, t
}

// condition compiles something that must be true or false when it is evaluated.
func (c *compiler) condition(n ast.Node) eval {
	e, t := c.node(n)
	p := place(n)
	if !t.unknown() && !t.is(value.Boolean) && c.faults == nil {
		c.fail(n, fault.Expect(fault.Type, "true or false", t.String()))
	}
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := e(fr)
		if f == nil && v.Kind() != value.Boolean {
			f = fault.Expect(fault.Type, "true or false", v.Kind().String()).At(p)
		}
		return v, f
	}
}

func union(a, b Type) (Type, bool) {
	maybe := a.Maybe || b.Maybe
	switch {
	case a.unknown() || b.unknown():
		return Type{Maybe: true}, true
	case a.is(value.Null):
		b.Maybe = true
		return b, true
	case b.is(value.Null):
		a.Maybe = true
		return a, true
	case a.Kind.Numeric() && b.Kind.Numeric() && a.Kind != b.Kind:
		return Type{Kind: value.Decimal, Maybe: maybe}, true
	case a.Kind != b.Kind:
		return Type{}, false
	}
	a.Maybe = maybe
	return a, true
}

func (c *compiler) unary(n *ast.UnaryNode) (eval, Type) {
	if n.Operator == "!" || n.Operator == "not" {
		cond := c.condition(n.Node)
		return func(fr *Frame) (value.Value, *fault.Fault) {
			v, f := cond(fr)
			return value.Bool(!v.IsTrue()), f
		}, Type{Kind: value.Boolean}
	}
	e, t := c.node(n.Node)
	if !t.unknown() && !t.Kind.Numeric() {
		return c.fail(n, fault.Expect(fault.Type, "a number after "+n.Operator, t.String()))
	}
	if n.Operator == "+" {
		return e, t
	}
	p := place(n)
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := e(fr)
		if f != nil || v.IsMissing() {
			return v, f
		}
		r, err := value.Neg(v)
		if err != nil {
			return r, at(p, err)
		}
		return r, nil
	}, t
}

// nearest finds the candidate that a misspelt name most likely means: one letter is wrong, or two of a longer name that
// begins alike, or it is the beginning of it.
func nearest(name string, candidates []string) string {
	best, least := "", 3
	if len(name) <= 4 {
		least = 2
	}
	for _, c := range candidates {
		d := distance(strings.ToLower(name), strings.ToLower(c))
		if transposed(strings.ToLower(name), strings.ToLower(c)) {
			d = 1
		}
		if d == 2 && !strings.EqualFold(name[:min(1, len(name))], c[:min(1, len(c))]) {
			continue
		}
		if len(name) > 2 && strings.HasPrefix(c, name) {
			d = min(d, 1)
		}
		if d < least {
			best, least = c, d
		}
	}
	return best
}

// transposed says whether two names differ by two letters beside each other that have changed places.
func transposed(a, b string) bool {
	for i := 0; i+1 < len(a) && len(a) == len(b); i++ {
		if a[i] != b[i] {
			return a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
		}
	}
	return false
}

// distance is the Levenshtein distance.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

// matches compiles a regular expression (RE2 syntax) once, when it is a constant.
func (c *compiler) matches(n *ast.BinaryNode, left eval) (eval, Type) {
	lit, ok := n.Right.(*ast.StringNode)
	if !ok {
		return c.fail(n.Right, fault.New(fault.Setting, "the pattern after matches must be a constant text"))
	}
	re, err := regexp.Compile(lit.Value)
	if err != nil {
		return c.fail(n.Right, fault.New(fault.Syntax, "the pattern cannot be read: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: ")))
	}
	size, where := instructions(lit.Value), place(n)
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := left(fr)
		if f != nil || v.IsMissing() {
			return v, f
		}
		if err := fr.match(len(v.Text()), size); err != nil {
			return value.Value{}, at(where, err)
		}
		return value.Bool(re.MatchString(v.Text())), nil
	}, Type{Kind: value.Boolean}
}
