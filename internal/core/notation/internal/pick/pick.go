// Package pick gives those lines of a source that are records, as a schema says.
package pick

import (
	"strings"

	"hollowreed/internal/core/blockreader"
	"hollowreed/internal/core/schema"
)

// Picker gives those lines of a source that are records.
type Picker struct {
	src    *blockreader.Source
	lines  schema.Lines
	number int
	ahead  []picked // as many as are passed over at the end

	Keep func(line string) bool // further lines that are passed over; nil for none
}

type picked struct {
	blockreader.Line
	number int
}

// New picks lines of a source that nothing was taken of.
func New(src *blockreader.Source, lines schema.Lines) *Picker { return &Picker{src: src, lines: lines} }

// Line takes the next line that is a record, with its number from 1; ok is false at the end.
func (p *Picker) Line(limit int) (l blockreader.Line, number int, ok bool) {
	for {
		next, ok := p.src.Line(limit)
		if !ok {
			return blockreader.Line{}, p.number + 1, false
		}
		p.number++
		if p.number <= p.lines.First {
			continue
		}
		if p.lines.Last > 0 {
			p.ahead = append(p.ahead, picked{next, p.number})
			if len(p.ahead) <= p.lines.Last {
				continue
			}
			next, number = p.ahead[0].Line, p.ahead[0].number
			p.ahead = p.ahead[1:]
		} else {
			number = p.number
		}
		if p.lines.Comment != "" && strings.HasPrefix(next.Text, p.lines.Comment) || p.Keep != nil && !p.Keep(next.Text) {
			continue
		}
		return next, number, true
	}
}
