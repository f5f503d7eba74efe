package edit

import (
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Offer is a step that can be put somewhere, with the settings that it begins with.
type Offer struct {
	Key      string // by which it is chosen
	ID       string // on which the step's id is modelled
	Kind     string
	Name     string // of the step
	About    string
	Group    string
	Yields   string // what it adds, for people
	Settings partfile.Ordered
	Fits     bool   // what is in scope is just what it takes
	Each     string // it stands inside an each of this; empty: by itself
	Entry    string // the name of an entry there
}

// Offers lists what fits at a gap: steps of every kind, the operations of the project's connections, mappings whose
// sources are in scope, and the flows that can be called.
func Offers(p *project.Project, plan *running.Plan, gap flow.Gap) []Offer {
	o := &offering{p: p, plan: plan, top: same(gap.Path, []any{"steps"})}
	o.scope = plan.ScopeAt(List(plan.Flow, gap.Path), gap)
	o.mappings()
	o.operations()
	o.flows()
	for _, k := range flow.Kinds {
		o.kind(k)
	}
	return o.list
}

// Find finds an offer by its key.
func Find(list []Offer, key string) (Offer, bool) {
	for _, o := range list {
		if o.Key == key {
			return o, true
		}
	}
	return Offer{}, false
}

type offering struct {
	p     *project.Project
	plan  *running.Plan
	top   bool
	scope []running.Named
	list  []Offer
}

// named makes a name for formulas of an id.
func named(id string) string {
	name := strings.Map(func(r rune) rune {
		if r == '-' || r == '.' || r == ' ' {
			return '_'
		}
		return r
	}, id)
	if !formula.Name(name) {
		return "result"
	}
	return name
}

// mappings offers those whose sources are in scope, and those whose sources would be inside an each of what is at hand:
// these come with it.
func (o *offering) mappings() {
	of, entry := o.List(), o.entryAt()
	for _, part := range o.p.Parts(project.Mappings) {
		m := o.p.Mapping(part.ID)
		if m == nil || m.Target == nil {
			continue
		}
		offer := Offer{
			Key: "mapping/" + part.ID, ID: part.ID, Kind: flow.MapKind, Name: "Map to " + m.Target.Title, About: part.Title, Group: "Mappings", Yields: m.Target.Title,
			Settings: partfile.Ordered{{Key: "mapping", Value: part.ID}},
		}
		bound, fits := Bind(m, o.scope)
		offer.Fits = fits
		if !fits && entry != nil {
			bound, fits = Bind(m, append(o.scope[:len(o.scope):len(o.scope)], *entry))
			offer.Each, offer.Entry = of, entry.Name
			offer.About = "for each of " + of + ": " + part.Title
		}
		if !fits {
			continue
		}
		if len(bound) > 0 {
			offer.Settings.Add("sources", bound)
		}
		offer.Settings.Add("as", named(m.Target.ID))
		o.list = append(o.list, offer)
	}
}

// Bind finds for each source of a mapping the name in scope that it can be: its own where that fits, or else the last that
// does. What is given are those with another name.
func Bind(m *mapping.Plan, scope []running.Named) (bound partfile.Ordered, fits bool) {
	for i, src := range m.Mapping.From {
		found := ""
		for _, n := range scope {
			if n.FitsSource(src, m.Sources[i]) && (found != src.Name.Value) {
				found = n.Name
			}
		}
		if found == "" {
			return nil, false
		}
		if found != src.Name.Value {
			bound.Add(src.Name.Value, found)
		}
	}
	return bound, true
}

// entryAt is what the steps inside an each of ListAt would see beside the scope; nil where nothing is known of it.
func (o *offering) entryAt() *running.Named {
	of := o.List()
	if read := o.plan.ReadStep; read != nil && o.plan.Source != nil && of == read.Setting("as") {
		return &running.Named{Name: of, Schema: o.plan.Source}
	}
	for _, n := range o.scope {
		if n.List && n.Name == of && n.Schema != nil {
			return &running.Named{Name: freshIn(o.plan.Flow).name("entry"), Schema: n.Schema}
		}
	}
	return nil
}

func (o *offering) operations() {
	for _, part := range o.p.Parts(project.Connections) {
		conn := o.p.Connection(part.ID)
		if conn == nil {
			continue
		}
		for _, op := range conn.Operations {
			o.operation(conn, op)
		}
	}
}

func (o *offering) operation(conn *connection.Connection, op *connection.Operation) {
	if op.Kind == nil {
		return
	}
	of := Offer{Key: "operation/" + conn.ID + "/" + op.ID, ID: op.ID, Kind: flow.CallKind, Name: op.Name, About: conn.Title, Group: conn.Title}
	of.Settings = partfile.Ordered{{Key: "connection", Value: conn.ID}, {Key: "operation", Value: op.ID}}
	if op.Response != nil {
		of.Yields = op.Response.Title
		if of.Yields == "" {
			of.Yields = op.Response.ID
		}
	}
	if op.Request != nil {
		filled := o.Request(op.Request)
		of.Fits = filled[0].Key == "from"
		of.Settings = append(of.Settings, filled...)
	}
	if op.Response != nil {
		of.Settings.Add("as", named(op.Response.ID))
	}
	if op.Kind.Reads && o.plan.ReadStep == nil && o.top && op.Response != nil { // its records become those of the flow
		read := of
		read.Kind, read.Yields = flow.ReadKind, "records of "+of.Yields
		o.list = append(o.list, read)
		of.Key, of.About = of.Key+"/ask", conn.Title+", asked for its answer"
	}
	o.list = append(o.list, of)
}

// Request proposes how a request is made: a record of its schema that is in scope, or a formula for each field, where
// a record in scope has a field of that name. A required field without one begins empty.
func (o *offering) Request(request *schema.Schema) partfile.Ordered {
	for i := len(o.scope) - 1; i >= 0; i-- {
		if n := o.scope[i]; n.Schema != nil && !n.List && n.Schema.Root == request.Root {
			return partfile.Ordered{{Key: "from", Value: n.Name}}
		}
	}
	var with partfile.Ordered
	for _, f := range request.Root.Fields {
		if source := o.like(f); source != "" {
			with.Add(f.Name, source)
		} else if f.Required() {
			with.Add(f.Name, partfile.Text{})
		}
	}
	return partfile.Ordered{{Key: "with", Value: with}}
}

// like finds a field of a record in scope with the name and the kind of a field.
func (o *offering) like(f *schema.Field) string {
	for i := len(o.scope) - 1; i >= 0; i-- {
		n := o.scope[i]
		if n.Schema == nil || n.List || n.Name == "run" {
			continue
		}
		if has := n.Schema.Root.Field(f.Name); has != nil && has.Kind == f.Kind && has.List() == f.List() && f.Kind != value.RecordKind {
			return formula.Path([]string{n.Name, f.Name})
		}
	}
	return ""
}

func (o *offering) flows() {
	for _, part := range o.p.Parts(project.Flows) {
		c := o.p.Contract(part.ID)
		if c == nil || part.ID == o.plan.Flow.ID {
			continue
		}
		of := Offer{Key: "flow/" + part.ID, ID: part.ID, Kind: flow.FlowKind, Name: part.Title, About: "as a run of its own", Group: "Flows", Settings: partfile.Ordered{{Key: "flow", Value: part.ID}}}
		if c.Input != nil {
			of.Settings = append(of.Settings, o.Request(c.Input)...)
		}
		if c.Output != nil {
			of.Yields = c.Output.Title
			of.Settings.Add("as", named(c.Output.ID))
		}
		o.list = append(o.list, of)
	}
}

// Plan, Top, List, Record, Connection, Table and Request are what a kind asks of the place at which it is offered.

func (o *offering) Output() *schema.Schema { return o.plan.Output }

func (o *offering) Asked() bool { return o.plan.Flow.Trigger.Of().Requests }

func (o *offering) Reads() bool { return o.plan.ReadStep != nil }

func (o *offering) Top() bool { return o.top }

// List is the records that are read and have no loop yet, or the last list in scope.
func (o *offering) List() string {
	if read := o.plan.ReadStep; read != nil && o.top && len(o.plan.Body) < 2 {
		return read.Setting("as")
	}
	for i := len(o.scope) - 1; i >= 0; i-- {
		n := o.scope[i]
		if n.List {
			return n.Name
		}
		if n.Schema == nil || n.Name == "run" {
			continue
		}
		for _, f := range n.Schema.Root.Fields {
			if f.List() {
				return formula.Path([]string{n.Name, f.Name})
			}
		}
	}
	return ""
}

// ListAt proposes what an each at a place is of.
func ListAt(p *project.Project, plan *running.Plan, gap flow.Gap) string {
	of, _ := EntryAt(p, plan, gap)
	return of
}

// Values gives a step that sets values one for each field of a schema that it has not yet, each with the field of a record in
// scope that has its name and kind; where there is none, its formula is still needed.
func Values(p *project.Project, plan *running.Plan, text []byte, step, of string) (Result, error) {
	path, index, list, err := place(plan.Flow, step)
	if err != nil {
		return Result{}, err
	}
	sch := p.Schema(of)
	if sch == nil || !list[index].Of().Fills {
		return Result{}, fault.Expect(fault.Unknown, "a schema of the project", fault.Quote(of))
	}
	o := &offering{p: p, plan: plan, scope: plan.ScopeAt(list, flow.Gap{Path: path, At: index})}
	var values partfile.Ordered
	has := map[string]bool{}
	for _, m := range list[index].Match {
		if m.Formula.Value == "" && m.Name.Value == "value" {
			continue // with which a new step begins
		}
		has[m.Name.Value] = true
		values.Add(m.Name.Value, partfile.Text{Value: m.Formula.Value})
	}
	for _, f := range sch.Root.Fields {
		if !has[f.Name] && f.Kind != value.RecordKind {
			values = append(values, partfile.Entry{Key: f.Name, Value: partfile.Text{Value: o.like(f)}})
		}
	}
	text, err = partfile.Set(text, append(list[index].Path[:len(list[index].Path):len(list[index].Path)], "values"), values)
	return Result{text, step}, err
}

// EntryAt is what an each at a place would be of, and what the steps inside it would see beside the scope; nil where nothing
// is known of that.
func EntryAt(p *project.Project, plan *running.Plan, gap flow.Gap) (of string, entry *running.Named) {
	o := &offering{p: p, plan: plan, top: same(gap.Path, []any{"steps"})}
	o.scope = plan.ScopeAt(List(plan.Flow, gap.Path), gap)
	return o.List(), o.entryAt()
}

// Record proposes the last record in scope, and its schema.
func (o *offering) Record(name, sch string) (out partfile.Ordered) {
	for i := len(o.scope) - 1; i >= 0; i-- {
		n := o.scope[i]
		if n.Schema == nil || n.List || n.Name == "run" || o.p.Schema(n.Schema.ID) == nil {
			continue
		}
		out.Add(name, n.Name)
		if sch != "" {
			out.Add(sch, n.Schema.ID)
		}
		return out
	}
	return out
}

// Connection proposes the first connection of a kind that fits.
func (o *offering) Connection(fits func(*connection.Kind) bool) (out partfile.Ordered) {
	for _, part := range o.p.Parts(project.Connections) {
		c := o.p.Connection(part.ID)
		if c == nil {
			continue
		}
		if k := connection.KindOf(c.Kind); k != nil && fits(k) {
			out.Add("connection", part.ID)
			return out
		}
	}
	return out
}

// Table proposes the first table of the project, with its key columns: for a formula each, where a record in scope has a
// field of that name.
func (o *offering) Table(columns string) partfile.Ordered {
	for _, part := range o.p.Parts(project.Tables) {
		t := o.p.Formulas().Tables[part.ID]
		if t == nil {
			continue
		}
		var with partfile.Ordered
		for _, f := range t.Keys {
			with.Add(f.Name, partfile.Text{Value: o.like(f)})
		}
		return partfile.Ordered{{Key: "table", Value: part.ID}, {Key: columns, Value: with}}
	}
	return nil
}

// kind offers a kind of step, unless there is nothing that it could do here.
func (o *offering) kind(k *flow.Kind) {
	if k.Targets || k.Fits != nil && !k.Fits(o) {
		return
	}
	of := Offer{Key: "kind/" + k.Name, ID: k.Name, Kind: k.Name, Name: k.Title, About: k.About, Group: k.Group}
	if k.Begin != nil {
		of.Settings = k.Begin(o)
	}
	o.list = append(o.list, of)
}
