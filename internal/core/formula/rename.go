package formula

import (
	"regexp"
	"strings"
)

// RenameName puts another name in place of one, or of a path of names, wherever a formula's text has it as a whole and outside of
// its quoted texts. One that begins with a point is a field of whatever stands before it.
func RenameName(source, from, to string) string {
	if !strings.Contains(source, from) {
		return source
	}
	before := `(^|[^\w.])`
	if strings.HasPrefix(from, ".") {
		before = `()`
	}
	re, err := regexp.Compile(before + regexp.QuoteMeta(from) + `\b`)
	if err != nil {
		return source
	}
	return OutsideTexts(source, func(code string) string {
		return re.ReplaceAllString(code, "${1}"+strings.ReplaceAll(to, "$", "$$"))
	})
}
