package xsd

import (
	"encoding/xml"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
)

// spaces are the namespaces of the names that an element's type uses.
type spaces struct {
	set   *Set
	seen  map[*Type]bool
	order []string
	none  bool // an element has a name without one
	attr  bool // an attribute has a name with the one of the outermost element
}

// bind chooses the prefixes for the names below an element. Where every element is in a namespace,
// that of the outermost one needs no prefix. Those that have a prefix already keep it.
func (m *importer) bind(e *Element, known []schema.Namespace) []schema.Namespace {
	sp := &spaces{set: m.set, seen: map[*Type]bool{}}
	sp.element(e)
	m.prefix = map[string]string{nsXML: "xml"}
	var list []schema.Namespace
	taken := map[string]bool{}
	for _, ns := range known {
		taken[ns.Prefix] = true
	}
	for i, uri := range sp.order {
		if at := slices.IndexFunc(known, func(ns schema.Namespace) bool { return ns.URI == uri }); at >= 0 {
			m.prefix[uri] = known[at].Prefix
			list = append(list, known[at])
			continue
		}
		prefix := ""
		if i > 0 || uri != e.Name.Space || sp.none || sp.attr {
			prefix = unusedPrefix(uri, taken)
		}
		m.prefix[uri] = prefix
		list = append(list, schema.Namespace{Prefix: prefix, URI: uri})
	}
	return list
}

var word = regexp.MustCompile(`[A-Za-z][A-Za-z0-9]*`)

// unusedPrefix is the last word of a namespace.
func unusedPrefix(uri string, taken map[string]bool) string {
	prefix := "ns"
	if words := word.FindAllString(strings.TrimSuffix(uri, ".xsd"), -1); len(words) > 0 {
		prefix = strings.ToLower(words[len(words)-1])
	}
	if strings.HasPrefix(prefix, "xml") {
		prefix = "ns"
	}
	base := prefix
	for i := 2; taken[prefix]; i++ {
		prefix = fmt.Sprintf("%s%d", base, i)
	}
	taken[prefix] = true
	return prefix
}

// name is a name as fields have it.
func (m *importer) name(n xml.Name) string {
	if prefix := m.prefix[n.Space]; prefix != "" {
		return prefix + ":" + n.Local
	}
	return n.Local
}

func (s *spaces) use(uri string) {
	if uri != "" && uri != nsXML && !slices.Contains(s.order, uri) {
		s.order = append(s.order, uri)
	}
}

func (s *spaces) element(e *Element) {
	s.none = s.none || e.Name.Space == ""
	s.use(e.Name.Space)
	for _, member := range s.set.standFor[e.Name] {
		if e.global {
			s.element(member)
		}
	}
	s.typ(e.Type)
	for _, t := range s.set.standIns(e) {
		s.use(t.Name.Space)
		s.typ(t)
	}
}

func (s *spaces) typ(t *Type) {
	if t == nil || s.seen[t] {
		return
	}
	s.seen[t] = true
	for _, a := range t.Attrs {
		s.use(a.Name.Space)
		s.attr = s.attr || len(s.order) > 0 && a.Name.Space == s.order[0]
	}
	s.model(t.Content)
}

func (s *spaces) model(e expr) {
	switch e := e.(type) {
	case oneOf:
		if e.decl.Type == nil || !s.seen[e.decl.Type] || e.decl.Name.Space == "" {
			s.element(e.decl)
		} else {
			s.use(e.decl.Name.Space)
		}
	case sequence:
		for _, p := range e {
			s.model(p)
		}
	case choice:
		for _, p := range e {
			s.model(p)
		}
	case everyOne:
		for _, p := range e {
			s.model(p)
		}
	case repeat:
		s.model(e.inner)
	}
}
