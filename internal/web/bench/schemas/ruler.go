package schemas

import (
	"net/url"
	"sort"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/edit"
	"hollowreed/internal/core/value"
)

// columnWidth is the width of one column on the ruler in pixels.
const columnWidth = 15

type rulerLine struct {
	Number int
	Parts  []rulerPart
	End    string
	Bad    bool
	Chosen bool
	Aside  bool   // of another type than the one whose cuts are shown
	Kind   string // the record inside that the line is of
	Like   string // the text of a line that no type describes
	Passed bool   // it is no record's
	Href   string
	record edit.Path
}

type rulerPart struct {
	Cells []rulerCell
	Tint  int
	Name  string
}

// rulerCell is a character with the number of columns that it takes.
type rulerCell struct {
	Text string
	Wide int
}

// Pixels is how wide the cell is drawn.
func (c rulerCell) Pixels() int { return c.Wide * columnWidth }

// cellsOf draws columns: characters as wide as they are counted. A cut through the bytes of one shows its rest.
func cellsOf(columns []string) (cells []rulerCell) {
	for i, c := range columns {
		switch {
		case c == "" && i > 0:
			cells[len(cells)-1].Wide++
		case c == "":
			cells = append(cells, rulerCell{"\uFFFD", 1})
		default:
			cells = append(cells, rulerCell{c, 1})
		}
	}
	return cells
}

type tick struct{ Column, Left int }

// cut is a place between two columns where a field may begin, or the name of a field below.
type cut struct {
	Column, Left, Width int
	Name                string
	Cut                 bool
}

// reach is how many columns behind the last field can be cut, too.
const reach = 12

// lines remembers where the records of a sample stand in its lines.
type lines struct {
	begins []int // the line at which each record begins
	bad    map[int]bool
}

func (l *lines) add(begin int, faults fault.List) {
	l.begins = append(l.begins, begin)
	for _, f := range faults {
		if l.bad == nil {
			l.bad = map[int]bool{}
		}
		l.bad[f.Place.Line] = true
	}
}

// record is the number of the record that a line belongs to, from 1; the first one for lines before.
func (l *lines) record(line int) int { return max(1, sort.SearchInts(l.begins, line+1)) }

// ruler lays the lines of the sample near the chosen record on the ruler: all of them, also those
// that are passed over.
func (d *schemaPage) ruler(s *schema.Schema, text string) {
	if !s.Notation.Columns || d.Lines == 0 {
		return
	}
	begin := d.where.begins[min(d.Line, d.Lines)-1]
	first, most := begin-rulerLines/2, rulerLines
	if d.Nested {
		first, most = begin, rulerLines+nestedMore
	}
	text = strings.TrimSuffix(text, "\n")
	of := strings.Count(text, "\n") + 1
	first = max(1, min(first, of-most+1))
	n := 0
	for line := range strings.SplitSeq(text, "\n") {
		if n++; n == first+most {
			return
		}
		if n >= first {
			d.rule(s, all.Decode(s, []byte(strings.TrimSuffix(line, "\r"))), n, of)
		}
	}
}

// rule cuts one line by the fields of its type.
func (d *schemaPage) rule(s *schema.Schema, text string, number, of int) {
	l := rulerLine{Number: number, Bad: d.where.bad[number], End: s.Settings.LineEnd, record: edit.Path{}}
	q := url.Values{"line": {strconv.Itoa(d.where.record(number))}, "sample": {d.Sample}}
	at, ok := edit.LineOf(s, text)
	lines := s.Settings.Lines
	switch {
	case number <= lines.First, number > of-lines.Last, lines.Comment != "" && strings.HasPrefix(text, lines.Comment):
		l.Passed = true
	case !ok:
		l.Like, l.Passed = text, !d.Nested
	case l.Bad && !d.Nested && !s.Root.HasDiscriminator():
		l.Like = text
	}
	l.Chosen = !l.Passed && !d.Nested && d.Line <= d.Lines && d.where.begins[d.Line-1] == number
	if d.Nested && ok {
		q.Set("field", firstField(s, at).String())
	}
	l.Href = "/bench/schemas/" + d.ID + "?" + q.Encode()
	if !ok || l.Passed {
		l.Parts = []rulerPart{{Cells: cellsOf(s.Cells(text)), Tint: 4}}
		d.Ruler = append(d.Ruler, l)
		return
	}
	record := edit.Field(s, at)
	if l.record = at; len(at) > 0 {
		l.Kind = record.Name
	}
	l.Parts = parts(record, s.Cells(text))
	d.Ruler = append(d.Ruler, l)
}

// firstField is the field that stands for a record when its line is chosen.
func firstField(s *schema.Schema, at edit.Path) edit.Path {
	for i, f := range edit.Field(s, at).Fields {
		if f.Kind != value.RecordKind {
			return append(at[:len(at):len(at)], i)
		}
	}
	return at
}

func parts(record *schema.Field, raw []string) []rulerPart {
	var out []rulerPart
	at, tint := 0, 0
	if n := min(len([]rune(record.WireFormat.StartsWith)), len(raw)); n > 0 && record.Width() > 0 {
		at = uncovered(record, n)
		out = append(out, rulerPart{Cells: cellsOf(raw[:at]), Tint: 4, Name: "what the line begins with"})
	}
	for _, f := range record.Fields {
		if f.WireFormat.From == 0 {
			continue
		}
		from, to := max(at, min(f.WireFormat.From-1, len(raw))), min(f.WireFormat.To, len(raw))
		if from > at {
			out = append(out, rulerPart{Cells: cellsOf(raw[at:from]), Tint: -1})
		}
		to = max(from, to)
		out = append(out, rulerPart{Cells: cellsOf(raw[from:to]), Tint: tint % 4, Name: f.Name})
		at, tint = to, tint+1
	}
	if at < len(raw) {
		out = append(out, rulerPart{Cells: cellsOf(raw[at:]), Tint: -1})
	}
	return out
}

// uncovered is how many of the n characters that a line begins with are none of a field's.
func uncovered(record *schema.Field, n int) int {
	for _, f := range record.Fields {
		if f.WireFormat.From > 0 {
			n = min(n, f.WireFormat.From-1)
		}
	}
	return n
}

// marks are the cuts and names of the type of line that the selected field stands in.
func (d *schemaPage) marks(s *schema.Schema) {
	at := edit.Path{}
	if d.Form != nil {
		path, _ := edit.ParsePath(d.Form.Path)
		at = edit.Record(s, path)
	}
	record := edit.Field(s, at)
	d.record, d.RecordName = at, record.Name
	begins := map[int]bool{}
	for _, f := range record.Fields {
		w := f.WireFormat
		if w.From == 0 {
			continue
		}
		begins[w.From] = true
		d.Names = append(d.Names, cut{Left: (w.From - 1) * columnWidth, Width: (w.To - w.From + 1) * columnWidth, Name: f.Name})
	}
	width := record.Width()
	longest, kind := width, ""
	if len(at) > 0 {
		kind = record.Name
	}
	for i := range d.Ruler {
		l := &d.Ruler[i]
		l.Aside = d.Nested
		if l.record.String() == at.String() && l.Kind == kind && !l.Passed {
			l.Aside = false
			longest = max(longest, min(l.length(), width+reach))
		}
	}
	for c := 1; c <= longest; c += 5 {
		d.Ticks = append(d.Ticks, tick{Column: c, Left: (c - 1) * columnWidth})
	}
	for c := 2; c <= longest+1; c++ {
		if c != width+1 {
			d.Cuts = append(d.Cuts, cut{Column: c, Left: (c-1)*columnWidth - columnWidth/2, Cut: begins[c]})
		}
	}
}

func (l *rulerLine) length() int {
	n := 0
	for _, p := range l.Parts {
		for _, c := range p.Cells {
			n += c.Wide
		}
	}
	return n
}

// RecordPath is the field whose type of line the ruler shows: lines like another are described
// inside of it.
func (d *schemaPage) RecordPath() string { return d.record.String() }

// FirstLine is the text of the first line on the ruler that belongs to the schema's own record.
func (d *schemaPage) FirstLine() string {
	for _, l := range d.Ruler {
		if l.Like != "" || l.Passed {
			continue
		}
		var b strings.Builder
		for _, p := range l.Parts {
			for _, c := range p.Cells {
				b.WriteString(c.Text)
			}
		}
		return b.String()
	}
	return ""
}
