package project

import (
	"strconv"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/direct"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

var contractKind = &kind{
	folder: Contracts, one: "contract", files: true,
	compile: func(_ *looking, u *unit) {
		c := &readContract{}
		c.Contract, c.err = contract.Read(u.Path, []byte(u.text))
		u.value = c
	},
}

// readContract is a contract, or why it cannot be read; the APIs that name it tell of that.
type readContract struct {
	*contract.Contract
	err error
}

// schema is one that a contract describes; nil where there is none at its place.
func (c *readContract) schema(place string) *schema.Schema {
	if c == nil || c.Contract == nil {
		return nil
	}
	d, err := c.Contract.Schema(place)
	if err != nil || d == nil {
		return nil
	}
	return d.Schema
}

var apiKind = &kind{
	folder: APIs, one: "api", title: "api", named: map[string]string{"contract": Contracts, "operations/*/connection": Connections, "operations/*/request mapping": Mappings, "operations/*/response mapping": Mappings},
	compile: func(k *looking, u *unit) {
		d := u.doc.Again()
		u.value = api.Parse(u.ID, d, k.document, func(id string) string {
			if c := k.Connection(id); c != nil {
				return c.Kind
			}
			return ""
		})
		u.found(append(d.Faults, direct.Compile(u.value.(*api.API), d, k)...))
	},
	titled: func(u *unit) string { return titleOf(u, func(a *api.API) string { return a.Title }) },
	uses: func(s *usage, u *unit) {
		a := u.value.(*api.API)
		s.part(Contracts, a.File.Value)
		for _, id := range a.Connections() {
			s.part(Connections, id)
		}
		for _, r := range u.refs() {
			s.part(r.kind, r.id)
		}
		for _, w := range a.Ways {
			s.plan(w.In)
			s.plan(w.Back)
		}
	},
	stays: func(*Project, string) string { return "callers know its address" },
}

// contractExample is an example of a schema that a contract describes; none for other schemas.
func (p *Project) contractExample(s *schema.Schema) []value.Value {
	file, place, is := contract.CutRef(s.ID)
	c := compiled[*readContract](p, Contracts, file)
	if !is || c.schema(place) == nil {
		return nil
	}
	for _, m := range c.Media(place) {
		for _, e := range m.Examples {
			if rows, err := ReadJSON(s, e.Value); err == nil {
				return rows
			}
		}
	}
	if v, ft := sample.Make(s, sample.Typical, 0); ft == nil {
		return []value.Value{v}
	}
	return nil
}

// Messages are the schemas between which mappings map: the parts, and behind them the bodies of contracts.
func (p *Project) Messages() []Part {
	list := p.Parts(Schemas)
	for _, part := range p.Parts(Contracts) {
		c := compiled[*readContract](p, Contracts, part.ID)
		if c.Contract == nil || c.WSDL != nil {
			continue
		}
		for _, place := range c.Bodies() {
			if s := c.schema(place); s != nil && s.Root.Kind == value.RecordKind {
				list = append(list, Part{Path: part.Path, Kind: Schemas, ID: s.ID, Title: s.Title + " of " + part.ID})
			}
		}
	}
	return list
}

// AnsweredBy are the flows that answer operations of an API, by the operation's id.
func (p *Project) AnsweredBy(apiID string) map[string][]Part {
	by := map[string][]Part{}
	for _, part := range p.Parts(Flows) {
		if plan := p.Flow(part.ID); plan != nil && plan.Bound != nil && plan.Bound.API == apiID {
			by[plan.Bound.Operation.ID] = append(by[plan.Bound.Operation.ID], part)
		}
	}
	return by
}

// answeredTwice finds operations that a flow answers, and that their API answers otherwise.
func (p *Project) answeredTwice() {
	for _, part := range p.Parts(APIs) {
		a := p.API(part.ID)
		if a == nil || len(a.Ways) == 0 {
			continue
		}
		by := p.AnsweredBy(part.ID)
		for _, w := range a.Ways {
			if w.Operation == nil || len(by[w.Operation.ID]) == 0 {
				continue
			}
			p.Faults = append(p.Faults, fault.New(fault.Setting, "%s is answered by the flow %s already", w.Operation.Name(), by[w.Operation.ID][0].Title).
				WithFix("Take the entry out, or let the flow answer another operation").At(fault.Place{Source: part.Path, Line: w.Name.Line, Column: w.Name.Column}))
		}
	}
}

// exampleOf are parameters as a caller could send them: the examples of the contract, or else made up.
func exampleOf(b *running.Bound) value.Value {
	fields, err := running.ParametersOf(b)
	if fields == nil || err != nil {
		return value.Value{}
	}
	values := make([]value.Value, len(fields.Fields))
	for i, p := range b.Visible().Parameters {
		f := fields.Fields[i]
		s := &schema.Schema{ID: p.Name, Notation: json.Kind.Notation, Root: schema.Record("one", f)}
		if len(p.Examples) > 0 {
			if rows, err := ReadJSON(s, `{`+strconv.Quote(p.Name)+`:`+p.Examples[0].Value+`}`); err == nil {
				values[i] = rows[0].Field(p.Name)
				continue
			}
		}
		if v, ft := sample.Make(s, sample.Typical, 1); ft == nil && p.Required {
			values[i] = v.Field(p.Name)
		}
	}
	return value.NewRecord(fields.Layout(), values)
}
