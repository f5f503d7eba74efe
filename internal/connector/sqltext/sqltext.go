// Package sqltext reads SQL statements just far enough to find their named parameters (:name) and to
// tell a query from a command, leaving quoted texts, quoted names, comments and casts (::) alone.
package sqltext

import (
	"regexp"
	"strings"
	"unicode"

	"hollowreed/internal/core/fault"
)

// Statement is a statement whose named parameters were numbered.
type Statement struct {
	Text  string
	Names []string // of the parameters in the order of their places
}

// Parse replaces named parameters by what mark gives for the number of each, from 1. Where once is
// true a name that stands there twice keeps its number, otherwise each place has its own.
func Parse(statement string, once bool, mark func(n int) string) (Statement, error) {
	var out strings.Builder
	var s Statement
	for i := 0; i < len(statement); {
		n := skip(statement[i:])
		if n == 0 && statement[i] == ':' {
			if name := nameAt(statement[i+1:]); name != "" {
				out.WriteString(mark(s.number(name, once)))
				i += 1 + len(name)
				continue
			}
		}
		if n < 0 {
			return s, fault.New(fault.Syntax, "a quote or a comment in the statement is not ended").At(fault.Place{Column: i + 1})
		}
		n = max(n, 1)
		out.WriteString(statement[i : i+n])
		i += n
	}
	s.Text = out.String()
	return s, nil
}

func (s *Statement) number(name string, once bool) int {
	for i, n := range s.Names {
		if n == name && once {
			return i + 1
		}
	}
	s.Names = append(s.Names, name)
	return len(s.Names)
}

// skip gives the length of what begins here and holds no parameters: a quoted text or name, a comment,
// a cast. 0 is none of them, -1 one that does not end.
func skip(s string) int {
	switch {
	case s[0] == '\'' || s[0] == '"' || s[0] == '`':
		return quoted(s)
	case strings.HasPrefix(s, "--"):
		if end := strings.IndexByte(s, '\n'); end >= 0 {
			return end + 1
		}
		return len(s)
	case strings.HasPrefix(s, "/*"):
		return upTo(s, "*/", 2)
	case strings.HasPrefix(s, "::"), strings.HasPrefix(s, ":="):
		return 2
	case s[0] == '$':
		return dollar(s)
	}
	return 0
}

func quoted(s string) int {
	for i := 1; i < len(s); i++ {
		if s[i] == s[0] {
			return i + 1 // a doubled quote begins the next quoted text
		}
	}
	return -1
}

// dollar is a dollar-quoted text of PostgreSQL ($tag$ … $tag$).
func dollar(s string) int {
	end := strings.IndexByte(s[1:], '$')
	if end < 0 || strings.IndexFunc(s[1:1+end], func(r rune) bool { return !word(r) }) >= 0 {
		return 0
	}
	return upTo(s, s[:end+2], end+2)
}

func upTo(s, end string, from int) int {
	if i := strings.Index(s[from:], end); i >= 0 {
		return from + i + len(end)
	}
	return -1
}

func word(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

func nameAt(s string) string {
	end := strings.IndexFunc(s, func(r rune) bool { return !word(r) })
	if end < 0 {
		end = len(s)
	}
	if end == 0 || s[0] >= '0' && s[0] <= '9' {
		return ""
	}
	return s[:end]
}

// IsQuery says whether a text is a query, and not the name of a table.
func IsQuery(s string) bool {
	fields := strings.Fields(strings.ToLower(s))
	if len(fields) < 2 {
		return false
	}
	switch fields[0] {
	case "select", "with", "values", "table", "show":
		return true
	}
	return false
}

// Columns reads a list of names with commas between.
func Columns(list string) []string {
	var out []string
	for name := range strings.SplitSeq(list, ",") {
		if name = strings.TrimSpace(name); name != "" {
			out = append(out, name)
		}
	}
	return out
}

var outer = regexp.MustCompile(`(?i)\b(left|right|full|rollup|cube|sets)\b`)

// Outer says whether a query may give null for columns that their tables do not let be null: by an outer join, or for groups
// of groups.
func Outer(query string) bool { return outer.MatchString(query) }
