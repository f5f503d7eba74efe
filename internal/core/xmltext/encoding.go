package xmltext

import (
	"bufio"
	"bytes"
	"io"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"

	"hollowreed/internal/core/fault"
)

// decode gives the document in UTF-8: by its byte order mark, or else by the encoding that its XML
// declaration names (XML 1.0, appendix F).
func decode(r io.Reader) (io.Reader, error) {
	in := bufio.NewReaderSize(r, 4096)
	head, _ := in.Peek(1024) // whatever there is of it
	switch {
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}), bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return utf16(in, head, unicode.UTF16(unicode.BigEndian, unicode.UseBOM))
	case bytes.HasPrefix(head, []byte{'<', 0, '?', 0}):
		return utf16(in, head, unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM))
	case bytes.HasPrefix(head, []byte{0, '<', 0, '?'}):
		return utf16(in, head, unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM))
	}
	head = bytes.TrimPrefix(head, []byte("\xef\xbb\xbf"))
	end := bytes.Index(head, []byte("?>"))
	if !bytes.HasPrefix(head, []byte("<?xml")) || end < 0 {
		return in, nil
	}
	label := quoted(string(head[:end]), "encoding")
	if label == "" || strings.EqualFold(label, "utf-8") || strings.EqualFold(label, "us-ascii") {
		return in, nil
	}
	e, err := htmlindex.Get(label)
	if err != nil {
		return nil, fault.Expect(fault.Encoding, "an encoding that is known", fault.Quote(label))
	}
	if name, _ := htmlindex.Name(e); strings.HasPrefix(name, "utf-16") {
		return nil, fault.New(fault.Encoding, "the document says that it is %s, and is not", label)
	}
	return e.NewDecoder().Reader(in), nil
}

// utf16 gives a document in UTF-16, which must not say that it is in another encoding (XML 1.0, section 4.3.3).
func utf16(in io.Reader, head []byte, as encoding.Encoding) (io.Reader, error) {
	text, _ := as.NewDecoder().Bytes(head[:len(head)&^1]) // what cannot be read is told by the reader
	if end := bytes.Index(text, []byte("?>")); end > 0 && bytes.HasPrefix(text, []byte("<?xml")) {
		label := strings.ToLower(quoted(string(text[:end]), "encoding"))
		if label != "" && !strings.HasPrefix(label, "utf-16") && label != "iso-10646-ucs-2" && label != "ucs-2" {
			return nil, fault.New(fault.Encoding, "the document says that it is %s, and is UTF-16", label).WithFix("Have its declaration say UTF-16, or nothing of the encoding")
		}
	}
	return as.NewDecoder().Reader(in), nil
}

// quoted is the value of name="value" in a declaration; empty when there is none.
func quoted(s, name string) string {
	_, s, ok := strings.Cut(s, name)
	s = strings.TrimLeft(s, " \t\r\n")
	if !ok || !strings.HasPrefix(s, "=") {
		return ""
	}
	s = strings.TrimLeft(s[1:], " \t\r\n")
	if s == "" || s[0] != '"' && s[0] != '\'' {
		return ""
	}
	value, _, _ := strings.Cut(s[1:], s[:1])
	return value
}
