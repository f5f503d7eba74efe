package xmltext

import (
	"encoding/xml"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
)

// The namespaces that are bound in every document.
const (
	NamespaceXML   = "http://www.w3.org/XML/1998/namespace"
	namespaceXMLNS = "http://www.w3.org/2000/xmlns/"
)

// binding is a prefix and what it stands for.
type binding struct{ prefix, space string }

// maxKnown bounds the names that are remembered.
const maxKnown = 10_000

// known finds a name, or keeps it with a text of its own.
func (r *Reader) known(raw string) *known {
	if k := r.names[raw]; k != nil {
		return k
	}
	raw = strings.Clone(raw)
	k := &known{raw: raw, local: raw}
	if r.o.Namespaces {
		if prefix, local, ok := strings.Cut(raw, ":"); ok {
			k.prefix, k.local = prefix, local
			first, _ := utf8.DecodeRuneInString(local)
			k.odd = prefix == "" || strings.Contains(local, ":") || local == "" || first < utf8.RuneSelf && nameByte[first] != 1
		}
	}
	if len(r.names) < maxKnown {
		r.names[raw] = k
	}
	return k
}

// push opens an element.
func (r *Reader) push(raw string) error {
	name := r.known(raw)
	switch {
	case len(r.open) == 0 && r.root:
		return behind().At(r.place(r.Begin))
	case len(r.open) >= r.o.MaxDepth:
		return fault.New(fault.Limit, "elements nest deeper than %d", r.o.MaxDepth).At(r.place(r.Begin))
	}
	e := element{name: name, scope: r.scope, bindings: len(r.bindings)}
	if len(r.Attrs) > 1 {
		if err := r.differ(func(a *Attr) string { return a.Raw }); err != nil {
			return err
		}
	}
	if r.o.Namespaces {
		if err := r.resolveNames(name, &e); err != nil {
			r.scope, r.bindings = e.scope, r.bindings[:e.bindings]
			return err
		}
	}
	r.root = true
	r.open = append(r.open, e)
	r.Name, r.Raw = xml.Name{Space: e.space, Local: name.local}, name.raw
	return nil
}

// differ refuses two attributes of one name.
func (r *Reader) differ(name func(*Attr) string) error {
	const few = 12
	var seen map[string]bool
	if len(r.Attrs) > few {
		seen = make(map[string]bool, len(r.Attrs))
	}
	for i := range r.Attrs {
		n := name(&r.Attrs[i])
		twice := seen[n]
		if seen != nil {
			seen[n] = true
		}
		for j := 0; seen == nil && j < i && !twice; j++ {
			twice = name(&r.Attrs[j]) == n
		}
		if twice {
			return fault.New(fault.Syntax, "the attribute %s is there twice", r.Attrs[i].Raw).At(r.place(r.Attrs[i].At))
		}
	}
	return nil
}

// resolveNames takes the declarations of an element and resolves its name and those of its attributes.
func (r *Reader) resolveNames(name *known, e *element) error {
	for i := range r.Attrs {
		a := &r.Attrs[i]
		prefix, declares := strings.CutPrefix(a.Raw, "xmlns:")
		if a.Raw == "xmlns" {
			prefix, declares = "", true
		}
		if !declares {
			continue
		}
		if ft := bindable(a.Raw, prefix, a.Value); ft != nil {
			return ft.At(r.place(a.At))
		}
		r.bindings = append(r.bindings, binding{prefix, strings.Clone(a.Value)})
	}
	if len(r.bindings) > e.bindings {
		r.scopes++
		r.scope = r.scopes
	}
	var ok bool
	if e.space, ok = r.space(name); !ok {
		return r.unbound(name, r.Begin)
	}
	prefixed := 0
	for i := range r.Attrs {
		a := &r.Attrs[i]
		k := a.name
		switch {
		case k.odd:
			return r.unbound(k, a.At)
		case a.Raw == "xmlns":
			a.Name = xml.Name{Space: namespaceXMLNS, Local: "xmlns"}
		case k.prefix == "xmlns":
			a.Name = xml.Name{Space: namespaceXMLNS, Local: k.local}
		case k.prefix == "":
			a.Name = xml.Name{Local: k.local}
		default:
			space, ok := r.space(k)
			if !ok {
				return r.unbound(k, a.At)
			}
			a.Name = xml.Name{Space: space, Local: k.local}
			prefixed++
		}
	}
	if prefixed > 1 {
		return r.differ(func(a *Attr) string { return a.Name.Space + " " + a.Name.Local })
	}
	return nil
}

func bindable(raw, prefix, space string) *fault.Fault {
	switch {
	case prefix == "xmlns", prefix != "xml" && (space == NamespaceXML || space == namespaceXMLNS), prefix == "xml" && space != NamespaceXML:
		return fault.New(fault.Syntax, "%s cannot be declared like this", raw)
	case prefix != "" && space == "":
		return fault.New(fault.Syntax, "%s declares no namespace", raw)
	case strings.Contains(prefix, ":"):
		return fault.New(fault.Syntax, "%s is no prefix", prefix)
	}
	return nil
}

func (r *Reader) unbound(k *known, offset int64) error {
	if k.odd {
		return fault.New(fault.Syntax, "%s is no name with a prefix", k.raw).At(r.place(offset))
	}
	return fault.New(fault.Syntax, "the prefix of %s is not declared", k.raw).At(r.place(offset))
}

// space is what the prefix of a name stands for.
func (r *Reader) space(k *known) (string, bool) {
	if k.scope == r.scope {
		return k.space, true
	}
	space, ok := r.Space(k.prefix)
	if ok = ok && !k.odd; ok {
		k.space, k.scope = space, r.scope
	}
	return space, ok
}

// Space is what a prefix stands for at the token at hand; the empty prefix is the default
// namespace. It is false for a prefix that is not declared.
func (r *Reader) Space(prefix string) (string, bool) {
	for i := len(r.bindings) - 1; i >= 0; i-- {
		if r.bindings[i].prefix == prefix {
			return r.bindings[i].space, true
		}
	}
	if prefix == "xml" {
		return NamespaceXML, true
	}
	return "", prefix == ""
}

// nameByte says of ASCII characters whether a name may begin with them (1), or go on (2).
var nameByte = func() (t [128]byte) {
	for c := range t {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == '_', c == ':':
			t[c] = 1
		case c >= '0' && c <= '9', c == '-', c == '.':
			t[c] = 2
		}
	}
	return t
}()

// nameEnd is where the name ends that begins at i; i itself where there is none.
func (r *Reader) nameEnd(s string, i int) (int, error) {
	begin := i
	for i < len(s) {
		c := s[i]
		if c < utf8.RuneSelf {
			if k := nameByte[c]; k == 0 || k == 2 && i == begin {
				return i, nil
			}
			i++
			continue
		}
		if !utf8.FullRuneInString(s[i:]) {
			return 0, errMore
		}
		ru, n := utf8.DecodeRuneInString(s[i:])
		if ru == utf8.RuneError && n == 1 {
			_, err := r.character(s[i:], r.Begin+int64(i))
			return 0, err
		}
		if !nameRune(ru, i == begin) {
			return i, nil
		}
		i += n
	}
	return 0, errMore
}

// NameRune says whether a character other than a colon can stand in a name, or begin it (XML 1.0 fifth edition, section 2.3).
func NameRune(c rune, first bool) bool {
	if c < utf8.RuneSelf {
		return c != ':' && (nameByte[c] == 1 || nameByte[c] == 2 && !first)
	}
	return nameRune(c, first)
}

// ValidName says whether a text is a name with an optional prefix (Namespaces in XML 1.0, section 4).
func ValidName(s string) bool {
	if s == "" || !utf8.ValidString(s) || s[0] == ':' || s[len(s)-1] == ':' || strings.Count(s, ":") > 1 {
		return false
	}
	for i, r := range s {
		if r != ':' && !NameRune(r, i == 0 || s[i-1] == ':') {
			return false
		}
	}
	return true
}

// nameRune says whether a character beyond ASCII can stand in a name (XML 1.0 fifth edition,
// section 2.3).
func nameRune(c rune, first bool) bool {
	for _, span := range nameSpans {
		if c >= span[0] && c <= span[1] {
			return true
		}
	}
	return !first && (c == 0xb7 || c >= 0x300 && c <= 0x36f || c >= 0x203f && c <= 0x2040)
}

var nameSpans = [][2]rune{
	{0xc0, 0xd6},
	{0xd8, 0xf6},
	{0xf8, 0x2ff},
	{0x370, 0x37d},
	{0x37f, 0x1fff},
	{0x200c, 0x200d},
	{0x2070, 0x218f},
	{0x2c00, 0x2fef},
	{0x3001, 0xd7ff},
	{0xf900, 0xfdcf},
	{0xfdf0, 0xfffd},
	{0x10000, 0xeffff},
}
