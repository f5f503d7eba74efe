// Package project reads a project's parts from text files, ties them together by their names and
// checks them as a whole. A part's id is its file name; its kind is its folder.
package project

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"hollowreed/internal/core/alert"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/library"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// The kinds of part, by their folder.
const (
	Schemas     = "schemas"
	Mappings    = "mappings"
	Connections = "connections"
	Flows       = "flows"
	Samples     = "samples"
	Cases       = "cases"
	Tables      = "tables"
	Libraries   = "libraries"
	Alerts      = "alerts"
)

var folders = []string{Connections, Schemas, Mappings, Flows, Samples, Cases, Tables, Libraries, Alerts}

// Bounds on a project.
const (
	MaxParts = 10_000
	MaxPart  = 4 << 20 // bytes of one file
)

// File is the name of the file that holds the project's own settings.
const File = "project.yaml"

// Project is all parts of one project, parsed and compiled. It is immutable.
type Project struct {
	ID, Title   string
	Texts       map[string]string // by path
	Faults      fault.List
	Notes       fault.List // outcomes in flows that nothing is done about; no faults
	schemas     map[string]*schema.Schema
	mappings    map[string]*mapping.Plan
	connections map[string]*connection.Connection
	parsed      map[string]*flow.Flow
	flows       map[string]*flow.Plan
	libraries   map[string]*library.Library // by id, with the published versions
	pinned      map[string]int              // the version of a library that is used, where it is not the draft
	env         formula.Env
	cases       []Case         // by id
	alerts      []*alert.Alert // by id
	alertFaults map[string]*fault.Fault
	references  sync.Once
	namedIn     map[string][]ref    // by the path of the part that names
	read        map[string]*doc.Doc // the documents by path; nil where the project after this one does not begin with them
	was         *Project            // the one before, while this one is read
}

// Kind and id of a part by its path; ok is false for files that are no parts.
func Kind(p string) (kind, id string, ok bool) {
	kind, name := path.Split(p)
	kind = strings.TrimSuffix(kind, "/")
	for _, f := range folders {
		if kind != f {
			continue
		}
		if kind == Samples {
			return kind, name, name != ""
		}
		id, yaml := strings.CutSuffix(name, ".yaml")
		return kind, id, yaml && id != ""
	}
	return "", "", false
}

// Path is where a part of a kind and id stands.
func Path(kind, id string) string {
	if kind == Samples {
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

// Load parses and compiles a project. Its faults are found in the Project; it is always usable.
func Load(id string, texts map[string]string) *Project {
	p := begun(id, texts)
	p.load()
	return p
}

// Next is Load for a project that is much like the one before: texts that have not changed are not parsed again, and those of this
// one are kept for the next. The one before may be nil.
func Next(was *Project, id string, texts map[string]string) *Project {
	p := begun(id, texts)
	p.read, p.was = map[string]*doc.Doc{}, was
	p.load()
	p.was = nil
	return p
}

func begun(id string, texts map[string]string) *Project {
	return &Project{
		ID: id, Title: id, Texts: texts,
		schemas: map[string]*schema.Schema{}, mappings: map[string]*mapping.Plan{},
		connections: map[string]*connection.Connection{}, flows: map[string]*flow.Plan{}, parsed: map[string]*flow.Flow{},
		libraries: map[string]*library.Library{}, pinned: map[string]int{},
	}
}

func (p *Project) load() {
	p.settings()
	p.loadFormulas(p.pinned)
	p.loadSchemas()
	p.each(Connections, func(id string, d *doc.Doc) {
		p.connections[id] = connection.Parse(id, d)
		p.connections[id].Resolve(p.Schema, p.env)
	})
	p.each(Mappings, func(id string, d *doc.Doc) { p.compileMapping(id, mapping.Parse(id, d), d) })
	p.loadFlows()
	p.loadCases()
	p.loadAlerts()
	sort.SliceStable(p.Faults, func(i, j int) bool {
		a, b := p.Faults[i].Place, p.Faults[j].Place
		if a.Source != b.Source {
			return a.Source < b.Source
		}
		return a.Line < b.Line
	})
}

func (p *Project) loadSchemas() {
	docs := p.docs(Schemas)
	l := schema.NewLoader(func(id string) *doc.Doc { return docs[id] })
	for id, d := range docs {
		p.schemas[id] = l.Schema(id)
		for _, sample := range p.schemas[id].Samples {
			if _, ok := p.Texts[Path(Samples, sample)]; !ok {
				d.Fault(p.schemas[id].At, fault.New(fault.Unknown, "there is no sample %q", sample))
			}
		}
	}
	for _, d := range docs {
		p.Faults = append(p.Faults, d.Faults...)
	}
}

func (p *Project) compileMapping(id string, m *mapping.Mapping, d *doc.Doc) {
	plan := m.Compile(p.Schema, p.env)
	plan.Faults = append(append(fault.List{}, d.Faults...), plan.Faults...)
	d.Faults = plan.Faults
	p.mappings[id] = plan
}

// loadFlows parses all flows before it compiles them: they may run each other.
func (p *Project) loadFlows() {
	docs := p.docs(Flows)
	for id, d := range docs {
		p.parsed[id] = flow.Parse(id, d)
	}
	for id, d := range docs {
		plan := p.parsed[id].Compile(p)
		plan.Faults = append(append(fault.List{}, d.Faults...), plan.Faults...)
		p.flows[id] = plan
		p.Faults, p.Notes = append(p.Faults, plan.Faults...), append(p.Notes, plan.Notes...)
	}
	p.requests()
}

// requests finds flows that would be started by the same request.
func (p *Project) requests() {
	var before []*flow.Flow
	for _, part := range p.Parts(Flows) {
		f := p.parsed[part.ID]
		if !f.Trigger.Of().Requests {
			continue
		}
		if i := slices.IndexFunc(before, func(x *flow.Flow) bool {
			return x.Trigger.Method == f.Trigger.Method && flow.SamePaths(x.Trigger.Path.Value, f.Trigger.Path.Value)
		}); i >= 0 {
			ft := fault.New(fault.Setting, "%s is started by %s %s already", before[i].Title, f.Trigger.Method, before[i].Trigger.Path.Value).Mended("Choose another path").At(fault.Place{Source: part.Path, Line: f.Trigger.Path.Line})
			p.flows[part.ID].Faults = append(p.flows[part.ID].Faults, ft)
			p.Faults = append(p.Faults, ft)
			continue
		}
		before = append(before, f)
		if _, there := p.Texts[Path(Samples, f.Trigger.Sample.Value)]; !there && f.Trigger.Sample.Value != "" {
			ft := fault.New(fault.Unknown, "there is no sample %q", f.Trigger.Sample.Value).At(fault.Place{Source: part.Path, Line: f.Trigger.Sample.Line})
			p.flows[part.ID].Faults, p.Faults = append(p.flows[part.ID].Faults, ft), append(p.Faults, ft)
		}
	}
}

// TriedRequest is the HTTP request of a try of a flow; absent where requests do not start it.
func (p *Project) TriedRequest(plan *flow.Plan) value.Value {
	parameters := value.Value{}
	if s := p.schemas[plan.Flow.Trigger.Parameters.Value]; s != nil {
		parameters, _ = p.Example(s) // without one the path shows its names
	}
	if text, there := p.Texts[Path(Samples, plan.Flow.Trigger.Sample.Value)]; there {
		return plan.Flow.Trigger.Tried(&text, parameters)
	}
	return plan.Flow.Trigger.Tried(nil, parameters)
}

// Contract is what a flow that another one can run is given and answers; nil when there is none.
func (p *Project) Contract(id string) *flow.Contract {
	f := p.parsed[id]
	if f == nil || !f.Trigger.Of().Callable {
		return nil
	}
	return &flow.Contract{ID: id, Title: f.Title, Input: p.schemas[f.Trigger.Input.Value], Output: p.schemas[f.Trigger.Output.Value]}
}

func (p *Project) settings() {
	d := p.document(File)
	n := d.Root()
	if t := n.Need("project").Value; t != "" {
		p.Title = t
	}
	libraries, versions := n.Map("libraries").Pairs()
	for i, name := range libraries {
		version, err := strconv.Atoi(versions[i].Value)
		_, there := p.Texts[Path(Libraries, VersionID(name.Value, version))]
		_, begun := p.Texts[Path(Libraries, name.Value)] // a release has only what its flow uses
		if err != nil || !there && begun {
			d.Fault(versions[i], fault.New(fault.Unknown, "there is no version %s of the library %s", versions[i].Value, name.Value))
			continue
		}
		p.pinned[name.Value] = version
	}
	n.Done()
	p.Faults = append(p.Faults, d.Faults...)
}

// docs parses the parts of one kind, by their ids.
func (p *Project) docs(kind string) map[string]*doc.Doc {
	docs := map[string]*doc.Doc{}
	for _, part := range p.Parts(kind) {
		text := p.Texts[part.Path]
		d := p.document(part.Path)
		if !utf8.ValidString(text) {
			d.Faults = append(d.Faults, fault.New(fault.Encoding, "the part is not UTF-8 text").At(fault.Place{Source: part.Path, Line: 1}))
		}
		docs[part.ID] = d
	}
	return docs
}

// document is a parsed text, of the project before where it is the same there.
func (p *Project) document(path string) *doc.Doc {
	text := p.Texts[path]
	var d *doc.Doc
	if p.was != nil && p.was.read[path] != nil && p.was.Texts[path] == text {
		d = p.was.read[path].Again()
	} else {
		d = doc.Parse(path, []byte(text))
	}
	if p.read != nil {
		p.read[path] = d
	}
	return d
}

// each uses the parts of one kind.
func (p *Project) each(kind string, use func(id string, d *doc.Doc)) {
	for id, d := range p.docs(kind) {
		use(id, d)
		p.Faults = append(p.Faults, d.Faults...)
	}
}

// Part is one part by its names.
type Part struct{ Path, Kind, ID, Title string }

// Parts lists the parts of one kind, or all when kind is empty, by path.
func (p *Project) Parts(kind string) []Part {
	var parts []Part
	for path := range p.Texts {
		k, id, ok := Kind(path)
		if ok && (kind == "" || k == kind) {
			parts = append(parts, Part{Path: path, Kind: k, ID: id, Title: p.title(k, id)})
		}
	}
	sort.Slice(parts, func(i, j int) bool { return parts[i].Path < parts[j].Path })
	return parts
}

func (p *Project) title(kind, id string) string {
	switch {
	case kind == Schemas && p.schemas[id] != nil:
		return p.schemas[id].Title
	case kind == Mappings && p.mappings[id] != nil:
		return p.mappings[id].Mapping.Title
	case kind == Connections && p.connections[id] != nil:
		return p.connections[id].Title
	case kind == Flows && p.flows[id] != nil:
		return p.flows[id].Flow.Title
	case kind == Tables && p.env.Tables[id] != nil:
		return p.env.Tables[id].Title
	case kind == Libraries && p.libraries[id] != nil:
		return p.libraries[id].Title
	case kind == Alerts:
		if a := p.Alert(id); a != nil {
			return a.Title
		}
	case kind == Cases:
		if i := slices.IndexFunc(p.cases, func(c Case) bool { return c.ID == id }); i >= 0 {
			return p.cases[i].Title
		}
	}
	return id
}

// TitleOf is the title of a part; its id where there is none.
func (p *Project) TitleOf(kind, id string) string { return p.title(kind, id) }

// Schema finds a schema; nil when there is none.
func (p *Project) Schema(id string) *schema.Schema { return p.schemas[id] }

// Mapping finds a compiled mapping; nil when there is none.
func (p *Project) Mapping(id string) *mapping.Plan { return p.mappings[id] }

// Connection finds a connection; nil when there is none.
func (p *Project) Connection(id string) *connection.Connection { return p.connections[id] }

// Flow finds a compiled flow; nil when there is none.
func (p *Project) Flow(id string) *flow.Plan { return p.flows[id] }

// Uses lists the paths of all parts that a flow needs, the flow and the project's file among them.
func (p *Project) Uses(flowID string) []string {
	if p.flows[flowID] == nil {
		return nil
	}
	uses := map[string]bool{File: true}
	p.useFlow(uses, flowID)
	var paths []string
	for path := range uses {
		if _, ok := p.Texts[path]; ok {
			paths = append(paths, path)
		}
	}
	sort.Strings(paths)
	return paths
}

// useFlow notes what a flow needs, and what the flows need that it runs.
func (p *Project) useFlow(uses map[string]bool, id string) {
	plan := p.flows[id]
	if plan == nil || uses[Path(Flows, id)] {
		return
	}
	uses[Path(Flows, id)] = true
	t := plan.Flow.Trigger
	p.use(uses, Connections, t.Connection.Value)
	p.use(uses, Schemas, t.Input.Value)
	p.use(uses, Schemas, t.Output.Value)
	p.use(uses, Schemas, t.Parameters.Value)
	for id := range plan.Answers {
		p.use(uses, Schemas, id)
	}
	p.use(uses, Samples, t.Sample.Value)
	for _, op := range plan.Operations {
		for _, named := range []string{op.Ask.Value, op.Give.Value} {
			if named != "" {
				p.use(uses, Schemas, named)
			}
		}
	}
	plan.Flow.Walk(func(s *flow.Step) { p.useStep(uses, s) })
	p.useFormulas(uses, plan.Tables, plan.Functions)
}

func (p *Project) useStep(uses map[string]bool, s *flow.Step) {
	for _, r := range s.Settings.Refs() {
		if r.Kind == "flow" {
			p.useFlow(uses, r.ID)
		} else {
			p.use(uses, r.Kind+"s", r.ID)
		}
	}
}

func (p *Project) use(uses map[string]bool, kind, id string) {
	uses[Path(kind, id)] = true
	if m := p.mappings[id]; kind == Mappings && m != nil {
		for _, src := range m.Mapping.From {
			p.use(uses, Schemas, src.Schema.Value)
		}
		p.use(uses, Schemas, m.Mapping.To.Value)
		p.useFormulas(uses, m.Tables, m.Functions)
	}
	if s := p.schemas[id]; kind == Schemas && s != nil {
		for _, sample := range s.Samples {
			uses[Path(Samples, sample)] = true
		}
		for _, of := range s.Takes() {
			if !uses[Path(Schemas, of)] {
				p.use(uses, Schemas, of)
			}
		}
	}
}

// ErrNoPart is returned for a part that the project does not have.
var ErrNoPart = errors.New("there is no such part")
