package xsd

import (
	"encoding/xml"
	"io"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/xmltext"
)

// frame is one open element of the document.
type frame struct {
	name  xml.Name
	typ   *Type
	decl  *Element
	rest  *state // what may still come; nil when no children may
	lost  bool   // the content model was left: one fault is enough
	skip  bool   // nothing inside is checked
	null  bool
	text  xmltext.Pieces
	kids  int
	count []named     // children by name, for the paths
	n     int         // which one of its name it is, from 1
	place fault.Place // where it begins
	inner fault.Place // where its content begins, when that is a text
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
	in      *xmltext.Reader
	models  *models
	tell    func(*fault.Fault) bool
	open    []frame
	attrs   []xmltext.Attr // of the element at hand, without instructions
	given   []bool         // which attributes of its type stand there
	scopes  []*scope
	ids     map[string]bool
	idrefs  []ref
	faults  int
	stopped bool
	attr    string // that is being checked
}

// MaxText is the most bytes of text that one element may hold.
const MaxText = 64 << 20

// Validate checks a document while it is read, in memory for the open elements, the identifiers
// and the keys. Tell is given every fault, with the place of the component that says so as its
// rule, and says whether to go on. It returns the number of faults; a document that is no XML has one.
func (s *Set) Validate(name string, in io.Reader, tell func(*fault.Fault) bool) int {
	v := &validator{set: s, tell: tell, ids: map[string]bool{}, models: newModels(s)}
	v.in = xmltext.New(in, xmltext.Options{Source: name, Namespaces: true, MaxDepth: MaxDepth})
	for !v.stopped {
		k, err := v.in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			ft := fault.From(err, fault.Syntax)
			v.report(ft, ft.Place, fault.Place{})
			return v.faults
		}
		switch k {
		case xmltext.Start:
			v.start()
		case xmltext.End:
			v.end()
		case xmltext.Text:
			f := &v.open[len(v.open)-1]
			if f.between() && xmltext.Blank(v.in.Text) {
				continue
			}
			if f.text.Len()+len(v.in.Text) > MaxText {
				v.report(fault.New(fault.Limit, "an element holds more than %d MB of text", MaxText>>20), v.here(), fault.Place{})
				return v.faults
			}
			f.text.Add(v.in.Text)
		}
	}
	for _, r := range v.idrefs {
		if !v.ids[r.key] {
			v.report(fault.Expect(fault.Unknown, "an ID of the document", r.key), r.place, fault.Place{})
		}
	}
	return v.faults
}

// here is where the token at hand begins, with the path of the open elements.
func (v *validator) here() fault.Place {
	p := v.in.Place()
	p.Path = v.path()
	return p
}

func (v *validator) path() string {
	var b strings.Builder
	for i := range v.open {
		b.WriteString("/" + v.open[i].name.Local)
		if n := v.open[i].n; n > 1 {
			b.WriteString("[" + strconv.Itoa(n) + "]")
		}
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

// between says whether text of the element only stands between its children.
func (f *frame) between() bool {
	return f.skip || f.typ != nil && f.typ.Simple == nil && (f.decl == nil || f.decl.Fixed == nil)
}

// push opens a frame, in the memory of one that was closed.
func (v *validator) push() *frame {
	n := len(v.open)
	if n < cap(v.open) {
		v.open = v.open[:n+1]
		count := v.open[n].count[:0]
		v.open[n] = frame{count: count}
	} else {
		v.open = append(v.open, frame{})
	}
	return &v.open[n]
}

// start opens an element.
func (v *validator) start() {
	f := v.push()
	f.name, f.place, f.n = v.in.Name, v.in.Place(), 1
	var outer *frame
	if n := len(v.open); n > 1 {
		outer = &v.open[n-2]
		outer.kids++
		f.n = outer.again(f.name)
	}
	f.decl = v.declaration(outer, f)
	if f.decl != nil {
		f.typ = f.decl.Type
	}
	v.special(f)
	if f.typ != nil && !f.skip {
		v.attributes(f)
		if f.rest = v.models.of(f.typ); f.typ.Simple != nil {
			f.inner = v.in.PlaceOf(v.in.End)
		}
		if f.typ.Abstract {
			v.report(fault.Expect(fault.Type, "a type that is not abstract", f.typ.Name.Local), f.place, f.typ.place)
		}
	}
	if f.decl != nil && f.decl.Abstract && !f.skip {
		v.report(fault.Expect(fault.Type, "an element that takes the place of "+f.decl.Name.Local, "the abstract one itself"), f.place, f.decl.place)
	}
	if f.skip {
		v.enter(nil, nil, f.place)
		return
	}
	v.enter(f.decl, v.attrs, f.place)
}

// declaration finds what describes an element: the content model around it, or the global elements.
func (v *validator) declaration(outer, f *frame) *Element {
	switch {
	case outer == nil:
		decl := v.set.elements[f.name]
		if decl == nil {
			f.skip = true
			v.report(fault.Expect(fault.Unknown, "the root element "+v.set.names(), shown(f.name)), f.place, fault.Place{})
		}
		return decl
	case outer.skip || outer.lost:
		f.skip = true
		return nil
	case outer.typ == nil: // inside of something of which nothing is said
		return v.set.elements[f.name]
	case outer.typ.Simple != nil || outer.rest == nil || outer.null:
		outer.lost, f.skip = true, true
		v.report(fault.Expect(fault.Unknown, "no element inside of "+outer.name.Local, f.name.Local), f.place, outer.typ.place)
		return nil
	}
	m := v.models.step(outer.rest, f.name)
	if !m.ok {
		outer.lost, f.skip = true, true
		v.report(fault.Expect(fault.Unknown, expected(outer.rest.model), shown(f.name)), f.place, outer.typ.place)
		return nil
	}
	outer.rest = m.to
	switch {
	case m.wild == nil:
		return m.by
	case m.wild.process == "skip":
		f.skip = true
		return nil
	}
	decl := v.set.elements[f.name]
	if decl == nil && m.wild.process != "lax" {
		f.skip = true
		v.report(fault.Expect(fault.Unknown, "an element that is declared", shown(f.name)), f.place, outer.typ.place)
	}
	return decl
}

func shown(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Local + " of " + n.Space
}

// special takes the attributes of the schema instance namespace: a type that takes the place of the
// declared one, and null. The others are left.
func (v *validator) special(f *frame) {
	v.attrs = v.attrs[:0]
	for i := range v.in.Attrs {
		a := &v.in.Attrs[i]
		if _, declares := declared(a); declares {
			continue
		}
		if a.Name.Space == nsXSI {
			v.instance(f, a)
			continue
		}
		v.attrs = append(v.attrs, *a)
	}
}

func (v *validator) instance(f *frame, a *xmltext.Attr) {
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
		case f.typ != nil && (refuses(f.typ.block, typ, f.typ) || f.decl != nil && refuses(f.decl.block, typ, f.typ)):
			v.report(fault.Expect(fault.Type, "a type that may take the place of "+f.typ.Name.Local, text), f.place, f.typ.place)
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
	space, _ := v.in.Space(prefix)
	return xml.Name{Space: space, Local: local}
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

func (v *validator) attributes(f *frame) {
	t := f.typ
	if len(v.attrs) == 0 && len(t.Attrs) == 0 {
		return
	}
	v.given = append(v.given[:0], make([]bool, len(t.Attrs))...)
	for i := range v.attrs {
		a := &v.attrs[i]
		at := t.attribute(a.Name)
		p := v.in.PlaceOf(a.At)
		v.attr = a.Name.Local
		switch {
		case at >= 0 && !t.Attrs[at].prohibited:
			use := t.Attrs[at]
			v.given[at] = true
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
	for i, use := range t.Attrs {
		if use.Required && !v.given[i] {
			v.report(fault.Expect(fault.Required, "the attribute "+use.Name.Local, "none"), f.place, use.place)
		}
	}
}

// attribute is the position of an attribute's use in the type; -1 when it has none.
func (t *Type) attribute(name xml.Name) int {
	for i, a := range t.Attrs {
		if a.Name == name {
			return i
		}
	}
	return -1
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
		if prefix, _, ok := strings.Cut(text, ":"); ok {
			if _, known := v.in.Space(prefix); !known {
				v.report(fault.Expect(fault.Unknown, "a prefix that is declared", prefix), p, rule)
			}
		}
	}
	if s.ready().identifies {
		v.identifiers(s, text, p, rule)
	}
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
	f := &v.open[len(v.open)-1]
	text, primitive := f.text.String(), ""
	if !f.skip && f.typ != nil {
		text = v.content(f, text)
		if f.typ.Simple != nil {
			primitive = f.typ.Simple.primitive
		}
	}
	v.leave(text, primitive)
	v.open = v.open[:len(v.open)-1]
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
	if f.rest != nil && !f.rest.ends {
		v.report(fault.Expect(fault.Required, expected(f.rest.model), "the end of "+f.name.Local), f.place, t.place)
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
			if f.typ.Simple.primitive == "QName" {
				return text // its prefix is the schema's
			}
		case text == "" && fixed != nil:
			text = *fixed
		}
	}
	rule := f.typ.place
	if f.decl != nil {
		rule = f.decl.place
	}
	return v.value(f.typ.Simple, text, fixed, f.inner, rule)
}
