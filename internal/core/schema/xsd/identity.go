package xsd

import (
	"encoding/xml"
	"strings"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/xmltext"
)

// constraint is xs:key, xs:unique or xs:keyref.
type constraint struct {
	kind     string
	name     xml.Name
	refer    xml.Name
	selector []route
	fields   [][]route
	place    fault.Place
}

// route is one alternative of a restricted XPath (part 1, section 3.11.6): steps downwards, from
// anywhere below when deep, ending at an attribute when there is one.
type route struct {
	deep  bool
	steps []xml.Name // Local * is any name; Space * with it any namespace
	attr  *xml.Name
}

func (l *loader) constraint(src source) *constraint {
	c := &constraint{kind: src.name.Local, name: xml.Name{Space: src.doc.target, Local: src.attrs["name"]}, place: src.place()}
	if c.kind == "keyref" {
		c.refer = l.qname(src, src.attrs["refer"])
	}
	if s := src.one("selector"); s != nil {
		c.selector = l.routes(l.in(src, s))
	}
	for _, f := range src.xs("field") {
		c.fields = append(c.fields, l.routes(l.in(src, f)))
	}
	if c.selector == nil || len(c.fields) == 0 {
		l.fault(src.dom, fault.Required, "xs:%s needs a selector and a field", c.kind)
	}
	return c
}

func (l *loader) routes(src source) []route {
	var out []route
	for _, text := range strings.Split(src.attrs["xpath"], "|") {
		text = strings.ReplaceAll(strings.TrimSpace(text), " ", "")
		var r route
		text, r.deep = strings.CutPrefix(text, ".//")
		for _, step := range strings.Split(text, "/") {
			step = strings.TrimPrefix(step, "child::")
			step = strings.Replace(step, "attribute::", "@", 1)
			switch name, attr := strings.CutPrefix(step, "@"); {
			case step == ".":
			case attr:
				n := l.pathName(src, name)
				r.attr = &n
			default:
				r.steps = append(r.steps, l.pathName(src, step))
			}
		}
		out = append(out, r)
	}
	return out
}

// pathName reads a name test; without a prefix it has no namespace.
func (l *loader) pathName(src source, text string) xml.Name {
	if text == "*" {
		return xml.Name{Space: "*", Local: "*"}
	}
	if !strings.Contains(text, ":") {
		return xml.Name{Local: text}
	}
	return l.qname(src, text)
}

func fits(test, name xml.Name) bool {
	return (test.Local == "*" || test.Local == name.Local) && (test.Space == "*" || test.Space == name.Space)
}

// leads says whether a route leads along a path of element names.
func (r route) leads(path []xml.Name) bool {
	if len(path) < len(r.steps) || !r.deep && len(path) != len(r.steps) {
		return false
	}
	for i, s := range r.steps {
		if !fits(s, path[len(path)-len(r.steps)+i]) {
			return false
		}
	}
	return true
}

func leadsAny(routes []route, path []xml.Name) bool {
	for _, r := range routes {
		if r.leads(path) {
			return true
		}
	}
	return false
}

// scope is one element that has constraints, while it is open.
type scope struct {
	depth  int
	tables []*table
	inside map[xml.Name]map[string]bool // keys of the scopes inside of it that are closed
}

// table is one constraint inside of one scope.
type table struct {
	*constraint
	open []*selected
	keys map[string]bool
	refs []ref
}

type ref struct {
	key   string
	place fault.Place
}

// selected is a node that the selector leads to, while it is open.
type selected struct {
	depth  int
	place  fault.Place
	values []string
	found  []int
}

// enter notes an element that opens: scopes that it begins, nodes that it is selected as, and its
// attributes where they are fields.
func (v *validator) enter(e *Element, attrs []xmltext.Attr, p fault.Place) {
	if len(v.scopes) == 0 && (e == nil || len(e.constraints) == 0) {
		return
	}
	if e != nil && len(e.constraints) > 0 {
		s := &scope{depth: len(v.open)}
		for _, c := range e.constraints {
			s.tables = append(s.tables, &table{constraint: c, keys: map[string]bool{}})
		}
		v.scopes = append(v.scopes, s)
	}
	for _, s := range v.scopes {
		path := v.pathFrom(s.depth)
		for _, t := range s.tables {
			if leadsAny(t.selector, path) {
				p.Path = v.path()
				t.open = append(t.open, &selected{depth: len(v.open), place: p, values: make([]string, len(t.fields)), found: make([]int, len(t.fields))})
			}
			for _, n := range t.open {
				n.attributes(t, v.pathFrom(n.depth), attrs, v.open[len(v.open)-1].typ)
			}
		}
	}
}

// pathFrom is the path of names from an open element, whose depth counts from 1, to the newest.
func (v *validator) pathFrom(depth int) []xml.Name {
	out := make([]xml.Name, 0, len(v.open)-depth)
	for i := range v.open[depth:] {
		out = append(out, v.open[depth+i].name)
	}
	return out
}

func (n *selected) attributes(t *table, path []xml.Name, attrs []xmltext.Attr, of *Type) {
	for i, routes := range t.fields {
		for _, r := range routes {
			if r.attr == nil || !r.leads(path) {
				continue
			}
			for _, a := range attrs {
				if fits(*r.attr, a.Name) {
					n.values[i] = canonical(of.primitiveOf(a.Name), a.Value)
					n.found[i]++
				}
			}
		}
	}
}

// primitiveOf is the primitive type of an attribute; empty where it has none or is a text.
func (t *Type) primitiveOf(name xml.Name) string {
	if t == nil {
		return ""
	}
	if at := t.attribute(name); at >= 0 && t.Attrs[at].Type != nil {
		return t.Attrs[at].Type.primitive
	}
	return ""
}

// leave notes an element that closes, with its text.
func (v *validator) leave(text string, primitive string) {
	depth := len(v.open)
	for _, s := range v.scopes {
		for _, t := range s.tables {
			for _, n := range t.open {
				for i, routes := range t.fields {
					for _, r := range routes {
						if r.attr == nil && r.leads(v.pathFrom(n.depth)) {
							n.values[i] = canonical(primitive, text)
							n.found[i]++
						}
					}
				}
			}
			for len(t.open) > 0 && t.open[len(t.open)-1].depth == depth {
				v.closeNode(t, t.open[len(t.open)-1])
				t.open = t.open[:len(t.open)-1]
			}
		}
	}
	if n := len(v.scopes); n > 0 && v.scopes[n-1].depth == depth {
		v.closeScope(v.scopes[n-1])
		v.scopes = v.scopes[:n-1]
	}
}

// canonical makes texts that are one value one text.
func canonical(primitive, text string) string {
	switch primitive {
	case "decimal":
		if d, ok := schema.ReadDecimal(text); ok {
			return strings.TrimSuffix(strings.TrimRight(withPoint(d.String()), "0"), ".")
		}
	case "boolean":
		return strings.NewReplacer("1", "true", "0", "false").Replace(text)
	case "dateTime", "time":
		for _, form := range []string{time.RFC3339Nano, "15:04:05.999999999Z07:00"} {
			if t, err := time.Parse(form, text); err == nil {
				return t.UTC().Format(form)
			}
		}
	}
	return text
}

func withPoint(s string) string {
	if strings.Contains(s, ".") {
		return s
	}
	return s + "."
}

func (v *validator) closeNode(t *table, n *selected) {
	for i, found := range n.found {
		switch {
		case found > 1:
			v.report(fault.New(fault.Setting, "field %d of the %s %s stands more than once", i+1, t.kind, t.name.Local), n.place, t.place)
			return
		case found == 0 && t.kind == "key":
			v.report(fault.Expect(fault.Required, "all fields of the key "+t.name.Local, "one missing"), n.place, t.place)
			return
		case found == 0:
			return
		}
	}
	key := strings.Join(n.values, "\x00")
	switch {
	case t.kind == "keyref":
		t.refs = append(t.refs, ref{key, n.place})
	case t.keys[key]:
		v.report(fault.Expect(fault.Setting, "values of "+t.name.Local+" that differ", strings.Join(n.values, ", ")+" again"), n.place, t.place)
	default:
		t.keys[key] = true
	}
}

// closeScope looks every reference up among the keys of the scope and of those inside of it (XML
// Schema 1.0, part 1, section 3.11.4), and hands those keys on to the scope around it.
func (v *validator) closeScope(s *scope) {
	for _, t := range s.tables {
		if t.kind != "keyref" {
			s.take(t.name, t.keys)
		}
	}
	for _, t := range s.tables {
		for _, r := range t.refs {
			if !s.inside[t.refer][r.key] {
				v.report(fault.Expect(fault.Unknown, "a value of "+t.refer.Local, strings.ReplaceAll(r.key, "\x00", ", ")), r.place, t.place)
			}
		}
	}
	if n := len(v.scopes); n > 1 {
		for name, keys := range s.inside {
			v.scopes[n-2].take(name, keys)
		}
	}
}

func (s *scope) take(name xml.Name, keys map[string]bool) {
	if s.inside == nil {
		s.inside = map[xml.Name]map[string]bool{}
	}
	if s.inside[name] == nil {
		s.inside[name] = keys
		return
	}
	for k := range keys {
		s.inside[name][k] = true
	}
}
