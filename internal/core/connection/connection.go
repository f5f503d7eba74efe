// Package connection holds connection parts: which kind of system is reached, and by name the
// operations that are done with it, each with the schemas of what it is asked and what it answers.
// Where a system is and how to sign in belongs to an environment, never to a part.
package connection

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// Connection is one part.
type Connection struct {
	ID, Title, About string
	Kind             string
	Operations       []*Operation
	doc              *partfile.Doc
}

// Operation is one thing that is done with a system. Its schemas and formulas are there once it is
// resolved. It is immutable then and shared.
type Operation struct {
	Connection string
	ID, Name   string
	Kind       *OperationKind
	Settings   setting.Values
	Ask, Give  partfile.Text  // the ids of the schemas, where the verb does not have its own
	Request    *schema.Schema // what it is asked with; nil where it needs nothing
	Response   *schema.Schema // one record of what it answers; nil where it answers nothing
	Formulas   map[string]*formula.Program
	Fields     map[string][]Named
	Faults     fault.List
	At         partfile.Text
}

// Named is the compiled value of a pair.
type Named struct {
	Name  string
	Value *formula.Program
}

// Setting reads one of the operation's settings, or its default.
func (o *Operation) Setting(name string) string { return o.Settings.Get(name) }

// olderOperation are the names that settings of every operation had before.
var olderOperation = partfile.Older{Names: map[string]string{"does": "kind"}}

// upgradeConditions writes the name that a response has in formulas where they say the older one.
func upgradeConditions(k *OperationKind, o partfile.Settings) (changed bool) {
	for _, s := range k.Settings {
		if s.Type == setting.OnResponse {
			changed = o.Change(s.Name, func(text string) string { return formula.RenameName(text, "answer", "response") }) || changed
		}
	}
	return changed
}

// Upgrade writes a connection part with the names of today where it has older ones, of settings of its operations. It says whether
// there were any.
func Upgrade(root partfile.Settings) (changed bool) {
	k := KindOf(root.Get("kind"))
	if k == nil {
		return false
	}
	for _, o := range root.List("operations") {
		changed = olderOperation.Upgrade(o) || changed
		if v := k.OperationKind(o.Get("kind")); v != nil {
			changed = v.Settings.Upgrade(o) || changed
			changed = upgradeConditions(v, o) || changed
		}
	}
	return changed
}

// Parse reads a connection part.
func Parse(id string, d *partfile.Doc) *Connection {
	d.Upgrade(Upgrade)
	n := d.Root()
	kind := n.Required("kind")
	c := &Connection{ID: id, Title: n.Required("connection").Value, Kind: kind.Value, About: n.Text("about").Value, doc: d}
	k := KindOf(c.Kind)
	if k == nil && kind.Value != "" {
		d.Fault(kind, fault.Expect(fault.Unknown, "a kind of system ("+strings.Join(Names(), ", ")+")", fault.Quote(kind.Value)))
	}
	seen := map[string]bool{}
	for _, item := range n.List("operations") {
		if k == nil {
			continue
		}
		before := len(d.Faults)
		o := k.operation(item)
		o.Faults = slices.Clone(d.Faults[before:])
		o.Connection = id
		if seen[o.ID] {
			item.Fault(fault.Setting, "the operation %q is there twice", o.ID)
		}
		seen[o.ID] = true
		c.Operations = append(c.Operations, o)
	}
	n.RejectUnknown()
	return c
}

func (k *Kind) operation(n partfile.Node) *Operation {
	id := n.Required("operation")
	o := &Operation{ID: id.Value, Name: n.Text("name").Value, At: n.At()}
	if o.Name == "" {
		o.Name = o.ID
	}
	verbs := make([]string, len(k.OperationKinds))
	for i, v := range k.OperationKinds {
		verbs[i] = v.Name
	}
	if len(verbs) == 0 {
		n.Fault(fault.Setting, "a connection of kind %s has no operations", k.Name)
		o.Kind = &OperationKind{}
		return o
	}
	o.Kind = k.OperationKind(n.Choice("kind", verbs...))
	if !o.Kind.HasRequest() {
		o.Ask = n.Text("request")
	}
	if !o.Kind.HasResponse() {
		o.Give = n.Text("response")
	}
	o.Settings = o.Kind.Settings.Read(n)
	n.RejectUnknown()
	return o
}

// Changes says whether the operation changes its system: as what it does says, unless its method only gets something (RFC 9110,
// section 9.2.1), or a setting says that it changes nothing.
func (o *Operation) Changes() bool {
	if !o.Kind.Effect || o.Setting(changes.Name) == "no" {
		return false
	}
	method := o.Setting("method")
	return method != "GET" && method != "HEAD"
}

// changes is the setting of operations of which nobody but a person knows.
var changes = setting.Setting{Name: "changes", Label: "Changes the system", Type: setting.Choice, Choices: []string{"yes", "no"}, Default: "yes", Rare: true, Help: "No: it only reads, as a search that is sent with POST. Then it is asked in tests, too, and may be asked again"}

// Operation finds an operation by id; nil when there is none.
func (c *Connection) Operation(id string) *Operation {
	i := slices.IndexFunc(c.Operations, func(o *Operation) bool { return o.ID == id })
	if i < 0 {
		return nil
	}
	return c.Operations[i]
}

// Resolve finds the schemas of the operations and compiles their formulas.
func (c *Connection) Resolve(find func(id string) *schema.Schema, env formula.Env) {
	for _, o := range c.Operations {
		o.Request = c.schema(o, o.Ask, o.Kind.Request, find)
		o.Response = c.schema(o, o.Give, o.Kind.Response, find)
		o.compile(c, env)
	}
}

func (c *Connection) schema(o *Operation, id partfile.Text, fixed *schema.Schema, find func(string) *schema.Schema) *schema.Schema {
	if fixed != nil || id.Value == "" {
		return fixed
	}
	s := find(id.Value)
	if s == nil {
		c.fault(o, id, fault.New(fault.Unknown, "there is no schema %q", id.Value))
	}
	return s
}

// fault notes a fault at a text of the part.
func (c *Connection) fault(o *Operation, at partfile.Text, f *fault.Fault) {
	column := f.Place.Column
	c.doc.Fault(at, f)
	if column > 1 {
		f.Place.Column += column - 1
	}
	o.Faults = append(o.Faults, f)
}

// RequestSlot is where a formula of an operation finds the request; ResponseSlot is where one on the
// response finds that.
const (
	RequestSlot  = 0
	ResponseSlot = 1
)

// response is what a formula on a response can read.
var response = schema.Record("response", schema.Scalar("status", integer), schema.Scalar("body", text).Optional())

// Scope is what a formula of the operation sees: the request, whose fields need no name before them, and, once it is answered,
// the response.
func (o *Operation) Scope(env formula.Env, answered bool) *formula.Scope {
	root := schema.Record("request")
	if o.Request != nil {
		root = o.Request.Root
	}
	scope := env.Scope()
	scope.Define("request", formula.Type{Kind: record, Fields: root})
	if answered {
		scope.Define("response", formula.Type{Kind: record, Fields: response})
	}
	scope.Open("request")
	return scope
}

// compile makes programs of the formulas. Those see the request's fields by their names.
func (o *Operation) compile(c *Connection, env formula.Env) {
	o.Formulas, o.Fields = map[string]*formula.Program{}, map[string][]Named{}
	compile := func(at partfile.Text, answered bool) *formula.Program {
		prog, faults := formula.Compile(at.Value, o.Scope(env, answered))
		for _, f := range faults {
			c.fault(o, at, f)
		}
		return prog
	}
	for _, s := range o.Kind.Settings {
		if t := o.Settings.Texts[s.Name]; (s.Type == setting.Formula || s.Type == setting.OnResponse) && t.Value != "" {
			o.Formulas[s.Name] = compile(t, s.Type == setting.OnResponse)
		}
		for _, p := range o.Settings.Pairs[s.Name] {
			o.Fields[s.Name] = append(o.Fields[s.Name], Named{p.Name.Value, compile(p.Formula, false)})
		}
	}
}
