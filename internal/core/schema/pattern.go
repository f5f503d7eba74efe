package schema

import (
	"fmt"
	"strings"
	"sync"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// A date pattern is made of yyyy, MM, dd, HH, mm and ss (the field symbols of Unicode TR 35)
// and of any other characters, which stand for themselves.
type patternPart struct {
	symbol  byte // 0 for literal text
	part    int  // the position of the symbol in symbols
	width   int
	literal string
}

const symbols = "yMdHms"

// The positions of the symbols.
const (
	year = iota
	month
	day
	hour
	minute
	second
)

var symbolNames = [...]string{"year", "month", "day", "hour", "minute", "second"}

var symbolWidth = map[byte]int{'y': 4, 'M': 2, 'd': 2, 'H': 2, 'm': 2, 's': 2}

func compilePattern(p string) ([]patternPart, *fault.Fault) {
	var parts []patternPart
	for i := 0; i < len(p); {
		c := p[i]
		if strings.IndexByte(symbols, c) < 0 {
			if c >= 'A' && c <= 'Z' && c != 'T' && c != 'Z' || c >= 'a' && c <= 'z' {
				f := fault.Expect(fault.Setting, "yyyy, MM, dd, HH, mm, ss and punctuation", fault.Quote(p[i:]))
				if meant := meantSymbols.Replace(p); meant != p {
					f.WithFix("Did you mean %s?", meant)
				}
				return nil, f
			}
			parts = append(parts, patternPart{width: 1, literal: p[i : i+1]})
			i++
			continue
		}
		n := symbolWidth[c]
		if i+n > len(p) || p[i:i+n] != strings.Repeat(string(c), n) {
			return nil, fault.Expect(fault.Setting, strings.Repeat(string(c), n), fault.Quote(p[i:]))
		}
		parts = append(parts, patternPart{symbol: c, part: strings.IndexByte(symbols, c), width: n})
		i += n
	}
	return parts, nil
}

// meantSymbols are letters that are often taken for others. There is no half of a day, so that hours are those of 24.
var meantSymbols = strings.NewReplacer("YYYY", "yyyy", "DD", "dd", "hh", "HH", "SS", "ss", "nn", "mm")

// CheckPattern says why values of a type cannot be read by a pattern, or written so that they can be read again: what it
// leaves open, what it names twice, and what the type does not have.
func CheckPattern(kind value.Kind, pattern string) *fault.Fault {
	switch kind {
	case value.Date, value.Time, value.Timestamp:
	case value.Text:
		return fault.New(fault.Setting, "a text has no pattern of date and time").WithFix("What a text must match is the pattern under must")
	default:
		return fault.New(fault.Setting, "a %s has no pattern of date and time", kind).WithFix("Take the pattern out, or make the field a date, a time or a timestamp")
	}
	parts, f := compilePattern(pattern)
	if f != nil {
		return f
	}
	has := [len(symbolNames)]int{}
	for _, p := range parts {
		if p.symbol != 0 {
			has[p.part]++
		}
	}
	need, none := []int{year, month, day}, []int{hour, minute, second}
	switch kind {
	case value.Time:
		need, none = []int{hour}, []int{year, month, day}
	case value.Timestamp:
		need, none = []int{year, month, day, hour}, nil
	}
	if has[second] > 0 && has[minute] == 0 && kind != value.Date {
		need = append(need, minute)
	}
	wrong := func(why string, what int) *fault.Fault {
		f := fault.New(fault.Setting, "the pattern %s %s", pattern, fmt.Sprintf(why, symbolNames[what]))
		if meant := meantPattern(kind, pattern); meant != pattern {
			f.WithFix("mm is minutes, MM is months. Did you mean %s?", meant)
		}
		return f
	}
	for _, s := range need {
		if has[s] == 0 {
			return wrong("leaves the %s open", s)
		}
	}
	for s, n := range has {
		if n > 1 {
			return wrong("names the %s twice", s)
		}
	}
	for _, s := range none {
		if has[s] > 0 {
			return wrong("names the %s, which a "+kind.String()+" does not have", s)
		}
	}
	return nil
}

// meantPattern is a pattern with months and minutes where they probably were meant.
func meantPattern(kind value.Kind, pattern string) string {
	switch kind {
	case value.Date:
		return strings.Replace(pattern, "mm", "MM", 1)
	case value.Time:
		return strings.Replace(pattern, "MM", "mm", 1)
	}
	date, clock, ok := strings.Cut(pattern, "HH")
	if !ok {
		return pattern
	}
	return strings.ReplaceAll(date, "mm", "MM") + "HH" + strings.ReplaceAll(clock, "MM", "mm")
}

// checkFormat says why a pattern writes what a value of a type does not have; one that leaves something out is no fault.
func checkFormat(kind value.Kind, parts []patternPart, pattern string) *fault.Fault {
	for _, p := range parts {
		if p.symbol != 0 && (kind == value.Date && p.part >= hour || kind == value.Time && p.part < hour) {
			f := fault.New(fault.Setting, "the pattern %s names the %s, which a %s does not have", pattern, symbolNames[p.part], kind)
			if meant := meantPattern(kind, pattern); meant != pattern {
				f.WithFix("mm is minutes, MM is months. Did you mean %s?", meant)
			}
			return f
		}
	}
	return nil
}

// CheckFormat says why values of a type cannot be written by a pattern.
func CheckFormat(kind value.Kind, pattern string) *fault.Fault {
	parts, f := compilePattern(pattern)
	if f == nil {
		f = checkFormat(kind, parts, pattern)
	}
	return f
}

// ReadPattern reads a date, time or timestamp by a pattern such as yyyyMMdd; ok is false where the text is none. The fault
// is one of the pattern.
func ReadPattern(kind value.Kind, pattern, s string) (v value.Value, ok bool, f *fault.Fault) {
	r := readers.get(kind, pattern)
	if r.fault != nil {
		f := *r.fault
		return value.Value{}, false, &f
	}
	v, ok = readPattern(kind, r.parts, s)
	return v, ok, nil
}

// reader is a pattern that is ready to read by, or why it is none.
type reader struct {
	parts []patternPart
	fault *fault.Fault
}

// readerCache keeps patterns that come with the values, so that each is looked at once.
type readerCache struct {
	mu   sync.RWMutex
	made map[readerKey]reader
}

type readerKey struct {
	kind    value.Kind
	pattern string
}

// maxReaders bounds the cache; beyond it patterns are looked at each time.
const maxReaders = 500

var readers = readerCache{made: map[readerKey]reader{}}

func (c *readerCache) get(kind value.Kind, pattern string) reader {
	key := readerKey{kind, pattern}
	c.mu.RLock()
	r, there := c.made[key]
	c.mu.RUnlock()
	if there {
		return r
	}
	if r.fault = CheckPattern(kind, pattern); r.fault == nil {
		r.parts, _ = compilePattern(pattern)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.made) < maxReaders {
		c.made[key] = r
	}
	return r
}

// FormatPattern writes a date, time or timestamp by a pattern.
func FormatPattern(pattern string, v value.Value) (string, *fault.Fault) {
	parts, err := compilePattern(pattern)
	if err == nil {
		err = checkFormat(v.Kind(), parts, pattern)
	}
	if err != nil {
		return "", err
	}
	return string(appendPattern(nil, parts, v)), nil
}

func readPattern(kind value.Kind, parts []patternPart, s string) (value.Value, bool) {
	var n [len(symbolNames)]int
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
			n[p.part] = n[p.part]*10 + int(c)
		}
	}
	if s != "" || n[hour] > 23 || n[minute] > 59 || n[second] > 59 {
		return value.Value{}, false
	}
	clock := value.TimeOf(n[hour], n[minute], n[second], 0)
	if kind == value.Time {
		return clock, true
	}
	if !value.ValidDate(n[year], n[month], n[day]) {
		return value.Value{}, false
	}
	date := value.DateOf(n[year], n[month], n[day])
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
