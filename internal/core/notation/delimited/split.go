package delimited

import (
	"errors"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
)

// errMore asks for more text: the record does not end in what is there.
var errMore = errors.New("more")

// split cuts the first record of text into d.row (RFC 4180, section 2). It gives the bytes and
// lines that the record takes, line end included. A fault's place is relative to the record.
func (d *reader) split(text string) (n, lines int, err error) {
	d.row = d.row[:0]
	lines = 1
	for i := 0; ; {
		if i >= len(text) {
			return 0, 0, errMore
		}
		var next int
		if text[i] == d.quote {
			var field string
			field, next, err = d.quoted(text, i)
			if err != nil {
				return d.pass(text, i, lines, err)
			}
			lines += strings.Count(field, string(d.eol))
			d.row = append(d.row, field)
		} else {
			next = d.bare(text, i)
			if next < 0 {
				return 0, 0, errMore
			}
			if q := strings.IndexByte(text[i:next], d.quote); q >= 0 && !d.stray {
				return d.pass(text, i+q, lines, d.fault(text, i+q, "a quote only around a whole field", "one inside"))
			}
			field := text[i:next]
			if text[next] == '\n' {
				field = strings.TrimSuffix(field, "\r")
			}
			d.row = append(d.row, field)
		}
		if text[next] == '\r' && d.eol == '\n' {
			next++
		}
		if text[next] == d.eol {
			return next + 1, lines, nil
		}
		i = next + 1
	}
}

// bare finds the end of a field without quotes; -1 when it is not in text.
func (d *reader) bare(text string, from int) int {
	for i := from; i < len(text); i++ {
		if c := text[i]; c == d.delim || c == d.eol {
			return i
		}
	}
	return -1
}

// quoted reads a quoted field beginning at text[from]; next is the place behind its closing quote.
func (d *reader) quoted(text string, from int) (field string, next int, err error) {
	doubled, escaped := false, false
	for i := from + 1; ; i++ {
		q := d.stop(text[min(i, len(text)):])
		if q < 0 || i+q+1 >= len(text) {
			return "", 0, errMore
		}
		i += q
		if d.escape != 0 && text[i] == d.escape && d.escape != d.quote {
			escaped = true
			i++
			continue
		}
		if text[i+1] == d.quote && (d.escape == 0 || d.escape == d.quote) {
			doubled = true
			i++
			continue
		}
		ok, more := d.closes(text[i+1:])
		switch {
		case more:
			return "", 0, errMore
		case !ok && d.stray:
			return d.strayed(text, from)
		case !ok:
			return "", i + 1, d.fault(text, i+1, "a delimiter or the end of the record behind the closing quote", fault.Quote(text[i+1:i+2]))
		}
		field = text[from+1 : i]
		if doubled {
			q := string(d.quote)
			field = strings.ReplaceAll(field, q+q, q)
		}
		if escaped {
			field = d.unescaped(field)
		}
		return field, i + 1, nil
	}
}

// strayed reads a field that begins with a quote and is not quoted as a whole: its quotes stand for themselves.
func (d *reader) strayed(text string, from int) (field string, next int, err error) {
	if next = d.bare(text, from); next < 0 {
		return "", 0, errMore
	}
	if field = text[from:next]; text[next] == '\n' {
		field = strings.TrimSuffix(field, "\r")
	}
	return field, next, nil
}

// stop is where a quote, or what escapes one, next stands; -1 when neither does.
func (d *reader) stop(s string) int {
	if d.escape == 0 {
		return strings.IndexByte(s, d.quote)
	}
	for i := 0; i < len(s); i++ {
		if s[i] == d.quote || s[i] == d.escape {
			return i
		}
	}
	return -1
}

// unescaped is a text in which escaped characters stand for themselves.
func (d *reader) unescaped(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == d.escape && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

func (d *reader) closes(rest string) (ok, more bool) {
	if rest[0] == '\r' && d.eol == '\n' {
		if len(rest) == 1 {
			return false, true
		}
		return rest[1] == '\n', false
	}
	return rest[0] == d.delim || rest[0] == d.eol, false
}

// pass goes on behind the line in which a fault was found.
func (d *reader) pass(text string, i, lines int, err error) (int, int, error) {
	if err == errMore {
		return 0, 0, err
	}
	end := strings.IndexByte(text[i:], d.eol)
	if end < 0 {
		return 0, 0, errMore
	}
	return i + end + 1, lines + strings.Count(text[:i], string(d.eol)) - (lines - 1), err
}

func (d *reader) fault(text string, at int, expected, found string) error {
	start := strings.LastIndexByte(text[:at], d.eol) + 1
	f := fault.Expect(fault.Syntax, expected, found)
	f.Place.Line = strings.Count(text[:at], string(d.eol))
	f.Place.Column = utf8.RuneCountInString(text[start:at]) + 1
	return fault.List{f}
}
