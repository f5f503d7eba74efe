package bench

import (
	"fmt"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
)

// columnWidth is the width of one column on the ruler in pixels.
const columnWidth = 15

type rulerLine struct {
	Number int
	Parts  []rulerPart
	End    string
	Bad    bool
	Chosen bool
	Href   string
}

type rulerPart struct {
	Text string
	Tint int
	Name string
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

// ruler keeps a line if it stands near the chosen one.
func (d *schemaPage) ruler(s *schema.Schema, r notation.Reader, bad bool) {
	first := max(1, min(d.Line-rulerLines/2, d.Lines))
	if s.Notation != "fixedwidth" || d.Lines < first || len(d.Ruler) >= rulerLines {
		return
	}
	l := rulerLine{Number: d.Lines, Bad: bad, Chosen: d.Lines == d.Line, Href: fmt.Sprintf("/bench/schemas/%s?line=%d", d.ID, d.Lines), End: s.Settings.LineEnd}
	raw := []rune(rawText(r))
	at := 0
	for i, f := range s.Root.Fields {
		from, to := max(at, min(f.Written.From-1, len(raw))), min(f.Written.To, len(raw))
		if from > at {
			l.Parts = append(l.Parts, rulerPart{Text: string(raw[at:from]), Tint: -1})
		}
		to = max(from, to)
		l.Parts = append(l.Parts, rulerPart{Text: string(raw[from:to]), Tint: i % 4, Name: f.Name})
		at = to
	}
	if at < len(raw) {
		l.Parts = append(l.Parts, rulerPart{Text: string(raw[at:]), Tint: -1})
	}
	d.Ruler = append(d.Ruler, l)
}

func (d *schemaPage) marks(s *schema.Schema) {
	begins := map[int]bool{}
	for _, f := range s.Root.Fields {
		w := f.Written
		begins[w.From] = true
		d.Names = append(d.Names, cut{Left: (w.From - 1) * columnWidth, Width: (w.To - w.From + 1) * columnWidth, Name: f.Name})
	}
	longest := d.Width
	for _, l := range d.Ruler {
		n := 0
		for _, p := range l.Parts {
			n += len([]rune(p.Text))
		}
		longest = max(longest, min(n, d.Width+reach))
	}
	for c := 1; c <= longest; c += 5 {
		d.Ticks = append(d.Ticks, tick{Column: c, Left: (c - 1) * columnWidth})
	}
	for c := 2; c <= longest+1; c++ {
		if c > d.Width+1 || c <= d.Width {
			d.Cuts = append(d.Cuts, cut{Column: c, Left: (c-1)*columnWidth - columnWidth/2, Cut: begins[c]})
		}
	}
}
