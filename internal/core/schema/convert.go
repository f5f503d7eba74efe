package schema

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// Namespace is one that the names of fields stand for in XML: with the prefix before the name, or,
// with an empty prefix, for elements whose names have none.
type Namespace struct{ Prefix, URI string }

// Missing says how what has no value is written: each as it is, or as one of the others.
type Missing struct {
	Null   string // null (default), empty or omitted
	Empty  string // an empty text: empty (default), null or omitted
	Absent string // an optional field that is not there: omitted (default) or null
}

// IsDefault says whether nothing is written as something else.
func (m Missing) IsDefault() bool {
	return (m.Null == "" || m.Null == AsNull) && (m.Empty == "" || m.Empty == AsEmpty) && (m.Absent == "" || m.Absent == Omitted)
}

// The ways in which what has no value can be written.
const (
	AsNull  = "null"
	AsEmpty = "empty"
	Omitted = "omitted"
)

var missingValues = map[string]value.Value{AsNull: value.NullValue, AsEmpty: value.NewText(""), Omitted: {}}

func (m Missing) as(v value.Value) value.Value {
	choice := ""
	switch {
	case v.Kind() == value.Null:
		choice = m.Null
	case v.Kind() == value.Absent:
		choice = m.Absent
	case v.Kind() == value.Text && v.Text() == "":
		choice = m.Empty
	}
	if to, ok := missingValues[choice]; ok {
		return to
	}
	return v
}

// Express gives a record as it is to be written, with what has no value as the settings say. The
// record must be of the schema's shape; it is not changed.
func (m Missing) Express(f *Field, v value.Value) value.Value {
	r := v.Record()
	if r == nil || r.Layout != f.layout {
		return m.as(v)
	}
	fields := make([]value.Value, len(r.Fields))
	for i, c := range f.Fields {
		fields[i] = m.express(c, r.Fields[i])
	}
	return value.NewRecord(r.Layout, fields)
}

func (m Missing) express(f *Field, v value.Value) value.Value {
	if v.Kind() != value.ListKind {
		if v.Kind() == value.Absent && (f.List() || f.Nests()) {
			return v // an empty record or list is something else
		}
		return m.Express(f, v)
	}
	items := make([]value.Value, 0, len(v.Items()))
	for _, item := range v.Items() {
		if item = m.Express(f, item); item.Kind() != value.Absent {
			items = append(items, item)
		}
	}
	return value.ListOf(items...)
}

// readNamespaces reads the namespaces of a part's names.
func readNamespaces(w partfile.Node) []Namespace {
	var list []Namespace
	if t := w.Text("namespace"); t.Value != "" {
		list = append(list, Namespace{URI: t.Value})
	}
	seen := map[string]bool{}
	for _, ns := range list {
		seen[ns.URI] = true
	}
	prefixes, uris := w.Map("namespaces").Pairs()
	for i := range prefixes {
		ns := Namespace{prefixes[i].Value, uris[i].Value}
		switch {
		case ns.Prefix == "" || strings.HasPrefix(strings.ToLower(ns.Prefix), "xml") || strings.ContainsAny(ns.Prefix, ": \t<>&\"'/="):
			w.Doc().Fault(prefixes[i], fault.Expect(fault.Setting, "a prefix", fault.Quote(ns.Prefix)).InField("namespaces"))
		case ns.URI == "" || seen[ns.URI]:
			w.Doc().Fault(uris[i], fault.Expect(fault.Setting, "a namespace that has no prefix yet", fault.Quote(ns.URI)).InField("namespaces"))
		default:
			seen[ns.URI] = true
			list = append(list, ns)
		}
	}
	return list
}

func namespacesOut(list []Namespace, o *partfile.Ordered) {
	var prefixed partfile.Ordered
	for _, ns := range list {
		if ns.Prefix == "" {
			o.Add("namespace", ns.URI)
			continue
		}
		prefixed = append(prefixed, partfile.Entry{Key: ns.Prefix, Value: partfile.Text{Value: ns.URI}})
	}
	o.Add("namespaces", prefixed)
}
