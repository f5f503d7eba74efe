package jsonschema

import (
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// resolved follows references, up to a schema that says more than one.
func (m *importer) resolved(c context) context {
	for range maxRecursion * 10 {
		ref := c.get("$ref")
		if !ref.there() || !c.doc.refAlone() && len(c.names) > 1 && slices.ContainsFunc(c.names, says) {
			return c
		}
		next := m.target(ref)
		if !next.there() {
			m.note(ref, "%v leads nowhere", ref.value)
			return context{c.doc, &node{kind: '{', members: map[string]*node{}, off: ref.off, line: ref.line, column: ref.column}}
		}
		c = next
	}
	m.note(c, "references go round in a circle")
	return context{c.doc, &node{kind: '{', members: map[string]*node{}}}
}

// says are the keywords that say something of a value, besides a reference.
func says(name string) bool { return name != "$ref" && !slices.Contains(annotations, name) }

// annotations are keywords that tell a person or a program of a schema, and nothing of its values.
var annotations = []string{
	"title", "description", "$id", "$schema", "$defs", "definitions", "examples", "example", "default", "deprecated", "readOnly", "writeOnly", "$comment", "$anchor", "$dynamicAnchor",
	"$vocabulary", "xml", "externalDocs",
}

// target finds what a reference leads to: a schema by its $id, in any document that was read, else another file.
func (m *importer) target(c context) context {
	address, _ := c.value.(string)
	file, fragment, _ := strings.Cut(address, "#")
	d, at := c.doc, c.doc.root
	if base := c.doc.index().bases[c.node]; base != "" || file != "" {
		found := m.identified(resolve(base, file))
		switch {
		case found.there():
			d, at = found.doc, found.node
		case file == "":
		default:
			if d = m.file(c.doc, file); d == nil {
				return context{}
			}
			at = d.root
		}
	}
	if plain, err := url.PathUnescape(fragment); err == nil {
		fragment = plain
	}
	if fragment != "" && !strings.HasPrefix(fragment, "/") {
		return context{d, d.index().anchors[resourceOf(d, at)+"#"+fragment]}
	}
	n, whole := at.find(tokens(fragment))
	if !whole {
		return context{}
	}
	return context{d, n}
}

// identified is the schema of an $id.
func (m *importer) identified(id string) context {
	for _, d := range m.read {
		if n := d.index().ids[id]; n != nil {
			return context{d, n}
		}
	}
	return context{}
}

// resourceOf is the $id under which a node stands that is the root of a document or has one itself.
func resourceOf(d *document, n *node) string { return d.index().bases[n] }

// resolve is an address as it reads at another one (RFC 3986, section 5).
func resolve(base, address string) string {
	b, err := url.Parse(base)
	if err != nil {
		return address
	}
	a, err := b.Parse(address)
	if err != nil {
		return address
	}
	a.Fragment = ""
	return a.String()
}

// file finds another file by the name that a reference gives, beside the one that refers to it.
func (m *importer) file(from *document, name string) *document {
	for _, candidate := range []string{path.Join(path.Dir(from.name), name), path.Base(name)} {
		if d := m.read[candidate]; d != nil {
			return d
		}
		if text, ok := m.others[candidate]; ok {
			if d, err := m.load(candidate, text); err == nil {
				return d
			}
			delete(m.others, candidate) // it cannot be read, and is not tried again
		}
	}
	return nil
}

// index is what the $id and the anchors of a document's schemas name. It is made once.
type index struct {
	ids     map[string]*node
	anchors map[string]*node // by the $id of the schema around it, and # and the name; the first, where there are several
	bases   map[*node]string // of references and of what has an $id: the $id around it
}

func (d *document) index() *index {
	if d.names == nil {
		d.names = &index{map[string]*node{}, map[string]*node{}, map[*node]string{}}
		d.names.add(d.root, "", d.refAlone())
	}
	return d.names
}

// add takes a schema in, and those below it. alone says that an $id beside a $ref means nothing.
func (x *index) add(n *node, base string, alone bool) {
	if id := n.text("$id"); id != "" && (!alone || n.get("$ref") == nil) {
		local := strings.HasPrefix(id, "#")
		if local { // up to draft 7 the name of an anchor
			x.anchor(base, id[1:], n)
		} else {
			base = strings.TrimSuffix(resolve(base, id), "#")
		}
		if x.ids[base] == nil && !local {
			x.ids[base] = n
		}
	}
	x.bases[n] = base
	for _, name := range []string{"$anchor", "$dynamicAnchor"} {
		if a := n.text(name); a != "" {
			x.anchor(base, a, n)
		}
	}
	for _, name := range n.names {
		if !slices.Contains([]string{"enum", "const", "default", "example", "examples"}, name) {
			x.add(n.members[name], base, alone)
		}
	}
	for _, c := range n.items {
		x.add(c, base, alone)
	}
}

func (x *index) anchor(base, name string, n *node) {
	if key := base + "#" + name; x.anchors[key] == nil {
		x.anchors[key] = n
	}
}

// merged is the node with all that allOf, and a $ref beside other keywords, add to it.
func (m *importer) merged(c context) context {
	all, ref := c.get("allOf"), c.get("$ref")
	if !all.there() && !ref.there() {
		return c
	}
	out, known := m.merges[c.node]
	if out != nil {
		return c.of(out)
	}
	if m.level++; m.level > schema.MaxDepth || known {
		m.note(c, "allOf goes round in a circle, or is too deep")
		m.level--
		return context{c.doc, &node{kind: '{', members: map[string]*node{}}}
	}
	defer func() { m.level-- }()
	m.merges[c.node] = nil
	parts := []context{c}
	if ref.there() {
		alone := &node{kind: '{', names: []string{"$ref"}, members: map[string]*node{"$ref": ref.node}, off: c.off, line: c.line, column: c.column}
		parts = append(parts, m.merged(m.resolved(context{c.doc, alone})))
	}
	for _, part := range all.list() {
		parts = append(parts, m.merged(m.resolved(all.of(part))))
	}
	out = m.together(c, parts)
	m.merges[c.node] = out
	return c.of(out)
}

// together is one schema that says what all of several say.
func (m *importer) together(c context, parts []context) *node {
	out := &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}
	for i, p := range parts {
		if p.kind == 'f' {
			return p.node
		}
		for _, name := range p.names {
			if name == "allOf" || name == "$ref" && i == 0 {
				continue
			}
			if !out.add(name, p.node.get(name)) {
				m.note(p.get(name), "%s: another schema that holds as well says something else of it; that is taken", name)
			}
		}
		m.noteClosed(p, parts)
	}
	return out
}

// noteClosed notes where a schema says something of all other fields, of which another one that holds as well describes some.
// unevaluatedProperties sees those of the schemas inside of its own.
func (m *importer) noteClosed(p context, parts []context) {
	for _, keyword := range []string{"additionalProperties", "unevaluatedProperties"} {
		of := p.get(keyword)
		if !of.there() || of.kind == 't' || keyword == "unevaluatedProperties" && p.node == parts[0].node {
			continue
		}
		for _, o := range parts {
			describes := slices.ContainsFunc(o.get("properties").memberNames(), func(name string) bool { return !p.get("properties").get(name).there() })
			if o.node != p.node && (describes || o.get("anyOf").there() || o.get("oneOf").there()) {
				m.note(of, "%s: it is about some of the fields, and taken for all", keyword)
				return
			}
		}
	}
}

// memberNames are the names of an object.
func (c context) memberNames() []string {
	if c.node == nil {
		return nil
	}
	return c.names
}

// stricter are the keywords of which the greater of two bounds holds, and those of which the lesser does.
var stricter = map[string]int{
	"minimum": 1, "exclusiveMinimum": 1, "minLength": 1, "minItems": 1, "minProperties": 1,
	"maximum": -1, "exclusiveMaximum": -1, "maxLength": -1, "maxItems": -1, "maxProperties": -1,
}

// add joins a keyword of one more schema: properties and required are united, of two bounds the stricter holds. Of anything
// else the first stands; it is false where that is not all that is said.
func (n *node) add(name string, v *node) bool {
	old := n.members[name]
	if old == nil {
		n.names = append(n.names, name)
		n.members[name] = v
		return true
	}
	if old == v || slices.Contains(annotations, name) || old.equal(v) {
		return true
	}
	switch by := stricter[name]; {
	case name == "required":
		n.members[name] = &node{kind: '[', items: united(old.items, v.items), off: old.off, line: old.line, column: old.column}
	case name == "properties":
		return n.addProperties(old, v)
	case name == "type" || name == "enum":
		both := shared(old, v)
		n.members[name] = both
		if name == "type" && len(both.items) == 1 {
			n.members[name] = both.items[0]
		}
		return len(both.items) > 0
	case by != 0 && old.kind == '0' && v.kind == '0':
		if c, err := value.Compare(value.Number(fmt.Sprint(v.value)), value.Number(fmt.Sprint(old.value))); err == nil && c == by {
			n.members[name] = v
		}
	case name == "pattern":
		both := &node{kind: '[', items: []*node{old, v}, off: old.off, line: old.line, column: old.column, doc: old.doc}
		if old.kind == '[' {
			both.items = append(slices.Clone(old.items), v)
		}
		n.members[name] = both
	case name == "uniqueItems" && v.kind == 't':
		n.members[name] = v
	case old.kind == 't' && v.kind == '{': // anything, and a schema
		n.members[name] = v
	case v.kind == 't' && old.kind == '{':
	default:
		return false
	}
	return true
}

// addProperties unites the fields of two schemas; one that both describe must be as both say.
func (n *node) addProperties(old, v *node) bool {
	both := &node{kind: '{', members: map[string]*node{}, off: old.off, line: old.line, column: old.column, doc: old.doc}
	for _, from := range []*node{old, v} {
		for _, p := range from.names {
			if had := both.members[p]; had != nil && had != from.members[p] && !had.equal(from.members[p]) {
				both.members[p] = &node{kind: '{', names: []string{"allOf"}, off: had.off, line: had.line, column: had.column, members: map[string]*node{
					"allOf": {kind: '[', items: []*node{had, from.members[p]}, off: had.off, line: had.line, column: had.column},
				}}
				continue
			}
			both.add(p, from.members[p])
		}
	}
	n.members["properties"] = both
	return true
}

// equal says whether two values are the same.
func (n *node) equal(o *node) bool {
	if n.kind != o.kind || n.value != o.value || len(n.names) != len(o.names) || len(n.items) != len(o.items) {
		return false
	}
	for i := range n.items {
		if !n.items[i].equal(o.items[i]) {
			return false
		}
	}
	for _, name := range n.names {
		if o.members[name] == nil || !n.members[name].equal(o.members[name]) {
			return false
		}
	}
	return true
}

// shared are the values that stand in both of two lists; a value by itself is a list of one. A number shares the whole numbers.
func shared(a, b *node) *node {
	out := &node{kind: '[', off: a.off, line: a.line, column: a.column}
	for _, x := range alone(a) {
		for _, y := range alone(b) {
			switch {
			case x.equal(y) || x.value == "integer" && y.value == "number":
				out.items = append(out.items, x)
			case y.value == "integer" && x.value == "number":
				out.items = append(out.items, y)
			}
		}
	}
	return out
}

func alone(n *node) []*node {
	if n.kind == '[' {
		return n.items
	}
	return []*node{n}
}

// united are the texts of two lists, each once.
func united(a, b []*node) []*node {
	var all []*node
	had := map[any]bool{}
	for _, n := range append(a[:len(a):len(a)], b...) {
		if text, ok := n.value.(string); ok && !had[text] {
			had[text] = true
			all = append(all, n)
		}
	}
	return all
}
