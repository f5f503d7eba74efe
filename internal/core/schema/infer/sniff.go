package infer

import (
	"bytes"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
)

// sniffed is how much of a sample is looked at to find how it is written.
const sniffed = 256 << 10

// Notation guesses how a sample is written: as a notation that recognises its beginning, else with delimiters where each
// line has as many fields, else at fixed columns.
func Notation(sample []byte) *notation.Kind {
	text := bytes.TrimLeft(bytes.TrimPrefix(head(sample), []byte("\ufeff")), " \t\r\n")
	if len(text) == 0 {
		return first(func(k *notation.Kind) bool { return k.Cells })
	}
	if k := first(func(k *notation.Kind) bool { return k.Recognise != nil && k.Recognise(text) }); k != nil {
		return k
	}
	ls := lines(text)
	d, _ := delimiter(ls)
	delimited := d != "" || typed(ls) != ""
	return first(func(k *notation.Kind) bool { return k.Lines && k.Cells == delimited })
}

func first(fits func(*notation.Kind) bool) *notation.Kind {
	for _, k := range all.Kinds {
		if fits(k) {
			return k
		}
	}
	return nil
}

func head(sample []byte) []byte { return sample[:min(len(sample), sniffed)] }

// lines are the whole lines of the sample's beginning, without their ends.
func lines(sample []byte) []string {
	text := head(sample)
	if len(text) < len(sample) {
		if cut := bytes.LastIndexByte(text, '\n'); cut > 0 {
			text = text[:cut]
		}
	}
	var out []string
	end := "\n"
	if lineEnd(text) == "CR" {
		end = "\r"
	}
	for _, l := range strings.Split(strings.TrimRight(string(text), "\r\n"), end) {
		out = append(out, strings.TrimSuffix(l, "\r"))
	}
	return out
}

// Settings finds how a delimited or fixed-width sample is written: encoding, line end, and for a
// delimited one the delimiter, the quote and whether its first record holds the names.
func Settings(sample []byte, as *schema.Notation) schema.Settings {
	s := schema.Settings{Encoding: encoding(sample), LineEnd: lineEnd(head(sample)), Delimiter: ",", Quote: `"`, Header: true}
	ls := lines(sample)
	if !as.Cells || len(ls) == 0 {
		return s
	}
	if d, quote := delimiter(ls); d != "" {
		s.Delimiter, s.Quote = d, quote
	} else if d := typed(ls); d != "" {
		s.Delimiter, s.Header = d, false
		return s
	}
	if escapes(string(head(sample)), s.Delimiter, s.Quote) {
		s.Escape = `\`
	}
	s.Header = header(ls, s.Delimiter, s.Quote)
	return s
}

// escapes says whether quotes inside of quotes stand behind a backslash and are never doubled.
func escapes(text, delimiter, quote string) bool {
	escaped := `\` + quote
	rest := strings.ReplaceAll(strings.ReplaceAll(text, escaped, ""), delimiter+quote+quote, "")
	return strings.Contains(text, escaped) && !strings.Contains(rest, quote+quote)
}

// encoding is UTF-8 where the bytes are; else windows-1252 where they use what only it has.
func encoding(sample []byte) string {
	if utf8.Valid(sample) {
		return "UTF-8"
	}
	for _, b := range sample {
		if b >= 0x80 && b < 0xa0 {
			return "windows-1252"
		}
	}
	return "ISO-8859-1"
}

func lineEnd(text []byte) string {
	crlf := bytes.Count(text, []byte("\r\n"))
	switch lf := bytes.Count(text, []byte("\n")); {
	case lf == 0 && bytes.IndexByte(text, '\r') >= 0:
		return "CR"
	case lf == 0:
		return "any"
	case crlf == lf:
		return "CRLF"
	case crlf == 0:
		return "LF"
	}
	return "any"
}

// delimiter is the character that splits all lines into the same number of fields, at least two;
// of several, the one that makes most. It is empty when there is none.
func delimiter(ls []string) (delim, quote string) {
	best := 1
	for _, q := range []string{`"`, `'`} {
		for _, d := range delimiters {
			if n := fieldsOfEach(ls, d[0], q[0]); n > best {
				best, delim, quote = n, d, q
			}
		}
	}
	return delim, quote
}

// typed is the character that splits lines of several types, told by their first field, each into
// its number of fields; empty when there is none.
func typed(ls []string) string {
	for _, d := range delimiters {
		if typesOfCells(ls, schema.Settings{Delimiter: d, Quote: `"`}) != nil {
			return d
		}
	}
	return ""
}

var delimiters = []string{",", ";", "\t", "|", "^", "~"}

// fieldsOfEach is the number of fields that every line has; 0 when they differ. Lines that end
// inside of quotes go on in the next.
func fieldsOfEach(ls []string, d, q byte) int {
	want, n, quoted := 0, 1, false
	for _, l := range ls {
		for i := 0; i < len(l); i++ {
			switch {
			case l[i] == q:
				quoted = !quoted
			case l[i] == d && !quoted:
				n++
			}
		}
		if quoted {
			continue
		}
		if want == 0 {
			want = n
		}
		if n != want {
			return 0
		}
		n = 1
	}
	if quoted {
		return 0
	}
	return want
}

// header says whether the first record holds names: texts that differ, are not empty and are no
// values, as numbers and dates are.
func header(ls []string, delim, quote string) bool {
	seen := map[string]bool{}
	for _, name := range split(ls[0], delim, quote) {
		if name == "" || seen[name] || utf8.RuneCountInString(name) > 60 {
			return false
		}
		if slices.ContainsFunc(forms, func(f form) bool { return f.fits(name) }) {
			return false
		}
		seen[name] = true
	}
	return true
}

func split(line, delim, quote string) []string {
	parts := strings.Split(line, delim)
	for i, p := range parts {
		parts[i] = strings.Trim(strings.TrimSpace(p), quote)
	}
	return parts
}

// Columns proposes the cuts of fixed-width lines: each [from, to) in characters from 0. A field
// begins where the lines change character: behind blanks, and where digits, letters and other
// signs meet in every line. Columns that are blank in every line belong to the field before.
func Columns(ls []string) [][2]int {
	classes, width := profile(ls)
	var cuts [][2]int
	begin := 0
	for at := 1; at < width; at++ {
		if startsField(classes, at) {
			cuts = append(cuts, [2]int{begin, at})
			begin = at
		}
	}
	if width > 0 {
		cuts = append(cuts, [2]int{begin, width})
	}
	return cuts
}

// What stands in a column, over all lines.
const (
	blank = 1 << iota
	digit
	letter
	sign
)

// profile says which characters each column holds. Lines of another length than most are left out.
func profile(ls []string) (classes []int, width int) {
	lengths := map[int]int{}
	for _, l := range ls {
		lengths[utf8.RuneCountInString(l)]++
	}
	for n, times := range lengths {
		if times > lengths[width] || times == lengths[width] && n > width {
			width = n
		}
	}
	classes = make([]int, width)
	for _, l := range ls {
		if utf8.RuneCountInString(l) != width {
			continue
		}
		i := 0
		for _, r := range l {
			classes[i] |= classOf(r)
			i++
		}
	}
	return classes, width
}

func classOf(r rune) int {
	switch {
	case r == ' ':
		return blank
	case unicode.IsDigit(r):
		return digit
	case unicode.IsLetter(r):
		return letter
	}
	return sign
}

// startsField says whether a field begins at a column.
func startsField(classes []int, at int) bool {
	before, here := classes[at-1], classes[at]
	switch {
	case here == blank:
		return false
	case before == blank, before&blank != 0 && here&blank == 0:
		return true
	}
	return before&here&^blank == 0 && here&blank == 0
}

// Text is a sample as text, whatever its encoding.
func Text(sample []byte) string {
	switch encoding(sample) {
	case "windows-1252":
		sample, _ = charmap.Windows1252.NewDecoder().Bytes(sample)
	case "ISO-8859-1":
		sample, _ = charmap.ISO8859_1.NewDecoder().Bytes(sample)
	}
	return string(sample)
}
