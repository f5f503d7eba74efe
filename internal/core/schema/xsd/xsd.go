// Package xsd reads XML Schema 1.0 documents, checks XML documents against them while they are
// read, and makes schemas of ours of them. Nothing is ever fetched: every file that is included or
// imported must be given.
package xsd

import (
	"encoding/xml"
	"path"
	"slices"
	"sort"
	"strings"

	"hollowreed/internal/core/fault"
)

// Element is the declaration of an element.
type Element struct {
	Name           xml.Name
	Type           *Type
	Nillable       bool
	Abstract       bool
	Default, Fixed *string
	global         bool
	block, final   string
	subst          xml.Name // the head of its substitution group
	constraints    []*constraint
	place          fault.Place
}

// Type is a simple or complex type.
type Type struct {
	Name     xml.Name
	Simple   *Simple // the type itself, or the content of a complex one
	Complex  bool
	Abstract bool
	Mixed    bool
	Content  expr // of a complex type without simple content; nil for empty
	Attrs    []*Attribute
	AnyAttr  *wildcard
	Base     *Type
	Derived  string // extension, restriction, list or union
	block    string // derivations that do not take its place
	final    string // derivations that cannot be made of it
	place    fault.Place
}

// Attribute is the use of an attribute in a type.
type Attribute struct {
	Name           xml.Name
	Type           *Simple
	Required       bool
	prohibited     bool
	Default, Fixed *string
	place          fault.Place
}

// Set is a compiled schema of one or several documents. It is immutable and shared.
type Set struct {
	elements map[xml.Name]*Element
	types    map[xml.Name]*Type
	derived  map[*Type][]*Type // those that are derived from a type, in the order of their declarations
	attrs    map[xml.Name]*Attribute
	members  map[xml.Name][]*Element // that name a head of a substitution group, by it
	standFor map[xml.Name][]*Element // that may take a head's place, by it
	Notes    fault.List              // what is not checked, with its line
	Roots    []*Element              // the global elements, in the order of the documents
}

// source is a top-level component of a document, with what is needed to read it.
type source struct {
	*dom
	doc *document
	old bool // the one that a redefinition takes the place of
}

type document struct {
	root       *dom
	target     string
	elementNS  bool // local elements are qualified
	attrNS     bool
	redefining *document
}

type loader struct {
	set     *Set
	files   map[string][]byte
	loaded  map[string]bool
	top     map[string]map[xml.Name]source // by kind of component
	order   []source
	faults  fault.List
	groups  map[xml.Name]expr
	busy    map[*dom]bool
	making  map[*Type]bool // types whose bases are being read
	later   []func()
	complex []*Type // all complex types
}

// kinds of components that have names of their own each.
var kinds = map[string]string{"element": "element", "simpleType": "type", "complexType": "type", "attribute": "attribute", "group": "group", "attributeGroup": "attributeGroup"}

// maxLater bounds the elements of a schema.
const maxLater = 200_000

// Load compiles a schema. Other files are given by name; those that an include, import or
// redefinition names and that are not there are faults, but for imports of namespaces alone. The
// error is a fault.List.
func Load(name string, text []byte, others map[string][]byte) (*Set, error) {
	l := &loader{
		set:   &Set{elements: map[xml.Name]*Element{}, types: map[xml.Name]*Type{}, attrs: map[xml.Name]*Attribute{}, members: map[xml.Name][]*Element{}},
		files: others, loaded: map[string]bool{}, top: map[string]map[xml.Name]source{}, groups: map[xml.Name]expr{}, busy: map[*dom]bool{}, making: map[*Type]bool{},
	}
	for _, k := range kinds {
		l.top[k] = map[xml.Name]source{}
	}
	root, err := parse(name, text)
	if err != nil {
		return nil, fault.List{fault.From(err, fault.Syntax)}
	}
	l.document(root, root.attrs["targetNamespace"], nil)
	for _, src := range l.order {
		l.component(src)
	}
	for i := 0; i < len(l.later) && i < maxLater; i++ {
		l.later[i]()
	}
	if len(l.later) >= maxLater {
		l.fault(root, fault.Limit, "the schema has more than %d elements, or a substitution group that stands for itself", maxLater)
	}
	l.heads()
	if len(l.faults) == 0 {
		l.set.substitutions()
		l.set.derive()
		l.attribution()
	}
	if len(l.faults) > 0 {
		return nil, l.faults
	}
	return l.set, nil
}

func (l *loader) fault(d *dom, code fault.Code, format string, args ...any) {
	if len(l.faults) < 200 {
		l.faults = append(l.faults, fault.New(code, format, args...).At(d.place()))
	}
}

func (l *loader) note(d *dom, format string, args ...any) {
	l.set.Notes = append(l.set.Notes, fault.New(fault.Setting, format, args...).At(d.place()))
}

// heads refuses elements that stand for themselves by way of substitution groups.
func (l *loader) heads() {
	for name, e := range l.set.elements {
		head := l.set.elements[e.subst]
		for steps := 0; head != nil; steps++ {
			if head == e || steps > len(l.set.elements) {
				l.faults = append(l.faults, fault.New(fault.Setting, "the substitution group of %s leads back to it", name.Local).At(e.place))
				return
			}
			head = l.set.elements[head.subst]
		}
	}
	for name, e := range l.set.elements {
		if head := l.set.elements[e.subst]; head != nil && refuses(head.final, e.Type, head.Type) {
			l.faults = append(l.faults, fault.New(fault.Setting, "%s cannot stand for %s, which is final", name.Local, head.Name.Local).At(e.place))
		}
	}
}

// refuses says whether a list of derivations, or #all, holds one by which a type comes of its base.
func refuses(list string, t, base *Type) bool {
	for ; t != nil && t != base; t = t.Base {
		if list == "#all" || slices.Contains(strings.Fields(list), t.Derived) {
			return true
		}
	}
	return false
}

// document takes the components of a document, and of those that it includes.
func (l *loader) document(root *dom, target string, redefining *document) {
	doc := &document{root: root, target: target, elementNS: root.attrs["elementFormDefault"] == "qualified", attrNS: root.attrs["attributeFormDefault"] == "qualified", redefining: redefining}
	key := root.file + "|" + target
	if l.loaded[key] && redefining == nil {
		return
	}
	l.loaded[key] = true
	for _, k := range root.kids {
		switch k.name.Local {
		case "include", "import":
			l.other(k, target)
		case "redefine":
			l.other(k, target)
			for _, c := range k.kids {
				l.take(source{dom: c, doc: doc}, true)
			}
		case "notation":
		default:
			l.take(source{dom: k, doc: doc}, false)
		}
	}
}

func (l *loader) take(src source, redefines bool) {
	kind, known := kinds[src.name.Local]
	if !known {
		l.fault(src.dom, fault.Syntax, "xs:%s cannot stand here", src.name.Local)
		return
	}
	name := xml.Name{Space: src.doc.target, Local: src.attrs["name"]}
	if name.Local == "" {
		l.fault(src.dom, fault.Required, "xs:%s needs a name", src.name.Local)
		return
	}
	old, there := l.top[kind][name]
	switch {
	case there && redefines:
		old.old = true
		l.top[kind][redefined(name)] = old
	case there:
		if old.dom.file != src.dom.file || old.dom.line != src.dom.line {
			l.fault(src.dom, fault.Setting, "%s is declared twice", name.Local)
		}
		return
	}
	l.top[kind][name] = src
	if !there {
		l.order = append(l.order, src)
	}
}

// redefined is the name under which the component stands that was redefined.
func redefined(n xml.Name) xml.Name { return xml.Name{Space: n.Space, Local: n.Local + " before"} }

// other loads a document that another one names.
func (l *loader) other(d *dom, target string) {
	location := d.attrs["schemaLocation"]
	if location == "" {
		if d.name.Local != "import" {
			l.fault(d, fault.Required, "xs:%s needs a schemaLocation", d.name.Local)
		}
		return
	}
	text, name, ok := l.find(d.file, location)
	if !ok {
		if d.name.Local == "import" && d.attrs["namespace"] == nsXML {
			return
		}
		l.fault(d, fault.Unknown, "%s is not here; nothing is fetched", location)
		return
	}
	root, err := parse(name, text)
	if err != nil {
		l.faults = append(l.faults, fault.From(err, fault.Syntax))
		return
	}
	own := root.attrs["targetNamespace"]
	switch {
	case d.name.Local == "import":
		if own != d.attrs["namespace"] {
			l.fault(d, fault.Setting, "%s has the namespace %q, not %q", location, own, d.attrs["namespace"])
			return
		}
		target = own
	case own != "" && own != target:
		l.fault(d, fault.Setting, "%s has the namespace %q, not %q", location, own, target)
		return
	}
	l.document(root, target, nil)
}

func (l *loader) find(from, location string) (text []byte, name string, ok bool) {
	for _, candidate := range []string{path.Join(path.Dir(from), location), location, path.Base(location)} {
		if text, ok := l.files[candidate]; ok {
			return text, candidate, true
		}
	}
	return nil, "", false
}

// substitute finds the member of an element's substitution group that has a name.
func (s *Set) substitute(head *Element, name xml.Name) *Element {
	for _, m := range s.standFor[head.Name] {
		if m.Name == name {
			return m
		}
	}
	return nil
}

// names lists the global elements, for a person.
func (s *Set) names() string {
	var list []string
	for n := range s.elements {
		list = append(list, n.Local)
	}
	sort.Strings(list)
	return strings.Join(list, " or ")
}
