package infer

import (
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// declared takes out of an XML message what declares prefixes, or instructs readers (xsi:…), which is no data; the prefixes
// become the schema's. An element of which only text is left is that text, and one that says so is null.
func (o *Observer) declared(v value.Value) value.Value {
	switch v.Kind() {
	case value.ListKind:
		items := slices.Clone(v.Items())
		for i := range items {
			items[i] = o.declared(items[i])
		}
		return value.ListOf(items...)
	case value.RecordKind:
	default:
		return v
	}
	r := v.Record()
	var names []string
	var fields []value.Value
	for i, name := range r.Layout.Names {
		attribute, isAttribute := strings.CutPrefix(name, "@")
		switch {
		case isAttribute && (attribute == "xmlns" || strings.HasPrefix(attribute, "xmlns:")):
			o.declare(strings.TrimPrefix(strings.TrimPrefix(attribute, "xmlns"), ":"), r.Fields[i].Text())
		case attribute == "xsi:nil" && isAttribute && (r.Fields[i].Text() == "true" || r.Fields[i].Text() == "1"):
			return value.NullValue
		case isAttribute && strings.HasPrefix(attribute, "xsi:"):
		default:
			names, fields = append(names, name), append(fields, o.declared(r.Fields[i]))
		}
	}
	switch {
	case len(names) == 0:
		return value.NewText("")
	case len(names) == 1 && names[0] == "#text":
		return fields[0]
	}
	return value.NewRecord(value.NewLayout(names...), fields)
}

// declare notes what a prefix stands for; that which comes first stays.
func (o *Observer) declare(prefix, space string) {
	if prefix == "xsi" || slices.ContainsFunc(o.namespaces, func(n schema.Namespace) bool { return n.Prefix == prefix }) {
		return
	}
	o.namespaces = append(o.namespaces, schema.Namespace{Prefix: prefix, URI: space})
}
