package xsd

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// pattern translates a regular expression of XML Schema (part 2, appendix F) into Go's. It is always
// anchored and matches in linear time.
func pattern(p string) (*regexp.Regexp, error) {
	var b strings.Builder
	b.WriteString(`^(?s:`)
	for i := 0; i < len(p); i++ {
		switch c := p[i]; {
		case c == '\\' && i+1 < len(p):
			i++
			b.WriteString(escaped(p[i]))
		case c == '[':
			class, end, err := readClass(p, i)
			if err != nil {
				return nil, err
			}
			b.WriteString(class)
			i = end
		case c == '^' || c == '$':
			b.WriteString(`\` + string(c))
		case c == '.':
			b.WriteString(`[^\n\r]`)
		case c == '?' && i > 0 && strings.IndexByte("?*+}", p[i-1]) >= 0:
			b.WriteByte(c) // a syntax error in the standard; Go takes it as lazy, which matches the same
		default:
			b.WriteByte(c)
		}
	}
	b.WriteString(`)$`)
	return regexp.Compile(b.String())
}

// multi are the characters that an escape stands for, as they stand inside of a class of Go's.
var multi = map[byte]string{
	'i': `\p{L}_:`, 'c': `\p{L}\p{N}\p{M}._:·\-`, 'd': `\p{Nd}`, 's': ` \t\n\r`, 'w': `\p{L}\p{M}\p{N}\p{S}`,
}

// escaped is an escape outside of a class.
func escaped(c byte) string {
	lower := c | 0x20
	set, known := multi[lower]
	switch {
	case !known:
		return `\` + string(c)
	case c == 'W':
		return `[\p{P}\p{Z}\p{C}]`
	case c != lower:
		return `[^` + set + `]`
	}
	return `[` + set + `]`
}

// readClass translates the class that begins at i, and gives where it ends. One that Go can write is
// translated as it stands; one with another taken from it, or with the opposite of a set in it, is
// computed.
func readClass(p string, i int) (class string, end int, err error) {
	if simple, end, ok := simpleClass(p, i); ok {
		return simple, end, nil
	}
	set, end, err := classSet(p, i, 0)
	if err != nil {
		return "", 0, err
	}
	return set.String(), end, nil
}

func simpleClass(p string, i int) (class string, end int, ok bool) {
	var b strings.Builder
	b.WriteByte('[')
	for i++; i < len(p); i++ {
		switch c := p[i]; {
		case c == '[':
			return "", 0, false
		case c == ']':
			return b.String() + "]", i, true
		case c == '\\' && i+1 < len(p):
			i++
			set, known := multi[p[i]|0x20]
			switch {
			case known && p[i]|0x20 != p[i]:
				return "", 0, false
			case known:
				b.WriteString(set)
			default:
				b.WriteString(`\` + p[i:i+1])
			}
		default:
			b.WriteByte(c)
		}
	}
	return "", 0, false
}

// runes is a set of characters: pairs of the first and last of each span, in order.
type runes []rune

func (r runes) String() string {
	if len(r) == 0 {
		return `[^\x{0}-\x{10FFFF}]`
	}
	var b strings.Builder
	for i := 0; i < len(r); i += 2 {
		fmt.Fprintf(&b, `\x{%X}-\x{%X}`, r[i], r[i+1])
	}
	return "[" + b.String() + "]"
}

// setOf reads a class of Go's.
func setOf(class string) (runes, error) {
	re, err := syntax.Parse(class, syntax.Perl)
	switch {
	case err != nil:
		return nil, err
	case re.Op == syntax.OpLiteral && len(re.Rune) == 1:
		return runes{re.Rune[0], re.Rune[0]}, nil
	case re.Op == syntax.OpNoMatch:
		return nil, nil
	case re.Op == syntax.OpCharClass:
		return re.Rune, nil
	case re.Op == syntax.OpAnyChar:
		return runes{0, unicode.MaxRune}, nil
	}
	return nil, fmt.Errorf("%s is no class", class)
}

// union is the set of what stands in one of several.
func union(sets []runes) runes {
	type span struct{ low, high rune }
	var spans []span
	for _, s := range sets {
		for i := 0; i < len(s); i += 2 {
			spans = append(spans, span{s[i], s[i+1]})
		}
	}
	slices.SortFunc(spans, func(a, b span) int { return int(a.low) - int(b.low) })
	var out runes
	for _, s := range spans {
		if n := len(out); n > 0 && s.low <= out[n-1]+1 {
			out[n-1] = max(out[n-1], s.high)
			continue
		}
		out = append(out, s.low, s.high)
	}
	return out
}

// not is the set of all other characters.
func (r runes) not() runes {
	var out runes
	next := rune(0)
	for i := 0; i < len(r); i += 2 {
		if r[i] > next {
			out = append(out, next, r[i]-1)
		}
		next = r[i+1] + 1
	}
	if next <= unicode.MaxRune {
		out = append(out, next, unicode.MaxRune)
	}
	return out
}

// minus is the set without the characters of another.
func (r runes) minus(other runes) runes { return union([]runes{r.not(), other}).not() }

// maxNested bounds how deep classes are taken from classes.
const maxNested = 20

var errClass = errors.New("a class that does not end")

// classSet computes the class that begins at i.
func classSet(p string, i, depth int) (set runes, end int, err error) {
	if depth > maxNested {
		return nil, 0, errors.New("classes that nest too deep")
	}
	i++
	negated := strings.HasPrefix(p[i:], "^")
	if negated {
		i++
	}
	var sets []runes
	for i < len(p) {
		switch {
		case p[i] == ']':
			return signed(union(sets), negated), i, nil
		case strings.HasPrefix(p[i:], "-["):
			taken, to, err := classSet(p, i+1, depth+1)
			if err != nil {
				return nil, 0, err
			}
			if to+1 >= len(p) || p[to+1] != ']' {
				return nil, 0, errClass
			}
			return signed(union(sets), negated).minus(taken), to + 1, nil
		}
		item, n := classItem(p[i:])
		one, err := setOf(item)
		if err != nil {
			return nil, 0, err
		}
		sets = append(sets, one)
		i += n
	}
	return nil, 0, errClass
}

func signed(r runes, negated bool) runes {
	if negated {
		return r.not()
	}
	return r
}

// classItem is the first item of a class as one of Go's: a character, a span or an escape.
func classItem(s string) (class string, n int) {
	first, n, single := classChar(s)
	if !single {
		return first, n
	}
	if len(s) > n+1 && s[n] == '-' && s[n+1] != '[' && s[n+1] != ']' {
		if last, m, single := classChar(s[n+1:]); single {
			return "[" + first + "-" + last + "]", n + 1 + m
		}
	}
	return "[" + first + "]", n
}

// classChar is one character as it stands in a class of Go's, or a class by itself.
func classChar(s string) (text string, n int, single bool) {
	if s[0] != '\\' || len(s) == 1 {
		r, n := utf8.DecodeRuneInString(s)
		return fmt.Sprintf(`\x{%X}`, r), n, true
	}
	if s[1] == 'p' || s[1] == 'P' {
		if end := strings.IndexByte(s, '}'); end > 0 {
			return "[" + s[:end+1] + "]", end + 1, false
		}
	}
	if _, known := multi[s[1]|0x20]; known {
		return escaped(s[1]), 2, false
	}
	return s[:2], 2, true
}
