// Package fixedwidth reads and writes records whose fields stand at fixed columns, one record a
// line. A line that does not fit its schema is reported with its column; the lines after it are
// read all the same.
package fixedwidth

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/internal/block"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// MaxLine is the most bytes of one line, unless the options say otherwise.
const MaxLine = 1 << 20

// slab is how many records' fields are allocated together.
const slab = 128

type reader struct {
	src    *block.Source
	pick   *block.Picker
	name   string
	schema *schema.Schema
	limit  int
	width  int
	cut    func(line string, from, to int) string
	decode *charmap.Charmap // nil for UTF-8
	end    string           // the line end that must be; empty for any
	cells  []cell
	check  bool

	line   int
	cur    block.Line
	fields []value.Value // what is left of the slab
	recs   []value.Record
}

// cell is one field of every line, made ready.
type cell struct {
	from, to int // bytes or characters, from 0
	blank    bool
	strip    func(s string, fill byte) string
	fill     byte
	read     func(s string) (value.Value, bool)
}

func cells(fields []*schema.Field) []cell {
	out := make([]cell, len(fields))
	for i, f := range fields {
		w := &f.Written
		c := cell{from: w.From - 1, to: w.To, blank: w.Blank, strip: trimRight, fill: w.Fill, read: f.Reader()}
		switch {
		case f.Kind.Numeric():
			c.strip, c.fill = trimBoth, ' '
		case w.Align == "right":
			c.strip = trimLeft
		}
		out[i] = c
	}
	return out
}

// NewReader reads the records of a fixed-width file; a schema is required.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	if o.Schema == nil {
		return nil, fault.New(fault.Setting, "fixed width cannot be read without a schema").
			Mended("Name one that says which columns each field has")
	}
	limit := MaxLine
	if o.MaxRecord > 0 {
		limit = o.MaxRecord
	}
	f := &reader{src: block.New(r), name: o.Source, schema: o.Schema, limit: limit, width: o.Schema.Width(), cut: bytesCut, end: lineEnds[o.Schema.Settings.LineEnd]}
	switch o.Schema.Settings.Encoding {
	case "ISO-8859-1":
		f.decode = charmap.ISO8859_1
	case "windows-1252":
		f.decode = charmap.Windows1252
	default: // UTF-8
		if o.Schema.Settings.Characters {
			f.cut = runesCut
		}
	}
	f.pick = block.NewPicker(f.src, o.Schema.Settings.Lines)
	f.cells, f.check = cells(o.Schema.Root.Fields), o.Check
	return f, nil
}

func (f *reader) Many() bool { return true }
func (f *reader) Raw() string {
	return f.cur.Text
}

func (f *reader) Place() fault.Place {
	return fault.Place{Source: f.name, Line: f.line, Byte: f.cur.Off}
}

func (f *reader) at(column int) fault.Place {
	p := f.Place()
	p.Column = column
	return p
}

// Next reads one line. All faults of a line are reported together.
func (f *reader) Next() (value.Value, error) {
	line, number, ok := f.pick.Line(f.limit)
	if !ok {
		if err := f.src.Err(); err != nil {
			return value.Value{}, fault.New(fault.Outside, "the input cannot be read on: %s", err).At(fault.Place{Source: f.name, Line: number, Byte: f.src.Off})
		}
		return value.Value{}, io.EOF
	}
	f.cur, f.line = line, number
	if faults := f.lineFaults(line); faults != nil {
		return value.Value{}, faults
	}
	return f.record(line.Text)
}

// lineFaults are what is wrong with the line as a whole.
func (f *reader) lineFaults(l block.Line) fault.List {
	if l.Long {
		return fault.List{fault.Expect(fault.Limit, fmt.Sprintf("a record of %d columns", f.width), fmt.Sprintf("a line of %d bytes", l.Skipped)).
			At(f.at(f.width+1)).Mended("No line may be longer than %d bytes; it was passed over", f.limit)}
	}
	if f.decode == nil && !utf8.ValidString(l.Text) {
		return fault.List{f.encodingFault(l)}
	}
	var faults fault.List
	n := f.columns(l.Text)
	switch {
	case n < f.width:
		faults = append(faults, f.short(l, n))
	case n > f.width:
		faults = append(faults, fault.Expect(fault.Length, fmt.Sprintf("the line to end after column %d", f.width),
			fault.Quote(f.cut(l.Text, f.width, n))).At(f.at(f.width+1)))
	}
	if ft := f.endFault(l, n); ft != nil {
		faults = append(faults, ft)
	}
	return faults
}

func (f *reader) columns(s string) int {
	if f.schema.Settings.Characters && f.decode == nil {
		return utf8.RuneCountInString(s)
	}
	return len(s)
}

func (f *reader) short(l block.Line, n int) *fault.Fault {
	name := ""
	for _, c := range f.schema.Root.Fields {
		if c.Written.To > n {
			name = c.Name
			break
		}
	}
	return fault.Expect(fault.Length, fmt.Sprintf("%d columns", f.width), fmt.Sprintf("a line of %d", n)).In(name).At(f.at(n + 1))
}

var lineEnds = map[string]string{"CRLF": "\r\n", "LF": "\n"}

var endNames = map[string]string{"": "the end of the file", "\n": "LF", "\r\n": "CR LF"}

func (f *reader) endFault(l block.Line, column int) *fault.Fault {
	if f.end == "" || l.End == f.end {
		return nil
	}
	ft := fault.Expect(fault.Length, endNames[f.end]+" after the record", endNames[l.End]).At(f.at(column + 1))
	if l.End == "" {
		return ft.Mended("The file may have been cut short")
	}
	return ft.Mended(`If the sender means it, set "line end" of the schema to any`)
}

func (f *reader) encodingFault(l block.Line) *fault.Fault {
	at := 0
	for at < len(l.Text) {
		r, n := utf8.DecodeRuneInString(l.Text[at:])
		if r == utf8.RuneError && n == 1 {
			break
		}
		at += n
	}
	p := f.at(f.columns(l.Text[:at]) + 1)
	p.Byte += int64(at)
	return fault.Expect(fault.Encoding, "UTF-8 text", fmt.Sprintf("the byte %02X", l.Text[at])).In(f.fieldAt(p.Column)).At(p).
		Mended(`If the sender writes another encoding, set "encoding" of the schema`)
}

func (f *reader) fieldAt(column int) string {
	for _, c := range f.schema.Root.Fields {
		if column >= c.Written.From && column <= c.Written.To {
			return c.Name
		}
	}
	return ""
}

func (f *reader) record(line string) (value.Value, error) {
	rec := f.next()
	var faults fault.List
	for i := range f.cells {
		c := &f.cells[i]
		raw := f.cut(line, c.from, c.to)
		v, ok := f.read(c, raw)
		if !ok {
			field := f.schema.Root.Fields[i]
			faults = append(faults, field.Ruled(fault.Expect(fault.Type, field.HowWritten(), fault.Quote(raw))).At(f.at(c.from+1)))
			continue
		}
		rec.Fields[i] = v
		if f.check {
			faults = f.checked(faults, f.schema.Root.Fields[i], v, c.from+1)
		}
	}
	if faults != nil {
		return value.Value{}, faults
	}
	return value.RecOf(rec), nil
}

func (f *reader) checked(faults fault.List, field *schema.Field, v value.Value, column int) fault.List {
	if ft := field.CheckOne(v); ft != nil {
		p := f.at(column)
		p.Path = "/" + field.Name
		faults = append(faults, ft.At(p))
	}
	return faults
}

// next gives an empty record out of the slab.
func (f *reader) next() *value.Record {
	n := len(f.schema.Root.Fields)
	if len(f.recs) == 0 {
		f.recs = make([]value.Record, slab)
		f.fields = make([]value.Value, slab*n)
	}
	rec := &f.recs[0]
	f.recs = f.recs[1:]
	rec.Shape, rec.Fields = f.schema.Root.Shape(), f.fields[:n:n]
	f.fields = f.fields[n:]
	return rec
}

func (f *reader) read(c *cell, raw string) (value.Value, bool) {
	if c.blank && trimLeft(raw, ' ') == "" {
		return value.Value{}, true
	}
	s := c.strip(raw, c.fill)
	if f.decode != nil {
		s = decode(f.decode, s)
	}
	return c.read(s)
}

func trimBoth(s string, fill byte) string { return trimRight(trimLeft(s, fill), fill) }

func trimLeft(s string, fill byte) string {
	i := 0
	for i < len(s) && s[i] == fill {
		i++
	}
	return s[i:]
}

func trimRight(s string, fill byte) string {
	n := len(s)
	for n > 0 && s[n-1] == fill {
		n--
	}
	return s[:n]
}

func decode(c *charmap.Charmap, s string) string {
	ascii := true
	for i := 0; i < len(s); i++ {
		ascii = ascii && s[i] < utf8.RuneSelf
	}
	if ascii {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		b.WriteRune(c.DecodeByte(s[i]))
	}
	return b.String()
}

func bytesCut(line string, from, to int) string { return line[from:to] }

func runesCut(line string, from, to int) string {
	if len(line) >= to && isASCII(line) {
		return line[from:to]
	}
	start, n := len(line), 0
	for i := range line {
		if n == from {
			start = i
		}
		if n == to {
			return line[start:i]
		}
		n++
	}
	return line[start:]
}

func isASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}
