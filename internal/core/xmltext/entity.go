package xmltext

import (
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
)

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
	case d.r.o.Namespaces && strings.Contains(name, ":"):
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
