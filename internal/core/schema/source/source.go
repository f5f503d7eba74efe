// Package source gives a schema as source text, in the language of its part file or of an open
// standard, and takes the text back after it was changed by hand. What the language cannot say of
// a field stays as it is.
package source

import (
	"bytes"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/schema/xsd"
	"hollowreed/internal/core/value"
)

// Language is one way of writing a schema down.
type Language struct {
	Name  string
	Label string
	Media string
	write func(s *schema.Schema, part []byte) []byte
	parse func(s *schema.Schema, text []byte) (*schema.Schema, error) // nil: the text is the part
}

// Languages are those that there are, the part file first.
var Languages = []Language{
	{Name: "part", Label: "Part file", Media: "application/yaml", write: func(_ *schema.Schema, part []byte) []byte { return part }},
	{Name: "jsonschema", Label: "JSON Schema", Media: "application/schema+json", write: func(s *schema.Schema, _ []byte) []byte { return jsonschema.Export(s, false) }, parse: parseJSONSchema},
	{Name: "xsd", Label: "XML Schema", Media: "application/xml", write: func(s *schema.Schema, _ []byte) []byte { return xsd.Export(s) }, parse: parseXMLSchema},
}

// Named finds a language; the part file when there is none of the name.
func Named(name string) Language {
	for _, l := range Languages {
		if l.Name == name {
			return l
		}
	}
	return Languages[0]
}

// Write gives the schema as source text; part is the text of its part file.
func (l Language) Write(s *schema.Schema, part []byte) []byte { return l.write(s, part) }

func parseJSONSchema(s *schema.Schema, text []byte) (*schema.Schema, error) {
	im, err := jsonschema.Import(s.ID, "", text, "", nil)
	if err != nil {
		return nil, err
	}
	return im.Schema, nil
}

func parseXMLSchema(s *schema.Schema, text []byte) (*schema.Schema, error) {
	set, err := xsd.Load("", text, nil)
	if err != nil {
		return nil, err
	}
	im, err := set.ImportAs(s.ID, "", s.Settings.Namespaces)
	if err != nil || s.Settings.RecordName == "" {
		return im, err
	}
	record := im.Root.Field(s.Settings.RecordName)
	if record == nil || record.Kind != value.RecordKind {
		return nil, fault.Expect(fault.Required, "the element "+fault.Quote(s.Settings.RecordName)+" of one record", "none").
			WithFix("Change the element of one record on the schema's own page")
	}
	im.Root = record
	return im, nil
}

// Read gives the part file of the schema after its source text was changed: only fields whose text
// changed are changed. The error is a *fault.Fault with the place in the text.
func (l Language) Read(s *schema.Schema, part, text []byte) ([]byte, error) {
	if l.parse == nil {
		d := partfile.Parse("", text)
		if len(d.Faults) > 0 {
			return nil, d.Faults[0]
		}
		return text, nil
	}
	before := l.write(s, part)
	if bytes.Equal(before, text) {
		return part, nil
	}
	now, err := l.parse(s, text)
	if err != nil {
		return nil, err
	}
	was, err := l.parse(s, before)
	if err != nil {
		return nil, err
	}
	m := merger{}
	fields := m.record(s.Root, was.Root, now.Root)
	if m.fault != nil {
		return nil, m.fault
	}
	return written(s, part, fields, was, now)
}

// written puts the fields into the part, with what is said of the schema as a whole.
func written(s *schema.Schema, part []byte, fields []*schema.Field, was, now *schema.Schema) ([]byte, error) {
	part, err := partfile.Set(part, []any{"fields"}, schema.Encode(fields))
	if err != nil {
		return nil, err
	}
	if now.Settings.RootName != was.Settings.RootName && s.Notation.Elements {
		if part, err = partfile.Set(part, []any{"notation settings", "root"}, now.Settings.RootName); err != nil {
			return nil, err
		}
	}
	if part, err = top(part, was, now); err != nil {
		return nil, err
	}
	var further []string
	for _, note := range now.NotImported {
		if !slices.Contains(was.NotImported, note) && !slices.Contains(s.NotImported, note) {
			further = append(further, note)
		}
	}
	if further == nil {
		return part, nil
	}
	return partfile.Set(part, []any{"not imported"}, append(slices.Clone(s.NotImported), further...))
}

// top writes what one message is, where the text says something else than before.
func top(part []byte, was, now *schema.Schema) ([]byte, error) {
	before, after := was.TopOut(), now.TopOut()
	had := map[string]string{}
	for _, e := range before {
		had[e.Key] = string(partfile.Encode(partfile.Ordered{e}))
	}
	var err error
	for _, e := range append(after, missing(before, after)...) {
		if had[e.Key] == string(partfile.Encode(partfile.Ordered{e})) {
			continue
		}
		if part, err = partfile.Set(part, []any{e.Key}, e.Value); err != nil {
			return nil, err
		}
	}
	return part, nil
}

// missing are the settings that were there before and are no longer, emptied.
func missing(before, after partfile.Ordered) (gone partfile.Ordered) {
	for _, e := range before {
		if !slices.ContainsFunc(after, func(a partfile.Entry) bool { return a.Key == e.Key }) {
			gone = append(gone, partfile.Entry{Key: e.Key, Value: ""})
		}
	}
	return gone
}

// merger puts the changes between two readings of a source text into a schema.
type merger struct{ fault *fault.Fault }

// record merges the fields of a record: as they are in the schema, as the text said before, as it
// says now.
func (m *merger) record(own, was, now *schema.Field) []*schema.Field {
	var fields []*schema.Field
	for _, n := range now.Fields {
		o, w := counterpart(own, n), counterpart(was, n)
		if o == nil && w != nil && deepAlike(w, n) {
			continue // the language says more than the schema has
		}
		if o == nil || w == nil {
			fields = append(fields, n)
			continue
		}
		fields = append(fields, m.field(o, w, n))
	}
	for i, o := range own.Fields {
		if counterpart(was, o) == nil { // the language cannot say it
			fields = slices.Insert(fields, min(i, len(fields)), o)
		}
	}
	return fields
}

// counterpart finds the field of a record by name, or the element's own text, whose name an XML
// Schema does not say.
func counterpart(record, f *schema.Field) *schema.Field {
	if same := record.Field(f.Name); same != nil || !f.WireFormat.Content {
		return same
	}
	for _, c := range record.Fields {
		if c.WireFormat.Content {
			return c
		}
	}
	return nil
}

func (m *merger) field(own, was, now *schema.Field) *schema.Field {
	merged := *own
	if !alike(was, now) {
		merged = *now
		if now.Name == was.Name {
			merged.Name = own.Name
		}
		if own.Kind == now.Kind {
			merged.WireFormat = writtenAs(own.WireFormat, was.WireFormat, now.WireFormat)
		}
		if now.Notes == was.Notes {
			merged.Notes = own.Notes
		}
	}
	if now.Kind != own.Kind || !now.Nests() {
		return &merged
	}
	if merged.Of = own.Of; own.Of == "" {
		merged.Fields = m.record(own, was, now)
	} else if !deepAlike(was, now) {
		m.fault = fault.New(fault.Setting, "the fields of %s are described by the schema %s", own.Name, fault.Quote(own.Of)).InField(own.Name).
			WithFix("Change them there, or give the record fields of its own first")
	}
	return &merged
}

// writtenAs is how a field is written, with what the text says of that.
func writtenAs(own, was, now schema.WireFormat) schema.WireFormat {
	if was.Attribute != now.Attribute {
		own.Attribute = now.Attribute
	}
	if was.Content != now.Content {
		own.Content = now.Content
	}
	return own
}

// alike says whether two fields are the same but for the fields inside.
func alike(a, b *schema.Field) bool {
	return bytes.Equal(encoded(a, false), encoded(b, false))
}

func deepAlike(a, b *schema.Field) bool {
	return bytes.Equal(encoded(a, true), encoded(b, true))
}

func encoded(f *schema.Field, deep bool) []byte {
	one := *f
	if !deep {
		one.Fields = nil
	}
	return partfile.Encode(one.Out())
}
