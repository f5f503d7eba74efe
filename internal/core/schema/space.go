package schema

import (
	"slices"
	"strings"

	"hollowreed/internal/core/value"
)

// Spaced is a text of the field with its white space as the field says (XML Schema 1.0, part 2, section 4.3.6): each sign of it as
// a blank, or collapsed to one blank between words.
func (f *Field) Spaced(text string) string {
	switch f.WireFormat.WhiteSpace {
	case "replace":
		return strings.NewReplacer("\t", " ", "\n", " ", "\r", " ").Replace(text)
	case "collapse":
		return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' || r == '\n' || r == '\r' }), " ")
	}
	return text
}

// TakesElement says whether an element of a namespace may be among the other fields that the map holds; own is the namespace that
// ##other leaves out.
func (f *Field) TakesElement(space, own string) bool { return takes(f.WireFormat.Wildcard, space, own) }

// TakesAttribute is TakesElement for an attribute.
func (f *Field) TakesAttribute(space, own string) bool {
	return takes(f.WireFormat.AnyAttribute, space, own)
}

func takes(wildcard, space, own string) bool {
	switch wildcard {
	case "", "##any":
		return true
	case "##other":
		return space != "" && space != own
	}
	if space == "" {
		space = "##local"
	}
	return slices.Contains(strings.Fields(wildcard), space)
}

// OwnNamespace is the namespace of the message's outermost element.
func (s *Schema) OwnNamespace() string {
	prefix, _, prefixed := strings.Cut(s.Settings.RootName, ":")
	if !prefixed {
		prefix = ""
	}
	for _, ns := range s.Settings.Namespaces {
		if ns.Prefix == prefix {
			return ns.URI
		}
	}
	return ""
}

// Wildcards says whether a map of other fields takes those of some namespaces only.
func (s *Schema) Wildcards() (some bool) {
	s.Root.Walk(func(_ []string, f *Field) {
		some = some || f.Kind == value.MapKind && f.WireFormat.Wildcard+f.WireFormat.AnyAttribute != ""
	})
	return some
}

// RootElement is the element around a message in XML; where the schema names none, readers take any.
func (s *Schema) RootElement() string {
	if s.Settings.RootName != "" {
		return s.Settings.RootName
	}
	return "records"
}

// RecordElement is the element of one record of a message in XML; empty where the message is one record, and its root is it.
func (s *Schema) RecordElement() string {
	if s.Settings.RecordName == "" && s.Message.List() {
		return "record"
	}
	return s.Settings.RecordName
}
