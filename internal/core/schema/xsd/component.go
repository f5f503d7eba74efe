package xsd

import (
	"encoding/xml"
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

func (l *loader) component(src source) {
	name := xml.Name{Space: src.doc.target, Local: src.attrs["name"]}
	switch kinds[src.name.Local] {
	case "element":
		e := l.element(name, src.dom)
		l.set.Roots = append(l.set.Roots, e)
	case "type":
		l.typ(name, src.dom)
	case "attribute":
		l.attribute(name, src.dom)
	case "group":
		l.group(name, src.dom)
	}
}

// qname reads a qualified name; unqualified ones are of the default namespace, or, in a document
// that took on another's namespace, of that.
func (l *loader) qname(src source, text string) xml.Name {
	prefix, local, ok := strings.Cut(text, ":")
	if !ok {
		prefix, local = "", text
	}
	space, known := src.ns[prefix]
	if prefix != "" && !known {
		l.fault(src.dom, fault.Unknown, "the prefix %q is not declared", prefix)
	}
	if prefix == "" && !known && src.doc.root.attrs["targetNamespace"] == "" {
		space = src.doc.target
	}
	return xml.Name{Space: space, Local: local}
}

func (l *loader) in(src source, d *dom) source { return source{dom: d, doc: src.doc, old: src.old} }

// element gives a global element.
func (l *loader) element(name xml.Name, at *dom) *Element {
	if e := l.set.elements[name]; e != nil {
		return e
	}
	src, ok := l.top["element"][name]
	if !ok {
		l.fault(at, fault.Unknown, "there is no element %s", name.Local)
		return &Element{Name: name, Type: anyType}
	}
	e := &Element{Name: name, global: true}
	l.set.elements[name] = e
	l.fill(src, e)
	return e
}

// fill reads the declaration of an element.
func (l *loader) fill(src source, e *Element) {
	e.place = src.place()
	e.Nillable = truth(src.attrs["nillable"])
	e.Abstract = truth(src.attrs["abstract"])
	e.block, e.final = src.or("block", "blockDefault"), src.or("final", "finalDefault")
	e.Default, e.Fixed = given(src.dom, "default"), given(src.dom, "fixed")
	if head := src.attrs["substitutionGroup"]; head != "" && e.global {
		e.subst = l.qname(src, head)
		l.set.members[e.subst] = append(l.set.members[e.subst], e)
	}
	l.later = append(l.later, func() { l.typeOf(src, e) })
	for _, c := range src.xs("key", "unique", "keyref") {
		e.constraints = append(e.constraints, l.constraint(l.in(src, c)))
	}
}

// typeOf finds the type of an element. It is put off until all types stand, since a type may have
// elements that are derived from it.
func (l *loader) typeOf(src source, e *Element) {
	inline := src.one("simpleType", "complexType")
	switch {
	case src.attrs["type"] != "" && inline != nil:
		l.fault(src.dom, fault.Setting, "the element %s has a type attribute and a type inside", e.Name.Local)
		e.Type = anyType
	case src.attrs["type"] != "":
		e.Type = l.typ(l.qname(src, src.attrs["type"]), src.dom)
	case inline != nil:
		e.Type = l.build(l.in(src, inline), &Type{})
	case e.subst.Local != "":
		if e.Type = l.element(e.subst, src.dom).Type; e.Type == nil {
			l.later = append(l.later, func() { l.typeOf(src, e) })
		}
	default:
		e.Type = anyType
	}
}

func truth(s string) bool { return s == "true" || s == "1" }

func given(d *dom, name string) *string {
	if v, ok := d.attrs[name]; ok {
		return &v
	}
	return nil
}

// typ gives a global type.
func (l *loader) typ(name xml.Name, at *dom) *Type {
	if t := builtin(name); t != nil {
		return t
	}
	if t := l.set.types[name]; t != nil {
		return t
	}
	src, ok := l.top["type"][name]
	if !ok {
		l.fault(at, fault.Unknown, "there is no type %s", strings.TrimSuffix(name.Local, " before"))
		return anyType
	}
	t := &Type{Name: name}
	l.set.types[name] = t
	return l.build(src, t)
}

// or is an attribute of a component, or else the default that its document has for it.
func (src source) or(attr, standard string) string {
	if v, given := src.attrs[attr]; given {
		return v
	}
	return src.doc.root.attrs[standard]
}

// base is the type that a derivation names: in a redefinition, the one that is redefined.
func (l *loader) base(src source, own xml.Name, d *dom) *Type {
	name := l.qname(l.in(src, d), d.attrs["base"])
	if _, is := l.top["type"][redefined(name)]; is && name == own && !src.old {
		name = redefined(name)
	}
	t := l.typ(name, d)
	if l.making[t] {
		l.fault(d, fault.Setting, "the type %s is derived from itself", name.Local)
		return anyType
	}
	if refuses(t.final, &Type{Base: t, Derived: d.name.Local}, t) {
		l.fault(d, fault.Setting, "the type %s is final: there is no %s of it", name.Local, d.name.Local)
	}
	return t
}

func (l *loader) build(src source, t *Type) *Type {
	t.place = src.place()
	l.making[t] = true
	defer delete(l.making, t)
	t.final = src.or("final", "finalDefault")
	if src.name.Local == "simpleType" {
		t.Simple = l.simple(src, t)
		return t
	}
	t.Complex, t.block = true, src.or("block", "blockDefault")
	l.complex = append(l.complex, t)
	t.Abstract = truth(src.attrs["abstract"])
	t.Mixed = truth(src.attrs["mixed"])
	if sc := src.one("simpleContent"); sc != nil {
		l.simpleContent(l.in(src, sc), t)
		return t
	}
	body, derived := src.dom, src.one("complexContent")
	if derived == nil {
		t.Base, t.Derived = anyType, "restriction"
		t.Content = l.particles(l.in(src, body))
		l.attributes(l.in(src, body), t)
		return t
	}
	if m, ok := derived.attrs["mixed"]; ok {
		t.Mixed = truth(m)
	}
	d := derived.one("extension", "restriction")
	if d == nil {
		l.fault(derived, fault.Syntax, "xs:complexContent needs an extension or a restriction")
		return t
	}
	t.Base, t.Derived = l.base(src, t.Name, d), d.name.Local
	own := l.particles(l.in(src, d))
	t.Content = own
	if t.Derived == "extension" {
		switch {
		case t.Base.Content != nil && own != nil:
			t.Content = sequence{t.Base.Content, own}
		case t.Base.Content != nil:
			t.Content = t.Base.Content
		}
		t.Mixed = t.Mixed || t.Base.Mixed && derived.attrs["mixed"] == "" && src.attrs["mixed"] == ""
	}
	t.Attrs, t.AnyAttr = append([]*Attribute(nil), t.Base.Attrs...), nil
	if t.Derived == "extension" {
		t.AnyAttr = t.Base.AnyAttr
	}
	l.attributes(l.in(src, d), t)
	return t
}

func (l *loader) simpleContent(src source, t *Type) {
	d := src.one("extension", "restriction")
	if d == nil {
		l.fault(src.dom, fault.Syntax, "xs:simpleContent needs an extension or a restriction")
		t.Simple = builtins["anySimpleType"]
		return
	}
	t.Base, t.Derived = l.base(src, t.Name, d), d.name.Local
	t.Attrs, t.AnyAttr = append([]*Attribute(nil), t.Base.Attrs...), t.Base.AnyAttr
	base := t.Base.Simple
	if base == nil {
		base = builtins["anySimpleType"]
	}
	t.Simple = base
	if t.Derived == "restriction" {
		if inline := d.one("simpleType"); inline != nil {
			base = l.simple(l.in(src, inline), &Type{})
		}
		t.Simple = l.restricted(l.in(src, d), base, t.Name.Local)
	}
	l.attributes(l.in(src, d), t)
}

func (l *loader) simple(src source, t *Type) *Simple {
	if d := src.one("restriction"); d != nil {
		base := builtins["anySimpleType"]
		if d.attrs["base"] != "" {
			t.Base = l.base(src, t.Name, d)
			if t.Base.Simple == nil || t.Base.Complex {
				l.fault(d, fault.Setting, "%s is no simple type", d.attrs["base"])
			} else {
				base = t.Base.Simple
			}
		} else if inline := d.one("simpleType"); inline != nil {
			base = l.simple(l.in(src, inline), &Type{})
		}
		t.Derived = "restriction"
		return l.restricted(l.in(src, d), base, t.Name.Local)
	}
	t.Base, t.Derived = builtinTypes["anySimpleType"], "list"
	if d := src.one("list"); d != nil {
		return &Simple{Name: t.Name.Local, space: "collapse", item: l.part(src, d, "itemType")[0]}
	}
	if d := src.one("union"); d != nil {
		t.Derived = "union"
		return &Simple{Name: t.Name.Local, space: "collapse", members: l.part(src, d, "memberTypes")}
	}
	l.fault(src.dom, fault.Syntax, "xs:simpleType needs a restriction, a list or a union")
	return builtins["anySimpleType"]
}

// part gives the types of a list or union: named ones, then those inside.
func (l *loader) part(src source, d *dom, attr string) []*Simple {
	var out []*Simple
	for _, name := range strings.Fields(d.attrs[attr]) {
		t := l.typ(l.qname(l.in(src, d), name), d)
		if t.Simple == nil || t.Complex {
			l.fault(d, fault.Setting, "%s is no simple type", name)
			continue
		}
		out = append(out, t.Simple)
	}
	for _, inline := range d.xs("simpleType") {
		out = append(out, l.simple(l.in(src, inline), &Type{}))
	}
	if len(out) == 0 {
		l.fault(d, fault.Required, "xs:%s needs a type", d.name.Local)
		out = append(out, builtins["anySimpleType"])
	}
	return out
}

// restricted makes a type with the facets that stand in a restriction.
func (l *loader) restricted(src source, base *Simple, name string) *Simple {
	s := &Simple{Name: name, primitive: base.primitive, item: base.item, members: base.members, space: base.space, base: base}
	f := &s.facets
	f.place = map[string]fault.Place{}
	for _, d := range src.kids {
		v := d.attrs["value"]
		f.place[d.name.Local] = d.place()
		switch d.name.Local {
		case "length":
			f.length = l.count(d)
		case "minLength":
			f.minLength = l.count(d)
		case "maxLength":
			f.maxLength = l.count(d)
		case "totalDigits":
			f.totalDigits = l.count(d)
		case "fractionDigits":
			f.fractionDigits = l.count(d)
		case "minInclusive":
			f.minIn, f.hasMinIn = l.bound(d, s), true
		case "maxInclusive":
			f.maxIn, f.hasMaxIn = l.bound(d, s), true
		case "minExclusive":
			f.minEx, f.hasMinEx = l.bound(d, s), true
		case "maxExclusive":
			f.maxEx, f.hasMaxEx = l.bound(d, s), true
		case "enumeration":
			f.enum = append(f.enum, v)
		case "whiteSpace":
			s.space = v
		case "pattern":
			l.pattern(d, f, v)
		}
	}
	l.consistent(src.dom, s)
	return s
}

// consistent refuses facets that contradict each other (XML Schema 1.0, part 2, section 4.3).
func (l *loader) consistent(d *dom, s *Simple) {
	f := &s.facets
	least, most := nearest(s, func(f *facets) *int { return f.minLength }), nearest(s, func(f *facets) *int { return f.maxLength })
	total, fraction := nearest(s, func(f *facets) *int { return f.totalDigits }), nearest(s, func(f *facets) *int { return f.fractionDigits })
	switch {
	case f.length != nil && (f.minLength != nil || f.maxLength != nil):
		l.fault(d, fault.Setting, "length cannot stand beside minLength and maxLength")
	case least != nil && most != nil && *least > *most:
		l.fault(d, fault.Setting, "minLength %d is greater than maxLength %d", *least, *most)
	case total != nil && fraction != nil && *fraction > *total:
		l.fault(d, fault.Setting, "fractionDigits %d is greater than totalDigits %d", *fraction, *total)
	case total != nil && *total == 0:
		l.fault(d, fault.Setting, "totalDigits is at least 1")
	case f.hasMinIn && f.hasMinEx || f.hasMaxIn && f.hasMaxEx:
		l.fault(d, fault.Setting, "a bound is included or excluded, not both")
	case s.primitive == "decimal" && (above(f.hasMinIn, f.minIn, f.hasMaxIn, f.maxIn) || above(f.hasMinEx, f.minEx, f.hasMaxEx, f.maxEx)):
		l.fault(d, fault.Setting, "the least value is greater than the greatest")
	}
}

// nearest is a facet of a type, or of the nearest one that it is derived from.
func nearest(s *Simple, of func(*facets) *int) *int {
	for t := s; t != nil; t = t.base {
		if n := of(&t.facets); n != nil {
			return n
		}
	}
	return nil
}

// above says whether one bound is greater than another.
func above(hasLow bool, low string, hasHigh bool, high string) bool {
	a, ok1 := value.ParseDecimal(low)
	b, ok2 := value.ParseDecimal(high)
	if !hasLow || !hasHigh || !ok1 || !ok2 {
		return false
	}
	c, err := value.Compare(a, b)
	return err == nil && c > 0
}

func (l *loader) count(d *dom) *int {
	n, err := strconv.Atoi(d.attrs["value"])
	if err != nil || n < 0 {
		l.fault(d, fault.Setting, "%s needs a whole number, not %q", d.name.Local, d.attrs["value"])
	}
	return &n
}

func (l *loader) bound(d *dom, s *Simple) string {
	v := s.normal(d.attrs["value"])
	if why := lexical(s.primitive, v); why != "" {
		l.fault(d, fault.Setting, "%s needs %s, not %q", d.name.Local, why, v)
	}
	return v
}

func (l *loader) pattern(d *dom, f *facets, text string) {
	re, err := pattern(text)
	if err != nil {
		l.note(d, "the pattern %s is not checked: %s", text, err)
		re = regexp.MustCompile("")
	}
	f.patterns = append(f.patterns, re)
	f.patternText = append(f.patternText, text)
}
