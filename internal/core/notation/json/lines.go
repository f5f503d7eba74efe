package json

import (
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/blockreader"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// lines reads newline-delimited JSON: a line that is not JSON does not end the reading.
type lines struct {
	dec     *jsontext.Decoder // used again for every line
	text    strings.Reader
	src     *blockreader.Source
	name    string
	root    *schema.Field
	limit   int
	shapes  map[string]*value.Layout
	check   bool
	ignored *notation.Ignored
	line    int
	cur     blockreader.Line
	begins  map[*value.Record]int64
}

// NewLinesReader reads one JSON value a line. Empty lines are passed over.
func NewLinesReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	l := &lines{src: blockreader.New(r), name: o.Source, limit: o.Limit(), shapes: map[string]*value.Layout{}, ignored: o.Ignored}
	if o.Schema != nil {
		l.root, l.check = o.Schema.Root, o.Check
		l.begins = recordsFor(l.root)
	}
	return l, nil
}

func (l *lines) Many() bool  { return true }
func (l *lines) Raw() string { return l.cur.Text }
func (l *lines) Place() fault.Place {
	return fault.Place{Source: l.name, Line: l.line, Byte: l.cur.Off}
}

func (l *lines) Next() (value.Value, error) {
	for {
		cur, ok := l.src.Line(l.limit)
		if !ok {
			if err := l.src.Err(); err != nil {
				return value.Value{}, fault.New(fault.Outside, "the input cannot be read on: %s", err).At(l.Place())
			}
			return value.Value{}, io.EOF
		}
		l.cur = cur
		l.line++
		if cur.Long {
			return value.Value{}, fault.List{fault.New(fault.Limit, "a line of %d bytes; the most is %d", cur.Skipped, l.limit).At(l.Place())}
		}
		if strings.TrimSpace(cur.Text) != "" {
			return l.value()
		}
	}
}

func (l *lines) value() (value.Value, error) {
	l.text.Reset(l.cur.Text)
	if l.dec == nil {
		l.dec = jsontext.NewDecoder(&l.text)
	} else {
		l.dec.Reset(&l.text)
	}
	clear(l.begins)
	d := decoder{dec: l.dec, shapes: l.shapes, check: l.check, ignored: l.ignored, begins: l.begins}
	v, err := d.one(l.root, 0)
	if err == nil {
		if _, err = d.dec.ReadToken(); err == io.EOF {
			err = nil
		} else if err == nil {
			err = fault.Expect(fault.Syntax, "the end of the line", "another value").At(fault.Place{Byte: d.dec.InputOffset()})
		}
	}
	if err != nil {
		f, ok := err.(*fault.Fault)
		if !ok {
			var offset int64
			f, offset = syntaxFault(err, d.dec.InputOffset())
			f.Place.Byte = offset
		}
		d.faults = fault.List{f}
	}
	if d.faults == nil {
		return v, nil
	}
	for _, f := range d.faults {
		p := l.Place()
		p.Path, p.Column = f.Place.Path, int(f.Place.Byte)+1
		p.Byte += f.Place.Byte
		f.Place = p
	}
	return value.Value{}, d.faults
}
