package mailbox

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"strings"
	"unicode/utf8"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // the encodings of golang.org/x/text
	"github.com/emersion/go-message/mail"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/value"
)

// What is told apart in one mail: what comes behind so many parts is left out of the letter, and parts that stand deeper inside of
// each other are attached as one. Each level reads all bytes inside of it once more.
const (
	maxParts = 1000
	maxDepth = 20
)

// letter is a mail as it is put together.
type letter struct {
	text, html  *string
	attachments []value.Value
	parts       int
}

// ReadMail reads a mail (RFC 5322, MIME) as a record of connection.Letter. A mail that is malformed gives what can be
// told of it: where not even its parts can, its whole text stands in text.
func ReadMail(raw []byte) value.Value {
	e, err := message.Read(bytes.NewReader(raw))
	if err != nil && !message.IsUnknownCharset(err) {
		return record(mail.Header{}, letter{text: plain(raw)}, len(raw))
	}
	var l letter
	if err := l.entity(e, 0); err != nil && l.parts == 0 {
		l.text = plain(raw)
	}
	return record(mail.Header{Header: e.Header}, l, len(raw))
}

// entity takes a mail, or a part of one, with the parts inside of it.
func (l *letter) entity(e *message.Entity, depth int) error {
	var parts message.MultipartReader
	if depth < maxDepth {
		parts = e.MultipartReader()
	}
	if parts == nil {
		l.part(e)
		return nil
	}
	for l.parts < maxParts {
		p, err := parts.NextPart()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil && !message.IsUnknownCharset(err):
			return err
		}
		if err := l.entity(p, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// part takes one part of a mail; one whose encoding is broken is taken as far as it can be read.
func (l *letter) part(p *message.Entity) {
	l.parts++
	content, _ := io.ReadAll(p.Body)
	kind, name := described(p.Header)
	switch {
	case name == "" && kind == "text/plain" && inline(p.Header):
		l.text = joined(l.text, plain(content))
	case name == "" && kind == "text/html" && inline(p.Header) && l.html == nil:
		l.html = plain(content)
	default:
		fields := []value.Value{value.NewText(name), value.NewText(kind), value.Bytes(string(content)), {}}
		if utf8.Valid(content) {
			fields[3] = value.NewText(string(content))
		}
		l.attachments = append(l.attachments, value.NewRecord(attachments, fields))
	}
}

var attachments = connection.IncomingMail.Root.Field("attachments").Layout()

// inline says whether a part is of the text: it is told to be, or is a text that is not told to be attached.
func inline(h message.Header) bool {
	kind, _, _ := h.ContentType()
	how, _, _ := h.ContentDisposition()
	return how == "inline" || how != "attachment" && strings.HasPrefix(kind, "text/")
}

// described gives the media type of a part and the name of its file.
func described(h message.Header) (kind, name string) {
	kind, params, err := h.ContentType()
	if err != nil || kind == "" {
		kind = "application/octet-stream"
	}
	name, err = (&mail.AttachmentHeader{Header: h}).Filename()
	if err != nil || name == "" {
		name = params["name"]
	}
	return kind, decoded(name)
}

// plain is a text with line feeds between its lines and nothing in it that is no UTF-8.
func plain(text []byte) *string {
	s := strings.ToValidUTF8(strings.ReplaceAll(string(text), "\r\n", "\n"), "\uFFFD")
	return &s
}

func joined(a, b *string) *string {
	if a == nil {
		return b
	}
	s := *a + "\n" + *b
	return &s
}

func record(h mail.Header, l letter, size int) value.Value {
	text := func(s *string) value.Value {
		if s == nil {
			return value.Value{}
		}
		return value.NewText(*s)
	}
	optional := func(s string) value.Value {
		if s == "" {
			return value.Value{}
		}
		return value.NewText(s)
	}
	id, _ := h.MessageID()
	sent := value.Value{}
	if at, err := h.Date(); err == nil && !at.IsZero() {
		sent = value.Instant(at.UTC())
	}
	answers := ""
	if list, err := h.MsgIDList("In-Reply-To"); err == nil && len(list) > 0 {
		answers = list[0]
	}
	subject, err := h.Subject()
	if err != nil {
		subject = decoded(h.Get("Subject"))
	}
	return value.NewRecord(connection.IncomingMail.Root.Layout(), []value.Value{
		value.NewText(id), value.NewText(strings.Join(people(h, "From"), ", ")), texts(people(h, "To")), texts(people(h, "Cc")),
		optional(strings.Join(people(h, "Reply-To"), ", ")), optional(answers), value.NewText(valid(subject)), sent,
		text(l.text), text(l.html), value.ListOf(l.attachments...), value.Int(int64(size)),
	})
}

// people are the addresses of a header field, as Mira Orrin <mira@skerry.example>; a field that is no list of addresses
// is given as it stands.
func people(h mail.Header, field string) []string {
	list, err := h.AddressList(field)
	if err != nil {
		return []string{decoded(h.Get(field))}
	}
	var out []string
	for _, a := range list {
		s := a.Address
		if a.Name != "" {
			s = a.Name + " <" + a.Address + ">"
		}
		out = append(out, valid(s))
	}
	return out
}

func texts(list []string) value.Value {
	items := make([]value.Value, len(list))
	for i, s := range list {
		items[i] = value.NewText(s)
	}
	return value.ListOf(items...)
}

// decoded is a header's text with its encoded words (RFC 2047) decoded, as far as they can be.
func decoded(s string) string {
	if d, err := new(mime.WordDecoder).DecodeHeader(s); err == nil {
		s = d
	}
	return valid(s)
}

func valid(s string) string { return strings.ToValidUTF8(s, "\uFFFD") }
