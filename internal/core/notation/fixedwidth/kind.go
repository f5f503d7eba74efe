package fixedwidth

import (
	"slices"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// lineEnd is the setting without a lone CR, which no line of columns ends in.
var lineEnd = func() setting.Setting {
	s := schema.LineEndSetting
	s.Choices = s.Choices[:3]
	return s
}()

// Kind is fixed width: fields at fixed columns.
var Kind = notation.Kind{
	Notation: &schema.Notation{
		Name: "fixedwidth", Ending: "txt", Media: "text/plain", Family: "fixedwidth",
		Bytes: true, Lines: true, Columns: true,
		Settings: setting.List{
			schema.EncodingSetting, lineEnd, schema.CountSetting, schema.FirstSetting, schema.LastSetting, schema.CommentSetting,
			schema.StartsWithSetting, schema.MaxRecordSetting,
		},
		Field: func(s *schema.Schema, f *schema.Field) setting.List {
			return slices.Concat(schema.LineSettings(s, f), schema.ColumnSettings(f), schema.NumberSettings(f), schema.DateSettings(f))
		},
	},
	About:  "fields at fixed columns, one record a line",
	Reader: NewReader, Writer: NewWriter,
	Excerpt: notation.Excerpt{Raw: true},
}
