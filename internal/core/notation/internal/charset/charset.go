// Package charset is how the texts of notations are written as bytes where that is not UTF-8.
package charset

import (
	"strings"

	"golang.org/x/text/encoding/charmap"

	"hollowreed/internal/core/fault"
)

// maps are the encodings that a schema can name beside UTF-8.
var maps = map[string]*charmap.Charmap{"ISO-8859-1": charmap.ISO8859_1, "windows-1252": charmap.Windows1252}

// Of is an encoding by its name; nil for UTF-8.
func Of(name string) *charmap.Charmap { return maps[name] }

// Decode is the text of bytes in an encoding; what is no text there is replaced (U+FFFD).
func Decode(name string, raw []byte) string {
	if c := Of(name); c != nil {
		if text, err := c.NewDecoder().Bytes(raw); err == nil {
			return string(text)
		}
	}
	return strings.ToValidUTF8(string(raw), "\uFFFD")
}

// Append appends a text in an encoding; nil is UTF-8. A character that the encoding does not have is a fault.
func Append(dst []byte, c *charmap.Charmap, text []byte) ([]byte, *fault.Fault) {
	if c == nil {
		return append(dst, text...), nil
	}
	for _, r := range string(text) {
		b, ok := c.EncodeRune(r)
		if !ok {
			return dst, fault.Expect(fault.Encoding, "characters of "+c.String(), fault.Quote(string(r)))
		}
		dst = append(dst, b)
	}
	return dst, nil
}
