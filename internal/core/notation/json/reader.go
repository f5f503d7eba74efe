// Package json reads and writes JSON (RFC 8259) and newline-delimited JSON. Numbers keep every
// digit of their text; names that stand twice in an object are refused, since one of them would
// be lost.
package json

import (
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// maxShapes bounds the remembered shapes of objects that no schema describes.
const maxShapes = 1000

// decoder turns tokens into values.
type decoder struct {
	dec     *jsontext.Decoder
	shapes  map[string]*value.Layout
	check   bool
	ignored *notation.Ignored
	faults  fault.List
	at      int64  // where the text of the decoder begins in the message: that of a variant is read by itself
	under   string // and its path

	line   string                  // the text that is read, where it is at hand: texts are pieces of it
	slab   *strings.Builder        // or else room for texts
	memory *value.Memory           // that records are taken from; nil: they have their own
	begins map[*value.Record]int64 // where the records of the message at hand begin; nil where no key asks for it
}

// recordsFor remembers where records begin, where a key asks for it.
func recordsFor(root *schema.Field) map[*value.Record]int64 {
	if root == nil || !root.HasKeys() {
		return nil
	}
	return map[*value.Record]int64{}
}

type reader struct {
	decoder
	lines *lineCounter
	name  string
	root  *schema.Field
	list  schema.Occurs // how many records there must be
	many  bool
	begun bool
	ended bool
	n     int
	place fault.Place
}

// NewReader reads one JSON document. The elements of an outermost array are its records.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	lc := &lineCounter{r: r, line: 1}
	j := &reader{lines: lc, name: o.Source}
	j.dec = jsontext.NewDecoder(lc)
	j.slab = &strings.Builder{}
	j.shapes, j.ignored = map[string]*value.Layout{}, o.Ignored
	lc.limit = o.Limit()
	if o.Schema != nil {
		j.root, j.list, j.check = o.Schema.Root, o.Schema.Message, o.Check
		j.begins = recordsFor(j.root)
	}
	return j, nil
}

func (j *reader) Many() bool         { return j.many }
func (j *reader) Place() fault.Place { return j.place }
func (j *reader) Raw() string        { return "" }

// Borrow makes records be taken from memory that is lent.
func (j *reader) Borrow(m *value.Memory) { j.memory = m }

func (j *reader) Next() (value.Value, error) {
	if !j.begun {
		return j.first()
	}
	if !j.many || j.ended || j.dec.PeekKind() == ']' {
		return value.Value{}, j.end()
	}
	j.n++
	return j.value()
}

// end ends the document, once the number of its records is checked.
func (j *reader) end() error {
	if j.ended || !j.many {
		return j.finish()
	}
	j.ended = true
	if !j.check || !j.list.List() || j.n >= j.list.Min && (j.list.Max == schema.Many || j.n <= j.list.Max) {
		return j.finish()
	}
	counted := &schema.Field{Min: j.list.Min, Max: j.list.Max, Kind: value.AnyKind}
	ft := counted.CheckOccurs(value.ListOf(make([]value.Value, j.n)...))
	j.place = j.at(j.dec.InputOffset())
	return fault.List{ft.At(j.place)}
}

// holdsLists says whether a message can be a list by itself, so that one is no list of messages.
func holdsLists(f *schema.Field) bool {
	if f == nil {
		return false
	}
	switch f.Kind {
	case value.ListKind, value.AnyKind:
		return true
	case value.VariantKind:
		return slices.ContainsFunc(f.Fields, func(b *schema.Field) bool { return b.List() || holdsLists(b) })
	}
	return false
}

func (j *reader) first() (value.Value, error) {
	j.begun = true
	kind := j.dec.PeekKind()
	if kind != '[' || !j.list.List() && holdsLists(j.root) {
		if kind == 0 {
			if _, err := j.dec.ReadToken(); err == io.EOF {
				return value.Value{}, fault.Expect(fault.Required, "a JSON value", "an empty file").At(fault.Place{Source: j.name, Line: 1, Column: 1})
			}
		}
		v, err := j.value()
		if err == nil && j.check && j.list.List() {
			err = fault.List{fault.Expect(fault.Type, "a list of messages", "one by itself").At(j.place)}
		}
		return v, err
	}
	j.many = true
	if _, err := j.dec.ReadToken(); err != nil {
		return value.Value{}, j.broken(err)
	}
	return j.Next()
}

func (j *reader) finish() error {
	if j.many {
		if _, err := j.dec.ReadToken(); err != nil {
			return j.broken(err)
		}
	}
	if _, err := j.dec.ReadToken(); err != io.EOF {
		if err == nil {
			return fault.Expect(fault.Syntax, "the end of the document", "another value").At(j.at(j.dec.InputOffset()))
		}
		return j.broken(err)
	}
	return io.EOF
}

func (j *reader) value() (value.Value, error) {
	j.dec.PeekKind()
	j.lines.begin(j.dec.InputOffset())
	j.place = j.at(j.dec.InputOffset())
	j.faults = nil
	clear(j.begins)
	v, err := j.one(j.root, 0)
	if err != nil {
		return value.Value{}, j.broken(err)
	}
	if j.faults != nil {
		for _, f := range j.faults {
			p := j.at(f.Place.Byte)
			p.Path = f.Place.Path
			f.Place = p
		}
		return value.Value{}, j.faults
	}
	return v, nil
}

func (j *reader) at(offset int64) fault.Place {
	line, column := j.lines.position(offset)
	return fault.Place{Source: j.name, Line: line, Column: column, Byte: offset}
}

// broken is a fault behind which no more can be read.
func (j *reader) broken(err error) error {
	if err == errLimit {
		return fault.New(fault.Limit, "a value is longer than %d bytes", j.lines.limit).At(j.place)
	}
	f, offset := syntaxFault(err, j.dec.InputOffset())
	return f.At(j.at(offset))
}

func syntaxFault(err error, offset int64) (*fault.Fault, int64) {
	if errors.Is(err, errLimit) {
		return fault.New(fault.Limit, "a value is too long"), offset
	}
	var syn *jsontext.SyntacticError
	switch {
	case errors.As(err, &syn):
		what := strings.TrimPrefix(syn.Err.Error(), "jsontext: ")
		if errors.Is(syn.Err, jsontext.ErrDuplicateName) {
			what = "the name " + fault.Quote(syn.JSONPointer.LastToken()) + " stands twice in one object"
		}
		if errors.Is(syn.Err, io.ErrUnexpectedEOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			what = "the document ends too early"
		}
		return fault.New(fault.Syntax, "this is not JSON: %s", what), syn.ByteOffset
	case errors.Is(err, io.ErrUnexpectedEOF), err == io.EOF:
		return fault.New(fault.Syntax, "this is not JSON: the document ends too early"), offset
	}
	return fault.New(fault.Outside, "the input cannot be read on: %s", strings.TrimPrefix(err.Error(), "jsontext: read error: ")), offset
}

var errDepth = errors.New("nested too deep")
