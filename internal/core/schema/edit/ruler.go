package edit

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Cut cuts the lines of a fixed-width record before a column, counted from 1, or takes the cut
// away that is there. Where a field is cut its left part stays what it is, and the right becomes a
// text. Where a cut is taken away the left field gets the columns of the right.
func Cut(text []byte, s *schema.Schema, record Path, column int) (Result, error) {
	if !s.Notation.Columns {
		return Result{}, fault.New(fault.Setting, "only fixed width has columns to cut")
	}
	if column < 1 || column > 1<<16 {
		return Result{}, fault.New(fault.Setting, "there is no column %d", column)
	}
	l := line{text, record, Field(s, record)}
	if err := l.check(s); err != nil {
		return Result{}, err
	}
	before := -1
	for i, f := range l.record.Fields {
		w := f.WireFormat
		switch {
		case w.From == 0:
			continue
		case w.From == column && before >= 0:
			return l.join(before, i)
		case w.From < column && column <= w.To:
			return l.split(i, column)
		}
		before = i
	}
	return l.reach(column)
}

// line is the record whose line is cut, in the part's text.
type line struct {
	text   []byte
	at     Path
	record *schema.Field
}

// check refuses a record that is not there, or that another schema describes.
func (l line) check(s *schema.Schema) error {
	switch {
	case l.record == nil:
		return fault.New(fault.Unknown, "there is no record at %s", l.at)
	case l.record.Of != "":
		return notOwned(l.record.Of)
	}
	return owned(s, l.at)
}

func (l line) set(i int, columns string) (line, error) {
	var err error
	l.text, err = partfile.Set(l.text, l.at.with(i).node("columns"), columns)
	return l, err
}

func columns(from, to int) string {
	w := schema.WireFormat{From: from, To: to}
	return w.Columns()
}

func (l line) split(i, column int) (Result, error) {
	w := l.record.Fields[i].WireFormat
	l, err := l.set(i, columns(w.From, column-1))
	if err != nil {
		return Result{}, err
	}
	return l.insert(i+1, column, w.To)
}

// insert adds a text at some columns.
func (l line) insert(i, from, to int) (Result, error) {
	item := newField(fresh(l.record, fmt.Sprintf("field_%d", from)))
	item.Add("columns", columns(from, to))
	text, err := partfile.Insert(l.text, l.at.list(), i, item)
	return Result{text, l.at.with(i)}, err
}

func (l line) join(left, right int) (Result, error) {
	a, b := l.record.Fields[left].WireFormat, l.record.Fields[right].WireFormat
	l, err := l.set(left, columns(a.From, b.To))
	if err != nil {
		return Result{}, err
	}
	text, err := partfile.Remove(l.text, l.at.list(), right)
	return Result{text, l.at.with(left)}, err
}

// reach covers columns behind the last field, or between two, with a new field before the column.
func (l line) reach(column int) (Result, error) {
	at, end := 0, len(l.record.WireFormat.StartsWith)
	for i, f := range l.record.Fields {
		if f.WireFormat.From > 0 && f.WireFormat.To < column {
			at, end = i+1, f.WireFormat.To
		}
	}
	if end+1 >= column {
		return Result{}, fault.New(fault.Setting, "a field begins at column %d already", column)
	}
	return l.insert(at, end+1, column-1)
}

// Nudge moves the cut before a column of a record's line by some columns: the fields on both sides
// keep at least one.
func Nudge(text []byte, s *schema.Schema, record Path, column, by int) (Result, error) {
	l := line{text, record, Field(s, record)}
	if err := l.check(s); err != nil {
		return Result{}, err
	}
	before := -1
	for i, f := range l.record.Fields {
		if f.WireFormat.From == 0 {
			continue
		}
		if f.WireFormat.From == column && before >= 0 {
			return l.nudge(before, i, column+by)
		}
		before = i
	}
	return Result{}, fault.New(fault.Setting, "no field is cut before column %d", column)
}

func (l line) nudge(left, right, to int) (Result, error) {
	a, b := l.record.Fields[left].WireFormat, l.record.Fields[right].WireFormat
	if to <= a.From || to > b.To {
		return Result{}, fault.New(fault.Setting, "a field has at least one column")
	}
	l, err := l.set(left, columns(a.From, to-1))
	if err != nil {
		return Result{}, err
	}
	l, err = l.set(right, columns(to, b.To))
	return Result{l.text, l.at.with(right)}, err
}

// LineOf is the path of the record whose lines look like a line; the schema's own record is the
// empty path. It is false when no record's do.
func LineOf(s *schema.Schema, text string) (Path, bool) {
	if !s.Nested() && !s.Root.HasDiscriminator() {
		return Path{}, true
	}
	return lineIn(s.Root, Path{}, text)
}

func lineIn(record *schema.Field, at Path, text string) (Path, bool) {
	if record.HasDiscriminator() && looks(record, []rune(text)) {
		return at, true
	}
	for i, f := range record.Fields {
		if f.Kind != value.RecordKind {
			continue
		}
		if found, ok := lineIn(f, at.with(i), text); ok {
			return found, true
		}
	}
	return nil, false
}

// looks says whether a line has what marks the lines of a record.
func looks(record *schema.Field, text []rune) bool {
	if !strings.HasPrefix(string(text), record.WireFormat.StartsWith) {
		return false
	}
	for _, f := range record.Fields {
		w := f.WireFormat
		if w.Discriminator == "" || w.From == 0 {
			continue
		}
		if len(text) < w.To || strings.Trim(string(text[w.From-1:w.To]), string(w.Padding)) != w.Discriminator {
			return false
		}
	}
	return true
}

// AddLine describes lines like one that no record's look like: a record inside of another, with
// what the line seems to begin with and one field for the rest. Where nothing tells the lines of
// the outer record yet, first says what they begin with.
func AddLine(text []byte, s *schema.Schema, inside Path, like, first string) (Result, error) {
	record := Field(s, inside)
	switch {
	case record == nil || len(inside) > 0 && record.Kind != value.RecordKind:
		return Result{}, fault.New(fault.Unknown, "there is no record at %s", inside)
	case !s.Notation.Columns:
		return Result{}, fault.New(fault.Setting, "only fixed width is described on the ruler")
	case like == "":
		return Result{}, fault.New(fault.Setting, "an empty line cannot be told from others")
	}
	if len(inside) == 0 && !record.HasDiscriminator() && record.OwnLine() {
		var err error
		if text, err = partfile.Set(text, []any{"notation settings", "starts with"}, beginning(first)); err != nil {
			return Result{}, err
		}
	}
	begins, width := beginning(like), utf8.RuneCountInString(like)
	item := partfile.Ordered{{Key: "name", Value: fresh(record, "lines_"+strings.ToLower(begins))}, {Key: "type", Value: "record"}, {Key: "occurs", Value: "0..n"}, {Key: "starts with", Value: begins}}
	from := min(len(begins)+1, width)
	field := newField(fmt.Sprintf("field_%d", from))
	field.Add("columns", columns(from, width))
	item.Add("fields", []partfile.Ordered{field})
	n := len(record.Fields)
	out, err := partfile.Insert(text, inside.list(), n, item)
	return Result{out, inside.with(n).with(0)}, err
}

// beginning guesses which characters at the beginning of a line say what kind of line it is: up to
// three letters before something else, or the first character.
func beginning(like string) string {
	n := 0
	for n < len(like) && like[n] >= 'A' && like[n] <= 'Z' {
		n++
	}
	if n >= 1 && n <= 3 && n < len(like) {
		return like[:n]
	}
	_, size := utf8.DecodeRuneInString(like)
	return like[:size]
}
