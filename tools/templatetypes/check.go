package main

import (
	"fmt"
	"go/types"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/template/parse"
)

// kind is what is known of a value in a template: its Go type, or the names that it was made of with dict, or nothing.
type kind struct {
	is    types.Type
	named map[string]kind
}

func (k kind) known() bool { return k.is != nil || k.named != nil }

func (k kind) String() string {
	switch {
	case k.named != nil:
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(k.named)) {
			parts = append(parts, name+" "+k.named[name].String())
		}
		return "dict{" + strings.Join(parts, ", ") + "}"
	case k.is != nil:
		return types.TypeString(k.is, func(p *types.Package) string { return p.Name() })
	}
	return "unknown"
}

// check goes through all that is drawn, and gives what is wrong, each once.
func check(p *pages) (bad []string) {
	found := map[string]bool{}
	for _, v := range p.views {
		trees, err := parsed(append(slices.Clone(p.faces), v.files...))
		if err != nil {
			found[err.Error()] = true
			continue
		}
		w := &walker{pages: p, trees: trees, done: map[string]bool{}, say: func(text string) { found[text] = true }}
		if len(v.draws) == 0 {
			found[v.files[0]+": nothing draws it"] = true
		}
		for _, d := range v.draws {
			if trees[d.name] == nil {
				found[fmt.Sprintf("%s: there is no template %q", d.at, d.name)] = true
				continue
			}
			w.draw(d.name, typed(d.data))
		}
	}
	return slices.Sorted(maps.Keys(found))
}

// parsed reads template files; of two templates of one name the later counts.
func parsed(files []string) (map[string]*parse.Tree, error) {
	all := map[string]*parse.Tree{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		set := map[string]*parse.Tree{}
		t := parse.New(short(file))
		t.Mode = parse.SkipFuncCheck
		if _, err := t.Parse(string(text), "", "", set); err != nil {
			return nil, err
		}
		for name, tree := range set {
			if old := all[name]; old == nil || !parse.IsEmptyTree(tree.Root) {
				all[name] = tree
			}
		}
	}
	return all, nil
}

func short(file string) string {
	if at := strings.Index(file, "internal/web/"); at >= 0 {
		return file[at:]
	}
	return filepath.Base(file)
}

// walker goes through the templates of a view.
type walker struct {
	*pages
	trees map[string]*parse.Tree
	done  map[string]bool // templates with what they are given
	say   func(string)
}

// at is a place in a template: what is in scope there.
type at struct {
	*walker
	tree *parse.Tree
	dot  kind
	vars map[string]kind
}

func (w *walker) draw(name string, data kind) {
	key := name + "\x00" + data.String()
	if w.done[key] {
		return
	}
	w.done[key] = true
	tree := w.trees[name]
	p := at{w, tree, data, map[string]kind{"$": data}}
	p.list(tree.Root)
}

func (p at) fault(n parse.Node, format string, args ...any) {
	where, _ := p.tree.ErrorContext(n)
	p.say(where + ": " + fmt.Sprintf(format, args...))
}

// inner is the same place, with variables of its own.
func (p at) inner(dot kind) at {
	p.dot, p.vars = dot, maps.Clone(p.vars)
	return p
}

func (p at) list(l *parse.ListNode) {
	if l == nil {
		return
	}
	for _, n := range l.Nodes {
		p.node(n)
	}
}

func (p at) node(n parse.Node) {
	switch n := n.(type) {
	case *parse.ActionNode:
		p.pipe(n.Pipe)
	case *parse.IfNode:
		in := p.inner(p.dot)
		in.pipe(n.Pipe)
		in.inner(p.dot).list(n.List)
		in.inner(p.dot).list(n.ElseList)
	case *parse.WithNode:
		in := p.inner(p.dot)
		of := in.pipe(n.Pipe)
		in.inner(of).list(n.List)
		in.inner(p.dot).list(n.ElseList)
	case *parse.RangeNode:
		p.loop(n)
	case *parse.TemplateNode:
		data := kind{}
		if n.Pipe != nil {
			data = p.pipe(n.Pipe)
		}
		if p.trees[n.Name] == nil {
			p.fault(n, "there is no template %q", n.Name)
			return
		}
		p.draw(n.Name, data)
	}
}

func (p at) loop(n *parse.RangeNode) {
	in := p.inner(p.dot)
	declared := n.Pipe.Decl
	of := in.command(n.Pipe)
	key, item, ok := items(of)
	if !ok {
		p.fault(n.Pipe, "%s is ranged over, and is %s", n.Pipe, of)
	}
	switch len(declared) {
	case 1:
		in.vars[declared[0].Ident[0]] = item
	case 2:
		in.vars[declared[0].Ident[0]], in.vars[declared[1].Ident[0]] = key, item
	}
	in.inner(item).list(n.List)
	p.inner(p.dot).list(n.ElseList)
}

// items are what a value gives when it is ranged over.
func items(of kind) (key, item kind, ok bool) {
	if !of.known() {
		return kind{}, kind{}, true
	}
	if of.is == nil {
		return kind{}, kind{}, false
	}
	t := of.is.Underlying()
	if ptr, is := t.(*types.Pointer); is {
		t = ptr.Elem().Underlying()
	}
	whole := typed(types.Typ[types.Int])
	switch t := t.(type) {
	case *types.Slice:
		return whole, typed(t.Elem()), true
	case *types.Array:
		return whole, typed(t.Elem()), true
	case *types.Map:
		return typed(t.Key()), typed(t.Elem()), true
	case *types.Basic:
		return whole, whole, t.Info()&types.IsInteger != 0
	}
	return kind{}, kind{}, false
}

// pipe is what a pipeline gives; it sets the variables that it declares.
func (p at) pipe(n *parse.PipeNode) kind {
	k := p.command(n)
	for _, v := range n.Decl {
		p.vars[v.Ident[0]] = k
	}
	return k
}

func (p at) command(n *parse.PipeNode) (last kind) {
	for i, c := range n.Cmds {
		var before []kind
		if i > 0 {
			before = []kind{last}
		}
		last = p.call(c, before)
	}
	return last
}

// call is what one command gives: a value, a method with arguments, or a function.
func (p at) call(c *parse.CommandNode, more []kind) kind {
	first := c.Args[0]
	args := func() (list []kind) {
		for _, a := range c.Args[1:] {
			list = append(list, p.value(a))
		}
		return append(list, more...)
	}
	switch n := first.(type) {
	case *parse.IdentifierNode:
		return p.function(n, c.Args[1:], args())
	case *parse.FieldNode:
		return p.chain(n, p.dot, n.Ident, args())
	case *parse.VariableNode:
		return p.chain(n, p.variable(n), n.Ident[1:], args())
	case *parse.ChainNode:
		return p.chain(n, p.value(n.Node), n.Field, args())
	}
	if got := args(); len(got) > 0 {
		p.fault(first, "%s takes no arguments", first)
	}
	return p.value(first)
}

func (p at) value(n parse.Node) kind {
	switch n := n.(type) {
	case *parse.DotNode:
		return p.dot
	case *parse.FieldNode:
		return p.chain(n, p.dot, n.Ident, nil)
	case *parse.VariableNode:
		return p.chain(n, p.variable(n), n.Ident[1:], nil)
	case *parse.ChainNode:
		return p.chain(n, p.value(n.Node), n.Field, nil)
	case *parse.PipeNode:
		return p.pipe(n)
	case *parse.IdentifierNode:
		return p.function(n, nil, nil)
	case *parse.StringNode:
		return typed(types.Typ[types.String])
	case *parse.BoolNode:
		return typed(types.Typ[types.Bool])
	}
	return kind{} // a number has the type that is wanted, nil any
}

func (p at) variable(n *parse.VariableNode) kind {
	k, ok := p.vars[n.Ident[0]]
	if !ok {
		p.fault(n, "%s is not declared", n.Ident[0])
	}
	return k
}

// chain follows names from a value; the last may be a method with arguments.
func (p at) chain(n parse.Node, of kind, names []string, args []kind) kind {
	for i, name := range names {
		var given []kind
		if i == len(names)-1 {
			given = args
		}
		of = p.member(n, of, name, given)
	}
	if len(names) == 0 && len(args) > 0 {
		p.fault(n, "%s takes no arguments", n)
	}
	return of
}

func (p at) member(n parse.Node, of kind, name string, args []kind) kind {
	if of.named != nil {
		k, ok := of.named[name]
		if !ok {
			p.fault(n, "%s: what it is given has no %s", n, name)
		}
		return k
	}
	if of.is == nil {
		return kind{}
	}
	o, _, _ := types.LookupFieldOrMethod(of.is, true, nil, name)
	switch o := o.(type) {
	case *types.Var:
		return typed(o.Type())
	case *types.Func:
		return p.result(n, name, o.Signature(), args)
	}
	if m, is := of.is.Underlying().(*types.Map); is {
		return typed(m.Elem())
	}
	p.fault(n, "%s: %s has no %s", n, of, name)
	return kind{}
}

// result is what a function gives; its arguments must fit.
func (p at) result(n parse.Node, name string, s *types.Signature, args []kind) kind {
	want := s.Params().Len()
	if s.Variadic() && len(args) < want-1 || !s.Variadic() && len(args) != want {
		p.fault(n, "%s takes %d arguments, and is given %d", name, want, len(args))
		return kind{}
	}
	for i, a := range args {
		if a.is == nil {
			continue
		}
		if t := parameter(s, i); !types.AssignableTo(a.is, t) && !types.AssignableTo(types.NewPointer(a.is), t) && !points(a.is, t) {
			p.fault(n, "%s: its argument %d is %s, and is given %s", name, i+1, typed(t), a)
		}
	}
	if s.Results().Len() == 0 {
		return kind{}
	}
	return typed(s.Results().At(0).Type())
}

func parameter(s *types.Signature, i int) types.Type {
	last := s.Params().Len() - 1
	if s.Variadic() && i >= last {
		return s.Params().At(last).Type().(*types.Slice).Elem()
	}
	return s.Params().At(i).Type()
}

// points says whether a value is a pointer to what is wanted: templates follow those.
func points(t, want types.Type) bool {
	ptr, is := t.Underlying().(*types.Pointer)
	return is && types.AssignableTo(ptr.Elem(), want)
}

// function is what a function of templates gives.
func (p at) function(n *parse.IdentifierNode, nodes []parse.Node, args []kind) kind {
	switch n.Ident {
	case "dict":
		return p.dict(n, nodes, args)
	case "index":
		return indexed(args)
	case "slice":
		return args[0]
	case "and", "or":
		return alternatives(args)
	case "eq", "ne", "lt", "le", "gt", "ge", "not":
		return typed(types.Typ[types.Bool])
	case "len":
		return typed(types.Typ[types.Int])
	case "print", "printf", "println", "html", "js", "urlquery":
		return typed(types.Typ[types.String])
	}
	f, ok := p.funcs[n.Ident]
	if !ok {
		p.fault(n, "there is no function %s", n.Ident)
		return kind{}
	}
	return p.result(n, n.Ident, f.Underlying().(*types.Signature), args)
}

func (p at) dict(n parse.Node, nodes []parse.Node, args []kind) kind {
	named := map[string]kind{}
	for i := 0; i+1 < len(args); i += 2 {
		name, ok := nodes[i].(*parse.StringNode)
		if !ok {
			p.fault(n, "dict wants names")
			return kind{}
		}
		named[name.Text] = args[i+1]
	}
	return kind{named: named}
}

// indexed is what index gives.
func indexed(args []kind) kind {
	of := args[0]
	for range args[1:] {
		_, item, ok := items(of)
		if !ok {
			return kind{}
		}
		of = item
	}
	return of
}

// alternatives is what one of several values is; unknown where they differ.
func alternatives(args []kind) kind {
	for _, a := range args[1:] {
		if a.String() != args[0].String() {
			return kind{}
		}
	}
	return args[0]
}

// typed is a value of a Go type. Of what any holds nothing is known.
func typed(t types.Type) kind {
	if i, is := t.Underlying().(*types.Interface); is && i.NumMethods() == 0 {
		return kind{}
	}
	if b, is := t.(*types.Basic); is && b.Kind() == types.UntypedNil {
		return kind{}
	}
	return kind{is: t}
}
