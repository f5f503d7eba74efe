package xsd

import (
	"encoding/xml"
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
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
	return s
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
