package jsonschema

import (
	"net/url"
	"path"
	"strings"

	"hollowreed/internal/core/schema"
)

// resolved follows references.
func (m *importer) resolved(c context) context {
	for range maxRecursion * 10 {
		ref := c.get("$ref")
		if !ref.there() {
			return c
		}
		address, _ := ref.value.(string)
		next := m.target(c.doc, address)
		if !next.there() {
			m.note(ref, "%s leads nowhere", address)
			return context{c.doc, &node{kind: '{', members: map[string]*node{}, off: ref.off, line: ref.line, column: ref.column}}
		}
		c = next
	}
	m.note(c, "references go round in a circle")
	return context{c.doc, &node{kind: '{', members: map[string]*node{}}}
}

func (m *importer) target(d *document, ref string) context {
	file, fragment, _ := strings.Cut(ref, "#")
	if file != "" {
		if d = m.file(d, file); d == nil {
			return context{}
		}
	}
	if plain, err := url.PathUnescape(fragment); err == nil {
		fragment = plain
	}
	if fragment != "" && !strings.HasPrefix(fragment, "/") {
		return context{d, d.anchored(fragment)}
	}
	n, whole := d.root.find(tokens(fragment))
	if !whole {
		return context{}
	}
	return context{d, n}
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
	for _, d := range m.read {
		if d.root.text("$id") == name {
			return d
		}
	}
	return nil
}

// anchored is the node of that name; the first one, where there are several. The names of a document are looked for once.
func (d *document) anchored(name string) *node {
	if d.anchors == nil {
		d.anchors = map[string]*node{}
		d.anchor(d.root)
	}
	return d.anchors[name]
}

func (d *document) anchor(n *node) {
	names := []string{n.text("$anchor")}
	if id, local := strings.CutPrefix(n.text("$id"), "#"); local {
		names = append(names, id)
	}
	for _, name := range names {
		if name != "" && d.anchors[name] == nil {
			d.anchors[name] = n
		}
	}
	for _, name := range n.names {
		d.anchor(n.members[name])
	}
	for _, c := range n.items {
		d.anchor(c)
	}
}

// merged is the node with all that allOf adds to it.
func (m *importer) merged(c context) context {
	all := c.get("allOf")
	if !all.there() {
		return c
	}
	out, known := m.merges[c.node]
	if out != nil {
		return context{c.doc, out}
	}
	if m.level++; m.level > schema.MaxDepth || known {
		m.note(all, "allOf goes round in a circle, or is too deep")
		m.level--
		return context{c.doc, &node{kind: '{', members: map[string]*node{}}}
	}
	defer func() { m.level-- }()
	m.merges[c.node] = nil
	out = &node{kind: '{', members: map[string]*node{}, off: c.off, line: c.line, column: c.column}
	parts := []context{{c.doc, c.node}}
	for _, part := range all.items {
		parts = append(parts, m.merged(m.resolved(context{c.doc, part})))
	}
	for _, p := range parts {
		for _, name := range p.names {
			if name != "allOf" {
				out.add(name, p.node.get(name))
			}
		}
	}
	m.merges[c.node] = out
	return context{c.doc, out}
}

// add joins a keyword of one more schema: properties and required are united, of anything else the
// first stands.
func (n *node) add(name string, v *node) {
	old := n.members[name]
	if old == nil {
		n.names = append(n.names, name)
		n.members[name] = v
		return
	}
	if old == v {
		return
	}
	switch name {
	case "required":
		n.members[name] = &node{kind: '[', items: united(old.items, v.items), off: old.off, line: old.line, column: old.column}
	case "properties":
		both := &node{kind: '{', members: map[string]*node{}, off: old.off, line: old.line, column: old.column}
		for _, from := range []*node{old, v} {
			for _, p := range from.names {
				both.add(p, from.members[p])
			}
		}
		n.members[name] = both
	}
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
