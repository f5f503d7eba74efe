package xsd

import (
	"slices"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// firstNested is the branch of an element that does not name one; nil where the branches are single values.
func firstNested(f *schema.Field) *schema.Field {
	for _, b := range f.Fields {
		if !b.Scalar() || b.List() {
			return b
		}
	}
	return nil
}

// variant writes a named type for each branch of a variant, and gives the name of the one that the element has of itself: that of
// all types where the branches are not extensions of the first.
func (w *writer) variant(f *schema.Field) string {
	if !w.related(f) {
		return w.unrelated(f)
	}
	base := naming{}
	if f.ToldBy == schema.TypeAttribute {
		base.name = w.unusedType(local(f.WireName()) + "Type")
		w.keep(base.name, func(out *writer) { out.line(1, `<xs:complexType name="%s" abstract="true"/>`, base.name) })
	} else {
		base = naming{name: local(f.Fields[0].WireName()), of: f.Fields[0]}
		w.keep(base.name, func(out *writer) { out.record(1, base.of, naming{name: base.name}) })
	}
	for _, b := range f.Fields {
		if b != base.of {
			name := local(b.WireName())
			w.keep(name, func(out *writer) { out.record(1, b, naming{name, base.name, base.of}) })
		}
	}
	return base.name
}

// unrelated writes a type for each branch that an element names.
func (w *writer) unrelated(f *schema.Field) string {
	for _, b := range f.Fields {
		if b == firstNested(f) && f.ToldBy != schema.TypeAttribute && !b.List() {
			continue
		}
		as := naming{name: local(b.WireName())}
		w.keep(as.name, func(out *writer) {
			if b.List() {
				out.items(1, b, as)
			} else {
				out.typ(1, b, as)
			}
		})
	}
	return "xs:anyType"
}

// keep takes a named type in, which writes itself. One that is there already stays.
func (w *writer) keep(name string, write func(out *writer)) {
	if _, ok := w.types[name]; ok {
		return
	}
	w.types[name] = "" // its elements may have types of their own
	w.named = append(w.named, name)
	out := &writer{spaces: w.spaces, target: w.target, types: w.types, named: w.named, keyNames: w.keyNames, keysNamed: w.keysNamed}
	write(out)
	w.named, w.types[name] = out.named, out.b.String()
}

func (w *writer) unusedType(name string) string {
	for _, ok := w.types[name]; ok; _, ok = w.types[name] {
		name += "_"
	}
	return name
}

// related says whether the branches of a variant can be types of XML Schema that take each other's place: all are records with
// elements, and where one of them is the element's own type, the others begin with its fields.
func (w *writer) related(f *schema.Field) bool {
	first := f.Fields[0]
	for _, b := range f.Fields {
		if b.Kind != value.RecordKind || b.List() || w.foreign(b.WireName()) || slices.ContainsFunc(b.Fields, func(c *schema.Field) bool { return c.WireFormat.Content || c.HoldsOthers }) {
			return false
		}
		if f.ToldBy != schema.TypeAttribute && b != first && !w.extends(b, first) {
			return false
		}
	}
	return true
}

// extends says whether a record has the fields of another, in its order, and more of its own behind them.
func (w *writer) extends(f, base *schema.Field) bool {
	if f.Model() == nil || base.Model() == nil {
		return false
	}
	for _, c := range base.Fields {
		if o := f.Named(c.Name); o == nil || w.written(o) != w.written(c) {
			return false
		}
	}
	m := f.Model()
	own := 0 // parts of the base
	for i, p := range m.Parts {
		if all, some := inherited(f, p, base); some && (!all || own < i) {
			return false
		} else if some {
			own++
		}
	}
	theirs := *m
	theirs.Parts = m.Parts[:own]
	return m.Join == ',' && m.Min == 1 && m.Max == 1 && w.modelText(f, &theirs) == w.modelText(base, base.Model())
}

// inherited says whether all and whether some fields of a part of a record's model are those of a base.
func inherited(f *schema.Field, p *schema.Model, base *schema.Field) (all, some bool) {
	all = true
	p.Fields(func(l *schema.Model) {
		in := base.Named(f.Fields[l.Slot].Name) != nil
		all, some = all && in, some || in
	})
	return all, some
}

// behind is what the model of a record says beyond the fields of a base.
func behind(f, base *schema.Field) *schema.Model {
	if base == nil {
		return f.Model()
	}
	rest := *f.Model()
	rest.Parts = slices.DeleteFunc(slices.Clone(rest.Parts), func(p *schema.Model) bool {
		_, some := inherited(f, p, base)
		return some
	})
	return &rest
}

// written is the declaration of an element or an attribute.
func (w *writer) written(c *schema.Field) string {
	out := w.aside()
	if c.WireFormat.Attribute {
		out.attributes(0, []*schema.Field{c})
	} else {
		out.leaf(0, c, often(c.Min, c.Max))
	}
	return out.b.String()
}

func (w *writer) modelText(f *schema.Field, m *schema.Model) string {
	out := w.aside()
	out.model(0, f, m, "")
	return out.b.String()
}

// aside is a writer of text that is only compared.
func (w *writer) aside() *writer {
	return &writer{spaces: w.spaces, target: w.target, types: map[string]string{}}
}
