package xml

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/xmltext"
)

// Names that XML does not allow are escaped in the manner of ISO/IEC 9075-14 (SQL/XML, section 9.1): a character that a name may not have
// stands as its code in hexadecimal digits between _x and _. That without digits is the name that is empty. Nothing else is an escape, so
// that all names come back as they were, and all names in XML but those with an escaped colon where one would be a prefix's.
var escape = regexp.MustCompile(`^_x([0-9A-F]{4,6})_`)

const emptyName = "_x_"

// escaped reads the escape with which a text begins; false where it begins with none. First says that the text begins a name.
func escaped(text string, first bool) (r rune, width int, ok bool) {
	m := escape.FindStringSubmatch(text)
	if m == nil {
		return 0, 0, false
	}
	code, err := strconv.ParseInt(m[1], 16, 32)
	if r = rune(code); err != nil || !utf8.ValidRune(r) || fmt.Sprintf("%04X", r) != m[1] {
		return 0, 0, false
	}
	if r == '_' {
		_, _, ok = escaped("_"+text[len(m[0]):], first)
		return r, len(m[0]), ok || first && "_"+text[len(m[0]):] == emptyName
	}
	return r, len(m[0]), !xmltext.NameRune(r, first)
}

// prefixed says whether a name has a prefix, and a part behind it.
func prefixed(name string) bool {
	return strings.Count(name, ":") == 1 && name[0] != ':' && name[len(name)-1] != ':'
}

// escapedName makes an XML name of any.
func escapedName(name string) string {
	switch {
	case name == "":
		return emptyName
	case name == emptyName:
		return "_x005F_x_"
	case xmltext.ValidName(name) && !strings.Contains(name, "_x"):
		return name
	}
	prefix, out := prefixed(name), ""
	for end := len(name); end > 0; { // from behind: what follows a _ tells whether it would be an escape
		r, width := utf8.DecodeLastRuneInString(name[:end])
		end -= width
		first := end == 0 || prefix && name[end-1] == ':'
		_, _, like := escaped(string(r)+out, first)
		if like || r == ':' && !prefix || r != ':' && !xmltext.NameRune(r, first) {
			out = fmt.Sprintf("_x%04X_", r) + out
			continue
		}
		out = string(r) + out
	}
	return out
}

// plainName is the inverse of escapedName.
func plainName(name string) string {
	switch {
	case !strings.Contains(name, "_x"):
		return name
	case name == emptyName:
		return ""
	}
	var b strings.Builder
	colons := 0
	for i := 0; i < len(name); {
		first := i == 0 || name[i-1] == ':'
		r, width, ok := escaped(name[i:], first)
		if !ok {
			r, width = utf8.DecodeRuneInString(name[i:])
		} else if r == ':' {
			colons++
		}
		b.WriteRune(r)
		i += width
	}
	plain := b.String()
	if colons > 0 && (prefixed(plain) || strings.Count(plain, ":") != colons) || escapedName(plain) != name {
		return name
	}
	return plain
}
