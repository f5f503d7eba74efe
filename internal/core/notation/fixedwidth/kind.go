package fixedwidth

import (
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
)

// Kind is fixed width: fields at fixed columns.
var Kind = notation.Kind{
	Notation: &schema.Notation{
		Name: "fixedwidth", Ending: "txt", Media: "text/plain", Family: "fixedwidth",
		Bytes: true, Lines: true, Columns: true,
	},
	About:  "fields at fixed columns, one record a line",
	Reader: NewReader, Writer: NewWriter,
	Excerpt: notation.Excerpt{Raw: true},
}
