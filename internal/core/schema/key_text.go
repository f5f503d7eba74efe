package schema

import (
	"strings"
	"unicode"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// keyText is a key as a part says it.
type keyText struct{ name, is partfile.Text }

// maxKeys bounds the keys of a record, maxAlternatives the paths in one place of a key.
const (
	maxKeys         = 100
	maxAlternatives = 1000
)

// keys reads the keys of a record and of those inside.
func (p parser) keys(d *partfile.Doc, f *Field) {
	if f.keys = nil; len(f.keyTexts) > maxKeys {
		d.Fault(f.At, fault.New(fault.Limit, "a record has at most %d keys", maxKeys).InField(f.Name))
		f.keyTexts = f.keyTexts[:maxKeys]
	}
	for _, t := range f.keyTexts {
		k, ft := parseKey(f, t.name.Value, t.is.Value)
		k.at = t.is
		if ft != nil {
			d.Fault(t.is, ft.InField(f.Name))
			continue
		}
		f.keys = append(f.keys, k)
	}
	for _, c := range f.Fields {
		p.keys(d, c)
	}
}

// parseKey reads a key of a record whose fields are known.
func parseKey(record *Field, name, text string) (Key, *fault.Fault) {
	k := Key{Name: name, text: text}
	if strings.ContainsFunc(name, unicode.IsSpace) || name == "" {
		return k, fault.Expect(fault.Setting, "a name of a key, without blanks", fault.Quote(name))
	}
	if record.Kind != value.RecordKind {
		return k, fault.New(fault.Setting, "only a record has keys")
	}
	p := &keyParser{modelParser: modelParser{record: record, text: text, what: "key"}}
	var ft *fault.Fault
	if k.Entries, ft = p.keyed(); ft != nil {
		return k, ft
	}
	switch {
	case p.word("among"):
		among, ft := p.keyed()
		if ft != nil {
			return k, ft
		}
		if len(among.By) != len(k.Entries.By) {
			return k, fault.Expect(fault.Setting, count(len(k.Entries.By), "value")+" behind among", count(len(among.By), "value"))
		}
		k.Among, k.Partial = &among, true
	case p.word("if"):
		if !p.word("present") {
			return k, p.fault("present", p.text[p.at:])
		}
		k.Partial = true
	}
	if p.next() != 0 {
		return k, p.fault("the end", p.text[p.at:])
	}
	return k, nil
}

type keyParser struct{ modelParser }

// word takes a word, if it is next.
func (p *keyParser) word(w string) bool {
	at := p.at
	if p.next() != '"' {
		if name, ft := p.name(); ft == nil && name == w {
			return true
		}
	}
	p.at = at
	return false
}

// sign takes a character, if it is next.
func (p *keyParser) sign(r rune) bool {
	if p.next() != r {
		return false
	}
	p.at++
	return true
}

func (p *keyParser) keyed() (e Keyed, ft *fault.Fault) {
	if e.Of, ft = p.paths([]*Field{p.record}, false); ft != nil {
		return e, ft
	}
	if !p.word("by") {
		return e, p.fault(`"by" and the values that tell the entries apart`, p.text[p.at:])
	}
	var entries []*Field
	for _, of := range e.Of {
		entries = append(entries, of.end(p.record))
	}
	for {
		by, ft := p.paths(entries, true)
		if ft != nil {
			return e, ft
		}
		if e.By = append(e.By, by); !p.sign(',') {
			return e, nil
		}
	}
}

// paths reads alternatives, each of which leads on from one of the fields at least; single says that they end at single values.
func (p *keyParser) paths(from []*Field, single bool) (list []KeyPath, ft *fault.Fault) {
	for {
		if len(list) > maxAlternatives {
			return nil, fault.New(fault.Limit, "more than %d paths in one place of a key", maxAlternatives)
		}
		names, ft := p.path()
		if ft != nil {
			return nil, ft
		}
		var found KeyPath
		why := fault.New(fault.Required, "the key has no entries")
		for _, f := range from {
			path, missing := below(f, names)
			if missing == nil && single {
				missing = path.single(f)
			}
			if missing == nil {
				found, why = path, nil
				break
			}
			why = missing
		}
		if why != nil {
			return nil, why
		}
		if list = append(list, found); !p.sign('|') {
			return list, nil
		}
	}
}

// single says what is wrong with a path that does not end at a single value.
func (p KeyPath) single(from *Field) *fault.Fault {
	last := p.end(from)
	if last.Scalar() || last.Kind == value.VariantKind {
		return nil
	}
	return fault.Expect(fault.Type, "a single value to tell entries by", "a "+last.Kind.String()+", "+last.Name)
}

// end is the field that a path leads to.
func (p KeyPath) end(from *Field) *Field {
	if len(p) == 0 {
		return from
	}
	return p[len(p)-1]
}

// path reads names with slashes between them; a point stays where it is.
func (p *keyParser) path() (names []string, ft *fault.Fault) {
	if at := p.at; p.next() != '"' {
		if name, ft := p.name(); ft == nil && name == "." {
			return nil, nil
		}
		p.at = at
	}
	for {
		if len(names) > MaxDepth {
			return nil, fault.New(fault.Limit, "a path of more than %d names", MaxDepth)
		}
		quoted := p.next() == '"'
		at := p.at
		name, ft := p.name()
		if ft != nil {
			return nil, ft
		}
		if keyWords[name] && !quoted {
			p.at = at
			return nil, p.fault("the name of a field", name)
		}
		if names = append(names, name); !p.sign('/') {
			return names, nil
		}
	}
}

// below follows names down from a field.
func below(f *Field, names []string) (path KeyPath, ft *fault.Fault) {
	for _, name := range names {
		c := f.Field(name)
		if c == nil {
			return nil, fault.New(fault.Unknown, "the key names %s, which is no field of %s", fault.Quote(name), f.Name)
		}
		path, f = append(path, c), c
	}
	return path, nil
}
