package json

import (
	"bytes"
	"encoding/json"

	"hollowreed/internal/core/value"
)

// Bytes is a value as JSON on one line, without a schema: its fields in their order, dates and times as ISO 8601 texts.
func Bytes(v value.Value) []byte { return (&Appender{}).Append(nil, v) }

// Text is Bytes as a text.
func Text(v value.Value) string { return string(Bytes(v)) }

// Indented is a value as JSON for people to read, indented by two spaces.
func Indented(v value.Value) string {
	raw := Bytes(v)
	var out bytes.Buffer
	if json.Indent(&out, raw, "", "  ") != nil {
		return string(raw)
	}
	return out.String()
}
