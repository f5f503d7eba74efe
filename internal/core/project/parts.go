package project

import (
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/table"
)

var sampleKind = &kind{folder: Samples, one: "sample", files: true}

var schemaKind = &kind{
	folder: Schemas, one: "schema", title: "schema", older: schema.Upgrade, named: map[string]string{"samples/*": Samples},
	compile: compileSchema,
	titled:  func(u *unit) string { return titleOf(u, func(s *schema.Schema) string { return s.Title }) },
	refs:    schemaRefs,
	uses: func(s *usage, u *unit) {
		sch := u.value.(*schema.Schema)
		for _, sample := range sch.Samples {
			s.part(Samples, sample)
		}
		for _, of := range sch.Includes() {
			s.part(Schemas, of)
		}
	},
}

func compileSchema(k *looking, u *unit) {
	d := u.doc.Again()
	s := schema.Read(u.ID, d, func(id string) (*schema.Schema, bool) {
		k.note("schema", id)
		return k.l.schema(id)
	})
	for _, sample := range s.Samples {
		if !k.has(Samples, sample) {
			d.Fault(s.At, fault.New(fault.Unknown, "there is no sample %q", sample))
		}
	}
	u.value = s
	u.found(d.Faults)
}

// schemaRefs are the samples of a schema, and the schemas of which it takes fields.
func schemaRefs(u *unit) []ref {
	return refsIn(u, func(path []any) string {
		if last, is := path[len(path)-1].(string); is && last == "of" && len(path) > 1 {
			return Schemas
		}
		return u.kind.named[pattern(path)]
	})
}

var connectionKind = &kind{
	folder: Connections, one: "connection", title: "connection", older: connection.Upgrade, named: map[string]string{"operations/*/request": Schemas, "operations/*/response": Schemas},
	compile: func(k *looking, u *unit) {
		d := u.doc.Again()
		c := connection.Parse(u.ID, d)
		c.Resolve(k.Schema, k.Formulas())
		u.value = c
		u.found(d.Faults)
	},
	titled: func(u *unit) string { return titleOf(u, func(c *connection.Connection) string { return c.Title }) },
	stays:  func(*Project, string) string { return "its settings and secrets are kept under its id" },
}

var mappingKind = &kind{
	folder: Mappings, one: "mapping", title: "mapping", older: mapping.Upgrade, named: map[string]string{"to": Schemas, "from/*/schema": Schemas},
	compile: func(k *looking, u *unit) {
		d := u.doc.Again()
		plan := mapping.Parse(u.ID, d).Compile(k.Schema, k.Formulas())
		u.found(append(slices.Clip(d.Faults), plan.Faults...))
		plan.Faults, u.value = u.faults, plan
	},
	titled: func(u *unit) string { return titleOf(u, func(m *mapping.Plan) string { return m.Mapping.Title }) },
	uses: func(s *usage, u *unit) {
		m := u.value.(*mapping.Plan)
		for _, src := range m.Mapping.From {
			s.part(Schemas, src.Schema.Value)
		}
		s.part(Schemas, m.Mapping.To.Value)
		s.formulas(m.Tables, m.Functions)
	},
}

var flowKind = &kind{
	folder: Flows, one: "flow", title: "flow",
	older:   flow.Upgrade,
	parse:   func(id string, d *partfile.Doc) any { return flow.Parse(id, d) },
	compile: compileFlow,
	titled:  func(u *unit) string { return u.parsed.(*flow.Flow).Title },
	refs:    func(u *unit) []ref { return flowRefs(u.parsed.(*flow.Flow)) },
	uses:    usesOfFlow,
	stays:   func(*Project, string) string { return "its runs and releases are kept under its id" },
}

func compileFlow(k *looking, u *unit) {
	f := u.parsed.(*flow.Flow)
	plan := compile.Compile(f, k)
	if t := f.Trigger; t.Of().Requests && t.Sample.Value != "" && !k.has(Samples, t.Sample.Value) {
		plan.Faults = append(plan.Faults, fault.New(fault.Unknown, "there is no sample %q", t.Sample.Value).At(fault.Place{Source: u.Path, Line: t.Sample.Line}))
	}
	u.found(plan.Faults)
	plan.Faults, u.notes, u.value = u.faults, plan.Notes, plan
}

func usesOfFlow(s *usage, u *unit) {
	plan := u.value.(*running.Plan)
	t := plan.Flow.Trigger
	s.part(Connections, t.Connection.Value)
	for _, id := range []string{t.Input.Value, t.Output.Value, t.Parameters.Value} {
		s.part(Schemas, id)
	}
	s.part(Samples, t.Sample.Value)
	for _, r := range u.refs() {
		s.part(r.kind, r.id)
	}
	s.plan(plan)
}

// plan notes what the steps of a plan need, beside what its part names; nil needs nothing.
func (s *usage) plan(plan *running.Plan) {
	if plan == nil {
		return
	}
	for id := range plan.Answers {
		s.part(Schemas, id)
	}
	for _, op := range plan.Operations {
		s.part(Schemas, op.Ask.Value)
		s.part(Schemas, op.Give.Value)
	}
	s.formulas(plan.Tables, plan.Functions)
}

func flowRefs(f *flow.Flow) (list []ref) {
	for _, r := range f.Trigger.Settings.Refs() {
		list = append(list, refTo([]any{"trigger", r.Setting}, FolderOf(r.Kind), r.ID))
	}
	f.Walk(func(s *flow.Step) {
		for _, r := range s.Settings.Refs() {
			list = append(list, refTo(append(s.Path[:len(s.Path):len(s.Path)], r.Setting), FolderOf(r.Kind), r.ID))
		}
	})
	return list
}

var tableKind = &kind{
	folder: Tables, one: "table", title: "table",
	parse:  func(id string, d *partfile.Doc) any { return table.Parse(id, d) },
	titled: func(u *unit) string { return u.parsed.(*table.Table).Title },
	calls: func(id string) *regexp.Regexp {
		return regexp.MustCompile(`(\b(?:lookup|hasKey|table|inTable)\(\s*\\?["'])` + regexp.QuoteMeta(id) + `(\\?["'])`)
	},
	users: func(p *Project, id string, by Part) bool { return p.dependsOn(Tables, id, by) },
}

// titleOf is the title of what a part was compiled to.
func titleOf[T any](u *unit, title func(T) string) string {
	if of, is := u.value.(T); is {
		return title(of)
	}
	return ""
}

// flowContract is what a flow that another one can run is given and answers; nil when there is none.
func flowContract(p *Project, id string, schemaOf func(id string) *schema.Schema) *running.Contract {
	f := p.parsedFlow(id)
	if f == nil || !f.Trigger.Of().Callable {
		return nil
	}
	return &running.Contract{ID: id, Title: f.Title, Input: schemaOf(f.Trigger.Input.Value), Output: schemaOf(f.Trigger.Output.Value)}
}

// usage gathers what a release with a part needs.
type usage struct {
	p     *Project
	paths map[string]bool
}

// part notes a part with all that it needs, unless it was noted already.
func (s *usage) part(kind, id string) {
	if of := refTo(nil, kind, id); of.rest != "" {
		kind, id = of.kind, of.id
	}
	path := Path(kind, id)
	u := s.p.units[path]
	if u == nil || s.paths[path] {
		return
	}
	s.paths[path] = true
	if u.kind.uses != nil {
		u.kind.uses(s, u)
	}
}

// formulas notes the parts of tables and functions.
func (s *usage) formulas(tables, functions []string) {
	for _, id := range tables {
		s.part(Tables, id)
	}
	for _, fn := range functions {
		name, _, _ := strings.Cut(fn, ".")
		if version := s.p.pinned[name]; version > 0 {
			name = VersionID(name, version)
		}
		s.part(Libraries, name)
	}
}

// Formulas is what the project's formulas can use beside the catalogue.
func (p *Project) Formulas() formula.Env { return p.env }
