package xmltext

import (
	"encoding/xml"
	"errors"
	"regexp"
	"strings"

	"hollowreed/internal/core/fault"
)

// errMore asks for more text: the markup does not end in what is there.
var errMore = errors.New("more")

// markup reads what begins with "<". The kind is 0 for what is passed over.
func (r *Reader) markup() (Kind, error) {
	for {
		k, err := r.tryMarkup(r.src.Text[r.at:])
		if err != errMore {
			return k, err
		}
		most := maxTag
		if n := r.src.Text[r.at:]; len(n) > 1 && n[1] == '!' {
			most = r.o.MaxToken
		}
		switch {
		case len(r.src.Text)-r.at > most:
			return 0, fault.New(fault.Limit, "a tag, a comment or a CDATA section is longer than %d bytes", most).At(r.place(r.Begin))
		case !r.more():
			return 0, r.broken()
		}
	}
}

// broken is the fault of a document that ends inside of markup.
func (r *Reader) broken() error {
	if err := r.src.Err(); err != nil {
		return fault.New(fault.Outside, "the input cannot be read on: %s", err).At(r.place(r.Begin))
	}
	return r.notXML(r.Begin, "the document ends inside of a tag")
}

func (r *Reader) tryMarkup(s string) (Kind, error) {
	if len(s) < 2 {
		return 0, errMore
	}
	switch s[1] {
	case '/':
		return r.endTag(s)
	case '!':
		return r.declaration(s)
	case '?':
		return 0, r.instruction(s)
	}
	return r.startTag(s)
}

// took moves behind n bytes.
func (r *Reader) took(n int) {
	r.at += n
	r.End = r.src.Off + int64(r.at)
}

func (r *Reader) endTag(s string) (Kind, error) {
	if len(r.open) > 0 { // the usual case: it closes the newest element, without white space
		raw := r.open[len(r.open)-1].name.raw
		if len(s) > len(raw)+2 && s[2:2+len(raw)] == raw && s[2+len(raw)] == '>' {
			r.took(len(raw) + 3)
			return r.end()
		}
	}
	n, err := r.nameEnd(s, 2)
	if err != nil {
		return 0, err
	}
	i := spaces(s, n)
	switch {
	case i == len(s):
		return 0, errMore
	case n == 2 || s[i] != '>':
		return 0, r.notXML(r.Begin+int64(i), "a tag that ends here was expected")
	case len(r.open) == 0:
		return 0, fault.New(fault.Syntax, "</%s> closes nothing", s[2:n]).At(r.place(r.Begin))
	case r.open[len(r.open)-1].name.raw != s[2:n]:
		return 0, fault.Expect(fault.Syntax, "</"+r.open[len(r.open)-1].name.raw+">", "</"+s[2:n]+">").At(r.place(r.Begin))
	}
	r.took(i + 1)
	return r.end()
}

func (r *Reader) startTag(s string) (Kind, error) {
	n, err := r.nameEnd(s, 1)
	if err != nil {
		return 0, err
	}
	if n == 1 {
		return 0, r.notXML(r.Begin+1, "a name was expected behind <")
	}
	r.Attrs = r.Attrs[:0]
	i := n
	for {
		gap := spaces(s, i)
		if gap == len(s) {
			return 0, errMore
		}
		if s[gap] == '>' {
			i = gap + 1
			r.empty = false
			break
		}
		if s[gap] == '/' {
			if gap+1 == len(s) {
				return 0, errMore
			}
			if s[gap+1] != '>' {
				return 0, r.notXML(r.Begin+int64(gap), "> was expected behind /")
			}
			i, r.empty = gap+2, true
			break
		}
		if gap == i {
			return 0, r.notXML(r.Begin+int64(i), "white space was expected before an attribute")
		}
		if i, err = r.attribute(s, gap); err != nil {
			r.empty = false
			return 0, err
		}
	}
	r.defaulted(s[1:n])
	if err := r.push(s[1:n]); err != nil {
		return 0, err
	}
	r.took(i)
	return Start, nil
}

// maxAttrs bounds the attributes of one element.
const maxAttrs = 10_000

// attribute reads one attribute and gives where it ends.
func (r *Reader) attribute(s string, at int) (int, error) {
	n, err := r.nameEnd(s, at)
	if err != nil {
		return 0, err
	}
	if n == at {
		return 0, r.notXML(r.Begin+int64(at), "the name of an attribute was expected")
	}
	eq := spaces(s, n)
	if eq == len(s) {
		return 0, errMore
	}
	if s[eq] != '=' {
		return 0, r.notXML(r.Begin+int64(eq), "the attribute %s has no value", s[at:n])
	}
	q := spaces(s, eq+1)
	if q == len(s) {
		return 0, errMore
	}
	if s[q] != '"' && s[q] != '\'' {
		return 0, r.notXML(r.Begin+int64(q), "the value of %s must stand in quotes", s[at:n])
	}
	end := strings.IndexByte(s[q+1:], s[q])
	if end < 0 {
		return 0, errMore
	}
	value, err := r.attrValue(s[q+1:q+1+end], r.Begin+int64(q+1))
	if err != nil {
		return 0, err
	}
	name := r.known(s[at:n])
	if len(r.Attrs) == maxAttrs {
		return 0, fault.New(fault.Limit, "an element has more than %d attributes", maxAttrs).At(r.place(r.Begin))
	}
	r.Attrs = append(r.Attrs, Attr{Name: xml.Name{Local: name.local}, Raw: name.raw, Value: value, At: r.Begin + int64(q+1), name: name})
	return q + end + 2, nil
}

// declaration reads what begins with "<!".
func (r *Reader) declaration(s string) (Kind, error) {
	const cdata = "<![CDATA["
	switch {
	case strings.HasPrefix(s, "<!--"):
		return 0, r.comment(s)
	case strings.HasPrefix(s, cdata):
		end := strings.Index(s, "]]>")
		if end < 0 {
			return 0, errMore
		}
		text := s[len(cdata):end]
		if len(r.open) == 0 {
			return 0, r.outside(r.Begin)
		}
		clean, err := r.clean(text, r.Begin+int64(len(cdata)), false)
		if err != nil {
			return 0, err
		}
		r.Text = clean
		r.took(end + 3)
		return Text, nil
	case len(s) < len(cdata) && (strings.HasPrefix(cdata, s) || strings.HasPrefix("<!--", s)):
		return 0, errMore
	case len(s) < len("<!DOCTYPE") && strings.HasPrefix("<!DOCTYPE", s):
		return 0, errMore
	case strings.HasPrefix(s, "<!DOCTYPE"):
		n, err := r.declared(s)
		if err == nil {
			r.took(n)
		}
		return 0, err
	}
	return 0, r.notXML(r.Begin, "this declaration cannot stand here")
}

// comment passes over a comment, piece by piece if it is long.
func (r *Reader) comment(s string) error {
	end := strings.Index(s[4:], "--")
	if end < 0 || end+7 > len(s) {
		return errMore
	}
	if s[4+end+2] != '>' {
		return r.notXML(r.Begin+int64(end+4), "-- cannot stand inside of a comment")
	}
	if _, err := r.clean(s[4:4+end], r.Begin+4, false); err != nil {
		return err
	}
	r.took(end + 7)
	return nil
}

// xmlDeclaration is the XML declaration (XML 1.0 fifth edition, section 2.8).
var xmlDeclaration = regexp.MustCompile(`^<\?xml[ \t\r\n]+version[ \t\r\n]*=[ \t\r\n]*("1\.[0-9]+"|'1\.[0-9]+')([ \t\r\n]+encoding[ \t\r\n]*=[ \t\r\n]*("[A-Za-z][A-Za-z0-9._-]*"|'[A-Za-z][A-Za-z0-9._-]*'))?([ \t\r\n]+standalone[ \t\r\n]*=[ \t\r\n]*("(yes|no)"|'(yes|no)'))?[ \t\r\n]*\?>$`)

// instruction passes over a processing instruction, or the XML declaration at the very beginning.
func (r *Reader) instruction(s string) error {
	end := strings.Index(s, "?>")
	if end < 0 {
		return errMore
	}
	n, err := r.nameEnd(s, 2)
	if err != nil {
		return err
	}
	target := s[2:n]
	switch {
	case target == "":
		return r.notXML(r.Begin, "a processing instruction has a name")
	case n < end && !isSpace(s[n]):
		return r.notXML(r.Begin+int64(n), "white space was expected")
	case target == "xml" && r.Begin != r.first:
		return r.notXML(r.Begin, "the XML declaration stands at the beginning only")
	case target != "xml" && strings.EqualFold(target, "xml"):
		return r.notXML(r.Begin, "the name %s is reserved", target)
	case target == "xml" && !xmlDeclaration.MatchString(s[:end+2]):
		return fault.Expect(fault.Syntax, `an XML declaration, as <?xml version="1.0" encoding="UTF-8"?>`, fault.Quote(s[:end+2])).At(r.place(r.Begin))
	case r.o.Namespaces && strings.Contains(target, ":"):
		return r.notXML(r.Begin, "the name %s of a processing instruction has no colon", target)
	}
	if _, err := r.clean(s[n:end], r.Begin+int64(n), false); err != nil {
		return err
	}
	r.took(end + 2)
	return nil
}

// spaces is the first place at or behind i that is no white space.
func spaces(s string, i int) int {
	for i < len(s) && isSpace(s[i]) {
		i++
	}
	return i
}

func isSpace(c byte) bool { return c == ' ' || c == '\n' || c == '\t' || c == '\r' }
