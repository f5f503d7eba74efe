// Package project reads a project's parts from text files, ties them together by their names and
// checks them as a whole. A part's id is its file name; its kind is its folder.
package project

import (
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Bounds on a project.
const (
	MaxParts = 10_000
	MaxPart  = 4 << 20 // bytes of one file
)

// File is the name of the file that holds the project's own settings.
const File = "project.yaml"

// Project is all parts of one project, parsed and compiled. It is immutable.
type Project struct {
	ID, Title string
	Texts     map[string]string // by path
	Faults    fault.List
	Warnings  fault.List // outcomes in flows that nothing is done about; no faults
	units     map[string]*unit
	parts     []Part // by path
	env       formula.Env
	signature string                   // of what formulas can name
	pinned    map[string]int           // the version of a library that is used, where it is not the draft
	clashed   map[string]*running.Plan // flows whose request starts another one already, with that fault
}

// Kind and id of a part by its path; ok is false for files that are no parts.
func Kind(p string) (kind, id string, ok bool) {
	kind, name := path.Split(p)
	kind = strings.TrimSuffix(kind, "/")
	k := kindOf(kind)
	switch {
	case k == nil:
		return "", "", false
	case k.files:
		return kind, name, name != ""
	}
	id, yaml := strings.CutSuffix(name, ".yaml")
	return kind, id, yaml && id != ""
}

// Path is where a part of a kind and id stands.
func Path(kind, id string) string {
	if k := kindOf(kind); k != nil && k.files {
		return kind + "/" + id
	}
	return kind + "/" + id + ".yaml"
}

// Read takes the part files of a folder.
func Read(dir fs.FS) (map[string]string, error) {
	texts := map[string]string{}
	err := fs.WalkDir(dir, ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() {
			if p != "." && strings.HasPrefix(e.Name(), ".") {
				return fs.SkipDir
			}
			return nil
		}
		if _, _, part := Kind(p); !part && p != File {
			return nil
		}
		return readPart(dir, p, e, texts)
	})
	if err == nil && texts[File] == "" {
		err = fault.Expect(fault.Required, "a project folder with a "+File, "none")
	}
	return texts, err
}

func readPart(dir fs.FS, p string, e fs.DirEntry, texts map[string]string) error {
	info, err := e.Info()
	switch {
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return fault.New(fault.Setting, "%s is not a regular file", p)
	case info.Size() > MaxPart:
		return fault.New(fault.Limit, "%s is larger than %d bytes", p, MaxPart)
	case len(texts) >= MaxParts:
		return fault.New(fault.Limit, "the project has more than %d parts", MaxParts)
	}
	text, err := fs.ReadFile(dir, p)
	texts[p] = string(text)
	return err
}

// TriedRequest is the HTTP request of a try of a flow; absent where requests do not start it.
func (p *Project) TriedRequest(plan *running.Plan) value.Value {
	parameters := value.Value{}
	if s := p.Schema(plan.Flow.Trigger.Parameters.Value); s != nil {
		parameters, _ = p.Example(s) // without one the path shows its names
	}
	if plan.Bound != nil {
		parameters = exampleOf(plan.Bound)
	}
	if text, there := p.Texts[Path(Samples, plan.Flow.Trigger.Sample.Value)]; there {
		return running.TriedRequest(plan.Flow.Trigger, &text, parameters)
	}
	return running.TriedRequest(plan.Flow.Trigger, nil, parameters)
}

// Contract is what a flow that another one can run is given and answers; nil when there is none.
func (p *Project) Contract(id string) *running.Contract { return flowContract(p, id, p.Schema) }

// API finds an API; nil when there is none.
func (p *Project) API(id string) *api.API { return compiled[*api.API](p, APIs, id) }

// Part is one part by its names.
type Part struct{ Path, Kind, ID, Title string }

// KindName is what a part of its kind is called, for example flow.
func (p Part) KindName() string {
	if p.Kind == APIs {
		return "API"
	}
	return OneOf(p.Kind)
}

// Parts lists the parts of one kind, or all when kind is empty, by path.
func (p *Project) Parts(kind string) []Part {
	from, to := 0, len(p.parts)
	if kind != "" {
		from, _ = slices.BinarySearchFunc(p.parts, kind+"/", func(part Part, path string) int { return strings.Compare(part.Path, path) })
		to, _ = slices.BinarySearchFunc(p.parts, kind+"0", func(part Part, path string) int { return strings.Compare(part.Path, path) }) // behind all with a /
	}
	return slices.Clone(p.parts[from:to])
}

// TitleOf is the title of a part; its id where there is none.
func (p *Project) TitleOf(kind, id string) string {
	if u := p.units[Path(kind, id)]; u != nil {
		return u.Title
	}
	return id
}

// compiled finds what a part was compiled to; nothing where there is none of that kind and id.
func compiled[T any](p *Project, kind, id string) (of T) {
	if u := p.units[Path(kind, id)]; u != nil {
		of, _ = u.value.(T)
	}
	return of
}

// Schema finds a schema: a part, or one of a contract; nil when there is none.
func (p *Project) Schema(id string) *schema.Schema {
	if file, place, is := contract.CutRef(id); is {
		return compiled[*readContract](p, Contracts, file).schema(place)
	}
	return compiled[*schema.Schema](p, Schemas, id)
}

// Mapping finds a compiled mapping; nil when there is none.
func (p *Project) Mapping(id string) *mapping.Plan { return compiled[*mapping.Plan](p, Mappings, id) }

// Connection finds a connection; nil when there is none.
func (p *Project) Connection(id string) *connection.Connection {
	return compiled[*connection.Connection](p, Connections, id)
}

// Flow finds a compiled flow; nil when there is none.
func (p *Project) Flow(id string) *running.Plan {
	if plan := p.clashed[id]; plan != nil {
		return plan
	}
	return compiled[*running.Plan](p, Flows, id)
}

// parsedFlow finds a flow as it was read; nil when there is none.
func (p *Project) parsedFlow(id string) *flow.Flow {
	if u := p.units[Path(Flows, id)]; u != nil {
		return u.parsed.(*flow.Flow)
	}
	return nil
}

// ReleaseID is how releases name a part: a flow by its id, an API by its folder and its id.
func ReleaseID(kind, id string) string {
	if kind == Flows {
		return id
	}
	return kind + "/" + id
}

// ReleasedPath is the path of the part that a release is of.
func ReleasedPath(releaseID string) string {
	if kind, id, is := strings.Cut(releaseID, "/"); is {
		return Path(kind, id)
	}
	return Path(Flows, releaseID)
}

// OfFlow says whether a release is of a flow; the others are of APIs and channels.
func OfFlow(releaseID string) bool { return !strings.Contains(releaseID, "/") }

// Releasable is the part that a release would be of; false where there is none.
func (p *Project) Releasable(releaseID string) (Part, bool) {
	u := p.units[ReleasedPath(releaseID)]
	if u == nil || u.Kind != Flows && u.Kind != APIs && u.Kind != Channels {
		return Part{}, false
	}
	return u.Part, true
}

// Uses lists the paths of all parts that a flow needs, the flow and the project's file among them.
func (p *Project) Uses(id string) []string {
	part, there := p.Releasable(id)
	if !there {
		return nil
	}
	s := usage{p: p, paths: map[string]bool{}}
	if _, there := p.Texts[File]; there {
		s.paths[File] = true
	}
	s.part(part.Kind, part.ID)
	return slices.Sorted(maps.Keys(s.paths))
}

// FaultOf gives the first fault of a part or of what it needs; nil where there is none. Connections are left aside: their settings
// are of an environment.
func (p *Project) FaultOf(kind, id string) *fault.Fault {
	s := usage{p: p, paths: map[string]bool{}}
	s.part(kind, id)
	for _, f := range p.Faults {
		if kind, _, ok := Kind(f.Place.Source); ok && kind != Connections && s.paths[f.Place.Source] {
			return f
		}
	}
	return nil
}

// ErrNoPart is returned for a part that the project does not have.
var ErrNoPart = errors.New("there is no such part")
