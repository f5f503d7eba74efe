package project

import (
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/library"
	"hollowreed/internal/core/table"
)

// versioned is between the name of a library and the number of a published version in an id.
const versioned = "@"

// VersionID is the id of a published version of a library.
func VersionID(name string, version int) string { return name + versioned + strconv.Itoa(version) }

// LibraryName takes the id of a library apart; version is 0 for the draft.
func LibraryName(id string) (name string, version int) {
	name, number, ok := strings.Cut(id, versioned)
	if version, _ = strconv.Atoi(number); ok && version < 1 {
		return id, 0
	}
	return name, version
}

// loadFormulas reads the tables and libraries, and makes of them what formulas can use: of a library
// the version that the project names, or else the draft.
func (p *Project) loadFormulas(pinned map[string]int) {
	p.env = formula.Env{Tables: map[string]*table.Table{}, Libraries: map[string]*formula.Library{}}
	p.each(Tables, func(id string, d *doc.Doc) { p.env.Tables[id] = table.Parse(id, d) })
	docs := p.docs(Libraries)
	for id, d := range docs {
		l := library.Parse(id, d)
		if name, _ := LibraryName(id); !formula.Name(name) {
			d.Faults = append(d.Faults, fault.New(fault.Setting, "a library cannot be called %q", name).Mended("Use letters, digits and _, so that formulas can name it").At(fault.Place{Source: d.Source, Line: 1}))
		}
		p.libraries[id] = l
	}
	for id, l := range p.libraries {
		if name, version := LibraryName(id); version == pinned[name] {
			f := l.Formulas()
			p.env.Libraries[name] = f
		}
	}
	for id, d := range docs {
		p.libraries[id].Check(p.EnvOf(id))
		p.Faults = append(p.Faults, d.Faults...)
	}
}

// EnvOf is what the formulas of a library can use: the library itself is the one of that id.
func (p *Project) EnvOf(id string) formula.Env {
	env := formula.Env{Tables: p.env.Tables, Libraries: map[string]*formula.Library{}}
	for name, l := range p.env.Libraries {
		env.Libraries[name] = l
	}
	name, _ := LibraryName(id)
	env.Libraries[name] = p.libraries[id].Formulas()
	return env
}

// Formulas is what the project's formulas can use beside the catalogue.
func (p *Project) Formulas() formula.Env { return p.env }

// Table finds a table; nil when there is none.
func (p *Project) Table(id string) *table.Table { return p.env.Tables[id] }

// Library finds a library by id, which has the number of a published version; nil when there is none.
func (p *Project) Library(id string) *library.Library { return p.libraries[id] }

// Pinned is the version of a library that the project uses; 0 is the draft.
func (p *Project) Pinned(name string) int { return p.pinned[name] }

// Versions lists the published versions of a library, the newest first.
func (p *Project) Versions(name string) []int {
	var out []int
	for id := range p.libraries {
		if of, version := LibraryName(id); of == name && version > 0 {
			out = append(out, version)
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out
}

// libraryPath is the part of the version of a library that is used.
func (p *Project) libraryPath(name string) string {
	if version := p.pinned[name]; version > 0 {
		name = VersionID(name, version)
	}
	return Path(Libraries, name)
}

// Dependent is a place that uses a table or a function of a library.
type Dependent struct {
	Part  Part
	Field string // of a mapping
}

// Dependents lists the fields of mappings, and the flows, that use a table or, as library.name, a
// function of a library.
func (p *Project) Dependents(kind, what string) []Dependent {
	var out []Dependent
	for _, part := range p.Parts(Mappings) {
		plan := p.mappings[part.ID]
		for _, f := range slices.Concat(plan.Variables, plan.Fields) {
			uses := f.Tables
			if kind == Libraries {
				uses = f.Functions
			}
			if slices.ContainsFunc(uses, func(u string) bool { return u == what || kind == Libraries && strings.HasPrefix(u, what+".") }) {
				out = append(out, Dependent{Part: part, Field: f.Name()})
			}
		}
	}
	for _, part := range p.Parts(Flows) {
		plan := p.flows[part.ID]
		uses := plan.Tables
		if kind == Libraries {
			uses = plan.Functions
		}
		if slices.ContainsFunc(uses, func(u string) bool { return u == what || kind == Libraries && strings.HasPrefix(u, what+".") }) {
			out = append(out, Dependent{Part: part})
		}
	}
	return out
}

// useFormulas adds the parts of tables and functions to those that are used.
func (p *Project) useFormulas(uses map[string]bool, tables, functions []string) {
	for _, id := range tables {
		uses[Path(Tables, id)] = true
	}
	for _, fn := range functions {
		name, _, _ := strings.Cut(fn, ".")
		uses[p.libraryPath(name)] = true
	}
}
