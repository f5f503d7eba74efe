package mapping

import (
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/script"
	"hollowreed/internal/core/value"
)

// scripted is a compiled script of a rule, and where its arguments stand.
type scripted struct {
	function *script.Function
	slots    []int // -1 for those that it does not read
}

// notParameters are the words that a script does not take as names (ECMA-262, section 12.7.2).
var notParameters = strings.Fields(`await break case catch class const continue debugger default delete do else enum export extends false finally for function if
	import in instanceof new null return super switch this throw true try typeof var void while with yield let static implements interface package private protected
	public arguments eval undefined`)

var parameterOK = regexp.MustCompile(`^[A-Za-z_$][A-Za-z0-9_$]*$`)

// parametersOf are the names in scope that a script can take.
func parametersOf(scope *formula.Scope) (names []string) {
	for _, name := range scope.Names() {
		if parameterOK.MatchString(name) && !slices.Contains(notParameters, name) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// script compiles a rule that is a script. What stands below its field is made by it.
func (c *compiler) script(n *node, scope *formula.Scope) {
	text := n.info.Rule.Text
	names := parametersOf(scope)
	fn, ft := script.New(text.Value, names, n.field)
	if ft != nil {
		at, ft := inScript(text, ft)
		c.wrong(n.info, at, ft)
		return
	}
	s := &scripted{function: fn, slots: make([]int, len(names))}
	for i, name := range names {
		s.slots[i] = -1
		if slot, _, there := scope.Slot(name); there && slices.ContainsFunc(fn.Reads, func(p []string) bool { return p[0] == name }) {
			s.slots[i] = slot
		}
	}
	n.script = s
	for _, path := range fn.Makes {
		n.info.Makes = append(n.info.Makes, strings.Join(path, "/"))
	}
	c.scriptReads(n.info, fn.Reads)
	c.rulesBelow(n.info)
	c.madeBelow(n, scope)
}

// madeBelow lists the fields below, which the script makes.
func (c *compiler) madeBelow(n *node, scope *formula.Scope) {
	if !n.field.Nests() {
		return
	}
	idle, from := c.idle, len(c.plan.Fields)
	c.idle = true
	c.children(n, n.info.Path, scope)
	c.idle = idle
	for _, f := range c.plan.Fields[from:] {
		f.ByScript = n.info
	}
}

// rulesBelow finds rules for what a script makes already.
func (c *compiler) rulesBelow(info *Field) {
	for name := range c.rules {
		if strings.HasPrefix(name, info.Name()+"/") {
			c.used[name] = true
			c.wrong(info, info.Rule.Text, fault.New(fault.Setting, "there are rules below, and the script makes all of it").WithFix("Remove the rule of %s", name))
		}
	}
}

// inScript is a fault of a script with its place in the part.
func inScript(text partfile.Text, ft *fault.Fault) (partfile.Text, *fault.Fault) {
	if ft.Place.Line > 0 {
		if strings.Contains(text.Value, "\n") {
			text.Line, text.Column = text.Line+ft.Place.Line, 0
		}
		ft = fault.New(ft.Code, "line %d: %s", ft.Place.Line, ft.What())
	}
	return text, ft
}

// scriptReads keeps what a script reads, as paths from the sources.
func (c *compiler) scriptReads(info *Field, reads [][]string) {
	for _, path := range reads {
		if v := c.vars[path[0]]; v != nil && !slices.Contains(info.Through, v) {
			info.Through = append(info.Through, v)
		}
		paths := [][]string{path}
		if below, ok := c.bases[path[0]]; ok {
			paths = below(path[1:])
		}
		for _, p := range paths {
			if read, unknown := c.plan.read(p); unknown != "" {
				c.wrong(info, lineOf(info.Rule.Text, unknown), noField(read, unknown))
			} else if len(read) > 0 {
				info.Reads = with(info.Reads, read)
			}
		}
	}
}

// read is a path of a script as far as the sources have fields: what it goes on with behind a single value or a list is its own.
// Unknown is the name of a field that a record has not; there the path ends.
func (p *Plan) read(path []string) (read []string, unknown string) {
	at := slices.IndexFunc(p.Mapping.From, func(s Source) bool { return s.Name.Value == path[0] })
	if at < 0 || at >= len(p.Sources) {
		return nil, ""
	}
	f, n := p.Sources[at].Root, 1
	list := p.Mapping.From[at].List
	for _, name := range path[1:] {
		list = list || f.List() && n > 1
		if f.Kind == value.ListKind {
			f, list = f.Each(), true
		}
		next := f.Field(name)
		switch {
		case next != nil:
		case f.Kind == value.RecordKind && !slices.Contains(ofObjects, name) && !(list && slices.Contains(ofLists, name)):
			return path[:n:n], name
		default:
			return path[:n:n], ""
		}
		f, n = next, n+1
		list = false
	}
	return path[:n:n], ""
}

// What every object and every list of a script has beside fields and items (ECMA-262, sections 20.1.3 and 23.1.3).
var (
	ofObjects = []string{"hasOwnProperty", "toString", "valueOf"}
	ofLists   = []string{
		"length", "at", "concat", "every", "entries", "filter", "find", "findIndex", "flat", "flatMap", "forEach", "includes", "indexOf", "join", "keys", "lastIndexOf",
		"map", "pop", "push", "reduce", "reduceRight", "reverse", "shift", "slice", "some", "sort", "splice", "unshift", "values",
	}
)

func noField(of []string, name string) *fault.Fault {
	return fault.New(fault.Unknown, "there is no field %q in %s", name, strings.Join(of, "."))
}

// lineOf is where a name stands in a script for the first time.
func lineOf(text partfile.Text, name string) partfile.Text {
	word := regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\b`)
	for i, line := range strings.Split(strings.TrimRight(text.Value, "\n"), "\n") {
		if word.MatchString(line) {
			if strings.Contains(text.Value, "\n") {
				text.Line, text.Column = text.Line+i+1, 0
			}
			return text
		}
	}
	return text
}

func with(list [][]string, path []string) [][]string {
	if slices.ContainsFunc(list, func(p []string) bool { return slices.Equal(p, path) }) {
		return list
	}
	return append(list, path)
}

// call runs the script of a rule.
func (r *runner) script(n *node) (value.Value, *fault.Fault) {
	args := make([]value.Value, len(n.script.slots))
	for i, slot := range n.script.slots {
		if slot >= 0 && slot < len(r.frame.Slots) {
			args[i] = r.frame.Slots[slot]
		}
	}
	return n.script.function.Call(args)
}

// compileScript compiles the script that stands in place of rules: the body of a function of the
// sources, by their names, and the run's facts.
func (p *Plan) compileScript() {
	var params []string
	for _, s := range p.Mapping.From {
		params = append(params, s.Name.Value)
	}
	f, ft := script.New(p.Mapping.Script.Value, append(params, "run"), p.Target.Root)
	if ft != nil {
		at, ft := inScript(p.Mapping.Script, ft)
		p.note(at, ft)
		return
	}
	p.script = f
	for _, path := range f.Reads {
		read, unknown := p.read(path)
		if unknown != "" {
			p.note(lineOf(p.Mapping.Script, unknown), noField(read, unknown))
		} else if len(read) > 0 {
			p.ScriptReads = with(p.ScriptReads, read)
		}
	}
	for _, info := range p.Fields {
		info.Made = slices.ContainsFunc(f.Makes, func(made []string) bool { return slices.Equal(made, Below(info.Path)) })
	}
}
