package xmltext

import (
	"strconv"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
)

// piece is how long a text may be before it is given in pieces.
const piece = 64 << 10

// plain are the bytes that stand for themselves in any text.
var plain = func() (t [256]bool) {
	for c := ' '; c < 0x7f; c++ {
		t[c] = true
	}
	t['\t'], t['\n'], t[0x7f] = true, true, true
	t['&'], t['<'], t[']'] = false, false, false
	return t
}()

// text reads a piece of text. It is not done where white space outside of the root was passed over.
func (r *Reader) text() (done bool, err error) {
	for {
		s := r.src.Text[r.at:]
		n := strings.IndexByte(s, '<')
		if n < 0 {
			if len(s) < piece && r.more() {
				continue
			}
			s = r.src.Text[r.at:]
			if n = strings.IndexByte(s, '<'); n < 0 {
				n = len(s)
				if n >= piece {
					n = whole(s)
				}
			}
		}
		if n == 0 {
			return false, nil
		}
		raw := s[:n]
		if len(r.open) == 0 {
			if at := spaces(raw, 0); at < len(raw) {
				return false, r.outside(r.Begin + int64(at))
			}
			r.took(n)
			return false, nil
		}
		if r.Text, err = r.clean(raw, r.Begin, true); err != nil {
			return false, err
		}
		r.took(n)
		return true, nil
	}
}

func (r *Reader) outside(offset int64) error {
	if r.root {
		return behind().At(r.place(offset))
	}
	return fault.New(fault.Syntax, "text stands before the root element").At(r.place(offset))
}

func behind() *fault.Fault {
	return fault.New(fault.Syntax, "something stands behind the root element")
}

// whole is where a long text can be cut: not inside of a character, a reference or a line end.
func whole(s string) int {
	const tail = maxEntity + 3
	n := len(s) - tail
	for n > piece/2 && (!utf8.RuneStart(s[n]) || s[n-1] == '\r' || s[n-1] == ']') {
		n--
	}
	if amp := strings.LastIndexByte(s[n-tail:n], '&'); amp >= 0 && !strings.Contains(s[n-tail+amp:n], ";") {
		n = n - tail + amp
	}
	return n
}

// clean checks the characters of a text and resolves line ends and, where there are some,
// references (XML 1.0, sections 2.2, 2.11 and 4.1). Text that needs no change is not copied.
func (r *Reader) clean(s string, offset int64, references bool) (string, error) {
	for i := 0; i < len(s); i++ {
		if !plain[s[i]] {
			return r.resolve(s, i, offset, references)
		}
	}
	return s, nil
}

func (r *Reader) resolve(s string, from int, offset int64, references bool) (string, error) {
	var b strings.Builder
	done := 0 // what is in b
	for i := from; i < len(s); {
		switch c := s[i]; {
		case plain[c], c == '<' && !references:
			i++
		case c == ']':
			if references && strings.HasPrefix(s[i:], "]]>") {
				return "", r.notXML(offset+int64(i), "]]> cannot stand in a text")
			}
			i++
		case c == '&' && !references:
			i++
		case c == '&':
			to, n, err := r.reference(s[i:], offset+int64(i))
			if err != nil {
				return "", err
			}
			b.WriteString(s[done:i] + to)
			i += n
			done = i
		case c == '\r':
			b.WriteString(s[done:i] + "\n")
			if i++; i < len(s) && s[i] == '\n' {
				i++
			}
			done = i
		default:
			n, err := r.character(s[i:], offset+int64(i))
			if err != nil {
				return "", err
			}
			i += n
		}
	}
	if done == 0 {
		return s, nil
	}
	b.WriteString(s[done:])
	return b.String(), nil
}

// character checks one that is not ASCII, or a control character.
func (r *Reader) character(s string, offset int64) (int, error) {
	c, n := utf8.DecodeRuneInString(s)
	if c == utf8.RuneError && n == 1 {
		return 0, fault.Expect(fault.Encoding, "UTF-8 text", "the byte "+strings.ToUpper(strconv.FormatUint(uint64(s[0]), 16))).At(r.place(offset))
	}
	if !isChar(c) {
		return 0, r.notXML(offset, "the character %U cannot stand in it", c)
	}
	return n, nil
}

// isChar says whether a character can stand in XML 1.0 (section 2.2).
func isChar(c rune) bool {
	return c == '\t' || c == '\n' || c == '\r' || c >= 0x20 && c <= 0xd7ff || c >= 0xe000 && c <= 0xfffd || c >= 0x10000 && c <= 0x10ffff
}

var entities = map[string]string{"lt": "<", "gt": ">", "amp": "&", "apos": "'", "quot": `"`}

// reference resolves &lt; or &#65; and gives how long it is.
func (r *Reader) reference(s string, offset int64) (to string, n int, err error) {
	end := strings.IndexByte(s[:min(len(s), maxEntity+3)], ';')
	if end < 0 {
		return "", 0, r.notXML(offset, "& begins a reference, which ends in ;").WithFix("Write &amp; for the sign itself")
	}
	to, err = r.referenced(s[:end+1], offset, nil)
	return to, end + 1, err
}

// referenced is what a whole reference stands for, inside of the entities around.
func (r *Reader) referenced(ref string, offset int64, around []string) (string, error) {
	if strings.HasPrefix(ref, "&#") {
		to, _, err := r.characterReference(ref, offset)
		return to, err
	}
	name := ref[1 : len(ref)-1]
	if n, err := r.nameEnd(ref[1:], 0); err != nil || n != len(name) || n == 0 {
		return "", r.notXML(offset, "& begins a reference, which ends in ;").WithFix("Write &amp; for the sign itself")
	}
	return r.expanded(name, offset, around)
}

// characterReference resolves &#65; or &#x41;.
func (r *Reader) characterReference(ref string, offset int64) (to string, n int, err error) {
	digits, base := ref[2:len(ref)-1], 10
	if hex, ok := strings.CutPrefix(digits, "x"); ok {
		digits, base = hex, 16
	}
	c, failed := strconv.ParseUint(digits, base, 32)
	if failed != nil || strings.HasPrefix(digits, "+") || !isChar(rune(c)) || c > utf8.MaxRune {
		return "", 0, r.notXML(offset, "%s is no character that can stand in it", ref)
	}
	return string(rune(c)), len(ref), nil
}

// attrValue resolves the value of an attribute: white space becomes spaces.
func (r *Reader) attrValue(s string, offset int64) (string, error) {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if plain[c] && c != '\t' && c != '\n' {
			continue
		}
		if c == '<' {
			return "", r.notXML(offset+int64(i), "< cannot stand in the value of an attribute")
		}
		return r.attrResolved(s, offset)
	}
	return s, nil
}

// attrResolved normalizes white space that is written as such, before references bring in more
// (XML 1.0, section 3.3.3).
func (r *Reader) attrResolved(s string, offset int64) (string, error) {
	if at := strings.IndexByte(s, '<'); at >= 0 {
		return "", r.notXML(offset+int64(at), "< cannot stand in the value of an attribute")
	}
	if strings.ContainsAny(s, "\t\n\r") {
		var b strings.Builder
		for i := 0; i < len(s); i++ {
			switch c := s[i]; {
			case c == '\r' && i+1 < len(s) && s[i+1] == '\n':
			case isSpace(c):
				b.WriteByte(' ')
			default:
				b.WriteByte(c)
			}
		}
		s = b.String()
	}
	if strings.Contains(s, "]]>") { // which may stand in a value
		parts := strings.Split(s, "]]>")
		for i, p := range parts {
			clean, err := r.clean(p, offset, true)
			if err != nil {
				return "", err
			}
			parts[i] = clean
		}
		return strings.Join(parts, "]]>"), nil
	}
	return r.clean(s, offset, true)
}
