// Package all is the list of notations. Adding a notation adds its folder and one line here.
package all

import (
	"path"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/delimited"
	"hollowreed/internal/core/notation/fixedwidth"
	"hollowreed/internal/core/notation/internal/charset"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/schema"
)

// Kinds is the list.
var Kinds = registered(
	&fixedwidth.Kind,
	&delimited.Kind,
	&json.Kind,
	&json.LinesKind,
	&xml.Kind,
)

// rowsAs is how rows of a database are written where they must have bytes: null and numbers stay what they are.
var rowsAs = &json.LinesKind

func registered(kinds ...*notation.Kind) []*notation.Kind {
	for _, k := range kinds {
		schema.Register(k.Notation)
	}
	return kinds
}

// Decode is the text of bytes in a schema's encoding; what is no text there is replaced (U+FFFD).
func Decode(s *schema.Schema, raw []byte) string {
	return charset.Decode(s.Settings.Encoding, raw)
}

// Names lists the notations.
func Names() []string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = k.Name
	}
	return names
}

// Named finds a notation by its name.
func Named(name string) (*notation.Kind, error) {
	for _, k := range Kinds {
		if k.Name == name {
			return k, nil
		}
	}
	return nil, fault.Expect(fault.Unknown, "one of "+strings.Join(Names(), ", "), fault.Quote(name)).InField("notation")
}

// Of is the notation in which messages of a schema are written where they are bytes.
func Of(s *schema.Schema) *notation.Kind {
	if i := slices.IndexFunc(Kinds, func(k *notation.Kind) bool { return k.Notation == s.Notation }); i >= 0 {
		return Kinds[i]
	}
	return rowsAs
}

// OfMedia finds a notation by a media type without parameters, or by its suffix (RFC 6838, section 4.2.8).
func OfMedia(media string) (*notation.Kind, bool) {
	for _, k := range Kinds {
		if media == k.Media || k.Suffix != "" && (strings.HasSuffix(media, k.Suffix) || strings.HasSuffix(media, "/"+k.Suffix[1:])) {
			return k, true
		}
	}
	return nil, false
}

// OfFile is the notation in which a file with messages of a schema is written: the schema's own, or, for rows, the one that
// the ending of the file's name tells.
func OfFile(name string, s *schema.Schema) (*notation.Kind, error) {
	if s.Notation.Bytes {
		return Of(s), nil
	}
	return Named(strings.TrimPrefix(path.Ext(name), "."))
}
