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
	src     *blockreader.Source
	options notation.Options
	limit   int
	own     *lineDecoder
	piece   notation.Piece
}

// NewLinesReader reads one JSON value a line. Empty lines are passed over.
func NewLinesReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	return &lines{src: blockreader.New(r), options: o, limit: o.Limit(), own: newLineDecoder(o)}, nil
}

func (l *lines) Many() bool  { return true }
func (l *lines) Raw() string { return l.piece.Text }
func (l *lines) Place() fault.Place {
	return fault.Place{Source: l.options.Source, Line: l.piece.Line, Byte: l.piece.Byte}
}

// Borrow makes records be taken from memory that is lent.
func (l *lines) Borrow(m *value.Memory) { l.own.memory = m }

func (l *lines) Next() (value.Value, error) {
	p, err := l.Piece()
	if err != nil {
		return value.Value{}, err
	}
	return l.own.Decode(p)
}

// Piece gives the next line that is not blank.
func (l *lines) Piece() (notation.Piece, error) {
	for {
		cur, ok := l.src.Line(l.limit)
		if !ok {
			if err := l.src.Err(); err != nil {
				return l.piece, fault.New(fault.Outside, "the input cannot be read on: %s", err).At(l.Place())
			}
			return l.piece, io.EOF
		}
		l.piece = notation.Piece{Text: cur.Text, Line: l.piece.Line + 1, Byte: cur.Off}
		if cur.Long {
			return l.piece, fault.List{fault.New(fault.Limit, "a line of %d bytes; the most is %d", cur.Skipped, l.limit).At(l.Place())}
		}
		if strings.TrimSpace(cur.Text) != "" {
			return l.piece, nil
		}
	}
}

// Decoder makes a decoder that counts by itself what it passes over.
func (l *lines) Decoder() notation.Decoder {
	o := l.options
	if o.Ignored != nil {
		o.Ignored = &notation.Ignored{}
	}
	return newLineDecoder(o)
}

// Decoded adds what a decoder passed over.
func (l *lines) Decoded(d notation.Decoder) { l.options.Ignored.AddAll(d.(*lineDecoder).ignored) }

// lineDecoder reads the lines that are given to it.
type lineDecoder struct {
	decoder
	name string
	root *schema.Field
	read strings.Reader
}

func newLineDecoder(o notation.Options) *lineDecoder {
	l := &lineDecoder{name: o.Source}
	l.dec = jsontext.NewDecoder(&l.read)
	l.shapes, l.ignored, l.slab = map[string]*value.Layout{}, o.Ignored, &strings.Builder{}
	if o.Schema != nil {
		l.root, l.check = o.Schema.Root, o.Check
		l.begins = recordsFor(l.root)
	}
	return l
}

// Borrow makes records be taken from memory that is lent.
func (l *lineDecoder) Borrow(m *value.Memory) { l.memory = m }

// Decode reads one line.
func (l *lineDecoder) Decode(p notation.Piece) (value.Value, error) {
	l.read.Reset(p.Text)
	l.dec.Reset(&l.read)
	clear(l.begins)
	l.line, l.faults = p.Text, nil
	v, err := l.one(l.root, 0)
	if err == nil {
		if _, err = l.dec.ReadToken(); err == io.EOF {
			err = nil
		} else if err == nil {
			err = fault.Expect(fault.Syntax, "the end of the line", "another value").At(fault.Place{Byte: l.dec.InputOffset()})
		}
	}
	if err != nil {
		f, ok := err.(*fault.Fault)
		if !ok {
			var offset int64
			f, offset = syntaxFault(err, l.dec.InputOffset())
			f.Place.Byte = offset
		}
		l.faults = fault.List{f}
	}
	if l.faults == nil {
		return v, nil
	}
	for _, f := range l.faults {
		f.Place = fault.Place{Source: l.name, Line: p.Line, Column: int(f.Place.Byte) + 1, Byte: p.Byte + f.Place.Byte, Path: f.Place.Path}
	}
	return value.Value{}, l.faults
}
