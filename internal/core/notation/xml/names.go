package xml

import (
	"encoding/xml"

	"hollowreed/internal/core/schema"
)

// instance is the namespace of xsi:nil.
const instance = "http://www.w3.org/2001/XMLSchema-instance"

// names gives elements and attributes the names that a schema uses: by the namespace, with the
// prefix that the schema has for it, whatever prefix the document has. A nil names keeps them as
// they are written.
type names struct {
	prefix map[string]string // by namespace
	known  map[xml.Name]string
}

// maxNames bounds the names that are remembered.
const maxNames = 10_000

func newNames(s *schema.Schema) *names {
	if s == nil || len(s.Settings.Namespaces) == 0 {
		return nil
	}
	n := &names{prefix: map[string]string{}, known: map[xml.Name]string{}}
	for _, ns := range s.Settings.Namespaces {
		n.prefix[ns.URI] = ns.Prefix
	}
	return n
}

// of is the name by which the schema knows an element or attribute.
func (n *names) of(name xml.Name, raw string) string {
	if n == nil || name.Space == "" {
		return raw
	}
	if s, ok := n.known[name]; ok {
		return s
	}
	s := raw
	if prefix, ok := n.prefix[name.Space]; ok {
		if s = name.Local; prefix != "" {
			s = prefix + ":" + name.Local
		}
	}
	if len(n.known) < maxNames {
		n.known[name] = s
	}
	return s
}

// name is the name of the element at hand.
func (x *reader) name() string { return x.known(x.in.Name, x.in.Raw) }

// known is the name by which the schema knows an element or attribute.
func (x *reader) known(name xml.Name, raw string) string {
	if x.escapes {
		return plainName(x.names.of(name, raw))
	}
	return x.names.of(name, raw)
}
