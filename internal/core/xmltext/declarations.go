package xmltext

import (
	"slices"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
)

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
	name, err := d.name()
	switch {
	case err != nil:
		return err
	case d.r.o.Namespaces && strings.Contains(name, ":"):
		return d.fault("the name of a notation has no colon")
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
