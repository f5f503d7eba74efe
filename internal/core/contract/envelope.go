package contract

import (
	"bytes"
	"encoding/xml"
	"io"

	"hollowreed/internal/core/fault"
)

// Envelope is where the parts of a SOAP envelope stand in its text, and the user name token in it (WS-Security UsernameToken Profile
// 1.0, section 3.1).
type Envelope struct {
	text               []byte
	prefix             string // of the envelope's own elements, with the colon
	head, headEnd      int    // behind the start of Header, and before its end; 0: there is none
	body               int    // before the start of Body
	security, after    int    // of the Security header; 0: there is none
	User, Password     string
	PasswordType       string // the end of its URI: PasswordText or PasswordDigest; empty: as it is
	empty              bool   // Header is written as one tag
	headStart, headTag int
}

// securityNS is the namespace of the Security header (WS-Security 1.0).
const securityNS = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"

// ReadEnvelope finds the parts of an envelope. It has no document type declaration (SOAP 1.1, section 3).
func ReadEnvelope(text []byte) (*Envelope, error) {
	e := &Envelope{text: text}
	d := xml.NewDecoder(bytes.NewReader(text))
	var path []xml.Name
	for {
		from := int(d.InputOffset())
		t, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fault.New(fault.Syntax, "the envelope cannot be read: %s", err)
		}
		switch t := t.(type) {
		case xml.Directive:
			return nil, fault.New(fault.Syntax, "an envelope has no document type declaration")
		case xml.StartElement:
			path = append(path, t.Name)
			e.start(path, t, from, int(d.InputOffset()))
		case xml.EndElement:
			if len(path) == 0 || path[len(path)-1] != t.Name {
				return nil, fault.New(fault.Syntax, "the envelope cannot be read: </%s> ends nothing", t.Name.Local)
			}
			e.end(path, from, int(d.InputOffset()))
			path = path[:len(path)-1]
		case xml.CharData:
			e.chars(path, t)
		}
	}
	if e.body == 0 || len(path) > 0 {
		return nil, fault.New(fault.Syntax, "this is no SOAP envelope: it has no Body")
	}
	return e, nil
}

// within says whether a path is that of an element below the envelope, by local names.
func within(path []xml.Name, names ...string) bool {
	if len(path) != len(names)+1 || path[0].Local != "Envelope" {
		return false
	}
	for i, n := range names {
		if path[i+1].Local != n {
			return false
		}
	}
	return true
}

func (e *Envelope) start(path []xml.Name, t xml.StartElement, from, to int) {
	switch {
	case len(path) == 1 && t.Name.Space != "":
		e.prefix = t.Name.Space + ":"
	case within(path, "Header") && e.head == 0:
		e.headStart, e.head = from, to
	case within(path, "Body") && e.body == 0:
		e.body = from
	case within(path, "Header", "Security") && e.security == 0:
		e.security = from
	case within(path, "Header", "Security", "UsernameToken", "Password"):
		for _, a := range t.Attr {
			if a.Name.Local == "Type" {
				e.PasswordType = a.Value[bytes.LastIndexByte([]byte(a.Value), '#')+1:]
			}
		}
	}
}

func (e *Envelope) end(path []xml.Name, from, to int) {
	switch {
	case within(path, "Header") && e.headEnd == 0:
		e.headEnd, e.empty, e.headTag = from, from == to, to
	case within(path, "Header", "Security") && e.after == 0:
		e.after = to
	}
}

func (e *Envelope) chars(path []xml.Name, t xml.CharData) {
	switch {
	case within(path, "Header", "Security", "UsernameToken", "Username"):
		e.User += string(t)
	case within(path, "Header", "Security", "UsernameToken", "Password"):
		e.Password += string(t)
	}
}

// WithSecurity is the envelope with another Security header in place of the one that it has; an empty one takes it out. All else stays
// byte for byte.
func (e *Envelope) WithSecurity(header []byte) []byte {
	join := func(pieces ...[]byte) []byte { return bytes.Join(pieces, nil) }
	switch {
	case e.security > 0:
		return join(e.text[:e.security], header, e.text[e.after:])
	case len(header) == 0:
		return e.text
	case e.head == 0:
		return join(e.text[:e.body], []byte("<"+e.prefix+"Header>"), header, []byte("</"+e.prefix+"Header>"), e.text[e.body:])
	case e.empty:
		tag := bytes.TrimRight(bytes.TrimSuffix(e.text[e.headStart:e.head], []byte("/>")), " \t\r\n")
		return join(e.text[:e.headStart], tag, []byte(">"), header, []byte("</"+e.prefix+"Header>"), e.text[e.head:])
	}
	return join(e.text[:e.head], header, e.text[e.head:])
}
