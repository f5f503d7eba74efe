package project

import (
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/library"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/table"
)

// unit is one part as it was read and compiled. It is immutable once its project is loaded, and shared by all projects in which
// the part and what it looked for are the same.
type unit struct {
	Part
	kind     *kind
	text     string
	doc      *partfile.Doc // nil of a kind whose parts are files
	own      fault.List
	parsed   any // what others may know of the part without compiling it
	value    any // compiled
	faults   fault.List
	notes    fault.List
	used     []use
	compiled bool
	once     sync.Once
	named    []ref // found once
}

// readUnit makes the unit of a part that is not compiled yet.
func readUnit(part Part, text string) *unit {
	u := &unit{Part: part, kind: kindOf(part.Kind), text: text}
	if u.kind.files {
		u.compiled = u.kind.compile == nil
		return u
	}
	u.doc = partfile.Parse(part.Path, []byte(text))
	if u.kind.older != nil {
		u.doc.Upgrade(u.kind.older)
	}
	if !utf8.ValidString(text) {
		u.own = fault.List{fault.New(fault.Encoding, "the part is not UTF-8 text").At(fault.Place{Source: part.Path, Line: 1})}
	}
	if u.kind.parse != nil {
		d := u.doc.Again()
		u.parsed = u.kind.parse(u.ID, d)
		u.own = append(u.own, d.Faults...)
	}
	if u.kind.compile == nil {
		u.value, u.faults, u.compiled = u.parsed, u.own, true
	}
	u.title()
	return u
}

func (u *unit) title() {
	if u.kind.titled == nil {
		return
	}
	if t := u.kind.titled(u); t != "" {
		u.Title = t
	}
}

// found notes the faults of a part, with those that were there when it was read.
func (u *unit) found(faults fault.List) {
	u.faults = append(slices.Clip(u.own), faults...)
}

// use is one look of a part at another one while it was compiled, and what it found.
type use struct {
	what, id string
	found    any
}

// looks are what parts look for. What is found is compared: where it is the same, what was compiled with it is, too.
var looks map[string]func(l *loader, id string) any

func init() { // what looks compiles what is looked for
	looks = map[string]func(l *loader, id string) any{
		"schema":     func(l *loader, id string) any { s, _ := l.schema(id); return s },
		"mapping":    func(l *loader, id string) any { return l.mapping(id) },
		"connection": func(l *loader, id string) any { return l.connection(id) },
		"contract":   func(l *loader, id string) any { return contractOf(l.contract(id)) },
		"api":        func(l *loader, id string) any { return l.api(id) },
		"channel":    func(l *loader, id string) any { return l.channel(id) },
		"document":   func(l *loader, file string) any { return l.document(file) },
		"table":      func(l *loader, id string) any { return l.p.env.Tables[id] },
		"library":    func(l *loader, id string) any { return l.p.env.Libraries[id] },
		"formulas":   func(l *loader, _ string) any { return l.p.signature },
		"part":       func(l *loader, path string) any { return l.p.units[path] != nil },
	}
}

func contractOf(c *running.Contract) running.Contract {
	if c == nil {
		return running.Contract{}
	}
	return *c
}

// looking is what a part sees of the others while it is compiled.
type looking struct {
	l     *loader // nil once the part is compiled: what is asked for later changes nothing
	u     *unit
	noted map[[2]string]bool
}

var _ compile.Parts = (*looking)(nil)

func (k *looking) note(what, id string) {
	key := [2]string{what, id}
	if k.l == nil || k.noted[key] {
		return
	}
	k.noted[key] = true
	k.u.used = append(k.u.used, use{what, id, looks[what](k.l, id)})
}

// Schema, Mapping, Connection, Contract and Formulas are what the part can name.

func (k *looking) Schema(id string) *schema.Schema {
	k.note("schema", id)
	s, _ := k.l.schema(id)
	return s
}

func (k *looking) Mapping(id string) *mapping.Plan {
	k.note("mapping", id)
	return k.l.mapping(id)
}

func (k *looking) Connection(id string) *connection.Connection {
	k.note("connection", id)
	return k.l.connection(id)
}

func (k *looking) Contract(id string) *running.Contract {
	k.note("contract", id)
	return k.l.contract(id)
}

// API finds an API.
func (k *looking) API(id string) *api.API {
	k.note("api", id)
	return k.l.api(id)
}

// Channel finds a channel.
func (k *looking) Channel(id string) *channel.Channel {
	k.note("channel", id)
	return k.l.channel(id)
}

// document finds a contract by its file.
func (k *looking) document(file string) (*contract.Contract, error) {
	k.note("document", file)
	c := k.l.document(file)
	if c == nil {
		return nil, nil
	}
	return c.Contract, c.err
}

func (k *looking) Formulas() formula.Env {
	k.note("formulas", "")
	env := k.l.p.env
	env.Used = k.note
	return env
}

// has says whether there is a part.
func (k *looking) has(kind, id string) bool {
	k.note("part", Path(kind, id))
	return k.l.p.units[Path(kind, id)] != nil
}

// stage is how far a part has come.
type stage uint8

const (
	waits stage = iota
	under
	done
)

// loader compiles the parts of a project as others look for them. What the project before has compiled is taken where the part
// is the same and finds what it found there.
type loader struct {
	p     *Project
	stage map[string]stage
}

// unit gives a compiled part; inside says that it is being compiled now, for what it is inside of.
func (l *loader) unit(path string) (u *unit, inside bool) {
	u = l.p.units[path]
	if u == nil || l.stage[path] == done {
		return u, false
	}
	if l.stage[path] == under {
		return u, true
	}
	l.stage[path] = under
	if u.compiled && !l.same(u) {
		u = &unit{Part: u.Part, kind: u.kind, text: u.text, doc: u.doc, own: u.own, parsed: u.parsed}
		l.p.units[path] = u
	}
	if !u.compiled {
		l.compile(u)
	}
	l.stage[path] = done
	return u, false
}

// same says whether a part finds what it found when it was compiled.
func (l *loader) same(u *unit) bool {
	for _, used := range u.used {
		if looks[used.what](l, used.id) != used.found {
			return false
		}
	}
	return true
}

func (l *loader) compile(u *unit) {
	k := &looking{l: l, u: u, noted: map[[2]string]bool{}}
	u.kind.compile(k, u)
	u.compiled, k.l, k.noted = true, nil, nil
	u.title()
}

func (l *loader) channel(id string) *channel.Channel {
	if u, _ := l.unit(Path(Channels, id)); u != nil {
		c, _ := u.value.(*channel.Channel)
		return c
	}
	return nil
}

func (l *loader) document(file string) *readContract {
	if u, _ := l.unit(Path(Contracts, file)); u != nil {
		return u.value.(*readContract)
	}
	return nil
}

func (l *loader) schema(id string) (s *schema.Schema, inside bool) {
	if file, place, is := contract.CutRef(id); is {
		return l.document(file).schema(place), false
	}
	u, inside := l.unit(Path(Schemas, id))
	if u == nil {
		return nil, false
	}
	s, _ = u.value.(*schema.Schema)
	return s, inside
}

func (l *loader) mapping(id string) *mapping.Plan {
	if u, _ := l.unit(Path(Mappings, id)); u != nil {
		plan, _ := u.value.(*mapping.Plan)
		return plan
	}
	return nil
}

func (l *loader) connection(id string) *connection.Connection {
	if u, _ := l.unit(Path(Connections, id)); u != nil {
		c, _ := u.value.(*connection.Connection)
		return c
	}
	return nil
}

func (l *loader) api(id string) *api.API {
	if u, _ := l.unit(Path(APIs, id)); u != nil {
		a, _ := u.value.(*api.API)
		return a
	}
	return nil
}

func (l *loader) contract(id string) *running.Contract {
	return flowContract(l.p, id, func(id string) *schema.Schema { s, _ := l.schema(id); return s })
}

// Load parses and compiles a project. Its faults are found in the Project; it is always usable.
func Load(id string, texts map[string]string) *Project { return Next(nil, id, texts) }

// Next is Load for a project that is much like the one before, which may be nil: only parts that have changed, and those that
// depend on them, are compiled.
func Next(was *Project, id string, texts map[string]string) *Project {
	p := &Project{ID: id, Title: id, Texts: texts, units: make(map[string]*unit, len(texts))}
	var before map[string]*unit
	if was != nil {
		before = was.units
	}
	for path, text := range texts {
		kind, name, is := Kind(path)
		if !is {
			continue
		}
		u := before[path]
		if u == nil || u.text != text {
			u = readUnit(Part{Path: path, Kind: kind, ID: name, Title: name}, text)
		}
		p.units[path] = u
	}
	p.load()
	return p
}

// With is the project with another text of one part, or with one more part.
func (p *Project) With(path, text string) *Project {
	texts := maps.Clone(p.Texts)
	texts[path] = text
	return Next(p, p.ID, texts)
}

func (p *Project) load() {
	p.settings()
	p.formulas()
	l := &loader{p: p, stage: make(map[string]stage, len(p.units))}
	paths := slices.Sorted(maps.Keys(p.units))
	for _, path := range paths {
		u, _ := l.unit(path)
		p.Faults, p.Warnings = append(p.Faults, u.faults...), append(p.Warnings, u.notes...)
		p.parts = append(p.parts, u.Part)
	}
	p.clashes()
	p.answeredTwice()
	p.copiedInCircles()
	sort.SliceStable(p.Faults, func(i, j int) bool {
		a, b := p.Faults[i].Place, p.Faults[j].Place
		if a.Source != b.Source {
			return a.Source < b.Source
		}
		return a.Line < b.Line
	})
}

// settings reads the project's own file.
func (p *Project) settings() {
	d := partfile.Parse(File, []byte(p.Texts[File]))
	n := d.Root()
	if t := n.Required("project").Value; t != "" {
		p.Title = t
	}
	p.pinned = map[string]int{}
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
	n.RejectUnknown()
	p.Faults = append(p.Faults, d.Faults...)
}

// formulas makes what formulas can use of the tables and libraries: of a library the version that the project names, or else the
// draft. The signature is another where formulas can name something else, or another field of it.
func (p *Project) formulas() {
	p.env = formula.Env{Tables: map[string]*table.Table{}, Libraries: map[string]*formula.Library{}}
	var names []string
	for _, u := range p.units {
		switch of := u.parsed.(type) {
		case *table.Table:
			p.env.Tables[u.ID] = of
			names = append(names, tableSignature(of))
		case *parsedLibrary:
			if name, version := LibraryName(u.ID); version == p.pinned[name] {
				p.env.Libraries[name] = of.formulas
				names = append(names, librarySignature(name, of.Library))
			}
		}
	}
	slices.Sort(names)
	p.signature = strings.Join(names, "\n")
}

func tableSignature(t *table.Table) string {
	var b strings.Builder
	b.WriteString("table " + t.ID + " " + t.Title)
	for _, f := range t.Row.Fields {
		b.WriteString(" " + f.Name + ":" + f.Kind.String())
	}
	return b.String()
}

func librarySignature(name string, l *library.Library) string {
	var b strings.Builder
	b.WriteString("library " + name + " " + l.Title)
	for _, f := range l.Functions {
		b.WriteString(" " + f.Name + "(" + f.About + ")" + strconv.Itoa(len(f.Params)) + f.Result.String())
	}
	return b.String()
}

// clashes finds flows that would be started by the same request.
func (p *Project) clashes() {
	var before []*flow.Flow
	for _, part := range p.Parts(Flows) {
		f := p.parsedFlow(part.ID)
		if f.Trigger.Of().Contracted {
			f = p.Flow(part.ID).Flow // with the path of the operation that it answers
		}
		if !f.Trigger.Of().Requests || f.Trigger.Path.Value == "" {
			continue
		}
		i := slices.IndexFunc(before, func(x *flow.Flow) bool {
			return x.Trigger.Method == f.Trigger.Method && flow.SamePaths(x.Trigger.Path.Value, f.Trigger.Path.Value)
		})
		if i < 0 {
			before = append(before, f)
			continue
		}
		ft := fault.New(fault.Setting, "%s is started by %s %s already", before[i].Title, f.Trigger.Method, before[i].Trigger.Path.Value).WithFix("Choose another path").At(fault.Place{Source: part.Path, Line: f.Trigger.Path.Line})
		plan := *p.Flow(part.ID) // what is compiled is shared with other projects
		plan.Faults = append(slices.Clip(plan.Faults), ft)
		if p.clashed == nil {
			p.clashed = map[string]*running.Plan{}
		}
		p.clashed[part.ID], p.Faults = &plan, append(p.Faults, ft)
	}
}
