package worker

import (
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/dop251/goja/ast"
	"github.com/dop251/goja/token"

	"hollowreed/internal/core/script/internal/wire"
)

// mostPaths bounds what is told of a script.
const mostPaths = 1000

// uses is what a function reads of its arguments and which names what it gives has, as far as its text says so: paths of names.
type uses struct {
	reads, makes [][]string
	known        map[string][]string // what a name of the script stands for: a path from an argument
	items        map[string][]string // the same of the parameters of a function that is given the items of a list
}

// usesOf looks through the text of a function. Items of lists are named by the path of their list.
func usesOf(program *ast.Program) *uses {
	u := &uses{known: map[string][]string{}}
	fn := program.Body[0].(*ast.ExpressionStatement).Expression.(*ast.FunctionLiteral) // as was checked
	for _, p := range fn.ParameterList.List {
		if id, is := p.Target.(*ast.Identifier); is {
			u.known[id.Name.String()] = []string{id.Name.String()}
		}
	}
	u.walk(reflect.ValueOf(fn.Body))
	u.returns(reflect.ValueOf(fn.Body), nil, map[string]ast.Expression{})
	return u
}

// write adds what was found: a list of reads and one of makes, each path as one text.
func (u *uses) write(b []byte) []byte {
	b = wire.AppendCount(b, wire.List, 2)
	for _, paths := range [][][]string{u.reads, u.makes} {
		b = wire.AppendCount(b, wire.List, len(paths))
		for _, p := range paths {
			b = wire.AppendText(b, wire.Text, strings.Join(p, "\x00"))
		}
	}
	return b
}

func add(list [][]string, path []string) [][]string {
	if len(path) == 0 || len(list) >= mostPaths || slices.ContainsFunc(list, func(p []string) bool { return slices.Equal(p, path) }) {
		return list
	}
	return append(list, path)
}

// sameItems are the methods of lists that give the same items, and oneItem those that give one of them.
var (
	sameItems = []string{"filter", "slice", "sort", "reverse", "concat", "toSorted", "toReversed", "flat", "find", "findLast", "at", "values", "pop", "shift"}
	ofItems   = []string{"map", "filter", "forEach", "some", "every", "find", "findIndex", "findLast", "flatMap", "sort", "toSorted", "reduce", "reduceRight"}
)

// path is where an expression stands below an argument; nil where it is something else.
func (u *uses) path(e ast.Expression) []string {
	switch x := e.(type) {
	case *ast.Identifier:
		return u.known[x.Name.String()]
	case *ast.DotExpression:
		if left := u.path(x.Left); left != nil {
			return append(left[:len(left):len(left)], x.Identifier.Name.String())
		}
	case *ast.BracketExpression:
		left := u.path(x.Left)
		if name, is := x.Member.(*ast.StringLiteral); is && left != nil {
			return append(left[:len(left):len(left)], name.Value.String())
		}
		return left
	case *ast.Optional:
		return u.path(x.Expression)
	case *ast.OptionalChain:
		return u.path(x.Expression)
	case *ast.BinaryExpression:
		if x.Operator == token.LOGICAL_OR || x.Operator == token.COALESCE {
			return u.path(x.Left)
		}
	case *ast.CallExpression:
		if on, method := called(x); slices.Contains(sameItems, method) {
			return u.path(on)
		}
	}
	return nil
}

// called is what a method is called on, and its name.
func called(c *ast.CallExpression) (on ast.Expression, method string) {
	callee := c.Callee
	if o, is := callee.(*ast.Optional); is {
		callee = o.Expression
	}
	if d, is := callee.(*ast.DotExpression); is {
		return d.Left, d.Identifier.Name.String()
	}
	return nil, ""
}

// walk goes through a piece of the text in its order.
func (u *uses) walk(v reflect.Value) {
	for v.Kind() == reflect.Interface && !v.IsNil() {
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.Slice:
		for i := range v.Len() {
			u.walk(v.Index(i))
		}
	case reflect.Pointer:
		if !v.IsNil() && !u.node(v.Interface()) {
			u.walk(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Name != "DeclarationList" { // which is in the body, too
				u.walk(v.Field(i))
			}
		}
	}
}

// node notes what one node says; true where its parts need no look.
func (u *uses) node(n any) bool {
	switch x := n.(type) {
	case *ast.Binding:
		u.stands(x.Target, x.Initializer)
	case *ast.ForOfStatement:
		switch into := x.Into.(type) {
		case *ast.ForIntoVar:
			u.stands(into.Binding.Target, x.Source)
		case *ast.ForDeclaration:
			u.stands(into.Target, x.Source)
		}
	case *ast.PropertyKeyed:
		if !x.Computed {
			u.walk(reflect.ValueOf(x.Value))
			return true
		}
	case *ast.PropertyShort:
		u.reads = add(u.reads, u.known[x.Name.Name.String()])
		return true
	case *ast.CallExpression:
		return u.call(x)
	case *ast.ArrowFunctionLiteral:
		u.inside(x.ParameterList, x.Body)
		return true
	case *ast.FunctionLiteral:
		u.inside(x.ParameterList, x.Body)
		return true
	case ast.Expression:
		path := u.path(x)
		if path == nil {
			return false
		}
		u.reads = add(u.reads, path)
		u.indexes(x)
		return true
	}
	return false
}

// inside goes through a function of the script, whose parameters stand for nothing outside of it.
func (u *uses) inside(list *ast.ParameterList, body any) {
	outer, items := maps.Clone(u.known), u.items
	u.items = nil
	for _, p := range list.List {
		if id, is := p.Target.(*ast.Identifier); is {
			name := id.Name.String()
			if delete(u.known, name); items[name] != nil {
				u.known[name] = items[name]
			}
		} else if path := items[""]; path != nil {
			u.takes(p.Target, path)
		}
	}
	u.walk(reflect.ValueOf(body))
	u.known = outer
}

// indexes looks through what stands in brackets.
func (u *uses) indexes(e ast.Expression) {
	switch x := e.(type) {
	case *ast.DotExpression:
		u.indexes(x.Left)
	case *ast.BracketExpression:
		u.indexes(x.Left)
		u.walk(reflect.ValueOf(x.Member))
	case *ast.Optional:
		u.indexes(x.Expression)
	case *ast.OptionalChain:
		u.indexes(x.Expression)
	case *ast.BinaryExpression:
		u.walk(reflect.ValueOf(x.Right))
	}
}

// call is the call of a method of what an argument has: the items of a list go to the function that it is given.
func (u *uses) call(c *ast.CallExpression) bool {
	on, method := called(c)
	if on == nil {
		return false
	}
	path := u.path(on)
	if path == nil {
		return false
	}
	u.reads = add(u.reads, path)
	u.indexes(on)
	if slices.Contains(ofItems, method) && len(c.ArgumentList) > 0 {
		at := 0
		if strings.HasPrefix(method, "reduce") {
			at = 1
		}
		u.items = map[string][]string{}
		for i, p := range parameters(c.ArgumentList[0]) {
			if i != at && !strings.HasSuffix(strings.ToLower(method), "sort") {
				continue
			}
			if id, is := p.Target.(*ast.Identifier); is {
				u.items[id.Name.String()] = path
			} else {
				u.items[""] = path
			}
		}
	}
	u.walk(reflect.ValueOf(c.ArgumentList))
	u.items = nil
	return true
}

func parameters(e ast.Expression) []*ast.Binding {
	switch f := e.(type) {
	case *ast.ArrowFunctionLiteral:
		return f.ParameterList.List
	case *ast.FunctionLiteral:
		return f.ParameterList.List
	}
	return nil
}

// stands notes that a name of the script stands for what an expression reads; a pattern takes it apart.
func (u *uses) stands(target ast.BindingTarget, e ast.Expression) {
	path := u.path(e)
	if id, is := target.(*ast.Identifier); is && path == nil {
		delete(u.known, id.Name.String())
	}
	if path != nil {
		u.takes(target, path)
	}
}

// takes notes that a name stands for a path.
func (u *uses) takes(target ast.BindingTarget, path []string) {
	switch t := target.(type) {
	case *ast.Identifier:
		u.known[t.Name.String()] = path
	case *ast.ObjectPattern:
		for _, p := range t.Properties {
			if short, is := p.(*ast.PropertyShort); is {
				name := short.Name.Name.String()
				u.known[name] = append(path[:len(path):len(path)], name)
				u.reads = add(u.reads, u.known[name])
			}
		}
	}
}

// returns notes the names that what a function gives has: of the objects behind return, and of what is put into one that is returned
// by its name. Functions inside give nothing.
func (u *uses) returns(body reflect.Value, below []string, values map[string]ast.Expression) {
	var given []ast.Expression
	each(body, func(n any) bool {
		switch x := n.(type) {
		case *ast.FunctionLiteral, *ast.ArrowFunctionLiteral:
			return true
		case *ast.Binding:
			if id, is := x.Target.(*ast.Identifier); is && x.Initializer != nil {
				values[id.Name.String()] = x.Initializer
			}
		case *ast.ReturnStatement:
			given = append(given, x.Argument)
		}
		return false
	})
	for _, e := range given {
		u.gives(e, below, values, 0)
		id, is := e.(*ast.Identifier)
		if !is {
			continue
		}
		each(body, func(n any) bool {
			if a, is := n.(*ast.AssignExpression); is {
				if path := pathFrom(a.Left, id.Name.String()); path != nil {
					u.makes = add(u.makes, append(below[:len(below):len(below)], path...))
				}
			}
			return false
		})
	}
}

// gives notes the names of what an expression gives.
func (u *uses) gives(e ast.Expression, below []string, values map[string]ast.Expression, depth int) {
	if depth > MaxDepth {
		return
	}
	switch x := e.(type) {
	case *ast.Identifier:
		if v := values[x.Name.String()]; v != nil {
			u.gives(v, below, values, depth+1)
		}
	case *ast.BinaryExpression: // one of its sides, where it is && or ||
		u.gives(x.Left, below, values, depth+1)
		u.gives(x.Right, below, values, depth+1)
	case *ast.ConditionalExpression:
		u.gives(x.Consequent, below, values, depth+1)
		u.gives(x.Alternate, below, values, depth+1)
	case *ast.ArrayLiteral:
		for _, item := range x.Value {
			u.gives(item, below, values, depth+1)
		}
	case *ast.CallExpression:
		if _, method := called(x); (method == "map" || method == "flatMap") && len(x.ArgumentList) > 0 {
			u.givenBy(x.ArgumentList[0], below, values, depth+1)
		}
	case *ast.ObjectLiteral:
		for _, p := range x.Value {
			switch p := p.(type) {
			case *ast.PropertyShort:
				u.makes = add(u.makes, append(below[:len(below):len(below)], p.Name.Name.String()))
			case *ast.PropertyKeyed:
				if name, is := p.Key.(*ast.StringLiteral); is && !p.Computed {
					at := append(below[:len(below):len(below)], name.Value.String())
					u.makes = add(u.makes, at)
					u.gives(p.Value, at, values, depth+1)
				}
			}
		}
	}
}

func (u *uses) givenBy(e ast.Expression, below []string, values map[string]ast.Expression, depth int) {
	switch f := e.(type) {
	case *ast.ArrowFunctionLiteral:
		if body, is := f.Body.(*ast.ExpressionBody); is {
			u.gives(body.Expression, below, values, depth)
		} else {
			u.returns(reflect.ValueOf(f.Body), below, values)
		}
	case *ast.FunctionLiteral:
		u.returns(reflect.ValueOf(f.Body), below, values)
	}
}

// pathFrom is where an expression stands below a name; nil where it does not.
func pathFrom(e ast.Expression, name string) []string {
	switch x := e.(type) {
	case *ast.DotExpression:
		if id, is := x.Left.(*ast.Identifier); is && id.Name.String() == name {
			return []string{x.Identifier.Name.String()}
		}
		if left := pathFrom(x.Left, name); left != nil {
			return append(left, x.Identifier.Name.String())
		}
	case *ast.BracketExpression:
		text, is := x.Member.(*ast.StringLiteral)
		if id, root := x.Left.(*ast.Identifier); root && is && id.Name.String() == name {
			return []string{text.Value.String()}
		}
	}
	return nil
}

// each calls f for each node below; where f says so, not for those inside.
func each(v reflect.Value, f func(n any) bool) {
	for v.Kind() == reflect.Interface && !v.IsNil() {
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.Slice:
		for i := range v.Len() {
			each(v.Index(i), f)
		}
	case reflect.Pointer:
		if !v.IsNil() && !f(v.Interface()) {
			each(v.Elem(), f)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).Name != "DeclarationList" && v.Type().Field(i).IsExported() {
				each(v.Field(i), f)
			}
		}
	}
}
