package edit

import (
	"strings"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// TakeIn adds fields that a message has and the schema lacks: those at the paths in the message (JSON Pointers) that a reader
// passed over, as they are described by what was inferred from the message. Each need not be there. It says how many there were
// and which is to be selected.
func TakeIn(text []byte, s *schema.Schema, inferred *schema.Field, paths []string) (r Result, n int, err error) {
	r.Text = text
	added := map[string]int{} // by the path of the record
	taken := map[string]bool{}
	for _, path := range paths {
		at, field := lacking(s.Root, inferred, split(path))
		if field == nil || taken[at.String()+"/"+field.Name] {
			continue
		}
		taken[at.String()+"/"+field.Name] = true
		one := *field
		if one.Min = 0; !s.Notation.Elements {
			one.WireFormat.Attribute, one.WireFormat.Content = false, false
		}
		if r.Text, err = partfile.Insert(r.Text, at.list(), -1, one.Out()); err != nil {
			return r, 0, err
		}
		r.Selected = at.with(len(Field(s, at).Fields) + added[at.String()])
		added[at.String()]++
		n++
	}
	return r, n, nil
}

// split takes a JSON Pointer (RFC 6901) apart.
func split(pointer string) []string {
	names := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, name := range names {
		names[i] = strings.ReplaceAll(strings.ReplaceAll(name, "~1", "/"), "~0", "~")
	}
	return names
}

// lacking finds the record of a schema that lacks the field at a path in a message, and that field in what was inferred; nil where
// the two do not go together, or where another schema describes the record.
func lacking(f, inferred *schema.Field, names []string) (at Path, field *schema.Field) {
	for len(names) > 0 {
		if inferred = described(inferred, names); inferred == nil {
			return nil, nil
		}
		i, record := step(f, names[0])
		switch {
		case record && len(names) == 1 && i < 0:
			return at, named(inferred, names[0])
		case i < 0 && isNumber(names[0]): // a place in a list
			names = names[1:]
			continue
		case i < 0:
			return nil, nil
		}
		if f.Of != "" {
			return nil, nil
		}
		at = at.with(i)
		if f.Kind != value.RecordKind && f.Kind != value.MapKind { // a branch, or an inner list, has no name in the message
			f = f.Fields[i]
			continue
		}
		f, inferred, names = f.Fields[i], below(inferred, names[0]), names[1:]
	}
	return nil, nil
}

// step is the field below one by a name in the message, and whether the field is a record, which may lack it.
func step(f *schema.Field, name string) (i int, record bool) {
	switch f.Kind {
	case value.RecordKind:
		if c := f.Named(name); c != nil {
			return c.Slot(), true
		}
		return -1, !isNumber(name) || !f.List()
	case value.MapKind, value.ListKind:
		return 0, false
	case value.VariantKind:
		for i, b := range f.Fields {
			if b.Kind == value.RecordKind {
				return i, false
			}
		}
	}
	return -1, false
}

func isNumber(name string) bool {
	return name != "" && strings.Trim(name, "0123456789") == ""
}

// described is what was inferred of the value in which a name stands: of a variant the record that has it.
func described(f *schema.Field, names []string) *schema.Field {
	if f == nil || f.Kind != value.VariantKind {
		return f
	}
	for _, b := range f.Fields {
		if b.Kind == value.RecordKind && (b.Field(names[0]) != nil || isNumber(names[0])) {
			return b
		}
	}
	return nil
}

func named(f *schema.Field, name string) *schema.Field {
	if f == nil || f.Kind != value.RecordKind {
		return nil
	}
	if c := f.Field(name); c != nil {
		return c
	}
	return f.Field(strings.TrimPrefix(name, "@"))
}

func below(f *schema.Field, name string) *schema.Field {
	if f != nil && f.Kind == value.MapKind {
		return f.Each()
	}
	return named(f, name)
}
