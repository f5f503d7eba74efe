package xml

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/core/xmltext"
)

// escape is a character as it stands in a name that may not have it, in the manner of ISO/IEC 9075-14 (SQL/XML, section 9.1): its
// code in hexadecimal digits between _x and _. That without digits stands for a name that is empty.
var escape = regexp.MustCompile(`_x([0-9A-F]{4,6})?_`)

// escapedName makes an XML name of any: characters that a name may not have are escaped, and what looks like an escape is.
func escapedName(name string) string {
	if name == "" {
		return "_x_"
	}
	if validName(name) && !strings.Contains(name, "_x") {
		return name
	}
	plain := strings.Count(name, ":") == 1 && name[0] != ':' && name[len(name)-1] != ':' // a prefix
	var b strings.Builder
	for i, r := range name {
		like := r == '_' && escape.FindStringIndex(name[i:]) != nil && escape.FindStringIndex(name[i:])[0] == 0
		if like || r == ':' && !plain || r != ':' && !xmltext.NameRune(r, i == 0 || plain && name[i-1] == ':') {
			fmt.Fprintf(&b, "_x%04X_", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// plainName is the inverse of escapedName; a name that it would not make stays as it is.
func plainName(name string) string {
	if !strings.Contains(name, "_x") {
		return name
	}
	plain := escape.ReplaceAllStringFunc(name, func(s string) string {
		code, err := strconv.ParseInt(s[2:len(s)-1], 16, 32)
		if err != nil { // no digits
			return ""
		}
		return string(rune(code))
	})
	if escapedName(plain) != name {
		return name
	}
	return plain
}
