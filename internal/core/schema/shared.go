package schema

import (
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
)

// Finder gives a schema of which another one takes a group of fields: a record that is "of" another schema has the fields of that
// schema's record. It is nil where there is none, and where that schema is inside of itself.
type Finder func(id string) (s *Schema, inside bool)

// Read reads a schema part. Its faults are noted in the document; the schema is always usable.
func Read(id string, d *partfile.Doc, of Finder) *Schema { return read(id, d, of) }

// Parse reads a schema part that stands by itself.
func Parse(id string, d *partfile.Doc) *Schema {
	return read(id, d, func(other string) (*Schema, bool) { return nil, other == id })
}

// Loader reads schemas that take fields from one another, each once.
type Loader struct {
	doc     func(id string) *partfile.Doc
	loaded  map[string]*Schema
	loading map[string]bool
}

// NewLoader makes a loader; open gives the part of a schema, or nil when there is none.
func NewLoader(open func(id string) *partfile.Doc) *Loader {
	return &Loader{doc: open, loaded: map[string]*Schema{}, loading: map[string]bool{}}
}

// Schema reads a schema; nil when there is none.
func (l *Loader) Schema(id string) *Schema {
	s, _ := l.find(id)
	return s
}

func (l *Loader) find(id string) (s *Schema, inside bool) {
	if s := l.loaded[id]; s != nil || l.loading[id] {
		return s, s == nil
	}
	d := l.doc(id)
	if d == nil {
		return nil, false
	}
	l.loading[id] = true
	l.loaded[id] = read(id, d, l.find)
	return l.loaded[id], false
}

// shared are the fields that a record takes from another schema.
func (p parser) shared(of partfile.Text, d *partfile.Doc) []*Field {
	from, inside := p.find(of.Value)
	switch {
	case inside:
		d.Fault(of, fault.New(fault.Setting, "the schema %s is inside of itself", fault.Quote(of.Value)))
		return nil
	case from == nil:
		d.Fault(of, fault.Expect(fault.Unknown, "the name of a schema", fault.Quote(of.Value)).InField("of"))
		return nil
	case len(from.Root.Fields) == 0:
		d.Fault(of, fault.New(fault.Setting, "the schema %s has no fields", fault.Quote(of.Value)))
	}
	deepest, n := 0, 0
	from.Root.Walk(func(path []string, _ *Field) { deepest, n = max(deepest, len(path)), n+1 })
	if *p.taken += n; *p.taken > maxShared || deepest > MaxDepth {
		d.Fault(of, fault.New(fault.Limit, "more than %d fields, or records nested deeper than %d, are taken from other schemas", maxShared, MaxDepth))
		return nil
	}
	return from.As(p.s.Notation).Root.copied(from.source)
}

// maxShared bounds the fields that a schema takes from others, since each may take from others too.
const maxShared = 100_000

// copied are the fields of a record for another schema to hold; source is the part that they are
// described in.
func (f *Field) copied(source string) []*Field {
	fields := make([]*Field, len(f.Fields))
	for i, c := range f.Fields {
		twin := *c
		twin.layout = nil
		if twin.Source == "" {
			twin.Source = source
		}
		if c.Nests() {
			twin.Fields = c.copied(source)
		}
		fields[i] = &twin
	}
	return fields
}

// SameLayout says whether records of two fields have the same fields in the same order, so that a value of one can stand
// for a value of the other. What they must be may differ.
func (f *Field) SameLayout(o *Field) bool {
	if f == o {
		return true
	}
	if f.Kind != o.Kind || len(f.Fields) != len(o.Fields) {
		return false
	}
	for i, c := range f.Fields {
		if d := o.Fields[i]; c.Name != d.Name || c.List() != d.List() || !c.SameLayout(d) {
			return false
		}
	}
	return true
}

// Includes lists the schemas from which the schema takes fields by itself, each once.
func (s *Schema) Includes() []string {
	var ids []string
	s.Root.Walk(func(_ []string, f *Field) {
		if f.Of != "" && f.Source == "" && !slices.Contains(ids, f.Of) {
			ids = append(ids, f.Of)
		}
	})
	return ids
}
