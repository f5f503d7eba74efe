package schema

import (
	"cmp"
	"slices"

	"hollowreed/internal/core/value"
)

// wiring says which fields an element or an attribute of a name may be.
type wiring struct {
	elements, attributes map[string][]*Field
}

// wire makes the wiring of a record; most do without, as their fields are called as their elements are.
func (f *Field) wire() {
	f.wired = nil
	if f.Kind != value.RecordKind || !slices.ContainsFunc(f.Fields, func(c *Field) bool { return c.WireFormat.Name != "" || c.WireFormat.Group }) {
		return
	}
	w := &wiring{elements: map[string][]*Field{}, attributes: map[string][]*Field{}}
	for _, c := range f.Fields {
		switch {
		case c.WireFormat.Attribute:
			w.attributes[c.WireName()] = append(w.attributes[c.WireName()], c)
		case c.WireFormat.Group:
			for _, name := range c.elementNames() {
				w.elements[name] = append(w.elements[name], c)
			}
		case !c.HoldsOthers:
			w.elements[c.WireName()] = append([]*Field{c}, w.elements[c.WireName()]...)
		}
	}
	f.wired = w
}

// elementNames are the names of the elements that a group can have.
func (f *Field) elementNames() (names []string) {
	for _, c := range f.Fields {
		switch {
		case c.WireFormat.Attribute || c.WireFormat.Content || c.HoldsOthers:
		case c.WireFormat.Group:
			names = append(names, c.elementNames()...)
		default:
			names = append(names, c.WireName())
		}
	}
	return names
}

// WireName is what the field is called in XML.
func (f *Field) WireName() string { return cmp.Or(f.WireFormat.Name, f.Name) }

// Elements are the fields of a record that an element of a name may be: one of that name, or a group that has such an element.
func (f *Field) Elements(name string) []*Field {
	if f.wired != nil {
		return f.wired.elements[name]
	}
	if c := f.Named(name); c != nil && !c.WireFormat.Attribute {
		return []*Field{c}
	}
	return nil
}

// Attribute is the field of a record that an attribute of a name is; nil when there is none.
func (f *Field) Attribute(name string) *Field {
	if f.wired != nil {
		for _, c := range f.wired.attributes[name] {
			return c
		}
		return nil
	}
	if c := f.Named(name); c != nil && c.WireFormat.Attribute {
		return c
	}
	return nil
}
