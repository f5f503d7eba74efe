// Package excerpt takes one record out of a message, as text that a person can mend, and makes of such a text a message of
// its own that is read as the record was.
package excerpt

import (
	"bytes"
	stdxml "encoding/xml"
	"errors"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
)

// MaxText is the most bytes of one record's text.
const MaxText = 1 << 20

// Frame is what stands around a record for it to be read by itself, in UTF-8.
type Frame struct {
	Before, After string
}

// Kept says whether readers of a schema give the text of each record, so that it is kept when it is set aside; of others
// it is found in the message.
func Kept(s *schema.Schema) bool {
	return s.Notation == "fixedwidth" || s.Notation == "csv" || s.Notation == "ndjson"
}

// FrameOf reads what stands around the records of a message: the header of a delimited one, the root element of an XML
// document.
func FrameOf(s *schema.Schema, message io.Reader) (Frame, error) {
	switch {
	case s.Notation == "csv" && s.Settings.Header:
		return header(s, message)
	case s.Notation == "xml" && s.Settings.RecordName != "":
		return around(message)
	}
	return Frame{}, nil
}

// header is the text before the first record.
func header(s *schema.Schema, message io.Reader) (Frame, error) {
	var begin bytes.Buffer
	n, err := all.Named("csv")
	if err != nil {
		return Frame{}, err
	}
	r, err := n.NewReader(io.TeeReader(message, &begin), notation.Options{Schema: s})
	if err != nil {
		return Frame{}, err
	}
	var faults fault.List
	if _, err := r.Next(); err != nil && !errors.As(err, &faults) {
		return Frame{}, err
	}
	at := min(int(r.Place().Byte), begin.Len())
	return Frame{Before: all.Decode(s, begin.Bytes()[:at])}, nil
}

// around is the root element, in which the records stand.
func around(message io.Reader) (Frame, error) {
	var begin bytes.Buffer
	dec := stdxml.NewDecoder(io.TeeReader(message, &begin))
	for {
		from := dec.InputOffset()
		t, err := dec.RawToken()
		if err != nil {
			return Frame{}, fault.New(fault.Syntax, "the root element cannot be found: %s", err)
		}
		root, ok := t.(stdxml.StartElement)
		if !ok {
			continue
		}
		name := root.Name.Local
		if root.Name.Space != "" {
			name = root.Name.Space + ":" + name
		}
		return Frame{Before: string(begin.Bytes()[from:dec.InputOffset()]), After: "</" + name + ">"}, nil
	}
}

// Text finds the text of a record in its message, by the byte at which it begins.
func Text(s *schema.Schema, message io.Reader, at int64) (string, error) {
	if _, err := io.CopyN(io.Discard, message, at); err != nil {
		return "", err
	}
	bounded := io.LimitReader(message, MaxText)
	switch s.Notation {
	case "json":
		return jsonText(bounded)
	case "xml":
		return xmlText(bounded)
	}
	return "", errors.ErrUnsupported
}

func jsonText(in io.Reader) (string, error) {
	var one [1]byte
	for { // the comma before it, and white space
		if _, err := io.ReadFull(in, one[:]); err != nil {
			return "", err
		}
		if !strings.ContainsRune(" \t\r\n,", rune(one[0])) {
			break
		}
	}
	dec := jsontext.NewDecoder(io.MultiReader(bytes.NewReader(one[:]), in), jsontext.AllowDuplicateNames(true))
	v, err := dec.ReadValue()
	if err != nil {
		return "", err
	}
	if err := v.Indent(jsontext.WithIndent("  ")); err != nil {
		return "", err
	}
	return string(v), nil
}

func xmlText(in io.Reader) (string, error) {
	var text bytes.Buffer
	dec := stdxml.NewDecoder(io.TeeReader(in, &text))
	for depth := 0; ; {
		t, err := dec.RawToken()
		if err != nil {
			return "", err
		}
		switch t.(type) {
		case stdxml.StartElement:
			depth++
		case stdxml.EndElement:
			if depth--; depth <= 0 {
				return string(text.Bytes()[:dec.InputOffset()]), nil
			}
		}
	}
}

// Message makes a message of a record's text, in UTF-8, and says in which notation it is to be read, and how many lines
// stand before the record. Lines that the schema passes over are empty ones.
func Message(s *schema.Schema, f Frame, text string) (content []byte, as string, before int, err error) {
	if s.Notation == "json" {
		content, err := Line(text)
		return content, "ndjson", 0, err
	}
	end := "\r\n"
	if s.Settings.LineEnd == "LF" || s.Notation == "xml" {
		end = "\n"
	}
	lines := s.Settings.Lines
	text = strings.ReplaceAll(strings.ReplaceAll(strings.TrimRight(text, "\r\n"), "\r\n", "\n"), "\n", end)
	head := f.Before
	if f.Before == "" || s.Notation == "xml" {
		head = strings.Repeat(end, lines.First) + head
	}
	out := head + text + end + f.After + strings.Repeat(end, lines.Last)
	return []byte(out), s.Notation, strings.Count(head, "\n"), nil
}

// Line makes one line of a JSON text.
func Line(text string) ([]byte, error) {
	v := jsontext.Value(text)
	if err := v.Compact(); err != nil {
		return nil, fault.New(fault.Syntax, "the text is no JSON: %s", err).Mended("Mend it, or take what stood there before")
	}
	return append([]byte(v), '\n'), nil
}
