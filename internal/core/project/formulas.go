package project

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/library"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
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

// parsedLibrary is a library as formulas use it.
type parsedLibrary struct {
	*library.Library
	formulas *formula.Library
}

var libraryKind = &kind{
	folder: Libraries, one: "library", title: "library", older: library.Upgrade,
	parse: func(id string, d *partfile.Doc) any {
		l := library.Parse(id, d)
		if name, _ := LibraryName(id); !formula.Name(name) {
			d.Faults = append(d.Faults, fault.New(fault.Setting, "a library cannot be called %q", name).WithFix("Use letters, digits and _, so that formulas can name it").At(fault.Place{Source: d.Source, Line: 1}))
		}
		return &parsedLibrary{l, l.Formulas()}
	},
	compile: func(k *looking, u *unit) {
		l := u.parsed.(*parsedLibrary)
		u.value = l.Library
		u.found(l.Check(ownEnv(k.Formulas(), u.ID, l.formulas)))
	},
	titled: func(u *unit) string { return u.parsed.(*parsedLibrary).Title },
	stays: func(p *Project, id string) string {
		name, version := LibraryName(id)
		if version > 0 || len(p.Versions(name)) > 0 || p.pinned[name] > 0 {
			return "it is published under its id"
		}
		return ""
	},
	calls: func(id string) *regexp.Regexp {
		return regexp.MustCompile(`(^|[^\w.])` + regexp.QuoteMeta(id) + `(\.\w+\()`)
	},
	users: func(p *Project, id string, by Part) bool {
		name, version := LibraryName(id)
		return version == p.pinned[name] && (p.dependsOn(Libraries, name, by) || by.Kind == Libraries && p.callsLibrary(by, name))
	},
}

// ownEnv is what formulas of a library can use: the library itself is the one of its id.
func ownEnv(env formula.Env, id string, own *formula.Library) formula.Env {
	env.Libraries = maps.Clone(env.Libraries)
	name, _ := LibraryName(id)
	env.Libraries[name] = own
	if used := env.Used; used != nil {
		env.Used = func(kind, of string) {
			if kind != "library" || of != name {
				used(kind, of)
			}
		}
	}
	return env
}

// EnvOf is what the formulas of a library can use: the library itself is the one of that id.
func (p *Project) EnvOf(id string) formula.Env {
	return ownEnv(p.env, id, p.units[Path(Libraries, id)].parsed.(*parsedLibrary).formulas)
}

// Table finds a table; nil when there is none.
func (p *Project) Table(id string) *table.Table { return p.env.Tables[id] }

// Library finds a library by id, which has the number of a published version; nil when there is none.
func (p *Project) Library(id string) *library.Library {
	return compiled[*library.Library](p, Libraries, id)
}

// LibraryVersion is the version of a library that the project uses; 0 is the draft.
func (p *Project) LibraryVersion(name string) int { return p.pinned[name] }

// Versions lists the published versions of a library, the newest first.
func (p *Project) Versions(name string) []int {
	var out []int
	for _, part := range p.Parts(Libraries) {
		if of, version := LibraryName(part.ID); of == name && version > 0 {
			out = append(out, version)
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out
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
		plan := p.Mapping(part.ID)
		for _, f := range slices.Concat(plan.Variables, plan.Fields) {
			if names(kind, what, f.Tables, f.Functions) {
				out = append(out, Dependent{Part: part, Field: f.Name()})
			}
		}
	}
	for _, part := range p.Parts(Flows) {
		if plan := p.Flow(part.ID); names(kind, what, plan.Tables, plan.Functions) {
			out = append(out, Dependent{Part: part})
		}
	}
	return out
}

// names says whether a table, or a library or one of its functions, is among those that are used.
func names(kind, what string, tables, functions []string) bool {
	if kind == Tables {
		return slices.Contains(tables, what)
	}
	return slices.ContainsFunc(functions, func(f string) bool { return f == what || strings.HasPrefix(f, what+".") })
}

// dependsOn says whether formulas of a mapping or a flow use a table or a library.
func (p *Project) dependsOn(kind, what string, by Part) bool {
	switch of := p.units[by.Path].value.(type) {
	case *mapping.Plan:
		return names(kind, what, of.Tables, of.Functions)
	case *running.Plan:
		return names(kind, what, of.Tables, of.Functions)
	}
	return false
}

// callsLibrary says whether a formula of a library uses a function of another.
func (p *Project) callsLibrary(part Part, library string) bool {
	other, _ := LibraryName(part.ID)
	if other == library || !strings.Contains(p.Texts[part.Path], library+".") { // most hold none, and are long
		return false
	}
	return kindOf(Libraries).calls(library).MatchString(p.Texts[part.Path])
}
