package xmltext

import (
	"encoding/xml"
	"slices"
	"strings"

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
