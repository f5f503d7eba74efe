// Package excerpt takes one record out of a message, as text that a person can change, and makes of such a text a message of
// its own that is read as the record was.
package excerpt

import (
	"errors"
	"io"
	"strings"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
)

// MaxText is the most bytes of one record's text.
const MaxText = 1 << 20

// of is how records are taken out of messages of a schema; those of a database are not.
func of(s *schema.Schema) notation.Excerpt {
	if !s.Notation.Bytes {
		return notation.Excerpt{}
	}
	return all.Of(s).Excerpt
}

// Kept says whether readers of a schema give the text of each record, so that it is kept when it is set aside; of others
// it is found in the message.
func Kept(s *schema.Schema) bool { return of(s).Raw }

// Framed says whether a record needs what stands around the records of its message to be read.
func Framed(s *schema.Schema) bool {
	framed := of(s).Framed
	return framed != nil && framed(s)
}

// FrameOf reads what stands around the records of a message: the header of a delimited one, the root element of an XML
// document.
func FrameOf(s *schema.Schema, message io.Reader) (notation.Frame, error) {
	if !Framed(s) {
		return notation.Frame{}, nil
	}
	return of(s).Frame(s, message)
}

// Text finds the text of a record in its message, by the byte at which it begins.
func Text(s *schema.Schema, message io.Reader, at int64) (string, error) {
	text := of(s).Text
	if text == nil {
		return "", errors.ErrUnsupported
	}
	if _, err := io.CopyN(io.Discard, message, at); err != nil {
		return "", err
	}
	return text(io.LimitReader(message, MaxText))
}

// Message makes a message of a record's text, in UTF-8, and says in which notation it is to be read, and how many lines
// stand before the record. Lines that the schema passes over are empty ones.
func Message(s *schema.Schema, f notation.Frame, text string) (content []byte, as *schema.Notation, before int, err error) {
	if alone := of(s).Alone; alone != nil {
		content, as, err = alone(text)
		return content, as, 0, err
	}
	end := "\r\n"
	if s.Settings.LineEnd == "LF" || !s.Notation.Lines {
		end = "\n"
	}
	lines := s.Settings.Lines
	text = strings.ReplaceAll(strings.ReplaceAll(strings.TrimRight(text, "\r\n"), "\r\n", "\n"), "\n", end)
	head := f.Before
	if f.Before == "" || !s.Notation.Lines {
		head = strings.Repeat(end, lines.First) + head
	}
	out := head + text + end + f.After + strings.Repeat(end, lines.Last)
	return []byte(out), s.Notation, strings.Count(head, "\n"), nil
}
