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

	"hollowreed/internal/core/blockreader"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/internal/charset"
	"hollowreed/internal/core/notation/internal/group"
	"hollowreed/internal/core/notation/internal/pick"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// MaxLine is the most bytes of one line, unless the options say otherwise.
const MaxLine = 1 << 20

// slab is how many records' fields are allocated together.
const slab = 128

type reader struct {
	src    *blockreader.Source
	pick   *pick.Picker
	name   string
	schema *schema.Schema
	limit  int
	cut    func(line string, from, to int) string
	decode *charmap.Charmap // nil for UTF-8
	end    string           // the line end that must be; empty for any
	kinds  []layout         // of the types of line; the first is the record's own
	check  bool

	line   int
	cur    blockreader.Line
	fields []value.Value // what is left of the slab
	memory *value.Memory
	recs   []value.Record
}

// layout is how the lines of one type are read.
type layout struct {
	fields []*schema.Field
	cells  []cell
	width  int
	marks  []mark
}

// mark is what a line of the type has in some columns.
type mark struct {
	from, to int // from 0
	text     string
	cell     *cell // nil for the bare text
}

// cell is one field of every line, made ready.
type cell struct {
	slot     int
	from, to int // bytes or characters, from 0
	blank    bool
	strip    func(s string, fill byte) string
	fill     byte
	read     func(s string) (value.Value, bool)
}

func newLayout(t *group.Type) layout {
	l := layout{fields: t.Own, cells: make([]cell, len(t.Own)), width: t.Field.Width()}
	if b := t.Field.WireFormat.StartsWith; b != "" {
		l.marks = append(l.marks, mark{to: len(b), text: b})
	}
	for i, f := range t.Own {
		w := &f.WireFormat
		c := cell{slot: f.Slot(), from: w.From - 1, to: w.To, blank: w.Blank, strip: trimRight, fill: w.Padding, read: f.Reader()}
		switch {
		case f.Kind.Numeric():
			c.strip, c.fill = trimBoth, ' '
		case w.Align == "right":
			c.strip = trimLeft
		}
		l.cells[i] = c
		if w.Discriminator != "" {
			l.marks = append(l.marks, mark{from: c.from, to: c.to, text: w.Discriminator, cell: &l.cells[i]})
		}
	}
	return l
}

// NewReader reads the records of a fixed-width file; a schema is required.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	if o.Schema == nil {
		return nil, fault.New(fault.Setting, "fixed width cannot be read without a schema").
			WithFix("Name one that says which columns each field has")
	}
	limit := o.LimitOr(MaxLine)
	f := &reader{src: blockreader.New(r), name: o.Source, schema: o.Schema, limit: limit, cut: bytesCut, end: lineEnds[o.Schema.Settings.LineEnd]}
	if f.decode = charset.Of(o.Schema.Settings.Encoding); f.decode == nil && o.Schema.Settings.Characters {
		f.cut = runesCut
	}
	f.pick, f.check = pick.New(f.src, o.Schema.Settings.Lines), o.Check
	types := group.Types(o.Schema.Root)
	for _, t := range types {
		f.kinds = append(f.kinds, newLayout(t))
	}
	if len(types) > 1 {
		return group.NewReader(f, types[0], o), nil
	}
	if f.kinds[0].marks != nil {
		f.pick.Keep = func(line string) bool { return f.is(&f.kinds[0], line) }
	}
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
	if err := f.take(); err != nil {
		return value.Value{}, err
	}
	l := &f.kinds[0]
	if faults := f.lineFaults(l); faults != nil {
		return value.Value{}, faults
	}
	rec := f.next()
	if faults := f.read(l, rec); faults != nil {
		return value.Value{}, faults
	}
	return value.RecordOf(rec), nil
}

func (f *reader) take() error {
	line, number, ok := f.pick.Line(f.limit)
	if ok {
		f.cur, f.line = line, number
		return nil
	}
	if err := f.src.Err(); err != nil {
		return fault.New(fault.Outside, "the input cannot be read on: %s", err).At(fault.Place{Source: f.name, Line: number, Byte: f.src.Off})
	}
	return io.EOF
}

// Take takes the next line, for a reader of lines of several types.
func (f *reader) Take() error {
	if err := f.take(); err != nil {
		return err
	}
	if f.cur.Long {
		return fault.List{f.long(0)}
	}
	return nil
}

// Is says whether the line at hand is of a type.
func (f *reader) Is(t *group.Type) bool { return f.is(&f.kinds[t.Index], f.cur.Text) }

func (f *reader) is(l *layout, line string) bool {
	for i := range l.marks {
		m := &l.marks[i]
		if m.cell == nil {
			if !strings.HasPrefix(line, m.text) {
				return false
			}
			continue
		}
		if f.columns(line) < m.to || m.cell.strip(f.cut(line, m.from, m.to), m.cell.fill) != m.text {
			return false
		}
	}
	return l.marks != nil
}

// Read reads the line at hand, of a type, into its record.
func (f *reader) Read(t *group.Type, into *value.Record) fault.List {
	l := &f.kinds[t.Index]
	if faults := f.lineFaults(l); faults != nil {
		return faults
	}
	return f.read(l, into)
}

// lineFaults are what is wrong with the line as a whole.
func (f *reader) lineFaults(lay *layout) fault.List {
	l := &f.cur
	if l.Long {
		return fault.List{f.long(lay.width)}
	}
	if f.decode == nil && !utf8.ValidString(l.Text) {
		return fault.List{f.encodingFault(lay)}
	}
	var faults fault.List
	n := f.columns(l.Text)
	switch {
	case n < lay.width:
		faults = append(faults, f.short(lay, n))
	case n > lay.width:
		faults = append(faults, f.asking(fault.Expect(fault.Length, fmt.Sprintf("the line to end after column %d", lay.width),
			fault.Quote(f.cut(l.Text, lay.width, n)))).At(f.at(lay.width+1)))
	}
	if ft := f.endFault(n); ft != nil {
		faults = append(faults, ft)
	}
	return faults
}

func (f *reader) long(width int) *fault.Fault {
	expected := "a shorter line"
	if width > 0 {
		expected = fmt.Sprintf("a record of %d columns", width)
	}
	return f.asking(fault.Expect(fault.Limit, expected, fmt.Sprintf("a line of %d bytes", f.cur.Skipped))).At(f.at(width+1)).
		WithFix("No line may be longer than %d bytes; it was passed over", f.limit)
}

// asking names in a fault of a line as a whole the schema that says how lines are.
func (f *reader) asking(ft *fault.Fault) *fault.Fault { return f.schema.Root.Asking(ft) }

func (f *reader) columns(s string) int {
	if f.schema.Settings.Characters && f.decode == nil {
		return utf8.RuneCountInString(s)
	}
	return len(s)
}

func (f *reader) short(l *layout, n int) *fault.Fault {
	ft := f.asking(fault.Expect(fault.Length, fmt.Sprintf("%d columns", l.width), fmt.Sprintf("a line of %d", n))).At(f.at(n + 1))
	for _, c := range l.fields {
		if c.WireFormat.To > n {
			return c.LocateFault(ft)
		}
	}
	return ft
}

var lineEnds = map[string]string{"CRLF": "\r\n", "LF": "\n"}

var endNames = map[string]string{"": "the end of the file", "\n": "LF", "\r\n": "CR LF"}

func (f *reader) endFault(column int) *fault.Fault {
	l := &f.cur
	if f.end == "" || l.End == f.end {
		return nil
	}
	ft := f.asking(fault.Expect(fault.Length, endNames[f.end]+" after the record", endNames[l.End])).At(f.at(column + 1))
	if l.End == "" {
		return ft.WithFix("The file may have been cut short")
	}
	return ft.WithFix(`If the sender means it, set "line end" of the schema to any`)
}

func (f *reader) encodingFault(lay *layout) *fault.Fault {
	l := &f.cur
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
	return f.asking(fault.Expect(fault.Encoding, "UTF-8 text", fmt.Sprintf("the byte %02X", l.Text[at]))).InField(lay.fieldAt(p.Column)).At(p).
		WithFix(`If the sender writes another encoding, set "encoding" of the schema`)
}

func (l *layout) fieldAt(column int) string {
	for _, c := range l.fields {
		if column >= c.WireFormat.From && column <= c.WireFormat.To {
			return c.Name
		}
	}
	return ""
}

// read reads the fields of the line at hand.
func (f *reader) read(l *layout, into *value.Record) fault.List {
	var faults fault.List
	for i := range l.cells {
		c := &l.cells[i]
		raw := f.cut(f.cur.Text, c.from, c.to)
		v, ok := f.cell(c, raw)
		if !ok {
			faults.Add(l.fields[i].LocateFault(fault.Expect(fault.Type, l.fields[i].DescribeWireFormat(), fault.Quote(raw))).At(f.at(c.from + 1)))
			continue
		}
		into.Fields[c.slot] = v
		if f.check {
			faults = f.checked(faults, l.fields[i], v, c.from+1)
		}
	}
	return faults
}

func (f *reader) checked(faults fault.List, field *schema.Field, v value.Value, column int) fault.List {
	if ft := field.CheckOne(v); ft != nil {
		p := f.at(column)
		p.Path = "/" + field.Name
		faults.Add(ft.At(p))
	}
	return faults
}

// Borrow makes records be taken from memory that is lent.
func (f *reader) Borrow(m *value.Memory) { f.memory = m }

// next gives an empty record: of the memory that is lent, or else out of a slab.
func (f *reader) next() *value.Record {
	if f.memory != nil {
		return f.memory.Record(f.schema.Root.Layout())
	}
	n := len(f.schema.Root.Fields)
	if len(f.recs) == 0 {
		f.recs = make([]value.Record, slab)
		f.fields = make([]value.Value, slab*n)
	}
	rec := &f.recs[0]
	f.recs = f.recs[1:]
	rec.Layout, rec.Fields = f.schema.Root.Layout(), f.fields[:n:n]
	f.fields = f.fields[n:]
	return rec
}

func (f *reader) cell(c *cell, raw string) (value.Value, bool) {
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
