package delimited

import (
	"bytes"
	"errors"
	"io"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/internal/charset"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// Kind is comma separated values (RFC 4180), and their like with other delimiters.
var Kind = notation.Kind{
	Notation: &schema.Notation{
		Name: "csv", Ending: "csv", Media: "text/csv", Family: "csv",
		Bytes: true, Lines: true, Cells: true,
		Settings: setting.List{
			schema.EncodingSetting, schema.LineEndSetting, schema.FirstSetting, schema.CommentSetting, schema.StartsWithSetting, schema.MaxRecordSetting,
			schema.HeaderSetting, schema.DelimiterSetting, schema.QuoteSetting, schema.EscapeSetting, schema.BlankSetting, schema.StraySetting, schema.OthersSetting,
		},
		Field: func(s *schema.Schema, f *schema.Field) setting.List {
			return slices.Concat(schema.LineSettings(s, f), schema.NumberSettings(f), schema.DateSettings(f))
		},
	},
	About:  "comma separated values (RFC 4180)",
	Reader: NewReader, Writer: NewWriter,
	Excerpt: notation.Excerpt{
		Raw: true, Frame: header,
		Framed: func(s *schema.Schema) bool { return s.Settings.Header },
	},
}

// header is the text before the first record.
func header(s *schema.Schema, message io.Reader) (notation.Frame, error) {
	var begin bytes.Buffer
	r, err := NewReader(io.TeeReader(message, &begin), notation.Options{Schema: s})
	if err != nil {
		return notation.Frame{}, err
	}
	var faults fault.List
	if _, err := r.Next(); err != nil && !errors.As(err, &faults) {
		return notation.Frame{}, err
	}
	at := min(int(r.Place().Byte), begin.Len())
	return notation.Frame{Before: charset.Decode(s.Settings.Encoding, begin.Bytes()[:at])}, nil
}
