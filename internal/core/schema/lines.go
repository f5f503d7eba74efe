package schema

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// Nested says whether a message has lines of several types: records inside of the record.
func (s *Schema) Nested() bool {
	for _, f := range s.Root.Fields {
		if f.Kind == value.RecordKind {
			return true
		}
	}
	return false
}

// OwnLine says whether a record of a notation of lines has a line of its own. One that has only
// records inside, and no beginning, begins with the first of them.
func (f *Field) OwnLine() bool {
	if f.WireFormat.StartsWith != "" {
		return true
	}
	for _, c := range f.Fields {
		if c.Kind != value.RecordKind {
			return true
		}
	}
	return false
}

// HasDiscriminator says whether something tells the lines of a record from others.
func (f *Field) HasDiscriminator() bool {
	if f.WireFormat.StartsWith != "" {
		return true
	}
	for _, c := range f.Fields {
		if c.WireFormat.Discriminator != "" {
			return true
		}
	}
	return false
}

// Discriminator is what a field of a record's line is told to be, by what marks it or by what the line
// begins with: the whole text of the field, or how it begins.
func (s *Schema) Discriminator(record, f *Field) (text string, whole bool) {
	begins, w := record.WireFormat.StartsWith, &f.WireFormat
	switch {
	case w.Discriminator != "":
		return w.Discriminator, true
	case begins == "":
		return "", false
	case s.Notation.Columns:
		if w.From == 0 || w.From > len(begins) {
			return "", false
		}
		return begins[w.From-1 : min(w.To, len(begins))], w.To <= len(begins)
	}
	cells := strings.Split(begins, s.Settings.Delimiter)
	for _, c := range record.Fields {
		switch {
		case len(cells) == 0 || f.Kind == value.RecordKind:
			return "", false
		case c == f:
			return cells[0], len(cells) > 1
		case c.Kind != value.RecordKind:
			cells = cells[1:]
		}
	}
	return "", false
}

// Width is the number of columns of a fixed-width record's own line.
func (f *Field) Width() int {
	w := len(f.WireFormat.StartsWith)
	for _, c := range f.Fields {
		w = max(w, c.WireFormat.To)
	}
	return w
}

// Width is the number of columns of the widest line of a fixed-width schema.
func (s *Schema) Width() int {
	w := 0
	s.Root.Walk(func(_ []string, f *Field) { w = max(w, f.Width()) })
	return w
}

// lines checks that the records of a notation of lines can be told apart, and that a fixed-width
// line's fields stand in order and do not overlap.
func (p parser) lines(d *partfile.Doc, record *Field) {
	if !p.s.Notation.Lines {
		return
	}
	inside := 0
	for _, f := range record.Fields {
		if f.Kind == value.RecordKind {
			inside++
			p.lines(d, f)
		} else if f.List() {
			d.Fault(f.At, fault.New(fault.Setting, "a line holds single fields and records, whose lines follow it").InField(f.Name))
		}
		if f.Kind == value.RecordKind && f.WireFormat.Discriminator != "" {
			d.Fault(f.At, fault.New(fault.Setting, `"discriminator" is for a field of the line`).InField(f.Name))
		}
	}
	if (inside > 0 || record != p.s.Root) && record.OwnLine() && !record.HasDiscriminator() {
		d.Fault(record.At, fault.New(fault.Setting, "nothing tells the lines of %s from others", record.Name).InField(record.Name).
			WithFix(`Say what they begin with ("starts with"), or which value of one of their fields ("discriminator")`))
	}
	if inside > 0 && p.s.Notation.Cells && p.s.Settings.Header {
		d.Fault(record.At, fault.New(fault.Setting, "lines of several types cannot share one header").WithFix(`Set "header" to false`))
	}
	if p.s.Notation.Columns {
		p.columns(d, record)
	}
}

func (p parser) columns(d *partfile.Doc, record *Field) {
	end := 0
	for _, f := range record.Fields {
		switch {
		case f.Kind == value.RecordKind:
			continue
		case f.WireFormat.From == 0:
			d.Fault(f.At, fault.New(fault.Required, `"columns" is missing`).InField(f.Name))
		case f.WireFormat.From <= end:
			d.Fault(f.At, fault.New(fault.Setting, "column %d belongs to the field before, too", f.WireFormat.From).InField(f.Name))
		}
		end = max(end, f.WireFormat.To)
	}
}
