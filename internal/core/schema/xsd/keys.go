package xsd

import (
	"encoding/xml"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// restricted is a field whose element has keys.
type restricted struct {
	field *schema.Field
	keys  []*constraint
}

// restrict notes the keys of an element, of which the fields stand once all is imported.
func (m *importer) restrict(e *Element, f *schema.Field) {
	if len(e.constraints) > 0 {
		m.restricted = append(m.restricted, restricted{f, e.constraints})
	}
}

// keys gives the fields their keys.
func (m *importer) keys() {
	for _, r := range m.restricted {
		var keys []schema.Key
		for _, c := range r.keys {
			k, ok := m.key(r.field, c)
			if !ok {
				m.note(c.place, "the %s %s is not checked", c.kind, c.name.Local)
				continue
			}
			keys = append(keys, k)
		}
		if keys != nil {
			r.field.SetKeys(keys)
		}
	}
}

func (m *importer) key(f *schema.Field, c *constraint) (k schema.Key, ok bool) {
	if f.Kind != value.RecordKind {
		return k, false
	}
	k = schema.Key{Name: c.name.Local, Partial: c.kind != "key"}
	if k.Entries, ok = m.keyed(f, c); !ok || c.kind != "keyref" {
		return k, ok
	}
	k.Among = m.referred(f, c.refer)
	return k, k.Among != nil && len(k.Among.By) == len(k.Entries.By)
}

// referred are the entries of the key that a reference names: one of the same element or of those inside.
func (m *importer) referred(f *schema.Field, name xml.Name) *schema.Keyed {
	for _, r := range m.restricted {
		for _, c := range r.keys {
			if c.name != name || c.kind == "keyref" {
				continue
			}
			from := pathTo(f, r.field)
			if from == nil {
				continue
			}
			e, ok := m.keyed(r.field, c)
			if !ok {
				return nil
			}
			for i, of := range e.Of {
				e.Of[i] = append(slices.Clone(from), of...)
			}
			return &e
		}
	}
	return nil
}

// pathTo is the path from one field down to another; nil where it does not stand there.
func pathTo(f, to *schema.Field) schema.KeyPath {
	if f == to {
		return schema.KeyPath{}
	}
	for _, c := range f.Fields {
		if rest := pathTo(c, to); rest != nil {
			return append(schema.KeyPath{c}, rest...)
		}
	}
	return nil
}

// maxKeyPaths bounds the paths that a route becomes: one for each place to which it leads.
const maxKeyPaths = 200

// keyed are the entries of a key below a field, and their values.
func (m *importer) keyed(f *schema.Field, c *constraint) (e schema.Keyed, ok bool) {
	var ends []*schema.Field
	for _, found := range m.follow(f, c.selector) {
		e.Of, ends = append(e.Of, found.path), append(ends, found.field)
	}
	if len(ends) == 0 || len(ends) > maxKeyPaths {
		return e, false
	}
	for _, routes := range c.fields {
		var by []schema.KeyPath
		for _, end := range ends {
			for _, found := range m.follow(end, routes) {
				for _, p := range singles(found.field) {
					by = append(by, append(slices.Clone(found.path), p...))
				}
			}
		}
		by = different(by)
		if len(by) == 0 || len(by) > maxKeyPaths {
			return e, false
		}
		e.By = append(e.By, by)
	}
	return e, true
}

// different are paths without those that read alike: the same one leads on from entries of several places.
func different(paths []schema.KeyPath) (list []schema.KeyPath) {
	seen := map[string]bool{}
	for _, p := range paths {
		if text := p.Text(); !seen[text] {
			seen[text] = true
			list = append(list, p)
		}
	}
	return list
}

// singles lead from a field to its single value: to itself, or to the text of its element.
func singles(f *schema.Field) (paths []schema.KeyPath) {
	switch {
	case f.Scalar():
		return []schema.KeyPath{{}}
	case f.Kind == value.VariantKind && !slices.ContainsFunc(f.Fields, func(b *schema.Field) bool { return !b.Scalar() }):
		return []schema.KeyPath{{}}
	case f.Kind == value.VariantKind:
		for _, b := range f.Fields {
			for _, p := range singles(b) {
				paths = append(paths, append(schema.KeyPath{b}, p...))
			}
		}
	case f.Kind == value.RecordKind:
		for _, c := range f.Fields {
			if c.WireFormat.Content {
				paths = append(paths, schema.KeyPath{c})
			}
		}
	}
	return paths
}

// place is a field to which a route leads.
type place struct {
	path  schema.KeyPath
	field *schema.Field
}

// follow finds the fields below one to which routes lead.
func (m *importer) follow(f *schema.Field, routes []route) (found []place) {
	for _, r := range routes {
		m.descend(f, nil, nil, r, func(p place) { found = append(found, p) })
	}
	return found
}

// descend goes through the elements below a field, each with the path of names to it.
func (m *importer) descend(f *schema.Field, path schema.KeyPath, names []xml.Name, r route, visit func(place)) {
	element := !f.WireFormat.Group || len(path) == 0
	if element && r.leads(names) && r.attr == nil {
		visit(place{slices.Clone(path), f})
	}
	for _, c := range f.Fields {
		at := append(path[:len(path):len(path)], c)
		switch {
		case f.Kind == value.VariantKind || c.WireFormat.Group:
			m.inPlace(c, at, names, r, visit)
		case c.WireFormat.Attribute:
			if r.attr != nil && r.leads(names) && fits(*r.attr, m.named(c.WireName(), true)) {
				visit(place{slices.Clone(at), c})
			}
		case c.WireFormat.Content || f.Kind == value.MapKind:
		case r.deep || len(names) < len(r.steps):
			m.descend(c, at, append(names[:len(names):len(names)], m.named(c.WireName(), false)), r, visit)
		}
	}
}

// inPlace goes through what stands in the element at hand: a branch, or a group.
func (m *importer) inPlace(c *schema.Field, at schema.KeyPath, names []xml.Name, r route, visit func(place)) {
	m.descend(c, at, names, r, func(p place) {
		if len(p.path) > len(at) {
			visit(p)
		}
	})
}

// named is the name of an element, or of an attribute, that a field is called as.
func (m *importer) named(wire string, attribute bool) xml.Name {
	prefix, local, ok := strings.Cut(wire, ":")
	if !ok {
		prefix, local = "", wire
	}
	if prefix == "" && attribute {
		return xml.Name{Local: local}
	}
	for _, ns := range m.out.Settings.Namespaces {
		if ns.Prefix == prefix {
			return xml.Name{Space: ns.URI, Local: local}
		}
	}
	return xml.Name{Local: local}
}

// keys writes the keys of an element.
func (w *writer) keys(depth int, f *schema.Field) {
	for _, k := range f.Keys() {
		kind, refer := "key", ""
		switch {
		case k.Among != nil:
			if refer = w.keyNames[among(f, k.Among)]; refer == "" {
				continue // told by Unsaid
			}
			kind, refer = "keyref", ` refer="`+refer+`"`
		case k.Partial:
			kind = "unique"
		}
		x := &xpaths{w: w, used: map[string]string{}}
		of := x.paths(k.Entries.Of)
		by := make([]string, len(k.Entries.By))
		for i, paths := range k.Entries.By {
			by[i] = x.paths(paths)
		}
		w.line(depth, `<xs:`+kind+` name="%s"`+refer+x.declared()+`>`, w.keyName(f, k))
		w.line(depth+1, `<xs:selector xpath="%s"/>`, of)
		for _, b := range by {
			w.line(depth+1, `<xs:field xpath="%s"/>`, b)
		}
		w.line(depth, `</xs:`+kind+`>`)
	}
}

// keyOf is a key by how it reads, among those of one field.
type keyOf struct {
	first *schema.Key
	text  string
}

// among is the key that a reference refers to.
func among(f *schema.Field, e *schema.Keyed) keyOf {
	plain := schema.Key{Entries: *e}
	return keyOf{&f.Keys()[0], plain.Text()}
}

// keyName is the name of a key, which no other one of the schema has.
func (w *writer) keyName(f *schema.Field, k schema.Key) string {
	if k.Among == nil {
		return w.keyNames[among(f, &k.Entries)]
	}
	return w.newKeyName(k.Name)
}

func (w *writer) newKeyName(name string) string {
	name = strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == '.' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '_'
	}, name)
	if name == "" || strings.IndexByte("-.0123456789", name[0]) >= 0 {
		name = "_" + name
	}
	for n, wanted := 2, name; w.keysNamed[name]; n++ {
		name = wanted + "_" + strconv.Itoa(n)
	}
	w.keysNamed[name] = true
	return name
}

// nameKeys names all keys before the first is written, since references name them.
func (w *writer) nameKeys(root *schema.Field) {
	w.keyNames, w.keysNamed = map[keyOf]string{}, map[string]bool{}
	root.Walk(func(_ []string, f *schema.Field) {
		for _, k := range f.Keys() {
			if k.Among == nil {
				w.keyNames[among(f, &k.Entries)] = w.newKeyName(k.Name)
			}
		}
	})
}

// xpaths writes paths of keys as XPath (XML Schema 1.0, part 1, section 3.11.6), and remembers the prefixes that they use.
type xpaths struct {
	w    *writer
	used map[string]string // prefixes by namespace
}

func (x *xpaths) paths(paths []schema.KeyPath) string {
	texts := make([]string, len(paths))
	for i, p := range paths {
		texts[i] = x.path(p)
	}
	return strings.Join(slices.Compact(texts), " | ")
}

func (x *xpaths) path(p schema.KeyPath) string {
	var steps []string
	for i, f := range p {
		switch {
		case i > 0 && p[i-1].Kind == value.MapKind:
			steps = append(steps, "*")
		case i > 0 && p[i-1].Kind == value.VariantKind, f.WireFormat.Group, f.WireFormat.Content:
		case f.WireFormat.Attribute && strings.Contains(f.WireName(), ":"):
			steps = append(steps, "@"+x.name(f.WireName()))
		case f.WireFormat.Attribute:
			steps = append(steps, "@"+f.WireName())
		default:
			steps = append(steps, x.name(f.WireName()))
		}
	}
	if steps == nil {
		return "."
	}
	return strings.Join(steps, "/")
}

// name is the name of an element with a prefix of this key, since a name without one has no namespace there.
func (x *xpaths) name(wire string) string {
	space := x.w.space(wire)
	if space == "" {
		return local(wire)
	}
	if x.used[space] == "" {
		x.used[space] = "n" + strconv.Itoa(len(x.used)+1)
	}
	return x.used[space] + ":" + local(wire)
}

func (x *xpaths) declared() (attrs string) {
	for n := range len(x.used) {
		for space, prefix := range x.used {
			if prefix == "n"+strconv.Itoa(n+1) {
				var e strings.Builder
				xml.EscapeText(&e, []byte(space)) // writing to a Builder cannot fail
				attrs += ` xmlns:` + prefix + `="` + e.String() + `"`
			}
		}
	}
	return attrs
}
