// Package delimited reads and writes comma separated values as in RFC 4180, strict about quotes,
// with other delimiters and quotes where a schema names them. Without a schema the first record
// gives the names and every value is text.
package delimited

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
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const slab = 128

type reader struct {
	src          *blockreader.Source
	name         string
	schema       *schema.Schema
	delim, quote byte
	escape       byte // 0: a quote is doubled
	limit        int
	decode       *charmap.Charmap

	shape   *value.Layout
	targets []*schema.Field // by column; nil without a schema
	kinds   [][]mark        // what tells the types of line; the first is the record's own
	row     []string
	line    int // of the record at hand
	next    int // line behind it
	off     int64
	raw     string
	fields  []value.Value
	memory  *value.Memory // that is lent; nil: there is none
	recs    []value.Record
	check   bool
	lines   schema.Lines
	eol     byte // the last byte of a line end
	skips   bool // blank lines
	stray   bool // quotes inside of fields are kept
	ignored *notation.Ignored
	extras  []string // the paths of the columns that the schema lacks
}

// mark is what a line of a type has in one of its fields, or begins with.
type mark struct {
	column int // -1: the line begins with it
	text   string
}

func marks(t *group.Type) []mark {
	var out []mark
	if b := t.Field.WireFormat.StartsWith; b != "" {
		out = append(out, mark{-1, b})
	}
	for i, f := range t.Own {
		if f.WireFormat.Discriminator != "" {
			out = append(out, mark{i, f.WireFormat.Discriminator})
		}
	}
	return out
}

// NewReader reads delimited records. The header, if there is one, is read at once.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	d := &reader{src: blockreader.New(r), name: o.Source, schema: o.Schema, delim: ',', quote: '"', limit: o.Limit(), next: 1, check: o.Check, eol: '\n', skips: true, ignored: o.Ignored}
	header := true
	if s := o.Schema; s != nil {
		d.delim, d.quote, header = s.Settings.Delimiter[0], s.Settings.Quote[0], s.Settings.Header
		if s.Settings.Escape != "" {
			d.escape = s.Settings.Escape[0]
		}
		d.decode = charset.Of(s.Settings.Encoding)
		d.shape, d.targets, d.lines = s.Root.Layout(), s.Root.Fields, s.Settings.Lines
		d.skips, d.stray = !s.Settings.BlankFaults, s.Settings.StrayQuotes
	}
	d.lineEnd()
	if header {
		err := d.header()
		d.skips = d.skips && len(d.row) > 1
		return d, err
	}
	d.skips = d.skips && len(d.targets) > 1
	types := group.Types(o.Schema.Root)
	for _, t := range types {
		d.kinds = append(d.kinds, marks(t))
	}
	if len(types) > 1 {
		return group.NewReader(d, types[0], o), nil
	}
	return d, nil
}

// lineEnd finds out what lines end in: in a lone CR where the schema says so, or where there is no LF.
func (d *reader) lineEnd() {
	end := "any"
	if d.schema != nil {
		end = d.schema.Settings.LineEnd
	}
	head := d.src.Text[:min(len(d.src.Text), blockreader.Size/2)]
	if end == "CR" || end == "any" && strings.IndexByte(head, '\r') >= 0 && strings.IndexByte(head, '\n') < 0 {
		d.eol = '\r'
	}
}

func (d *reader) Many() bool         { return true }
func (d *reader) Raw() string        { return d.raw }
func (d *reader) Place() fault.Place { return fault.Place{Source: d.name, Line: d.line, Byte: d.off} }

func (d *reader) header() error {
	err := d.scan()
	if err == io.EOF {
		return fault.Expect(fault.Required, "a first record with the names", "an empty file").At(fault.Place{Source: d.name, Line: 1, Column: 1})
	}
	if err != nil {
		if l, ok := err.(fault.List); ok {
			return l[0]
		}
		return err
	}
	seen := map[string]int{}
	for i, name := range d.row {
		if j, twice := seen[name]; twice {
			return fault.New(fault.Syntax, "the name %s stands in fields %d and %d of the header", fault.Quote(name), j+1, i+1).At(d.Place())
		}
		seen[name] = i
	}
	if d.schema == nil {
		names := make([]string, len(d.row))
		for i, n := range d.row {
			names[i] = strings.Clone(n)
		}
		d.shape = value.NewLayout(names...)
		return nil
	}
	return d.match(seen)
}

// match lines the header's names up with the schema's fields.
func (d *reader) match(seen map[string]int) error {
	d.targets = make([]*schema.Field, len(d.row))
	for i, name := range d.row {
		f := d.schema.Root.Field(name)
		if f == nil && !d.schema.Root.Strict() {
			if d.ignored != nil {
				d.extras = append(d.extras, "/"+name)
			}
			continue
		}
		if f == nil {
			return d.schema.Root.Asking(fault.Expect(fault.Unknown, "names of the schema ("+strings.Join(d.shape.Names, ", ")+")", fault.Quote(name))).At(d.Place())
		}
		d.targets[i] = f
	}
	for _, f := range d.schema.Root.Fields {
		if _, ok := seen[f.Name]; !ok && f.Required() {
			return f.LocateFault(fault.Expect(fault.Required, "the name in the header", "none")).At(d.Place())
		}
	}
	return nil
}

// Next reads one record.
func (d *reader) Next() (value.Value, error) {
	if err := d.Take(); err != nil {
		return value.Value{}, err
	}
	for _, path := range d.extras {
		d.ignored.Add(path)
	}
	if d.schema != nil {
		rec := d.record()
		if faults := d.typed(d.targets, rec); faults != nil {
			return value.Value{}, faults
		}
		return value.RecordOf(rec), nil
	}
	if ft := d.number(len(d.shape.Names)); ft != nil {
		return value.Value{}, fault.List{ft}
	}
	rec := d.record()
	for i, s := range d.row {
		rec.Fields[i] = value.NewText(s)
	}
	return value.RecordOf(rec), nil
}

// Take takes the next line that is a record, or one of a record inside.
func (d *reader) Take() error {
	for {
		if err := d.scan(); err != nil {
			return err
		}
		if len(d.kinds) != 1 || d.kinds[0] == nil || d.is(d.kinds[0]) {
			return nil
		}
	}
}

// Is says whether the line at hand is of a type.
func (d *reader) Is(t *group.Type) bool { return d.is(d.kinds[t.Index]) }

func (d *reader) is(marks []mark) bool {
	for _, m := range marks {
		switch {
		case m.column < 0 && !strings.HasPrefix(d.raw, m.text):
			return false
		case m.column >= 0 && (m.column >= len(d.row) || d.row[m.column] != m.text):
			return false
		}
	}
	return marks != nil
}

// Read reads the line at hand, of a type, into its record.
func (d *reader) Read(t *group.Type, into *value.Record) fault.List { return d.typed(t.Own, into) }

// number compares the number of fields of the line at hand with the one that must be.
func (d *reader) number(want int) *fault.Fault {
	if len(d.row) == want {
		return nil
	}
	ft := fault.Expect(fault.Length, count(want, "field"), count(len(d.row), "field")).At(d.at(1))
	if d.schema != nil {
		d.schema.Root.Asking(ft)
	}
	return ft
}

// typed reads the line at hand into a record; targets are its fields by column.
func (d *reader) typed(targets []*schema.Field, rec *value.Record) fault.List {
	if ft := d.number(len(targets)); ft != nil {
		return fault.List{ft}
	}
	var faults fault.List
	for i, s := range d.row {
		f := targets[i]
		if f == nil || s == "" && f.WireFormat.Blank {
			continue
		}
		v, ok := f.Read(s)
		if !ok {
			faults.Add(f.LocateFault(fault.Expect(fault.Type, f.DescribeWireFormat(), fault.Quote(s))).At(d.at(d.columnOf(i))))
			continue
		}
		rec.Fields[f.Slot()] = v
		if !d.check {
			continue
		}
		if ft := f.CheckOne(v); ft != nil {
			p := d.at(d.columnOf(i))
			p.Path = "/" + f.Name
			faults.Add(ft.At(p))
		}
	}
	return faults
}

// columnOf works out where field i of the record begins, in characters from 1; it is only asked
// for when there is a fault.
func (d *reader) columnOf(i int) int {
	quoted, escaped, column, last := false, false, 1, 1
	for _, r := range d.raw {
		column++
		switch {
		case escaped:
			escaped = false
		case quoted && d.escape != 0 && r == rune(d.escape):
			escaped = true
		case r == '\n':
			column, last = 1, 1
		case r == rune(d.quote):
			quoted = !quoted
		case r == rune(d.delim) && !quoted:
			if i == 0 {
				return last
			}
			i--
			last = column
		}
	}
	return last
}

func (d *reader) at(column int) fault.Place {
	p := d.Place()
	p.Column = column
	return p
}

// Borrow makes records be taken from memory that is lent.
func (d *reader) Borrow(m *value.Memory) { d.memory = m }

func (d *reader) record() *value.Record {
	if d.memory != nil {
		return d.memory.Record(d.shape)
	}
	n := len(d.shape.Names)
	if len(d.recs) == 0 {
		d.recs = make([]value.Record, slab)
		d.fields = make([]value.Value, slab*n)
	}
	rec := &d.recs[0]
	d.recs = d.recs[1:]
	rec.Layout, rec.Fields = d.shape, d.fields[:n:n]
	d.fields = d.fields[n:]
	return rec
}

// scan splits the next record into d.row.
func (d *reader) scan() error {
	for d.passes() {
		if !d.passLine() {
			break
		}
		d.next++
	}
	for {
		n, lines, err := d.split(d.src.Text)
		if err == errMore {
			if len(d.src.Text) > d.limit {
				return fault.New(fault.Limit, "a record is longer than %d bytes", d.limit).At(fault.Place{Source: d.name, Line: d.next, Byte: d.src.Off}).
					WithFix("A quote may have been left open")
			}
			if d.src.More() {
				continue
			}
			n, lines, err = d.rest()
		}
		if err == io.EOF {
			return err
		}
		d.line, d.off = d.next, d.src.Off
		d.next += lines
		d.raw = strings.TrimRight(d.src.Take(n), "\r\n")
		if err != nil {
			return d.placed(err)
		}
		return d.text()
	}
}

// passLine passes over a line; it is false at the end.
func (d *reader) passLine() bool {
	if d.eol == '\n' {
		_, ok := d.src.Line(d.limit)
		return ok
	}
	for {
		if i := strings.IndexByte(d.src.Text, d.eol); i >= 0 {
			d.src.Take(i + 1)
			return true
		}
		some := d.src.Text != ""
		d.src.Take(len(d.src.Text))
		if !d.src.More() {
			return some
		}
	}
}

// blank says whether the line at hand is empty, or of spaces only.
func (d *reader) blank() bool {
	for i := 0; ; i++ {
		for i >= len(d.src.Text) {
			if i > maxBlank || !d.src.More() {
				return false
			}
		}
		switch c := d.src.Text[i]; {
		case c == '\n' || c == '\r':
			return true
		case c != ' ' || c == d.delim:
			return false
		}
	}
}

// maxBlank bounds how many spaces a blank line may have.
const maxBlank = 1000

// passes says whether the line at hand is none of the records.
func (d *reader) passes() bool {
	for len(d.src.Text) < max(1, len(d.lines.Comment)) && d.src.More() {
	}
	switch {
	case d.src.Text == "":
		return false
	case d.next <= d.lines.First, d.lines.Comment != "" && strings.HasPrefix(d.src.Text, d.lines.Comment):
		return true
	case !d.skips || d.src.Text[0] > ' ' || !d.blank():
		return false
	}
	if d.ignored != nil {
		d.ignored.Blank++
	}
	return true
}

// rest splits what stands behind the last line end.
func (d *reader) rest() (n, lines int, err error) {
	if err := d.src.Err(); err != nil {
		return 0, 0, fault.New(fault.Outside, "the input cannot be read on: %s", err)
	}
	if d.src.Text == "" {
		return 0, 0, io.EOF
	}
	text := d.src.Text
	_, lines, err = d.split(text + string(d.eol))
	if err == errMore {
		err = fault.List{&fault.Fault{Code: fault.Syntax, Expected: "a closing quote", Found: "the end of the file", Place: fault.Place{Column: d.openQuote(text)}}}
	}
	return len(text), max(lines, 1), err
}

// openQuote is the column of the quote that was not closed.
func (d *reader) openQuote(text string) int {
	at := strings.LastIndexByte(text, d.quote)
	return utf8.RuneCountInString(text[strings.LastIndexByte(text[:at+1], '\n')+1:at]) + 1
}

func (d *reader) placed(err error) error {
	list, ok := err.(fault.List)
	if !ok {
		return fault.From(err, fault.Outside).At(d.Place())
	}
	for _, f := range list {
		p := d.at(f.Place.Column)
		p.Line += f.Place.Line
		f.Place = p
	}
	return list
}

func (d *reader) text() error {
	if d.decode != nil {
		for i, s := range d.row {
			d.row[i], _ = d.decode.NewDecoder().String(s)
		}
		return nil
	}
	if utf8.ValidString(d.raw) {
		return nil
	}
	at := strings.IndexFunc(d.raw, func(r rune) bool { return r == utf8.RuneError })
	p := d.at(utf8.RuneCountInString(d.raw[:at]) + 1)
	p.Byte += int64(at)
	return fault.List{fault.Expect(fault.Encoding, "UTF-8 text", fmt.Sprintf("the byte %02X", d.raw[at])).At(p)}
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
