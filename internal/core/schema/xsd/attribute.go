package xsd

import (
	"encoding/xml"
	"strings"

	"hollowreed/internal/core/fault"
)

// attributes reads the attributes of a type.
func (l *loader) attributes(src source, t *Type) {
	for _, d := range src.kids {
		switch d.name.Local {
		case "attribute":
			t.add(l.use(l.in(src, d)))
		case "attributeGroup":
			l.attributeGroup(l.in(src, d), t)
		case "anyAttribute":
			t.AnyAttr = l.wildcard(l.in(src, d))
		}
	}
}

func (t *Type) add(a *Attribute) {
	for i, old := range t.Attrs {
		if old.Name == a.Name {
			t.Attrs[i] = a
			return
		}
	}
	t.Attrs = append(t.Attrs, a)
}

func (l *loader) attributeGroup(src source, t *Type) {
	name := l.qname(src, src.attrs["ref"])
	group, ok := l.top["attributeGroup"][name]
	if before, is := l.top["attributeGroup"][redefined(name)]; is && l.busy[group.dom] {
		group = before
	}
	switch {
	case !ok:
		l.fault(src.dom, fault.Unknown, "there is no attribute group %s", src.attrs["ref"])
	case l.busy[group.dom]:
		l.fault(src.dom, fault.Setting, "the attribute group %s stands inside of itself", name.Local)
	default:
		l.busy[group.dom] = true
		l.attributes(group, t)
		delete(l.busy, group.dom)
	}
}

// attribute gives a global attribute.
func (l *loader) attribute(name xml.Name, at *dom) *Attribute {
	if a := l.set.attrs[name]; a != nil {
		return a
	}
	if name.Space == nsXML {
		return &Attribute{Name: name, Type: builtins["anySimpleType"]}
	}
	src, ok := l.top["attribute"][name]
	if !ok {
		l.fault(at, fault.Unknown, "there is no attribute %s", name.Local)
		return &Attribute{Name: name, Type: builtins["anySimpleType"]}
	}
	a := &Attribute{Name: name}
	l.set.attrs[name] = a
	l.declare(src, a)
	return a
}

func (l *loader) declare(src source, a *Attribute) {
	a.place, a.Type = src.place(), builtins["anySimpleType"]
	a.Default, a.Fixed = given(src.dom, "default"), given(src.dom, "fixed")
	if inline := src.one("simpleType"); inline != nil {
		a.Type = l.simple(l.in(src, inline), &Type{})
	} else if name := src.attrs["type"]; name != "" {
		if t := l.typ(l.qname(src, name), src.dom); t.Simple != nil && !t.Complex {
			a.Type = t.Simple
		} else {
			l.fault(src.dom, fault.Setting, "%s is no simple type", name)
		}
	}
}

// use reads an attribute where a type uses it.
func (l *loader) use(src source) *Attribute {
	a := &Attribute{}
	if ref := src.attrs["ref"]; ref != "" {
		*a = *l.attribute(l.qname(src, ref), src.dom)
		if d := given(src.dom, "default"); d != nil {
			a.Default = d
		}
		if f := given(src.dom, "fixed"); f != nil {
			a.Fixed = f
		}
	} else {
		a.Name = xml.Name{Local: src.attrs["name"]}
		if form := src.attrs["form"]; form == "qualified" || form == "" && src.doc.attrNS {
			a.Name.Space = src.doc.target
		}
		if a.Name.Local == "" {
			l.fault(src.dom, fault.Required, "xs:attribute needs a name or a ref")
		}
		l.declare(src, a)
	}
	a.Required = src.attrs["use"] == "required"
	a.prohibited = src.attrs["use"] == "prohibited"
	a.place = src.place()
	return a
}

func (l *loader) wildcard(src source) *wildcard {
	w := &wildcard{process: src.attrs["processContents"]}
	if w.process == "" {
		w.process = "strict"
	}
	switch ns := src.attrs["namespace"]; ns {
	case "", "##any":
		w.any = true
	case "##other":
		w.not = src.doc.target
	default:
		w.in = map[string]bool{}
		for _, n := range strings.Fields(ns) {
			switch n {
			case "##targetNamespace":
				w.in[src.doc.target] = true
			case "##local":
				w.in[""] = true
			default:
				w.in[n] = true
			}
		}
	}
	return w
}
