package schemas

import (
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
)

// Bounds on what is shown of a sample's own text.
const (
	excerptLines = 7
	excerptWidth = 160 // bytes of a line, around the fault
	linesBefore  = 2   // the fault
)

// excerptLine is a line of the sample as it stands in the file, with the place of a fault.
type excerptLine struct {
	Number            int
	Left, Mark, Right string
	Fault             string // what is wrong at the mark
}

// excerpt is the text of the sample around the faults of the record at hand. Fixed width has its
// ruler instead.
func (d *schemaPage) excerpt(s *schema.Schema, text string) {
	if s.Notation.Columns || len(d.Faults) == 0 || d.Line > d.Lines {
		return
	}
	first := d.where.begins[d.Line-1]
	marks := map[int]*fault.Fault{}
	for _, f := range d.Faults {
		if f.Place.Line > 0 && marks[f.Place.Line] == nil {
			marks[f.Place.Line] = f
		}
	}
	if at := d.Faults; len(at) > 0 && at[0].Place.Line-linesBefore > first {
		first = at[0].Place.Line - linesBefore
	}
	n := 0
	for line := range strings.SplitSeq(text, "\n") {
		if n++; n == first+excerptLines {
			return
		}
		if n >= first {
			d.Excerpt = append(d.Excerpt, shown(strings.TrimSuffix(line, "\r"), n, marks[n], s.Notation.Cells))
		}
	}
}

// shown is a line with its mark; columns count characters or bytes.
func shown(line string, number int, f *fault.Fault, characters bool) excerptLine {
	l := excerptLine{Number: number}
	if f == nil {
		l.Left = after(line, 0, excerptWidth)
		return l
	}
	at := offset(line, f.Place.Column, characters)
	end := at
	if _, size := utf8.DecodeRuneInString(line[at:]); size > 0 {
		end += size
	}
	l.Fault, l.Mark = f.What(), line[at:end]
	l.Left, l.Right = before(line, at, excerptWidth/2), after(line, end, excerptWidth/2)
	if l.Mark == "" {
		l.Mark = "⏎"
	}
	l.Mark = strings.ToValidUTF8(l.Mark, "\uFFFD")
	return l
}

// offset is the byte at which a column begins, counted from 1.
func offset(line string, column int, characters bool) int {
	at := max(0, column-1)
	if characters {
		for i := range line {
			if at == 0 {
				return i
			}
			at--
		}
		return len(line)
	}
	at = min(at, len(line))
	for at > 0 && at < len(line) && !utf8.RuneStart(line[at]) {
		at--
	}
	return at
}

// before and after are what stands before and behind an offset of a line; a sign stands where more of
// it was cut off.
func before(line string, at, most int) string {
	if at <= most {
		return strings.ToValidUTF8(line[:at], "")
	}
	return "…" + strings.ToValidUTF8(line[at-most:at], "")
}

func after(line string, at, most int) string {
	if len(line)-at <= most {
		return strings.ToValidUTF8(line[at:], "")
	}
	return strings.ToValidUTF8(line[at:at+most], "") + "…"
}
