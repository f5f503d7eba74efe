package schema

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// A date pattern is made of yyyy, MM, dd, HH, mm and ss (the field symbols of Unicode TR 35)
// and of any other characters, which stand for themselves.
type patternPart struct {
	symbol  byte // 0 for literal text
	width   int
	literal string
}

const symbols = "yMdHms"

var symbolWidth = map[byte]int{'y': 4, 'M': 2, 'd': 2, 'H': 2, 'm': 2, 's': 2}

func compilePattern(p string) ([]patternPart, *fault.Fault) {
	var parts []patternPart
	for i := 0; i < len(p); {
		c := p[i]
		if strings.IndexByte(symbols, c) < 0 {
			if c >= 'A' && c <= 'Z' && c != 'T' && c != 'Z' || c >= 'a' && c <= 'z' {
				return nil, fault.Expect(fault.Setting, "yyyy, MM, dd, HH, mm, ss and punctuation", fault.Quote(p[i:]))
			}
			parts = append(parts, patternPart{width: 1, literal: p[i : i+1]})
			i++
			continue
		}
		n := symbolWidth[c]
		if i+n > len(p) || p[i:i+n] != strings.Repeat(string(c), n) {
			return nil, fault.Expect(fault.Setting, strings.Repeat(string(c), n), fault.Quote(p[i:]))
		}
		parts = append(parts, patternPart{symbol: c, width: n})
		i += n
	}
	return parts, nil
}

// ReadPattern reads a date, time or timestamp by a pattern such as yyyyMMdd.
func ReadPattern(kind value.Kind, pattern, s string) (value.Value, bool) {
	parts, err := compilePattern(pattern)
	if err != nil {
		return value.Value{}, false
	}
	return readPattern(kind, parts, s)
}

// FormatPattern writes a date, time or timestamp by a pattern.
func FormatPattern(pattern string, v value.Value) (string, *fault.Fault) {
	parts, err := compilePattern(pattern)
	if err != nil {
		return "", err
	}
	return string(appendPattern(nil, parts, v)), nil
}

func readPattern(kind value.Kind, parts []patternPart, s string) (value.Value, bool) {
	var n [256]int
	n['M'], n['d'] = 1, 1
	for _, p := range parts {
		if len(s) < p.width {
			return value.Value{}, false
		}
		text := s[:p.width]
		s = s[p.width:]
		if p.symbol == 0 {
			if text != p.literal {
				return value.Value{}, false
			}
			continue
		}
		for i := 0; i < len(text); i++ {
			c := text[i] - '0'
			if c > 9 {
				return value.Value{}, false
			}
			n[p.symbol] = n[p.symbol]*10*min(i, 1) + int(c)
		}
	}
	if s != "" || n['H'] > 23 || n['m'] > 59 || n['s'] > 59 {
		return value.Value{}, false
	}
	clock := value.TimeOf(n['H'], n['m'], n['s'], 0)
	if kind == value.Time {
		return clock, true
	}
	if !value.ValidDate(n['y'], n['M'], n['d']) {
		return value.Value{}, false
	}
	date := value.DateOf(n['y'], n['M'], n['d'])
	if kind == value.Date {
		return date, true
	}
	return value.At(date, clock), true
}

func appendPattern(b []byte, parts []patternPart, v value.Value) []byte {
	var y, mo, d, h, mi, s int
	if v.Kind() != value.Time {
		y, mo, d = v.Civil()
	}
	if v.Kind() != value.Date {
		h, mi, s, _ = v.Clock()
	}
	for _, p := range parts {
		switch p.symbol {
		case 'y':
			b = append(b, byte('0'+y/1000%10), byte('0'+y/100%10), byte('0'+y/10%10), byte('0'+y%10))
		case 'M':
			b = two(b, mo)
		case 'd':
			b = two(b, d)
		case 'H':
			b = two(b, h)
		case 'm':
			b = two(b, mi)
		case 's':
			b = two(b, s)
		default:
			b = append(b, p.literal...)
		}
	}
	return b
}

func two(b []byte, n int) []byte { return append(b, byte('0'+n/10%10), byte('0'+n%10)) }
