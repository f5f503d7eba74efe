package xsd

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"hollowreed/internal/core/fault"
)

// frame is one open element of the document.
type frame struct {
	name  xml.Name
	typ   *Type
	decl  *Element
	rest  expr // what may still come; nil when no children may
	lost  bool // the content model was left: one fault is enough
	skip  bool // nothing inside is checked
	null  bool
	text  strings.Builder
	kids  int
	count []named // children by name, for the paths
	step  string
	place fault.Place
}

// named is how many children of a name there were.
type named struct {
	name xml.Name
	n    int
}

// again counts one more child of a name.
func (f *frame) again(name xml.Name) int {
	for i := range f.count {
		if f.count[i].name == name {
			f.count[i].n++
			return f.count[i].n
		}
	}
	if len(f.count) < maxCounted {
		f.count = append(f.count, named{name, 1})
	}
	return 1
}

// maxCounted bounds the names that are counted in one element.
const maxCounted = 256

type validator struct {
	set     *Set
	name    string
	dec     *xml.Decoder
	tell    func(*fault.Fault) bool
	open    []*frame
	scopes  []*scope
	keys    map[xml.Name]map[string]bool
	ids     map[string]bool
	idrefs  []ref
	faults  int
	stopped bool
	ns      []map[string]string
	attr    string // that is being checked
}

// MaxText is the most bytes of text that one element may hold.
const MaxText = 64 << 20

// Validate checks a document while it is read, in memory for the open elements, the identifiers
// and the keys. Tell is given every fault, with the place of the component that says so as its
// rule, and says whether to go on. It returns the number of faults; a document that is no XML has one.
func (s *Set) Validate(name string, in io.Reader, tell func(*fault.Fault) bool) int {
	v := &validator{set: s, name: name, dec: newDecoder(in), tell: tell, ids: map[string]bool{}}
	root := false
	for !v.stopped {
		tok, err := v.dec.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			v.report(syntaxFault(err, v.here()), v.here(), fault.Place{})
			return v.faults
		}
		switch t := tok.(type) {
		case xml.Directive:
			if f := refusesDTD(t, v.here()); f != nil {
				v.report(f, v.here(), fault.Place{})
				return v.faults
			}
		case xml.StartElement:
			if root && len(v.open) == 0 {
				v.report(fault.New(fault.Syntax, "something stands behind the root element"), v.here(), fault.Place{})
				return v.faults
			}
			root = true
			if !v.start(t) {
				return v.faults
			}
		case xml.EndElement:
			v.end()
		case xml.CharData:
			n := len(v.open)
			if n == 0 && strings.TrimSpace(strings.TrimPrefix(string(t), "\ufeff")) != "" {
				v.report(fault.New(fault.Syntax, "text stands outside of the root element"), v.here(), fault.Place{})
				return v.faults
			}
			if n > 0 {
				f := v.open[n-1]
				if f.text.Len()+len(t) > MaxText {
					v.report(fault.New(fault.Limit, "an element holds more than %d MB of text", MaxText>>20), v.here(), fault.Place{})
					return v.faults
				}
				f.text.Write(t)
			}
		}
	}
	if !root {
		v.report(fault.Expect(fault.Required, "a root element", "the end of the file"), fault.Place{Source: name, Line: 1}, fault.Place{})
	}
	for _, r := range v.idrefs {
		if !v.ids[r.key] {
			v.report(fault.Expect(fault.Unknown, "an ID of the document", r.key), r.place, fault.Place{})
		}
	}
	return v.faults
}

// pos is where the reading is; here is that with the path of the open elements.
func (v *validator) pos() fault.Place {
	line, column := v.dec.InputPos()
	return fault.Place{Source: v.name, Line: line, Column: column, Byte: v.dec.InputOffset()}
}

func (v *validator) here() fault.Place {
	p := v.pos()
	p.Path = v.path()
	return p
}

func (v *validator) path() string {
	var b strings.Builder
	for _, f := range v.open {
		b.WriteString("/" + f.step)
	}
	if v.attr != "" {
		b.WriteString("/@" + v.attr)
	}
	return b.String()
}

func (v *validator) report(f *fault.Fault, p, rule fault.Place) {
	if v.stopped {
		return
	}
	if f.Place.Line == 0 {
		f.At(p)
	}
	if f.Place.Path == "" {
		f.Place.Path = v.path()
	}
	if f.Rule.Line == 0 {
		f.Rule = rule
	}
	v.faults++
	v.stopped = !v.tell(f)
}

// start opens an element; false means that the document cannot be read on.
func (v *validator) start(t xml.StartElement) bool {
	if len(v.open) >= MaxDepth {
		v.report(fault.New(fault.Limit, "elements nest deeper than %d", MaxDepth), v.here(), fault.Place{})
		return false
	}
	v.scopeNames(t)
	f := &frame{name: t.Name, step: t.Name.Local}
	var outer *frame
	if n := len(v.open); n > 0 {
		outer = v.open[n-1]
		outer.kids++
		if n := outer.again(t.Name); n > 1 {
			f.step = fmt.Sprintf("%s[%d]", t.Name.Local, n)
		}
	}
	decl, strict := v.declaration(outer, t.Name, f)
	v.open = append(v.open, f)
	f.place = v.pos()
	f.decl = decl
	if decl != nil {
		f.typ = decl.Type
	}
	attrs := v.special(f, t, strict)
	if f.typ != nil && !f.skip {
		v.attributes(f, attrs)
		f.rest = f.typ.Content
		if f.typ.Abstract {
			v.report(fault.Expect(fault.Type, "a type that is not abstract", f.typ.Name.Local), f.place, f.typ.place)
		}
	}
	if decl != nil && decl.Abstract && !f.skip {
		v.report(fault.Expect(fault.Type, "an element that takes the place of "+decl.Name.Local, "the abstract one itself"), f.place, decl.place)
	}
	if !f.skip {
		v.enter(decl, attrs, f.place)
	} else {
		v.enter(nil, nil, f.place)
	}
	return true
}

// xmlOnly are the prefixes in scope before any is declared.
var xmlOnly = map[string]string{"xml": nsXML}

// scopeNames keeps the prefixes in scope, for values that are qualified names.
func (v *validator) scopeNames(t xml.StartElement) {
	scope := xmlOnly
	if n := len(v.ns); n > 0 {
		scope = v.ns[n-1]
	}
	copied := false
	for _, a := range t.Attr {
		prefix := a.Name.Local
		switch {
		case a.Name.Space == "xmlns":
		case a.Name.Space == "" && a.Name.Local == "xmlns":
			prefix = ""
		default:
			continue
		}
		if !copied {
			copied = true
			inner := map[string]string{}
			for k, s := range scope {
				inner[k] = s
			}
			scope = inner
		}
		scope[prefix] = a.Value
	}
	v.ns = append(v.ns, scope)
}

// declaration finds what describes an element: the content model around it, or the global elements.
func (v *validator) declaration(outer *frame, name xml.Name, f *frame) (decl *Element, strict bool) {
	switch {
	case outer == nil:
		decl = v.set.elements[name]
		if decl == nil {
			f.skip = true
			v.report(fault.Expect(fault.Unknown, "the root element "+v.set.names(), shown(name)), v.here(), fault.Place{})
		}
		return decl, true
	case outer.skip || outer.lost:
		f.skip = outer.skip || outer.lost
		return nil, false
	case outer.typ == nil: // inside of something of which nothing is said
		return v.set.elements[name], false
	case outer.typ.Simple != nil || outer.rest == nil || outer.null:
		outer.lost, f.skip = true, true
		v.report(fault.Expect(fault.Unknown, "no element inside of "+outer.name.Local, name.Local), v.here(), outer.typ.place)
		return nil, false
	}
	rest, by, wild, ok := outer.rest.derive(v.set, name)
	if !ok {
		outer.lost, f.skip = true, true
		v.report(fault.Expect(fault.Unknown, expected(outer.rest), shown(name)), v.here(), outer.typ.place)
		return nil, false
	}
	outer.rest = rest
	if wild == nil {
		return by, true
	}
	switch wild.process {
	case "skip":
		f.skip = true
		return nil, false
	case "lax":
		return v.set.elements[name], false
	}
	if decl = v.set.elements[name]; decl == nil {
		f.skip = true
		v.report(fault.Expect(fault.Unknown, "an element that is declared", shown(name)), v.here(), outer.typ.place)
	}
	return decl, true
}

func shown(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Local + " of " + n.Space
}

// special takes the attributes of the schema instance namespace: a type that takes the place of the
// declared one, and null. The others are left.
func (v *validator) special(f *frame, t xml.StartElement, _ bool) []xml.Attr {
	var rest []xml.Attr
	for _, a := range t.Attr {
		switch {
		case a.Name.Space == "xmlns", a.Name.Space == "" && a.Name.Local == "xmlns":
		case a.Name.Space == nsXSI:
			v.instance(f, a)
		default:
			rest = append(rest, a)
		}
	}
	return rest
}

func (v *validator) instance(f *frame, a xml.Attr) {
	text := strings.TrimSpace(a.Value)
	switch {
	case f.skip:
	case a.Name.Local == "type":
		name := v.qname(text)
		typ := builtin(name)
		if typ == nil {
			typ = v.set.types[name]
		}
		switch {
		case typ == nil:
			v.report(fault.Expect(fault.Unknown, "a type of the schema", text), f.place, fault.Place{})
		case f.typ != nil && !typ.derivedFrom(f.typ):
			v.report(fault.Expect(fault.Type, "a type derived from "+f.typ.Name.Local, text), f.place, f.typ.place)
		default:
			f.typ = typ
		}
	case a.Name.Local == "nil" && lexical("boolean", text) != "":
		v.report(fault.Expect(fault.Type, lexical("boolean", text)+" as xsi:nil", fault.Quote(text)), f.place, fault.Place{})
	case a.Name.Local == "nil" && truth(text):
		f.null = true
		if f.decl != nil && !f.decl.Nillable {
			v.report(fault.Expect(fault.Type, "a value", "null"), f.place, f.decl.place)
		}
	case a.Name.Local == "nil" && f.decl != nil && !f.decl.Nillable:
		v.report(fault.Expect(fault.Unknown, "no xsi:nil", "it"), f.place, f.decl.place)
	}
}

func (v *validator) qname(text string) xml.Name {
	prefix, local, ok := strings.Cut(text, ":")
	if !ok {
		prefix, local = "", text
	}
	return xml.Name{Space: v.ns[len(v.ns)-1][prefix], Local: local}
}

// derivedFrom says whether a type is another one or derived from it.
func (t *Type) derivedFrom(base *Type) bool {
	if base == anyType {
		return true
	}
	for x := t; x != nil; x = x.Base {
		if x == base || x.Name.Local != "" && x.Name == base.Name {
			return true
		}
	}
	return base.Simple != nil && !base.Complex && base.Simple.has(t.Simple)
}

// has says whether a simple type is one of a union's members.
func (s *Simple) has(member *Simple) bool {
	for _, m := range s.members {
		if m == member {
			return true
		}
	}
	return false
}

func (v *validator) attributes(f *frame, attrs []xml.Attr) {
	t := f.typ
	if len(attrs) == 0 && len(t.Attrs) == 0 {
		return
	}
	seen := map[xml.Name]bool{}
	p := f.place
	for _, a := range attrs {
		seen[a.Name] = true
		use := t.attribute(a.Name)
		v.attr = a.Name.Local
		switch {
		case use != nil && !use.prohibited:
			v.value(use.Type, a.Value, use.Fixed, p, use.place)
		case t.AnyAttr != nil && t.AnyAttr.accepts(a.Name.Space):
			if global := v.set.attrs[a.Name]; global != nil && t.AnyAttr.process != "skip" {
				v.value(global.Type, a.Value, global.Fixed, p, global.place)
			} else if global == nil && t.AnyAttr.process == "strict" && a.Name.Space != nsXML {
				v.report(fault.Expect(fault.Unknown, "an attribute that is declared", a.Name.Local), p, t.place)
			}
		default:
			v.report(fault.Expect(fault.Unknown, "no attribute "+a.Name.Local, "it"), p, t.place)
		}
	}
	v.attr = ""
	for _, use := range t.Attrs {
		if use.Required && !seen[use.Name] {
			v.report(fault.Expect(fault.Required, "the attribute "+use.Name.Local, "none"), f.place, use.place)
		}
	}
}

func (t *Type) attribute(name xml.Name) *Attribute {
	for _, a := range t.Attrs {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// value checks a text against a simple type and, where there is one, its fixed value.
func (v *validator) value(s *Simple, text string, fixed *string, p, rule fault.Place) string {
	text, f := s.read(text)
	if f != nil {
		v.report(f, p, rule)
		return text
	}
	if fixed != nil && !s.equal(text, *fixed) {
		v.report(fault.Expect(fault.Pattern, *fixed, fault.Quote(text)), p, rule)
	}
	if s.primitive == "QName" {
		if prefix, _, ok := strings.Cut(text, ":"); ok && v.ns[len(v.ns)-1][prefix] == "" {
			v.report(fault.Expect(fault.Unknown, "a prefix that is declared", prefix), p, rule)
		}
	}
	v.identifiers(s, text, p, rule)
	return text
}

// identifiers keeps IDs, which differ in a document, and references to them.
func (v *validator) identifiers(s *Simple, text string, p, rule fault.Place) {
	for t := s; t != nil; t = t.base {
		switch {
		case t.Name == "ID" && t == builtins["ID"]:
			if v.ids[text] {
				v.report(fault.Expect(fault.Setting, "an ID that differs from all others", text+" again"), p, rule)
			}
			v.ids[text] = true
		case t == builtins["IDREF"]:
			v.idrefs = append(v.idrefs, ref{text, v.here()})
		case t == builtins["IDREFS"]:
			for _, id := range strings.Fields(text) {
				v.idrefs = append(v.idrefs, ref{id, v.here()})
			}
		}
	}
}

// end closes the newest element.
func (v *validator) end() {
	f := v.open[len(v.open)-1]
	text, primitive := f.text.String(), ""
	if !f.skip && f.typ != nil {
		text = v.content(f, text)
		if f.typ.Simple != nil {
			primitive = f.typ.Simple.primitive
		}
	}
	v.leave(text, primitive)
	v.open = v.open[:len(v.open)-1]
	v.ns = v.ns[:len(v.ns)-1]
}

func (v *validator) content(f *frame, text string) string {
	t := f.typ
	switch {
	case f.null:
		if strings.TrimSpace(text) != "" || f.kids > 0 {
			v.report(fault.Expect(fault.Unknown, "nothing inside of what is null", "content"), f.place, t.place)
		}
		return ""
	case t.Simple != nil:
		return v.simple(f, text)
	case f.lost:
		return text
	}
	if !t.Mixed && strings.TrimSpace(text) != "" {
		v.report(fault.Expect(fault.Unknown, "elements only", fault.Quote(strings.TrimSpace(text))), f.place, t.place)
	}
	if f.rest != nil && !f.rest.nullable() {
		v.report(fault.Expect(fault.Required, expected(f.rest), "the end of "+f.name.Local), f.place, t.place)
	}
	if f.decl != nil && f.decl.Fixed != nil && t.Mixed && f.kids == 0 && text != "" && text != *f.decl.Fixed {
		v.report(fault.Expect(fault.Pattern, *f.decl.Fixed, fault.Quote(text)), f.place, f.decl.place)
	}
	return text
}

func (v *validator) simple(f *frame, text string) string {
	if f.kids > 0 {
		return text // said already
	}
	var fixed *string
	if f.decl != nil {
		fixed = f.decl.Fixed
		switch {
		case text == "" && f.decl.Default != nil:
			text = *f.decl.Default
		case text == "" && fixed != nil:
			text = *fixed
		}
	}
	rule := f.typ.place
	if f.decl != nil {
		rule = f.decl.place
	}
	return v.value(f.typ.Simple, text, fixed, f.place, rule)
}
