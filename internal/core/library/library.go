// Package library reads the parts that hold a project's own functions: formulas and scripts with
// parameters, types, a description and cases. A library has versions: those that were published never
// change, and a project says which one it uses.
package library

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/script"
	"hollowreed/internal/core/value"
)

// MaxFunctions bounds a library.
const MaxFunctions = 500

// Types lists what a parameter or a result can be; any is the first.
var Types = []string{"any", "text", "integer", "decimal", "boolean", "date", "time", "timestamp", "binary", "record", "list"}

// Library is one part.
type Library struct {
	ID        string
	Title     string
	Version   int // of a published one, or that under which the draft will be published
	Functions []Function
	doc       *partfile.Doc
}

// Function is one function with its cases.
type Function struct {
	*formula.Custom
	Text   partfile.Text // the formula or the script
	Script bool
	Cases  []Case
}

// Case is a formula that calls functions of the library, and its result as text.
type Case struct{ Call, Result partfile.Text }

// Parse reads a library part. Formulas are compiled where they are used, and by Check.
func Parse(id string, d *partfile.Doc) *Library {
	d.Upgrade(Upgrade)
	n := d.Root()
	l := &Library{ID: id, Title: n.Required("library").Value, Version: n.Int("version", 1), doc: d}
	list := n.List("functions")
	if len(list) > MaxFunctions {
		n.Fault(fault.Limit, "the library has more than %d functions", MaxFunctions)
		list = list[:MaxFunctions]
	}
	for _, f := range list {
		l.function(f)
	}
	n.RejectUnknown()
	return l
}

func (l *Library) function(n partfile.Node) {
	name := n.Required("name")
	fn := Function{Custom: &formula.Custom{Name: name.Value, About: n.Text("about").Value, Result: kindOf(n.Choice("result", Types...))}}
	for _, p := range n.List("params") {
		param := formula.Param{Name: p.Required("name").Value}
		if k := kindOf(p.Choice("type", Types...)); k != value.Absent {
			param.Kinds = []value.Kind{k}
		}
		if !formula.Name(param.Name) || slices.ContainsFunc(fn.Params, func(o formula.Param) bool { return o.Name == param.Name }) {
			p.Fault(fault.Setting, "a parameter cannot be called %q", param.Name)
		}
		fn.Params = append(fn.Params, param)
		p.RejectUnknown()
	}
	for _, c := range n.List("cases") {
		fn.Cases = append(fn.Cases, Case{Call: c.Required("call"), Result: c.Text("result")})
		c.RejectUnknown()
	}
	text, source := n.Text("formula"), n.Text("script")
	switch {
	case text.Line > 0 && source.Line > 0, text.Line == 0 && source.Line == 0:
		n.Fault(fault.Setting, "a function has a formula or a script, and not both")
	case source.Line > 0:
		fn.Script, fn.Text = true, source
		l.script(&fn)
	default:
		fn.Text, fn.Formula = text, text.Value
	}
	n.RejectUnknown()
	if !formula.Name(name.Value) || slices.ContainsFunc(l.Functions, func(o Function) bool { return o.Name == name.Value }) {
		l.doc.Fault(name, fault.New(fault.Setting, "a function cannot be called %q, or another one is", name.Value))
		return
	}
	l.Functions = append(l.Functions, fn)
}

func kindOf(name string) value.Kind {
	k, _ := value.KindNamed(name)
	if name == "any" {
		return value.Absent
	}
	return k
}

// script compiles the script of a function. One with a fault gives that fault when it is called.
func (l *Library) script(fn *Function) {
	var names []string
	for _, p := range fn.Params {
		names = append(names, p.Name)
	}
	var result *schema.Field
	if fn.Result != value.Absent && fn.Result != value.RecordKind && fn.Result != value.ListKind {
		result = schema.Scalar("result", fn.Result)
	}
	compiled, ft := script.New(fn.Text.Value, names, result)
	if ft != nil {
		l.doc.Fault(l.at(fn.Text, ft), ft.InField(fn.Name))
		return
	}
	fn.Custom.Script = compiled
}

// at is the place of a script's fault in the part: a script of several lines begins on the line below.
func (l *Library) at(t partfile.Text, f *fault.Fault) partfile.Text {
	if strings.Contains(strings.TrimSpace(t.Value), "\n") && f.Place.Line > 0 {
		t.Line += f.Place.Line
	}
	f.Place = fault.Place{}
	return t
}

// Formulas is the library as formulas use it. A function whose script has a fault is not among them.
func (l *Library) Formulas() *formula.Library {
	out := &formula.Library{ID: l.ID}
	for _, f := range l.Functions {
		if f.Script == (f.Custom.Script != nil) {
			out.Functions = append(out.Functions, f.Custom)
		}
	}
	return out
}

// Check compiles every formula of the library with what formulas can use, and says what is wrong.
func (l *Library) Check(env formula.Env) fault.List {
	d := l.doc.Again()
	before := len(d.Faults)
	for _, f := range l.Functions {
		if !f.Script {
			check(d, env, f)
		}
	}
	return d.Faults[before:]
}

func check(d *partfile.Doc, env formula.Env, f Function) {
	scope := env.Scope()
	for _, p := range f.Params {
		t := formula.Type{Maybe: true}
		if len(p.Kinds) > 0 {
			t.Kind = p.Kinds[0]
		}
		scope.Define(p.Name, t)
	}
	prog, faults := formula.Compile(f.Text.Value, scope)
	for _, ft := range faults {
		at := f.Text
		if ft.Place.Column > 1 {
			at.Column += ft.Place.Column - 1
		}
		d.Fault(at, ft.InField(f.Name))
	}
	if prog != nil && f.Result != value.Absent && !prog.Type.Fits(f.Result) {
		d.Fault(f.Text, fault.Expect(fault.Type, f.Result.String(), prog.Type.String()).InField(f.Name))
	}
}

// Result is what became of a case.
type Result struct {
	Function string
	Case     Case
	Got      string
	Fault    *fault.Fault
}

// OK says whether the case gives what it should.
func (r Result) OK() bool { return r.Fault == nil && r.Got == r.Case.Result.Value }

// Failure is what went wrong in the case; empty when nothing did.
func (r Result) Failure() string {
	switch {
	case r.Fault != nil:
		return r.Fault.Error()
	case !r.OK():
		return "expected " + fault.Quote(r.Case.Result.Value) + ", found " + fault.Quote(r.Got)
	}
	return ""
}

// Run runs every case of every function.
func (l *Library) Run(env formula.Env) []Result {
	var out []Result
	for _, f := range l.Functions {
		for _, c := range f.Cases {
			r := Result{Function: f.Name, Case: c}
			r.Got, r.Fault = compute(env, c.Call.Value)
			out = append(out, r)
		}
	}
	return out
}

func compute(env formula.Env, source string) (string, *fault.Fault) {
	p, faults := formula.Compile(source, env.Scope())
	if faults != nil {
		return "", faults[0]
	}
	v, f := p.Eval(&formula.Frame{})
	if f != nil {
		return "", f
	}
	return v.String(), nil
}
