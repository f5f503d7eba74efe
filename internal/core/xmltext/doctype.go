package xmltext

import (
	"encoding/xml"
	"slices"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
)

// Bounds on a document type declaration and on what its entities make.
const (
	maxDoctype  = 1 << 20 // bytes of the declaration
	maxEntities = 1_000
	maxExpanded = 1 << 20 // bytes that references to entities make, in one document
	maxNested   = 16      // references inside of entities
	maxEntity   = 200     // bytes of an entity's name
)

// doctype is what a document type declaration declares (XML 1.0, section 2.8): the entities and the attributes with a default of
// its internal subset. External subsets and entities are never fetched.
type doctype struct {
	entities map[string]string // the replacement text; of those declared twice the first
	external map[string]bool
	defaults map[string][]attDefault // by the name of the element
	types    map[string]bool         // attributes of a type other than CDATA, as element@attribute
	expanded int
}

type attDefault struct{ name, value string }

// declared reads a document type declaration and gives where it ends.
func (r *Reader) declared(s string) (int, error) {
	switch {
	case r.o.NoDoctype:
		return 0, fault.New(fault.Syntax, "document type declarations are refused here").At(r.place(r.Begin)).WithFix("Remove the <!DOCTYPE …> declaration")
	case r.root || r.types != nil:
		return 0, r.notXML(r.Begin, "a document type declaration stands once, before the root element")
	case len(s) > maxDoctype:
		return 0, fault.New(fault.Limit, "the document type declaration is longer than %d bytes", maxDoctype).At(r.place(r.Begin))
	}
	d := &declarations{r: r, s: s, i: len("<!DOCTYPE"), types: &doctype{entities: map[string]string{}, external: map[string]bool{}, defaults: map[string][]attDefault{}, types: map[string]bool{}}}
	if err := d.declaration(); err != nil {
		return 0, err
	}
	r.types = d.types
	return d.i, nil
}

// declarations reads the text of a document type declaration. Where it ends too early it asks for more.
type declarations struct {
	r     *Reader
	s     string
	i     int
	types *doctype
}

func (d *declarations) fault(format string, args ...any) error {
	return d.r.notXML(d.r.Begin+int64(d.i), format, args...)
}

// space passes over white space; needed says that some must stand there.
func (d *declarations) space(needed bool) error {
	n := spaces(d.s, d.i)
	switch {
	case n == len(d.s):
		return errMore
	case needed && n == d.i:
		return d.fault("white space was expected")
	}
	d.i = n
	return nil
}

func (d *declarations) name() (string, error) {
	n, err := d.r.nameEnd(d.s, d.i)
	if err != nil {
		return "", err
	}
	if n == d.i {
		return "", d.fault("a name was expected")
	}
	name := d.s[d.i:n]
	d.i = n
	return name, nil
}

// sign takes one character; ok is false where it is another one.
func (d *declarations) sign(c byte) (ok bool, err error) {
	if d.i >= len(d.s) {
		return false, errMore
	}
	if d.s[d.i] != c {
		return false, nil
	}
	d.i++
	return true, nil
}

func (d *declarations) needed(c byte) error {
	ok, err := d.sign(c)
	if err == nil && !ok {
		err = d.fault("%q was expected", string(c))
	}
	return err
}

// word takes a word that may stand here.
func (d *declarations) word(w string) (ok bool, err error) {
	if rest := d.s[d.i:]; len(rest) < len(w) && strings.HasPrefix(w, rest) {
		return false, errMore
	}
	if ok = strings.HasPrefix(d.s[d.i:], w); ok {
		d.i += len(w)
	}
	return ok, nil
}

// literal reads a text in quotes.
func (d *declarations) literal() (string, error) {
	if d.i >= len(d.s) {
		return "", errMore
	}
	q := d.s[d.i]
	if q != '"' && q != '\'' {
		return "", d.fault("a text in quotes was expected")
	}
	end := strings.IndexByte(d.s[d.i+1:], q)
	if end < 0 {
		return "", errMore
	}
	text := d.s[d.i+1 : d.i+1+end]
	if _, err := d.r.clean(text, d.r.Begin+int64(d.i+1), false); err != nil {
		return "", err
	}
	d.i += end + 2
	return text, nil
}

func (d *declarations) declaration() error {
	if err := d.space(true); err != nil {
		return err
	}
	if _, err := d.name(); err != nil {
		return err
	}
	before := d.i
	if err := d.space(false); err != nil {
		return err
	}
	if d.i > before {
		if _, err := d.externalID(false); err != nil {
			return err
		}
		if err := d.space(false); err != nil {
			return err
		}
	}
	subset, err := d.sign('[')
	if err != nil {
		return err
	}
	if subset {
		if err := d.subset(); err != nil {
			return err
		}
		if err := d.space(false); err != nil {
			return err
		}
	}
	return d.needed('>')
}

// externalID reads SYSTEM "…" or PUBLIC "…" "…"; of a notation the second text may be missing.
func (d *declarations) externalID(notation bool) (found bool, err error) {
	if system, err := d.word("SYSTEM"); system || err != nil {
		if err == nil {
			err = d.space(true)
		}
		if err == nil {
			_, err = d.literal()
		}
		return true, err
	}
	public, err := d.word("PUBLIC")
	if !public || err != nil {
		return false, err
	}
	if err := d.space(true); err != nil {
		return true, err
	}
	at := d.i
	id, err := d.literal()
	if err != nil {
		return true, err
	}
	if strings.IndexFunc(id, notPublic) >= 0 {
		d.i = at
		return true, d.fault("a character that a public identifier cannot have")
	}
	before := d.i
	if err := d.space(false); err != nil {
		return true, err
	}
	if notation && d.s[d.i] == '>' {
		return true, nil
	}
	if d.i == before {
		return true, d.fault("white space was expected")
	}
	_, err = d.literal()
	return true, err
}

// notPublic says whether a character cannot stand in a public identifier (XML 1.0, production 13).
func notPublic(c rune) bool {
	return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune(" \r\n-'()+,./:=?;!*#@$_%", c))
}

// subset reads the internal subset.
func (d *declarations) subset() error {
	for {
		if err := d.space(false); err != nil {
			return err
		}
		rest := d.s[d.i:]
		switch {
		case rest[0] == ']':
			d.i++
			return nil
		case rest[0] == '%':
			d.i++
			if _, err := d.name(); err != nil {
				return err
			}
			if err := d.needed(';'); err != nil {
				return err
			}
		case len(rest) < len("<!NOTATION") && !strings.Contains(rest, ">"):
			return errMore
		case strings.HasPrefix(rest, "<!--"):
			if err := d.comment(rest); err != nil {
				return err
			}
		case strings.HasPrefix(rest, "<?"):
			if err := d.instruction(rest); err != nil {
				return err
			}
		default:
			if err := d.markup(); err != nil {
				return err
			}
		}
	}
}

func (d *declarations) comment(rest string) error {
	end := strings.Index(rest[4:], "--")
	if end < 0 || end+7 > len(rest) {
		return errMore
	}
	if rest[4+end+2] != '>' {
		d.i += 4 + end
		return d.fault("-- cannot stand inside of a comment")
	}
	if _, err := d.r.clean(rest[4:4+end], d.r.Begin+int64(d.i+4), false); err != nil {
		return err
	}
	d.i += end + 7
	return nil
}

func (d *declarations) instruction(rest string) error {
	end := strings.Index(rest, "?>")
	if end < 0 {
		return errMore
	}
	n, err := d.r.nameEnd(rest, 2)
	switch {
	case err != nil:
		return err
	case n == 2 || strings.EqualFold(rest[2:n], "xml"):
		return d.fault("this is no name of a processing instruction")
	case n < end && !isSpace(rest[n]):
		return d.fault("white space was expected")
	}
	if _, err := d.r.clean(rest[n:end], d.r.Begin+int64(d.i+n), false); err != nil {
		return err
	}
	d.i += end + 2
	return nil
}

func (d *declarations) markup() error {
	for _, kind := range []struct {
		word string
		read func() error
	}{{"<!ENTITY", d.entity}, {"<!ELEMENT", d.element}, {"<!ATTLIST", d.attributes}, {"<!NOTATION", d.notation}} {
		is, err := d.word(kind.word)
		if err != nil {
			return err
		}
		if !is {
			continue
		}
		if err := d.space(true); err != nil {
			return err
		}
		if err := kind.read(); err != nil {
			return err
		}
		if err := d.space(false); err != nil {
			return err
		}
		return d.needed('>')
	}
	return d.fault("this declaration cannot stand here")
}

func (d *declarations) entity() error {
	parameter, err := d.sign('%')
	if err == nil && parameter {
		err = d.space(true)
	}
	if err != nil {
		return err
	}
	name, err := d.name()
	switch {
	case err != nil:
		return err
	case strings.Contains(name, ":"):
		return d.fault("the name of an entity has no colon")
	case len(name) > maxEntity:
		return fault.New(fault.Limit, "an entity's name is longer than %d bytes", maxEntity).At(d.r.place(d.r.Begin))
	}
	if err := d.space(true); err != nil {
		return err
	}
	if external, err := d.externalID(false); external || err != nil {
		if err == nil {
			err = d.unparsed(parameter)
		}
		if !parameter {
			d.types.external[name] = true
		}
		return err
	}
	at := d.i
	text, err := d.literal()
	if err != nil {
		return err
	}
	text, err = d.entityValue(text, at+1)
	if _, twice := d.types.entities[name]; err != nil || parameter || twice {
		return err
	}
	if len(d.types.entities) == maxEntities {
		return fault.New(fault.Limit, "more than %d entities are declared", maxEntities).At(d.r.place(d.r.Begin))
	}
	d.types.entities[strings.Clone(name)] = strings.Clone(text)
	return nil
}

// unparsed reads what an external entity may have behind it: NDATA and the name of a notation.
func (d *declarations) unparsed(parameter bool) error {
	before := d.i
	if err := d.space(false); err != nil {
		return err
	}
	if d.i == before || parameter {
		return nil
	}
	is, err := d.word("NDATA")
	if !is || err != nil {
		return err
	}
	if err := d.space(true); err != nil {
		return err
	}
	_, err = d.name()
	return err
}

// entityValue resolves the references to characters in an entity's value; those to entities stay (XML 1.0, section 4.5).
func (d *declarations) entityValue(s string, at int) (string, error) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '%':
			return "", d.r.notXML(d.r.Begin+int64(at+i), "a reference to a parameter entity cannot stand inside of a declaration")
		case s[i] != '&':
			b.WriteByte(s[i])
			continue
		}
		end := strings.IndexByte(s[i:], ';')
		if end < 0 || end == 1 {
			return "", d.r.notXML(d.r.Begin+int64(at+i), "& begins a reference, which ends in ;")
		}
		if name := s[i+1 : i+end]; name[0] != '#' {
			if n, err := d.r.nameEnd(name+";", 0); err != nil || n != len(name) {
				return "", d.r.notXML(d.r.Begin+int64(at+i), "& begins a reference, which ends in ;")
			}
			b.WriteString(s[i : i+end+1])
		} else {
			to, _, err := d.r.characterReference(s[i:i+end+1], d.r.Begin+int64(at+i))
			if err != nil {
				return "", err
			}
			b.WriteString(to)
		}
		i += end
	}
	return strings.ReplaceAll(b.String(), "\r\n", "\n"), nil
}

// element reads what a content specification may have (XML 1.0, section 3.2).
func (d *declarations) element() error {
	if _, err := d.name(); err != nil {
		return err
	}
	if err := d.space(true); err != nil {
		return err
	}
	for _, w := range []string{"EMPTY", "ANY"} {
		if is, err := d.word(w); is || err != nil {
			return err
		}
	}
	if err := d.needed('('); err != nil {
		return err
	}
	if err := d.space(false); err != nil {
		return err
	}
	if mixed, err := d.word("#PCDATA"); mixed || err != nil {
		if err != nil {
			return err
		}
		return d.mixed()
	}
	return d.children(0)
}

// mixed reads the names behind #PCDATA.
func (d *declarations) mixed() error {
	names := 0
	for {
		if err := d.space(false); err != nil {
			return err
		}
		closed, err := d.sign(')')
		switch {
		case err != nil:
			return err
		case closed && names == 0:
			_, err = d.sign('*')
			return err
		case closed:
			return d.needed('*')
		}
		if err := d.needed('|'); err != nil {
			return err
		}
		if err := d.space(false); err != nil {
			return err
		}
		if _, err := d.name(); err != nil {
			return err
		}
		names++
	}
}

// children reads the particles of a group, which has begun.
func (d *declarations) children(depth int) error {
	if depth > maxNested*4 {
		return fault.New(fault.Limit, "a content model nests deeper than %d", maxNested*4).At(d.r.place(d.r.Begin))
	}
	join := byte(0)
	for {
		if err := d.space(false); err != nil {
			return err
		}
		group, err := d.sign('(')
		switch {
		case err != nil:
			return err
		case group:
			err = d.children(depth + 1)
		default:
			if _, err = d.name(); err == nil {
				err = d.occurs()
			}
		}
		if err != nil {
			return err
		}
		if err := d.space(false); err != nil {
			return err
		}
		c := d.s[d.i]
		d.i++
		switch {
		case c == ')':
			return d.occurs()
		case c != ',' && c != '|' || join != 0 && join != c:
			d.i--
			return d.fault("), or one kind of separator, was expected")
		}
		join = c
	}
}

func (d *declarations) occurs() error {
	if d.i >= len(d.s) {
		return errMore
	}
	if strings.IndexByte("?*+", d.s[d.i]) >= 0 {
		d.i++
	}
	return nil
}

// attributes reads a list of attributes, and keeps their defaults.
func (d *declarations) attributes() error {
	of, err := d.name()
	if err != nil {
		return err
	}
	of = strings.Clone(of)
	for {
		before := d.i
		if err := d.space(false); err != nil {
			return err
		}
		if d.s[d.i] == '>' {
			return nil
		}
		if d.i == before {
			return d.fault("white space was expected")
		}
		if err := d.attribute(of); err != nil {
			return err
		}
	}
}

var attributeTypes = []string{"CDATA", "IDREFS", "IDREF", "ID", "ENTITIES", "ENTITY", "NMTOKENS", "NMTOKEN"}

func (d *declarations) attribute(of string) error {
	name, err := d.name()
	if err == nil {
		err = d.space(true)
	}
	if err != nil {
		return err
	}
	typ, err := d.attributeType()
	if err == nil {
		err = d.space(true)
	}
	if err != nil {
		return err
	}
	if typ != "CDATA" && len(d.types.types) < maxEntities {
		d.types.types[of+"@"+name] = true
	}
	for _, w := range []string{"#REQUIRED", "#IMPLIED"} {
		if is, err := d.word(w); is || err != nil {
			return err
		}
	}
	if fixed, err := d.word("#FIXED"); err != nil {
		return err
	} else if fixed {
		if err := d.space(true); err != nil {
			return err
		}
	}
	at := d.i
	text, err := d.literal()
	if err != nil {
		return err
	}
	r := d.r
	outer := r.types
	r.types = d.types // entities that are declared before may stand in it
	value, err := r.attrValue(text, r.Begin+int64(at+1))
	r.types = outer
	if err != nil {
		return err
	}
	if typ != "CDATA" {
		value = strings.Join(strings.Fields(value), " ")
	}
	list := d.types.defaults[of]
	if !slices.ContainsFunc(list, func(a attDefault) bool { return a.name == name }) {
		if len(list) == maxEntities {
			return fault.New(fault.Limit, "more than %d attributes of one element have a default", maxEntities).At(r.place(r.Begin))
		}
		d.types.defaults[of] = append(list, attDefault{strings.Clone(name), strings.Clone(value)})
	}
	return nil
}

func (d *declarations) attributeType() (string, error) {
	for _, w := range attributeTypes {
		if is, err := d.word(w); is || err != nil {
			return w, err
		}
	}
	notation, err := d.word("NOTATION")
	if err == nil && notation {
		err = d.space(true)
	}
	if err == nil {
		err = d.needed('(')
	}
	for err == nil {
		if err = d.space(false); err != nil {
			break
		}
		if err = d.token(); err != nil {
			break
		}
		if err = d.space(false); err != nil {
			break
		}
		if d.s[d.i] == ')' {
			d.i++
			return "enumeration", nil
		}
		err = d.needed('|')
	}
	return "", err
}

// token reads a name token (XML 1.0, production 7).
func (d *declarations) token() error {
	begin := d.i
	for d.i < len(d.s) {
		c, n := utf8.DecodeRuneInString(d.s[d.i:])
		if c < utf8.RuneSelf && nameByte[c] == 0 || c >= utf8.RuneSelf && !nameRune(c, false) {
			if d.i == begin {
				return d.fault("a name was expected")
			}
			return nil
		}
		d.i += n
	}
	return errMore
}

func (d *declarations) notation() error {
	if _, err := d.name(); err != nil {
		return err
	}
	if err := d.space(true); err != nil {
		return err
	}
	found, err := d.externalID(true)
	if err == nil && !found {
		err = d.fault("SYSTEM or PUBLIC was expected")
	}
	return err
}

// expanded is the text that a reference to an entity stands for. An entity that holds elements is refused.
func (r *Reader) expanded(name string, offset int64, around []string) (string, error) {
	if to, ok := entities[name]; ok && (r.types == nil || r.types.entities[name] == "") {
		return to, nil
	}
	if r.types == nil {
		return "", r.notXML(offset, "the entity &%s; is not known", strings.ToValidUTF8(name, "\uFFFD"))
	}
	text, known := r.types.entities[name]
	switch {
	case slices.Contains(around, name):
		return "", r.notXML(offset, "the entity &%s; stands inside of itself", name)
	case r.types.external[name] && !known:
		return "", fault.New(fault.Syntax, "the entity &%s; stands in another file, and nothing is fetched", name).At(r.place(offset))
	case !known:
		return "", r.notXML(offset, "the entity &%s; is not known", strings.ToValidUTF8(name, "\uFFFD"))
	case len(around) >= maxNested:
		return "", fault.New(fault.Limit, "entities stand inside of each other deeper than %d", maxNested).At(r.place(offset))
	case strings.Contains(text, "<"):
		return "", fault.New(fault.Syntax, "the entity &%s; holds elements, which is not read here", name).At(r.place(offset))
	}
	var b strings.Builder
	for text != "" {
		amp := strings.IndexByte(text, '&')
		if amp < 0 {
			b.WriteString(text)
			break
		}
		b.WriteString(text[:amp])
		end := strings.IndexByte(text[amp:], ';')
		if end < 0 {
			return "", r.notXML(offset, "the entity &%s; ends inside of a reference", name)
		}
		to, err := r.referenced(text[amp:amp+end+1], offset, append(around, name))
		if err != nil {
			return "", err
		}
		b.WriteString(to)
		text = text[amp+end+1:]
	}
	if r.types.expanded += b.Len(); r.types.expanded > maxExpanded {
		return "", fault.New(fault.Limit, "the entities of the document make more than %d bytes", maxExpanded).At(r.place(offset))
	}
	return b.String(), nil
}

// defaulted adds the attributes of the element at hand that have a default and are not there.
func (r *Reader) defaulted(element string) {
	if r.types == nil {
		return
	}
	for i := range r.Attrs {
		if r.types.types[element+"@"+r.Attrs[i].Raw] {
			r.Attrs[i].Value = strings.Join(strings.Fields(r.Attrs[i].Value), " ")
		}
	}
	for _, a := range r.types.defaults[element] {
		if !slices.ContainsFunc(r.Attrs, func(has Attr) bool { return has.Raw == a.name }) {
			name := r.known(a.name)
			r.Attrs = append(r.Attrs, Attr{Name: xml.Name{Local: name.local}, Raw: name.raw, Value: a.value, At: r.Begin, name: name})
		}
	}
}
