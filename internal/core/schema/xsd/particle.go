package xsd

import (
	"encoding/xml"
	"strconv"

	"hollowreed/internal/core/fault"
)

// particles reads the content model that stands in a type; nil when there is none.
func (l *loader) particles(src source) expr {
	d := src.one("sequence", "choice", "all", "group")
	if d == nil {
		return nil
	}
	return l.particle(l.in(src, d))
}

func (l *loader) particle(src source) expr {
	low, high := l.occurs(src.dom)
	if high == 0 {
		return nothing{}
	}
	inner := l.term(src)
	if low == 1 && high == 1 {
		return inner
	}
	return repeat{inner, low, high}
}

func (l *loader) occurs(d *dom) (low, high int) {
	low, high = 1, 1
	var err error
	if v, ok := d.attrs["minOccurs"]; ok {
		if low, err = strconv.Atoi(v); err != nil || low < 0 {
			l.fault(d, fault.Setting, "minOccurs needs a whole number, not %q", v)
		}
	}
	if v, ok := d.attrs["maxOccurs"]; ok {
		if v == "unbounded" {
			return low, -1
		}
		if high, err = strconv.Atoi(v); err != nil || high < 0 {
			l.fault(d, fault.Setting, "maxOccurs needs a whole number or unbounded, not %q", v)
		}
	}
	if high < low {
		l.fault(d, fault.Setting, "maxOccurs is less than minOccurs")
	}
	return low, high
}

func (l *loader) term(src source) expr {
	switch src.name.Local {
	case "element":
		return oneOf{l.local(src)}
	case "any":
		return l.wildcard(src)
	case "group":
		return l.group(l.qname(src, src.attrs["ref"]), src.dom)
	}
	var list []expr
	for _, d := range src.xs("element", "any", "group", "sequence", "choice", "all") {
		list = append(list, l.particle(l.in(src, d)))
	}
	switch src.name.Local {
	case "choice":
		return choice(list)
	case "all":
		return everyOne(list)
	}
	return sequence(list)
}

// local reads an element inside of a content model: a reference or a declaration of its own.
func (l *loader) local(src source) *Element {
	if ref := src.attrs["ref"]; ref != "" {
		return l.element(l.qname(src, ref), src.dom)
	}
	e := &Element{Name: xml.Name{Local: src.attrs["name"]}}
	if form := src.attrs["form"]; form == "qualified" || form == "" && src.doc.elementNS {
		e.Name.Space = src.doc.target
	}
	if e.Name.Local == "" {
		l.fault(src.dom, fault.Required, "xs:element needs a name or a ref")
	}
	l.fill(src, e)
	return e
}

func (l *loader) group(name xml.Name, at *dom) expr {
	src, ok := l.top["group"][name]
	if !ok {
		l.fault(at, fault.Unknown, "there is no group %s", name.Local)
		return nothing{}
	}
	if l.busy[src.dom] {
		before, is := l.top["group"][redefined(name)]
		if !is || l.busy[before.dom] {
			l.fault(at, fault.Setting, "the group %s stands inside of itself", name.Local)
			return nothing{}
		}
		src, name = before, redefined(name)
	}
	if g, ok := l.groups[name]; ok {
		return g
	}
	l.busy[src.dom] = true
	g := l.particles(src)
	delete(l.busy, src.dom)
	if g == nil {
		g = nothing{}
	}
	if size(g, maxModel) > maxModel {
		l.fault(src.dom, fault.Limit, "the group %s has more than %d particles with all groups inside of it", name.Local, maxModel)
		g = nothing{}
	}
	l.groups[name] = g
	return g
}
