package contract

import (
	"mime"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
)

// maxWalked bounds the schemas that are gone through to find a place.
const maxWalked = 1000

// SchemaPlace is where the document says what a fault of a message breaks, as a fragment (RFC 6901, section 6): #/components/schemas/…;
// empty where that is not known. The media are those of the body that the fault is in, and contentType is what came.
func (c *Contract) SchemaPlace(o *Operation, media []Media, contentType string, f *fault.Fault) string {
	if in, name, is := strings.Cut(f.Field, " "); is {
		if i := slices.IndexFunc(o.Parameters, func(p *Parameter) bool { return p.In == in && p.Name == name }); i >= 0 {
			return fragment(o.Parameters[i].Schema)
		}
	}
	kind, _, err := mime.ParseMediaType(contentType)
	m := fitting(media, kind)
	if err != nil || m == nil || m.Schema == "" || !c.root.there() {
		return ""
	}
	w := walker{c: c}
	n := w.walk(c.at(m.Schema), strings.Split(strings.TrimPrefix(f.Place.Path, "/"), "/"))
	if n.there() && f.Code == fault.Required && n.get("required").there() {
		n = n.get("required")
	}
	return fragment(n.pointer)
}

func fragment(pointer string) string {
	if pointer == "" {
		return ""
	}
	return "#" + pointer
}

// at is the value at a pointer; nothing where there is none.
func (c *Contract) at(pointer string) node {
	n := c.root
	for step := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		n = n.step(strings.ReplaceAll(strings.ReplaceAll(step, "~1", "/"), "~0", "~"))
	}
	return n
}

// step is the member of a mapping, or the item of a sequence.
func (n node) step(name string) (found node) {
	if at, err := strconv.Atoi(name); err == nil {
		n.items(func(v node) {
			if at == 0 {
				found = v
			}
			at--
		})
	}
	if found.there() {
		return found
	}
	return n.get(name)
}

// walker goes through schemas along the names of a message.
type walker struct {
	c      *Contract
	walked int
}

// walk is the schema of the value that the names lead to; nothing where a name is not described.
func (w *walker) walk(n node, names []string) node {
	if w.walked++; w.walked > maxWalked || !n.there() {
		return node{}
	}
	if ref, is := strings.CutPrefix(n.get("$ref").text(), "#"); is {
		return w.walk(w.c.at(ref), names)
	}
	if len(names) == 0 || names[0] == "" {
		return n
	}
	name := strings.ReplaceAll(strings.ReplaceAll(names[0], "~1", "/"), "~0", "~")
	ways := []node{n.get("properties").get(name)}
	if _, err := strconv.Atoi(name); err == nil {
		ways = append(ways, n.get("prefixItems").step(name), n.get("items"))
	}
	for _, next := range append(ways, n.get("additionalProperties")) {
		if found := w.walk(next, names[1:]); found.there() {
			return found
		}
	}
	for _, of := range []string{"allOf", "oneOf", "anyOf"} {
		var found node
		n.get(of).items(func(v node) {
			if !found.there() {
				found = w.walk(v, names)
			}
		})
		if found.there() {
			return found
		}
	}
	return node{}
}
