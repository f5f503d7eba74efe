// Package all is the table of notations. Adding a notation adds its folder and one row here.
package all

import (
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/delimited"
	"hollowreed/internal/core/notation/fixedwidth"
	"hollowreed/internal/core/notation/internal/charset"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/notation/xml"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Notations is the table.
var Notations = []notation.Notation{
	row("fixedwidth", "fields at fixed columns, one record a line", "text/plain", fixedwidth.NewReader, fixedwidth.NewWriter),
	row("csv", "comma separated values (RFC 4180)", "text/csv", delimited.NewReader, delimited.NewWriter),
	row("json", "JSON (RFC 8259)", "application/json", json.NewReader, json.NewWriter),
	row("ndjson", "one JSON value a line", "application/x-ndjson", json.NewLinesReader, json.NewLinesWriter),
	row("xml", "XML 1.0", "application/xml", xml.NewReader, xml.NewWriter),
}

// row makes a notation whose reader and writer are given the schema as it is for that notation.
func row(name, about, media string,
	read func(io.Reader, notation.Options) (notation.Reader, error), write func(io.Writer, notation.Options) (notation.Writer, error),
) notation.Notation {
	as := func(o notation.Options) notation.Options {
		if o.Schema != nil {
			o.Schema = o.Schema.As(name)
		}
		return o
	}
	return notation.Notation{
		Name: name, About: about, Media: media,
		NewReader: func(r io.Reader, o notation.Options) (notation.Reader, error) { return read(r, as(o)) },
		NewWriter: func(w io.Writer, o notation.Options) (notation.Writer, error) {
			o = as(o)
			out, err := write(w, o)
			if err != nil || o.Schema == nil || o.Schema.Settings.Missing.AsIs() {
				return out, err
			}
			return &expressing{Writer: out, schema: o.Schema}, nil
		},
	}
}

// Decode is the text of bytes in a schema's encoding; what is no text there is replaced (U+FFFD).
func Decode(s *schema.Schema, raw []byte) string {
	if c := charset.Of(s.Settings.Encoding); c != nil {
		if text, err := c.NewDecoder().Bytes(raw); err == nil {
			return string(text)
		}
	}
	return strings.ToValidUTF8(string(raw), "\uFFFD")
}

// expressing writes what has no value as the schema's settings say.
type expressing struct {
	notation.Writer
	schema *schema.Schema
}

func (e *expressing) Write(v value.Value) error {
	return e.Writer.Write(e.schema.Settings.Missing.Express(e.schema.Root, v))
}

// Names lists the notations.
func Names() []string {
	names := make([]string, len(Notations))
	for i, n := range Notations {
		names[i] = n.Name
	}
	return names
}

// Named finds a notation.
func Named(name string) (notation.Notation, error) {
	for _, n := range Notations {
		if n.Name == name {
			return n, nil
		}
	}
	return notation.Notation{}, fault.Expect(fault.Unknown, "one of "+strings.Join(Names(), ", "), fault.Quote(name)).In("notation")
}
